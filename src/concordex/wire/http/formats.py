"""What comes over the wire as plain values, and back: JSON, XML, CSV, text, and files.

Everything from outside is bounded or refused: no XML entities (so no bombs and no files read through
them), no NaN, no key that stands twice, nothing that is not UTF-8 (of text: or UTF-16 with its mark).
"""

from __future__ import annotations

import codecs
import json
import math
import re
from collections import defaultdict
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import Any

import orjson

from concordex.errors import BadAnswer
from concordex.wire import dialect as d
from concordex.wire.http.workbooks import rows_in

#: Seconds within which a pattern of a dialect must have found what there is.
_PATIENCE = 5.0
#: The media type of each shape that can be sent.
TYPES = {"json": "application/json", "xml": "application/xml"}
#: What a request says it would like to have.
ACCEPT = {
    "json": "application/json", "xml": "application/xml", "csv": "text/csv", "text": "text/plain",
    "ndjson": "application/x-ndjson", "openmetrics": "application/openmetrics-text; version=1.0.0",
}  # fmt: skip
#: What each shape is called in a message.
NAMES = {"json": "JSON", "xml": "XML", "csv": "CSV", "text": "text", "ndjson": "JSON lines", "xlsx": "a workbook",
         "parquet": "Parquet", "openmetrics": "OpenMetrics text"}  # fmt: skip


def is_a_page(kind: str, content: bytes, shape: d.Shape) -> bool:
    """Whether an answer is a page for people: by its media type, or by how it begins."""
    if kind in ("text/html", "application/xhtml+xml"):  # JSON under a wrong name is JSON all the same
        return shape.by != "json" or content.lstrip()[:1] == b"<"
    begin = re.sub(rb"^(?:\xef\xbb\xbf)?(?:\s|<\?xml[^>]*>|<!--.*?-->)*", b"", content[:2000], flags=re.DOTALL)
    return shape.by != "json" and bool(re.match(rb"<!doctype html|<(?:\w+:)?html\b", begin, re.IGNORECASE))


def decode(content: bytes, shape: d.Shape) -> Any:
    """``content`` as plain values; raises BadAnswer, whose text follows what the answer is called."""
    return _DECODE[shape.by](content, shape)


def encode(body: Any, shape: d.Shape) -> bytes:
    """``body`` as it is sent."""
    if isinstance(shape, d.XmlShape):
        import xmltodict

        written: str = xmltodict.unparse(_declared(body, shape))
        return written.encode()
    return orjson.dumps(body)


#: How many digits are surely held by 64 bits or just beyond; and what may be a number of more than they hold.
_DIGITS = 20
_EVERY_DIGIT_A_NOUGHT = bytes.maketrans(b"0123456789", b"0" * 10)
_LARGE = b"0" * 19
#: The half of a character beyond the first 65,536, as JSON escapes it, without its other half (RFC 8259, section 8.2).
_HALF = re.compile(
    rb"(?<!\\)((?:\\\\)*)(?:(\\u[dD][89abAB][0-9a-fA-F]{2}\\u[dD][c-fC-F][0-9a-fA-F]{2})|\\u[dD][89a-fA-F][0-9a-fA-F]{2})"
)


def whole_characters(content: bytes) -> tuple[bytes, int]:
    """JSON whose half characters are replaced by U+FFFD, and how many there were."""
    count = 0

    def mend(match: re.Match[bytes]) -> bytes:
        nonlocal count
        count += match[2] is None
        return match[1] + (match[2] or b"\\ufffd")

    return _HALF.sub(mend, content), count


def _declared(body: Any, shape: d.XmlShape) -> Any:
    """A document whose root declares the prefixes that stand in it (Namespaces in XML 1.0, section 3)."""
    if not isinstance(body, Mapping) or len(body) != 1:
        return body
    ((root, content),) = body.items()
    used = _prefixes(body)
    known = {prefix: uri for prefix, uri in shape.namespaces.items() if prefix in used or not prefix}
    if not known:
        return body
    inside = content if isinstance(content, Mapping) else {} if content is None else {"#text": content}
    return {root: {**{f"@xmlns:{prefix}".rstrip(":"): uri for prefix, uri in known.items()}, **inside}}


def _prefixes(body: Any) -> set[str]:
    parts = body.items() if isinstance(body, Mapping) else []
    prefixes = {name.lstrip("@").partition(":")[0] for name, _ in parts if ":" in name}
    inside = [value for _, value in parts] if isinstance(body, Mapping) else body if isinstance(body, list) else []
    return prefixes.union(*map(_prefixes, inside))


def _json(content: bytes, _shape: d.Shape) -> Any:
    content = content.removeprefix(codecs.BOM_UTF8)  # which may be ignored (RFC 8259, section 8.1)
    try:
        value = orjson.loads(content)
    except orjson.JSONDecodeError as error:
        raise _no_json(content, error) from error
    # a key that stood twice is gone now: what is left is shorter, and has fewer quotes unless one was escaped
    again = orjson.dumps(value)
    if len(again) != len(content) and (again.count(b'"') != content.count(b'"') or b"\\u0022" in content):
        _refuse_twins(content)
    return _in_full(content) if _has_large(content) else value


