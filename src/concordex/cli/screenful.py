"""How many rows a terminal shows where no limit is given, and how it says that there are more."""

from __future__ import annotations

import sys
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from concordex.cli import draw
from concordex.cli.emit import Format

if TYPE_CHECKING:
    import polars as pl

ROWS = 40


def on_screen(form: Format | None, output: Path | None) -> bool:
    """Whether a table is drawn, for people."""
    return form in (None, Format.TABLE) and output is None


@dataclass(frozen=True)
class Fitted:
    """The rows to be shown, and how many a screenful leaves out."""

    frame: pl.DataFrame
    more: int

    def say(self, also: str = "") -> None:
        """Tell that there are more, if there are, and ``also`` what else would help."""
        if self.more:
            draw.note(f"{self.more:,} more; --limit 0 shows all{also}", "dim")


def fitted(
    frame: pl.DataFrame, limit: int | None, form: Format | None = None, output: Path | None = None, rows: int = ROWS
) -> Fitted:
    """As many rows as a limit says; where none is given and a person looks, a screenful."""
    if limit is None and on_screen(form, output) and draw.is_terminal(sys.stdout) and frame.height > rows:
        return Fitted(frame.head(rows), frame.height - rows)
    return Fitted(frame.head(limit or frame.height), 0)
