"""``concordex init``."""

from pathlib import Path
from typing import Annotated

import typer

from concordex.cli import draw


def init(
    folder: Annotated[Path, typer.Argument(help="The folder; created if it does not exist.")] = Path(),
) -> None:
    """Make a workspace: a folder with concordex.yaml, to be kept in version control.

    Example: concordex init fleet
    """
    from concordex import Workspace

    draw.note(f"made {Workspace.make(folder).root / 'concordex.yaml'}")
    draw.note("next: concordex system add NAME --dialect DIALECT --url URL   (dialects: concordex dialect list)")