def exactly(content: bytes) -> Any:
    """A JSON text that has been decoded before: no digit of its numbers is lost."""
    return _in_full(content) if _has_large(content) else orjson.loads(content)


def _has_large(content: bytes) -> bool:
    """Whether there may be a number in it that a machine's numbers do not hold."""
    return _LARGE in content.translate(_EVERY_DIGIT_A_NOUGHT)  # many times as fast as a pattern


def _in_full(content: bytes) -> Any:
    with _not_too_deep():
        return json.loads(content, parse_int=_exactly)  # RFC 8259, section 6: more precision than others expect


def _exactly(digits: str) -> int | str:
    """A whole number; one that a machine's numbers do not hold is a text, of which no digit is lost."""
    return digits if len(digits) > _DIGITS or abs(int(digits)) >= 2**63 else int(digits)


def _no_json(content: bytes, error: orjson.JSONDecodeError) -> BadAnswer:
    if content.lstrip()[:1] == b"<":
        return BadAnswer("answered with a web page instead of JSON", advice="a proxy or a sign-in page in between?")
    if error.pos >= len(content.rstrip()) - 1:
        return BadAnswer(f"sent JSON that is cut off after {len(content):,} bytes", cut=True)
    return BadAnswer(f"sent what is not JSON (RFC 8259), at byte {error.pos:,}", why=error.msg)


def _refuse_twins(content: bytes) -> None:
    def pairs(members: list[tuple[str, Any]]) -> dict[str, Any]:
        made = dict(members)
        if len(made) < len(members):
            names = [name for name, _ in members]
            twin = next(name for name in names if names.count(name) > 1)
            raise BadAnswer(f"sent JSON in which the key {twin!r} stands twice in one object")
        return made

    with _not_too_deep():
        json.loads(content, object_pairs_hook=pairs)


@contextmanager
def _not_too_deep() -> Iterator[None]:
    try:
        yield
    except RecursionError as error:
        raise BadAnswer("sent JSON that is nested too deeply") from error


def _xml(content: bytes, shape: d.Shape) -> Any:
    from xml.parsers.expat import ExpatError

    import xmltodict

    assert isinstance(shape, d.XmlShape)
    names: defaultdict[str, str] = defaultdict(str)
    names.update({uri: prefix for prefix, uri in shape.namespaces.items()})
    try:
        return xmltodict.parse(content, process_namespaces=True, namespaces=names)
    except ExpatError as error:
        cut = "no element found" in str(error) or "unclosed" in str(error)
        what = f"sent XML that is cut off after {len(content):,} bytes" if cut else "sent what is not XML"
        raise BadAnswer(what, why=str(error), cut=cut) from error
    except ValueError as error:
        raise BadAnswer("sent XML that declares entities, which are refused", why=str(error)) from error


def _text_of(content: bytes) -> str:
    try:
        if content.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):  # as some programs write tables of text
            return content.decode("utf-16")
        return content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise BadAnswer(f"sent text that is not {error.encoding.upper()}, at byte {error.start:,}") from error


def _csv(content: bytes, shape: d.Shape) -> list[dict[str, Any]]:
    assert isinstance(shape, d.CsvShape)
    return list(rows_of(content, shape))


def rows_of(content: bytes, shape: d.CsvShape) -> Iterator[dict[str, Any]]:
    """The rows of a table of text, one after another; raises BadAnswer as :func:`decode`."""
    return (row for _, row in numbered_rows(content, shape))


def numbered_rows(content: bytes, shape: d.CsvShape) -> Iterator[tuple[int, dict[str, Any]]]:
    """The same, each with its number as a person counts them in a sheet: rows of nothing count, and are left out."""
    import csv
    import io

    text = _text_of(content)
    if text.lstrip()[:1] == "<":
        raise BadAnswer("answered with a web page instead of CSV", advice="a proxy or a sign-in page in between?")
    csv.field_size_limit(max(csv.field_size_limit(), len(content) + 1))  # of the whole process: it is never lowered
    try:
        reader = csv.reader(io.StringIO(text, newline=""), delimiter=shape.separator, strict=True)
        rows = ((at, row) for at, row in enumerate(reader, start=1) if any(row))
        names = [name.strip() for name in next(rows, (1, list[str]()))[1]]
        twins = {name for name in names if names.count(name) > 1}
        if twins:
            raise BadAnswer(f"sent CSV in which the column {min(twins)!r} stands twice")
        for at, row in rows:
            if len(row) != len(names):
                where = f"in line {reader.line_num}, where the first line names {len(names)}"
                raise BadAnswer(f"sent CSV with {len(row)} values {where}")
            yield at, dict(zip(names, row, strict=True))
    except csv.Error as error:
        raise BadAnswer("sent what is not CSV (RFC 4180)", why=str(error)) from error


