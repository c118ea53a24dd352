"""Which versions are wanted, and how long which are supported: YAML files under ``versions/``."""

from __future__ import annotations

from datetime import date
from pathlib import Path
from typing import Annotated, Any

from pydantic import BeforeValidator, Field

from concordex.documents import Part, read_as

FOLDER = "versions"


def _in_quotes(given: Any) -> Any:
    """A version as it was written: of 7.10 without quotes YAML leaves 7.1."""
    if isinstance(given, int | float) and not isinstance(given, bool):
        raise ValueError("write it in quotes: without them YAML reads 7.10 as the number 7.1")  # noqa: TRY004
    return given


VersionText = Annotated[str, BeforeValidator(_in_quotes)]


class WantedVersion(Part):
    """Devices, by a filter on entries, and the version that they shall have."""

    where: str
    version: VersionText
    since: date | None = Field(None, description="From which day on; without it, always.")


class Support(Part):
    """Devices, by a filter on entries, of which some versions, or all, are supported until a day."""

    where: str
    below: VersionText | None = Field(None, description="Of versions below this one; without it, of all.")
    ends: date


class VersionsFile(Part):
    """What is wanted, and what is supported; of rules that hold for a device the last one in force counts."""

    format: int = Field(ge=1, le=1)
    wanted: list[WantedVersion] = Field(default_factory=list)
    support: list[Support] = Field(default_factory=list)


def load(root: Path) -> VersionsFile:
    """All files of the workspace in ``root``, in the order of their names, as one."""
    folder = root / FOLDER
    files = [read_as(path, VersionsFile) for path in sorted(folder.glob("*.yaml"))] if folder.is_dir() else []
    return VersionsFile(
        format=1, wanted=[rule for file in files for rule in file.wanted],
        support=[rule for file in files for rule in file.support],
    )  # fmt: skip
