"""Small lists of rows, as a table or in any format."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from concordex.cli import draw
from concordex.cli.emit import Format, emit


def emit_rows(
    rows: Sequence[dict[str, Any]],
    form: Format | None,
    output: Path | None,
    *,
    styles: dict[str, str] | None = None,
    private: bool = False,
) -> None:
    """Write ``rows``, which all have the same keys."""
    if form in (None, Format.TABLE) and output is None:
        columns = list(rows[0]) if rows else []
        right = [name for name in columns if any(isinstance(row[name], int | float) for row in rows)]
        draw.table(columns, [list(row.values()) for row in rows], right=right, styles=styles)
        return
    import polars as pl

    emit(pl.DataFrame(rows, infer_schema_length=None), form, output, private=private)