def _lines(content: bytes, shape: d.Shape) -> list[Any]:
    return lines_of(content, shape)


def lines_of(content: bytes, shape: d.Shape, first: int = 1) -> list[Any]:
    """The values of JSON lines, of which ``first`` is the number of the first; raises BadAnswer as :func:`decode`."""
    records = []
    for number, line in enumerate(content.splitlines(), first):
        if line.strip():
            try:
                records.append(_json(line, shape))
            except BadAnswer as error:
                raise BadAnswer(f"{error.what}, in line {number:,}", why=error.why, advice=error.advice) from error
    return records


def unread_lines(content: bytes, shape: d.TextShape) -> list[str]:
    """The lines of a text that are no part of a record, and are not meant to be passed over."""
    text = _text_of(content)
    import regex

    with _in_time(shape):
        rest = regex.sub(shape.pattern, "", text, flags=regex.MULTILINE, timeout=_PATIENCE)
        if shape.skip:  # only whole lines are passed over
            rest = "\n".join(line for line in rest.splitlines() if not _search(shape.skip, line))
    return [line for line in rest.splitlines() if line.strip()]


def _search(pattern: str, line: str) -> bool:
    import regex

    return regex.search(pattern, line, flags=regex.MULTILINE, timeout=_PATIENCE) is not None


@contextmanager
def _in_time(shape: d.TextShape) -> Iterator[None]:
    """Some patterns take longer with each sign than the time that is left to the world: they end by then."""
    try:
        yield
    except TimeoutError as error:
        raise BadAnswer(
            f"sent a text that `pattern` or `skip` did not finish matching within {_PATIENCE:g} s",
            why=f"pattern: {shape.pattern}", advice="write it without a repetition inside another",
        ) from error  # fmt: skip


def _text(content: bytes, shape: d.Shape) -> list[dict[str, Any]]:
    assert isinstance(shape, d.TextShape)
    import regex

    with _in_time(shape):
        matches = regex.finditer(shape.pattern, _text_of(content), flags=regex.MULTILINE, timeout=_PATIENCE)
        return [match.groupdict() for match in matches]


def _metrics(content: bytes, _shape: d.Shape) -> list[dict[str, Any]]:
    """OpenMetrics 1.0: an exposition ends with `# EOF`, so that one which was cut off is no exposition."""
    from prometheus_client.openmetrics.parser import text_string_to_metric_families

    text = _text_of(content)
    try:
        families = list(text_string_to_metric_families(text))  # type: ignore[no-untyped-call]
    except ValueError as error:
        cut = not text.rstrip().endswith("# EOF")
        what = "sent OpenMetrics text that is cut off: no # EOF" if cut else "sent what is not OpenMetrics text"
        raise BadAnswer(what, why=str(error), cut=cut) from error
    return [_sample(family, sample) for family in families for sample in family.samples]


def _sample(family: Any, sample: Any) -> dict[str, Any]:
    labels = dict(sorted(sample.labels.items()))
    told = ",".join(f'{name}="{value}"' for name, value in labels.items())
    at = float(sample.timestamp) if sample.timestamp is not None else None
    value = sample.value if math.isfinite(sample.value) else None  # no JSON has infinity, or what is no number
    return {
        "id": f"{sample.name}{{{told}}}", "metric": sample.name, "value": value, "unit": family.unit or None,
        "type": family.type, "at": at, "labels": labels,
    }  # fmt: skip


def _sheet(content: bytes, shape: d.Shape) -> list[dict[str, Any]]:
    assert isinstance(shape, d.SheetShape)
    return [row for _, row in rows_in(content, shape.sheet)]


def _parquet(content: bytes, _shape: d.Shape) -> list[dict[str, Any]]:
    import io

    import polars as pl

    try:
        frame = pl.read_parquet(io.BytesIO(content))
    except (pl.exceptions.PolarsError, OSError) as error:
        raise BadAnswer("is not a readable Parquet file", why=str(error).split("\n")[0]) from error
    times = [name for name, kind in frame.schema.items() if kind.is_temporal()]
    plain = frame.with_columns(pl.col(name).dt.to_string("iso") for name in times)
    return list(plain.iter_rows(named=True))


_DECODE = {
    "json": _json, "xml": _xml, "csv": _csv, "text": _text, "ndjson": _lines, "xlsx": _sheet, "parquet": _parquet,
    "openmetrics": _metrics,
}  # fmt: skip


def merged(body: Mapping[str, Any], more: Mapping[str, Any]) -> dict[str, Any]:
    """``body`` with ``more`` laid over it, mapping by mapping."""
    done = dict(body)
    for key, value in more.items():
        here = done.get(key)
        done[key] = merged(here, value) if isinstance(here, Mapping) and isinstance(value, Mapping) else value
    return done
