"""Writing a frame in the format that was asked for, to standard output or whole into a file."""

from __future__ import annotations

import io
import sys
from collections.abc import Callable
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Any

from concordex.cli import draw
from concordex.errors import CalledWrongly
from concordex.landing import landing
from concordex.unseen import in_data, in_frame

if TYPE_CHECKING:
    import polars as pl


class Format(StrEnum):
    """How data leaves the program."""

    TABLE = "table"
    CSV = "csv"
    JSON = "json"
    NDJSON = "ndjson"
    YAML = "yaml"
    XLSX = "xlsx"
    PARQUET = "parquet"
    MARKDOWN = "markdown"


_ENDINGS = {
    ".csv": Format.CSV, ".json": Format.JSON, ".ndjson": Format.NDJSON, ".jsonl": Format.NDJSON,
    ".yaml": Format.YAML, ".yml": Format.YAML, ".xlsx": Format.XLSX, ".parquet": Format.PARQUET,
    ".md": Format.MARKDOWN,
}  # fmt: skip
_BINARY = (Format.XLSX, Format.PARQUET)


def emit(
    frame: pl.DataFrame, form: Format | None, output: Path | None, *, all_columns: bool = False, private: bool = False
) -> None:
    """Write ``frame``; a file's ending says the format where nothing else does.

    Of a table on a terminal the least telling columns are left out where there is no room, or none of them.
    A file is ``private`` where one-time codes may stand in it.
    """
    form = form or (_ENDINGS.get(output.suffix.lower()) if output else None) or Format.TABLE
    frame = _whole_numbers(in_frame(frame))
    if output is None and form is Format.TABLE:
        numbers = [name for name, dtype in frame.schema.items() if dtype.is_numeric()]
        draw.table(frame.columns, frame.iter_rows(), right=numbers, all_columns=all_columns)
        return
    if output is None and form in _BINARY and sys.stdout.isatty():
        raise CalledWrongly(f"{form} is not for a terminal", advice="name a file: -o FILE")
    buffer = io.BytesIO()
    _WRITERS[form](frame, buffer)
    if output is None:
        _to_stdout(form, buffer.getvalue())
    else:
        _into_file(output, buffer.getvalue(), private=private)


def write_text(text: str, output: Path | None, *, private: bool = False) -> None:
    """Write a text to a file, whole or not at all, or to standard output."""
    text = in_data(text)
    if output is None:
        sys.stdout.write(draw.harmless(text) if sys.stdout.isatty() else text)
    else:
        _into_file(output, text.encode(), private=private)


def _to_stdout(form: Format, content: bytes) -> None:
    if form in _BINARY or not sys.stdout.isatty():
        sys.stdout.flush()
        sys.stdout.buffer.write(content)
    else:  # on a terminal, what a device is called must not act
        sys.stdout.write(draw.harmless(content.decode()))


def _into_file(path: Path, content: bytes, *, private: bool) -> None:
    with landing(path, private=private) as making:
        making.write_bytes(content)


def _whole_numbers(frame: pl.DataFrame) -> pl.DataFrame:
    """Columns of whole numbers as such: 4 and not 4.0; what is no number is missing."""
    import polars as pl
    import polars.selectors as cs

    frame = frame.with_columns(cs.float().fill_nan(None))
    floats = [name for name, kind in frame.schema.items() if kind.is_float()]
    whole = [name for name in floats if ((c := frame[name].drop_nulls()).is_finite() & (c == c.round())).all()]
    return frame.with_columns(pl.col(whole).cast(pl.Int64, strict=False))


def _records(frame: pl.DataFrame) -> list[dict[str, Any]]:
    """Rows as mappings, their whole numbers as such wherever they stand."""
    made = _times_as_text(frame).to_dicts()
    if not any(kind.is_float() or kind.is_nested() for kind in frame.schema.values()):
        return made
    return [{name: _whole(value) for name, value in row.items()} for row in made]


def _whole(value: Any) -> Any:
    if isinstance(value, float):
        return int(value) if value.is_integer() else value
    if isinstance(value, dict):
        return {name: _whole(item) for name, item in value.items()}
    return [_whole(item) for item in value] if isinstance(value, list) else value


def _times_as_text(frame: pl.DataFrame) -> pl.DataFrame:
    """Times as ISO 8601 in UTC, to the second: ``2026-11-23T07:22:19Z``."""
    import polars.selectors as cs

    return frame.with_columns(cs.datetime().dt.strftime("%Y-%m-%dT%H:%M:%SZ"))


def _lists_as_text(frame: pl.DataFrame) -> pl.DataFrame:
    import polars as pl
    import polars.selectors as cs

    plain = _times_as_text(frame).with_columns(cs.by_dtype(pl.List(pl.String)).list.join(" "))
    nested = [name for name, kind in plain.schema.items() if kind.is_nested()]
    return plain.with_columns(pl.Series(name, _as_json(plain[name]), dtype=pl.String) for name in nested)


def _as_json(column: pl.Series) -> list[str | None]:
    """Values with parts, as JSON without what is missing: what a cell of a sheet can hold of them."""
    import orjson

    def as_data(value: Any) -> Any:
        return {name: cell for name, cell in value.items() if cell is not None} if isinstance(value, dict) else value

    return [
        None if cell is None else orjson.dumps(as_data(_whole(cell)), default=str).decode() for cell in column.to_list()
    ]


def _csv(frame: pl.DataFrame, buffer: io.BytesIO) -> None:
    from concordex.model.inert import as_text

    as_text(_lists_as_text(frame)).write_csv(buffer)


def _json(frame: pl.DataFrame, buffer: io.BytesIO) -> None:
    import orjson

    buffer.write(orjson.dumps(_records(frame), option=orjson.OPT_INDENT_2 | orjson.OPT_APPEND_NEWLINE))


def _ndjson(frame: pl.DataFrame, buffer: io.BytesIO) -> None:
    _times_as_text(frame).write_ndjson(buffer)


def _yaml(frame: pl.DataFrame, buffer: io.BytesIO) -> None:
    from concordex.documents import yaml_text

    buffer.write(yaml_text(_records(frame)).encode())


def _xlsx(frame: pl.DataFrame, buffer: io.BytesIO) -> None:
    from concordex.model.inert import to_workbook

    to_workbook(_lists_as_text(frame), buffer)


def _parquet(frame: pl.DataFrame, buffer: io.BytesIO) -> None:
    frame.write_parquet(buffer)


def _markdown(frame: pl.DataFrame, buffer: io.BytesIO) -> None:
    from concordex.model.inert import in_markdown

    def row(values: Any) -> bytes:
        return f"| {' | '.join(in_markdown(draw.cell(value)) for value in values)} |\n".encode()

    buffer.write(row(frame.columns) + f"|{' --- |' * frame.width}\n".encode())
    buffer.writelines(row(values) for values in frame.iter_rows())


def _table(frame: pl.DataFrame, buffer: io.BytesIO) -> None:
    raise CalledWrongly("a table is for looking at", advice="for a file choose another --format")


_WRITERS: dict[Format, Callable[[Any, io.BytesIO], None]] = {
    Format.CSV: _csv, Format.JSON: _json, Format.NDJSON: _ndjson, Format.YAML: _yaml, Format.XLSX: _xlsx,
    Format.PARQUET: _parquet, Format.MARKDOWN: _markdown, Format.TABLE: _table,
}  # fmt: skip
