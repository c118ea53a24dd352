"""How long something lasts, as files of the workspace say it."""

from typing import Annotated

from pydantic import Field

Duration = Annotated[str, Field(pattern=r"^\d+(\.\d+)?[smhdw]$", description="Such as 30m, 12h, 14d or 6w.")]
