"""Answers in the shape that a dialect says; what cannot be read again as it was meant is not sent."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Mapping, Sequence
from typing import Any

import orjson

from concordex.wire import dialect as d
from concordex.wire.copy.declined import untold
from concordex.wire.http.formats import decode, encode

#: The media type of what is answered.
TYPES = {
    "json": "application/json", "xml": "application/xml", "csv": "text/csv", "text": "text/plain",
    "ndjson": "application/x-ndjson",
}  # fmt: skip
#: The parts of a pattern that can be written backwards: a named group, and what stands between such.
_GROUP = re.compile(r"\(\?P<(?P<name>\w+)>(?:[^()\\]|\\.|\((?:[^()\\]|\\.)*\))*\)")
_BETWEEN = re.compile(r"\\s[+*]?|\\(.)|(\^|\$)|([^\\\[\](){}?*+.|^$])")


def shaped(body: Any, shape: d.Shape) -> bytes:
    """``body`` as it is sent; refused where its dialect does not tell how that would be written."""
    if isinstance(shape, d.CsvShape):
        return _csv(body, shape)
    if isinstance(shape, d.TextShape):
        return _lines(body, shape)
    if shape.by == "ndjson":
        return b"".join(orjson.dumps(record) + b"\n" for record in _listed(body))
    if isinstance(shape, d.XmlShape):
        return encode(_one_root(body), shape)
    return orjson.dumps(body, default=str)


def _one_root(body: Any) -> Any:
    """A document has one root (Extensible Markup Language 1.0, section 2.1)."""
    return body if isinstance(body, Mapping) and len(body) == 1 else {"answer": body}


def _listed(body: Any) -> Sequence[Mapping[str, Any]]:
    return body if isinstance(body, list) else [body]


def _csv(body: Any, shape: d.CsvShape) -> bytes:
    records = _listed(body)
    names = list(dict.fromkeys(name for record in records for name in record))
    text = io.StringIO(newline="")
    writer = csv.DictWriter(text, names, delimiter=shape.separator, restval="")
    writer.writeheader()
    writer.writerows(records)
    return text.getvalue().encode()


def _lines(body: Any, shape: d.TextShape) -> bytes:
    """Records as lines that the dialect's pattern reads; each is read again to see that it says the same."""
    records = _listed(body)
    content = "".join(f"{_line(shape.pattern, record)}\n" for record in records).encode()
    if decode(content, shape) != [dict(record) for record in records]:
        raise untold("how a line is written that its `pattern` reads")
    return content


def _line(pattern: str, record: Mapping[str, Any]) -> str:
    line, at = "", 0
    while at < len(pattern):
        if group := _GROUP.match(pattern, at):
            line += str(record.get(group["name"]) or "")
            at = group.end()
        elif between := _BETWEEN.match(pattern, at):
            escaped, _, plain = between.groups()
            line += " " if between[0].startswith(r"\s") else escaped or plain or ""
            at = between.end()
        else:
            raise untold("how a line is written that its `pattern` reads")
    return line
