"""Files as systems: exports that arrive by mail, read with the same mapping as answers."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

from concordex.errors import BadAnswer
from concordex.wire import dialect as d
from concordex.wire.pages import Page
from concordex.wire.paths import at
from concordex.wire.shapes import decode, unread_lines
from concordex.wire.transport import Endpoint

#: The shape of a file by its ending, where the dialect says none.
_BY_ENDING: dict[str, d.Shape] = {
    ".csv": d.CsvShape(by="csv"),
    ".json": d.JsonShape(),
    ".ndjson": d.LinesShape(by="ndjson"),
    ".parquet": d.ParquetShape(by="parquet"),
    ".xlsx": d.SheetShape(by="xlsx"),
    ".xml": d.XmlShape(by="xml"),
}


def read_file(endpoint: Endpoint, read: d.Read, limit: int) -> tuple[Page, str]:
    """The records of a file, and a note on which file it was.

    Of several files that fit a pattern, the last by name is read.  Raises BadAnswer.
    """
    path = _newest(endpoint, read.file or "")
    shape = read.shape or _BY_ENDING.get(path.suffix.lower())
    if shape is None:
        raise _bad(endpoint, f"{path.name}: its ending does not tell its shape", "say `shape:` in the dialect")
    size = path.stat().st_size
    if size > limit:
        raise _bad(endpoint, f"{path.name} is larger than {limit:,} bytes", "raise limits: {answer: …} in the dialect")
    try:
        content = path.read_bytes()
        body = decode(content, shape)
    except BadAnswer as error:
        raise BadAnswer(
            f"{path.name} {error.what.replace('sent ', 'holds ')}", where=endpoint.name, why=error.why,
            advice=error.advice,
        ) from error  # fmt: skip
    except OSError as error:
        raise _bad(endpoint, f"{path} cannot be read", error.strerror or str(error)) from error
    records = at(read.records).several(body)
    if isinstance(records, dict):
        records = [records]
    if not isinstance(records, list) or not set(map(type, records)) <= {dict}:
        raise _bad(endpoint, f"there is no list of records at {read.records} in {path.name}")
    written = datetime.fromtimestamp(path.stat().st_mtime, UTC)
    cut = shape.by in ("csv", "ndjson", "text") and not content.endswith(b"\n")
    doubt = "; it ends without a line end, as a file does that was cut off" if cut else ""
    unread = unread_lines(content, shape) if isinstance(shape, d.TextShape) else ()
    return Page(records=records, unread=unread), f"read from {path.name}, written {written:%Y-%m-%d %H:%M} UTC{doubt}"


def _newest(endpoint: Endpoint, pattern: str) -> Path:
    folder = endpoint.folder
    if folder is None:  # a dialect does not say where on this machine anything is
        raise _bad(endpoint, f"the dialect reads the file {pattern}, and the workspace names no folder", "folder: …")
    if not folder.is_dir():
        raise _bad(endpoint, f"there is no folder {folder}", "correct folder: in concordex.yaml")
    if pattern.startswith("/") or ".." in Path(pattern).parts:
        raise _bad(endpoint, f"the dialect reads {pattern}, outside of {folder}", "only what is below it is read")
    found = sorted(path for path in folder.glob(pattern) if path.is_file())
    if not found:
        raise _bad(endpoint, f"there is no file {pattern} in {folder}", "has the export arrived?")
    if not found[-1].resolve().is_relative_to(folder.resolve()):
        raise _bad(endpoint, f"{found[-1].name} is a link out of {folder}", "only what is below it is read")
    return found[-1]


def _bad(endpoint: Endpoint, what: str, advice: str = "") -> BadAnswer:
    return BadAnswer(what, where=endpoint.name, advice=advice)
