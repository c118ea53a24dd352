"""Rows from a file or standard input: CSV, XLSX, JSON, NDJSON, YAML, Parquet; each with its place."""

from __future__ import annotations

import codecs
import re
import sys
from contextlib import suppress
from itertools import islice
from pathlib import Path
from typing import Any

from concordex.change.rows import Row
from concordex.documents import parse_yaml
from concordex.errors import BadAnswer, CalledWrongly
from concordex.model.inert import cell_from_text
from concordex.wire import dialect as d
from concordex.wire.http.formats import decode, numbered_rows
from concordex.wire.http.workbooks import lost_cells, rows_in, sheets_of

_SHAPES: dict[str, d.Shape] = {
    "json": d.JsonShape(), "ndjson": d.LinesShape(by="ndjson"), "parquet": d.ParquetShape(by="parquet"),
}  # fmt: skip
_ENDINGS = {".jsonl": "ndjson", ".yml": "yaml"}
#: What people call the records of each form.
_PLACES = {"csv": "row", "xlsx": "row", "ndjson": "line"}
#: A first line that some spreadsheets write and read.
_SEPARATOR = re.compile(rb"sep=([,;\t|])\r?\n", re.IGNORECASE)

#: How many cells that hold nothing usable are told at once.
_TOLD = 10


def read_rows(file: str, form: str | None = None, sheet: str | None = None) -> list[Row]:
    """The rows of ``file`` (``-``: standard input), in the form that its ending says, or ``form``."""
    path = Path(file)
    form = form or _ENDINGS.get(path.suffix.lower(), path.suffix.lower().removeprefix("."))
    if file == "-" and not form:
        raise CalledWrongly(
            "standard input has no file name that would tell its format", advice="say --from csv, or json …"
        )
    if form not in (*_SHAPES, "csv", "xlsx", "yaml"):
        raise CalledWrongly(
            f"{file}: its ending names no known format",
            advice="csv, xlsx, json, ndjson, yaml or parquet; or --from",
        )
    try:
        content = sys.stdin.buffer.read() if file == "-" else path.read_bytes()
    except OSError as error:
        raise CalledWrongly(f"{file} cannot be read", why=error.strerror or str(error)) from error
    if not content.strip():
        raise CalledWrongly(f"{'standard input' if file == '-' else file} is empty: it holds no rows, and no heading")
    what, rows = _PLACES.get(form, "record"), _numbered(content, form, file, sheet)
    return [Row(place=f"{what} {at}", typed=record) for at, record in rows]


def _numbered(content: bytes, form: str, file: str, sheet: str | None) -> list[tuple[int, dict[str, Any]]]:
    """The records of a file, each with the number by which people find it there."""
    try:
        if form == "csv":  # a text stands there as we write it, so that no spreadsheet runs it
            rows = numbered_rows(*_without_its_separator(content))
            return [
                (at, {n: cell_from_text(v) if isinstance(v, str) else v for n, v in row.items()}) for at, row in rows
            ]
        if form == "xlsx":
            return _of_sheet(content, file, sheet)
        records = _decoded(content, form, file)
        if form == "ndjson":
            lines = (at for at, line in enumerate(content.splitlines(), start=1) if line.strip())
            return list(zip(lines, records, strict=True))
        return list(enumerate(records, start=1))
    except BadAnswer as error:
        raise CalledWrongly(
            f"{file} {error.what.replace('sent ', 'holds ')}", why=error.why, advice=error.advice
        ) from error


def _of_sheet(content: bytes, file: str, sheet: str | None) -> list[tuple[int, dict[str, Any]]]:
    """The rows of a workbook's only sheet, or of the one that is named."""
    if sheet is None and len(names := sheets_of(content)) > 1:
        raise CalledWrongly(f"{file} has several sheets: {', '.join(names)}", advice="say which is meant: --sheet NAME")
    rows = rows_in(content, sheet)
    if lost := list(islice(lost_cells(content, sheet), _TOLD)):
        raise CalledWrongly("\n".join(f"{file}: {cell}" for cell in lost))
    return rows


def _without_its_separator(content: bytes) -> tuple[bytes, d.CsvShape]:
    """A table of text without a first line that says only what separates its values; and that, or what it seems to be.

    Where a comma stands within numbers, spreadsheets put a semicolon between values.
    """
    if content.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        with suppress(UnicodeError):  # what is none after all is told as it is read
            content = content.decode("utf-16").encode()
    content = content.removeprefix(codecs.BOM_UTF8)
    if said := _SEPARATOR.match(content):
        return content[said.end() :], d.CsvShape(by="csv", separator=said[1].decode())
    heading = next((line for line in content.splitlines() if line.strip()), b"").decode("utf-8", "replace")
    return content, d.CsvShape(by="csv", separator=max(",;\t", key=heading.count))


def _decoded(content: bytes, form: str, file: str) -> list[dict[str, Any]]:
    if form == "yaml":
        try:
            body = parse_yaml(content.decode("utf-8"), file)
        except UnicodeDecodeError as error:
            raise CalledWrongly(f"{file} is not UTF-8 text: {error.reason}") from error
    else:
        body = decode(content, _SHAPES[form])
    if not isinstance(body, list) or not all(isinstance(record, dict) for record in body):
        raise CalledWrongly(f"{file} holds no list of records", advice="one mapping of columns to values for each")
    return [{str(name): value for name, value in record.items() if name is not None} for record in body]
