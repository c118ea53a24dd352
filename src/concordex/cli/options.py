"""Options that several commands share, and the workspace that they mean."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from concordex.cli.emit import Format

if TYPE_CHECKING:
    from concordex.work import Workspace


def workspace() -> Workspace:
    """The workspace that the command line, the environment or the folder says."""
    from concordex.work import Workspace

    return Workspace.nearest()


def complete_systems(incomplete: str) -> list[str]:
    """The systems of the workspace here, for the shell."""
    return _safely(lambda: list(workspace().config.systems), incomplete)


def complete_tables(incomplete: str) -> list[str]:
    """The tables that were pulled, for the shell."""
    return _safely(lambda: [*{s.table for s in workspace().memory.newest()}, "entries", "records"], incomplete)


def complete_fields(incomplete: str) -> list[str]:
    """The common fields, for the shell."""
    from concordex.model.fields import FIELDS

    done, comma, last = incomplete.rpartition(",")
    return [f"{done}{comma}{name}" for name in FIELDS if name.startswith(last)]


def _safely(find: object, incomplete: str) -> list[str]:
    from concordex.errors import ConcordexError

    try:
        found = find()  # type: ignore[operator]
    except ConcordexError:
        return []
    return sorted(name for name in found if name.startswith(incomplete))


def words(given: list[str] | None) -> list[str]:
    """Options that may be repeated or hold several words with commas, as one list."""
    return [word.strip() for text in given or [] for word in text.split(",") if word.strip()]


Systems = Annotated[
    list[str] | None,
    typer.Argument(help="Systems; all where none is named.", autocompletion=complete_systems),
]
Where = Annotated[
    str | None, typer.Option("--where", help="Only records for which this filter holds (docs/filters.md).")
]
Form = Annotated[
    Format | None,
    typer.Option("--format", "-f", help="How to write it; a file's ending says it otherwise."),
]
Output = Annotated[Path | None, typer.Option("--output", "-o", help="Write into this file, whole or not at all.")]
