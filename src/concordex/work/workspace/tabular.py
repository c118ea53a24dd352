"""Rows from a file or standard input: CSV, XLSX, JSON, NDJSON, YAML, Parquet; each with its place."""

from __future__ import annotations

import sys
from itertools import islice
from pathlib import Path
from typing import Any

from concordex.change.rows import Row
from concordex.documents import parse_yaml
from concordex.errors import BadAnswer, CalledWrongly
from concordex.model.inert import cell_from_text
from concordex.wire import dialect as d
from concordex.wire.http.formats import decode
from concordex.wire.http.workbooks import lost_cells

_SHAPES: dict[str, d.Shape] = {
    "csv": d.CsvShape(by="csv"), "json": d.JsonShape(), "ndjson": d.LinesShape(by="ndjson"),
    "parquet": d.ParquetShape(by="parquet"), "xlsx": d.SheetShape(by="xlsx"),
}  # fmt: skip
_ENDINGS = {".jsonl": "ndjson", ".yml": "yaml"}
#: How rows of each form are counted by people: a sheet's first row is its heading.
_PLACES = {"csv": ("row", 2), "xlsx": ("row", 2), "ndjson": ("line", 1)}

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
    if form not in (*_SHAPES, "yaml"):
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
    records = _decoded(content, form, file, sheet)
    what, first = _PLACES.get(form, ("record", 1))
    return [Row(place=f"{what} {at}", typed=record) for at, record in enumerate(records, start=first)]


def _decoded(content: bytes, form: str, file: str, sheet: str | None) -> list[dict[str, Any]]:
    if form == "yaml":
        try:
            body = parse_yaml(content.decode("utf-8"), file)
        except UnicodeDecodeError as error:
            raise CalledWrongly(f"{file} is not UTF-8 text: {error.reason}") from error
    else:
        shape = d.SheetShape(by="xlsx", sheet=sheet) if form == "xlsx" and sheet else _SHAPES[form]
        try:
            body = decode(content, shape)
        except BadAnswer as error:
            what = error.what.replace("sent ", "holds ")
            raise CalledWrongly(f"{file} {what}", why=error.why, advice=error.advice) from error
    if form == "xlsx" and (lost := list(islice(lost_cells(content, sheet), _TOLD))):
        raise CalledWrongly("\n".join(f"{file}: {what}" for what in lost))
    if not isinstance(body, list) or not all(isinstance(record, dict) for record in body):
        raise CalledWrongly(f"{file} holds no list of records", advice="one mapping of columns to values for each")
    rows = [{str(name): value for name, value in record.items() if name is not None} for record in body]
    if form == "csv":  # what we write there so that no spreadsheet runs it
        rows = [{n: cell_from_text(v) if isinstance(v, str) else v for n, v in row.items()} for row in rows]
    return rows
