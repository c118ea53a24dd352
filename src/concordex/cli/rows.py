"""Small lists of rows, as a table or in any format."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from concordex.cli import draw
from concordex.cli.emit import Format, emit
from concordex.cli.screenful import on_screen
from concordex.errors import CalledWrongly
from concordex.words import suggestion

if TYPE_CHECKING:
    import polars as pl


def named_columns(frame: pl.DataFrame, columns: Sequence[str]) -> pl.DataFrame:
    """Of a frame only the ``columns`` that are named, all of it where none is."""
    for name in columns:
        if name not in frame.columns:
            raise CalledWrongly(f"there is no column {name!r}", advice=suggestion(name, frame.columns))
    return frame.select(list(dict.fromkeys(columns))) if columns else frame


def emit_rows(
    rows: Sequence[dict[str, Any]],
    form: Format | None,
    output: Path | None,
    *,
    columns: Sequence[str] = (),
    limit: int | None = None,
    styles: dict[str, str] | None = None,
    private: bool = False,
) -> None:
    """Write ``rows``, which all have the same keys: of them only ``columns``, where some are named."""
    for name in columns:
        if rows and name not in rows[0]:
            raise CalledWrongly(f"there is no column {name!r}", advice=suggestion(name, rows[0]))
    rows = [{name: row[name] for name in columns} if columns else row for row in rows[: limit or None]]
    if on_screen(form, output):
        names = list(rows[0]) if rows else []
        right = [name for name in names if any(isinstance(row[name], int | float) for row in rows)]
        draw.table(names, [list(row.values()) for row in rows], right=right, styles=styles)
        return
    import polars as pl

    emit(pl.DataFrame(rows, infer_schema_length=None), form, output, private=private)
