"""Files as systems: exports that arrive by mail, read with the same mapping as answers."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from itertools import islice
from pathlib import Path
from typing import Any, BinaryIO

from concordex.errors import BadAnswer
from concordex.wire import dialect as d
from concordex.wire.http.formats import decode, lines_of, rows_of, unread_lines
from concordex.wire.http.transport import Endpoint
from concordex.wire.http.workbooks import lost_cells, sheets_of
from concordex.wire.reading.list_reader import ListReader, list_reader
from concordex.wire.reading.pages import Page
from concordex.wire.reading.records import RawRecords
from concordex.wire.reading.unfinished import is_being_written
from concordex.words import plural

#: The shape of a file by its ending, where the dialect says none.
_BY_ENDING: dict[str, d.Shape] = {
    ".csv": d.CsvShape(by="csv"),
    ".json": d.JsonShape(),
    ".ndjson": d.LinesShape(by="ndjson"),
    ".parquet": d.ParquetShape(by="parquet"),
    ".xlsx": d.SheetShape(by="xlsx"),
    ".xml": d.XmlShape(by="xml"),
}


#: Of the cells of a workbook that are not what they were so many are told.
_TOLD = 3
#: Of a file of lines so many bytes are read at a time, and of a table of text so many rows become records.
_PIECE, _ROWS = 4 << 20, 10_000


@dataclass(frozen=True)
class OpenedFile:
    """A file that is being read: its records in pieces, which raise BadAnswer, and a note on which file it was.

    Once they are read, ``notes`` say what else there was, and ``doubts`` why it may not be all.
    """

    pages: Iterator[Page]
    note: str
    notes: list[str] = field(default_factory=list)
    doubts: list[str] = field(default_factory=list)


def read_file(endpoint: Endpoint, dialect: d.Dialect, table: d.Table) -> OpenedFile:
    """The records of a file.  Of several files that fit a pattern, the last by name is read.  Raises BadAnswer."""
    read, limit = table.read, dialect.limits.answer
    path = _newest(endpoint, read.file or "")
    shape = read.shape or _BY_ENDING.get(path.suffix.lower())
    if shape is None:
        raise _bad(endpoint, f"{path.name}: its ending does not tell its shape", "say `shape:` in the dialect")
    try:
        facts = path.stat()
        cut = shape.by in ("csv", "ndjson", "text") and not _is_ended(path)
    except OSError as error:
        raise _unreadable(endpoint, path, error) from error
    if facts.st_size > limit:
        raise _bad(endpoint, f"{path.name} is larger than {limit:,} bytes", "raise limits: {answer: …} in the dialect")
    written = datetime.fromtimestamp(facts.st_mtime, UTC)
    doubt = "; it ends without a line end, as a file does that was cut off" if cut else ""
    notes, doubts = list[str](), list[str]()
    if is_being_written(path):
        doubts.append(f"another program has {path.name} open, and may still be writing it")

    def pieces() -> Iterator[tuple[Any, Sequence[str]]]:
        yield from _pieces(path, shape, list_reader(dialect, table, shape), whole=read.records != "$")
        if isinstance(shape, d.SheetShape):
            more, doubtful = _about_sheets(path.read_bytes(), shape)
            notes.extend(more)
            doubts.extend(doubtful)

    return OpenedFile(
        _pages(endpoint, path, read, pieces()), f"read from {path.name}, written {written:%Y-%m-%d %H:%M} UTC{doubt}",
        notes, doubts,
    )  # fmt: skip


def _about_sheets(content: bytes, shape: d.SheetShape) -> tuple[list[str], list[str]]:
    """What a workbook does not give, as notes and as doubts; raises BadAnswer where it gives what is not so."""
    lost = list(lost_cells(content, shape.sheet))
    altered, empty = ([cell for cell in lost if cell.empty is kind] for kind in (False, True))
    if altered:
        raise BadAnswer(f"holds what is not so: {'; '.join(map(str, altered[:_TOLD]))}")
    notes, doubts = list[str](), list[str]()
    if empty:
        told = "; ".join(map(str, empty[:_TOLD]))
        notes.append(f"{plural(len(empty), 'cell')} with an error, read as empty, such as: {told}")
    sheets = sheets_of(content)
    if shape.sheet is None and len(sheets) > 1:
        doubts.append(f"of its sheets {', '.join(sheets)} only the first is read: say `shape: {{by: xlsx, sheet: …}}`")
    return notes, doubts


def _is_ended(path: Path) -> bool:
    with path.open("rb") as file:
        file.seek(0, os.SEEK_END)
        if not file.tell():
            return False
        file.seek(-1, os.SEEK_END)
        return file.read(1) == b"\n"


def _pages(endpoint: Endpoint, path: Path, read: d.Read, pieces: Iterator[tuple[Any, Sequence[str]]]) -> Iterator[Page]:
    try:
        for body, unread in pieces:
            records = read.records.several(body)
            if isinstance(records, dict):
                records = [records]
            if isinstance(records, RawRecords):
                yield Page(records=records)
                continue
            if not isinstance(records, list) or not set(map(type, records)) <= {dict}:
                raise _bad(endpoint, f"there is no list of records at {read.records} in {path.name}")
            yield Page(records=records, unread=unread)
    except BadAnswer as error:
        if error.where:
            raise
        raise BadAnswer(
            f"{path.name} {error.what.replace('sent ', 'holds ')}", where=endpoint.name, why=error.why,
            advice=error.advice,
        ) from error  # fmt: skip
    except OSError as error:
        raise _unreadable(endpoint, path, error) from error


def _pieces(
    path: Path, shape: d.Shape, reader: ListReader | None, *, whole: bool
) -> Iterator[tuple[Any, Sequence[str]]]:
    """What the file holds, decoded, and its lines of no record; where lines or rows are records, a piece at a time."""
    if isinstance(shape, d.LinesShape) and not whole:
        first = 1
        with path.open("rb") as file:
            before = os.fstat(file.fileno())
            while lines := file.readlines(_PIECE):
                content = b"".join(lines)  # of the first piece all is decoded, for all that can be wrong
                read = reader.page(content) if reader and first > 1 else None
                yield lines_of(content, shape, first) if read is None else read, ()
                first += len(lines)
            _refuse_altered(file, before)
        return
    content = _unaltered(path)
    if isinstance(shape, d.CsvShape) and not whole:
        rows = rows_of(content, shape)
        while some := list(islice(rows, _ROWS)):
            yield some, ()
        return
    yield decode(content, shape), unread_lines(content, shape) if isinstance(shape, d.TextShape) else ()


def _unaltered(path: Path) -> bytes:
    with path.open("rb") as file:
        before = os.fstat(file.fileno())
        content = file.read()
        _refuse_altered(file, before)
    return content


def _refuse_altered(file: BinaryIO, before: os.stat_result) -> None:
    after = os.fstat(file.fileno())
    if (before.st_size, before.st_mtime_ns) != (after.st_size, after.st_mtime_ns):
        raise BadAnswer("was altered while it was read", advice="pull again once it is written")


def _newest(endpoint: Endpoint, pattern: str) -> Path:
    folder = endpoint.folder
    if folder is None:  # a dialect does not say where on this machine anything is
        raise _bad(endpoint, f"the dialect reads the file {pattern}, and the workspace names no folder", "folder: …")
    if not folder.is_dir():
        raise _bad(endpoint, f"there is no folder {folder}", "correct folder: in concordex.yaml")
    if pattern.startswith("/") or ".." in Path(pattern).parts:
        raise _bad(endpoint, f"the dialect reads {pattern}, outside of {folder}", "only what is below it is read")
    paths = sorted(path for path in folder.glob(pattern) if path.is_file())
    if not paths:
        raise _bad(endpoint, f"there is no file {pattern} in {folder}", "has the export arrived?")
    if not paths[-1].resolve().is_relative_to(folder.resolve()):
        raise _bad(endpoint, f"{paths[-1].name} is a link out of {folder}", "only what is below it is read")
    return paths[-1]


def _unreadable(endpoint: Endpoint, path: Path, error: OSError) -> BadAnswer:
    return _bad(endpoint, f"{path} cannot be read", error.strerror or str(error))


def _bad(endpoint: Endpoint, what: str, advice: str = "") -> BadAnswer:
    return BadAnswer(what, where=endpoint.name, advice=advice)
