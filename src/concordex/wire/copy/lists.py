"""A list answered page by page, in the way in which its dialect cuts it."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlencode

from concordex.wire import dialect as d
from concordex.wire.copy.asked import Asked
from concordex.wire.copy.declined import Cause, Declined, untold
from concordex.wire.copy.placing import placed, way_to
from concordex.wire.dialect.paths import Path, Source

#: The parameter of our own links that says where a page begins.
PLACE = "copy-from"
#: The records that are asked for (RFC 9110, section 14.1.1).
_RANGE = re.compile(r"(\S+?)=(\d+)-(\d*)")

Fetch = Callable[[int, int], Sequence[Mapping[str, Any]]]


@dataclass
class Cut:
    """A part of a list, from ``start`` to before ``stop``; the answer's status and headers, what it says of more."""

    start: int
    stop: int
    status: int = 200
    headers: dict[str, str] = field(default_factory=dict)
    following: Any = None
    more: bool | None = None


class Marks:
    """Marks that stay the same from page to page: where each stands."""

    def __init__(self) -> None:
        self._places: dict[str, int] = {}

    def begun(self, at: int) -> str:
        """A new mark."""
        mark = f"copy-{len(self._places) + 1}"
        self._places[mark] = at
        return mark

    def moved(self, mark: str, by: int) -> int:
        """Where a mark stands; it goes on by a page."""
        if mark not in self._places:
            raise Declined(Cause.WRONG, f"there is no mark {mark!r}")
        here = self._places[mark]
        self._places[mark] = here + by
        return here


def parameters(listed: d.Listed) -> set[str]:
    """The names of the parameters that cut a list."""
    pages = listed.pages
    told = (getattr(pages, name, None) for name in ("offset", "limit", "page", "cursor", "since", "until"))
    return {name for name in told if name} | {PLACE}


def cut(listed: d.Listed, asked: Asked, count: int, address: str, marks: Marks) -> Cut:  # noqa: PLR0911 - one a way
    """Which records of ``count`` are asked for; ``address`` is what links begin with."""
    pages, place = listed.pages, listed.place
    if isinstance(pages, d.OffsetPages):
        start = _number(asked, place, pages.offset, pages.first) - pages.first
        return _counted(pages, start, _number(asked, place, pages.limit, pages.size), count)
    if isinstance(pages, d.NumberedPages):
        size = _number(asked, place, pages.limit, pages.size) if pages.limit else pages.size
        return _counted(pages, (_number(asked, place, pages.page, pages.first) - pages.first) * size, size, count)
    if isinstance(pages, d.RangePages):
        return _ranged(pages, asked, count)
    if isinstance(pages, d.LinkedPages | d.HeaderLinkedPages):
        return _linked(pages, asked, count, address)
    if isinstance(pages, d.CursorPages):
        return _marked(pages, asked, place, count, marks)
    if isinstance(pages, d.WindowPages):
        return Cut(0, min(count, pages.full))
    return Cut(0, count)


def _number(asked: Asked, place: str, name: str, default: int) -> int:
    text = asked.parameter(place, name)
    if text is None:
        return default
    if not text.isdecimal():
        raise Declined(Cause.WRONG, f"{name} should be a whole number")
    return int(text)


def _counted(pages: d.OffsetPages | d.NumberedPages, start: int, size: int, count: int) -> Cut:
    if start < 0 or not size:
        raise Declined(Cause.WRONG, f"pages are counted from {pages.first}, and hold at least one record")
    if start >= count and isinstance(pages.past_end, int) and (start or count):
        raise Declined(Cause.PAST, f"there is nothing at {start + pages.first}")
    if start >= count and pages.past_end == "repeats":
        start = max((count - 1) // size * size, 0)
    return Cut(min(start, count), min(start + size, count))


def _ranged(pages: d.RangePages, asked: Asked, count: int) -> Cut:
    """RFC 9110, section 14: without Range all of it; 416 where the range begins behind the end."""
    match = _RANGE.fullmatch(asked.headers.get("range", ""))
    if match is None or match[1] != pages.unit:
        return Cut(0, count)
    start, last = int(match[2]), int(match[3]) if match[3] else count - 1
    if not count:
        return Cut(0, 0)
    if start >= count:
        raise Declined(Cause.PAST, f"there are {count}")
    stop = min(last + 1, count)
    return Cut(start, stop, 206, {"Content-Range": f"{pages.unit} {start}-{stop - 1}/{count}"})


def _linked(pages: d.LinkedPages | d.HeaderLinkedPages, asked: Asked, count: int, address: str) -> Cut:
    start = _number(asked, "query", PLACE, 0)
    size = _number(asked, "query", pages.limit, pages.size) if pages.limit else pages.size
    made = Cut(min(start, count), min(start + size, count))
    if made.stop < count:
        made.following = f"{address}{asked.path}?{urlencode({**asked.query, PLACE: made.stop})}"
    if isinstance(pages, d.HeaderLinkedPages):
        first = f"{address}{asked.path}?{urlencode({**asked.query, PLACE: 0})}"
        links = [f'<{first}>; rel="first"'] + ([f'<{made.following}>; rel="next"'] if made.following else [])
        made.headers["Link"] = ", ".join(links)  # RFC 8288
    return made


def _marked(pages: d.CursorPages, asked: Asked, place: str, count: int, marks: Marks) -> Cut:
    size = _number(asked, place, pages.limit, pages.size) if pages.limit else pages.size
    mark = asked.parameter(place, pages.cursor)
    if pages.same_mark:
        start = marks.moved(mark, size) if mark else 0
        made = Cut(min(start, count), min(start + size, count))
        made.following = mark or marks.begun(size)
    else:
        if mark is not None and not re.fullmatch(r"at-\d+", mark):
            raise Declined(Cause.WRONG, f"there is no mark {mark!r}")
        start = int(mark.removeprefix("at-")) if mark else 0
        made = Cut(min(start, count), min(start + size, count))
        made.following = f"at-{made.stop}" if made.stop < count else None
    made.more = made.stop < count
    return made


def body_of(listed: d.Listed, records: Sequence[Mapping[str, Any]], count: int, made: Cut, revision: str) -> Any:
    """The body of an answer that holds these records of ``count``; what goes into headers is added to the cut."""
    body = placed(None, way_to(listed.records), _rows(listed, records))
    if isinstance(listed.members, Path):
        body = placed(body, way_to(listed.members), _names(records))
    pages = listed.pages
    if isinstance(listed.total, Source):
        body = _said(body, listed.total, count, made)
    if listed.revision:
        body = _said(body, listed.revision, revision, made)
    if isinstance(pages, d.LinkedPages | d.CursorPages) and (made.following is not None or not pages.next.header):
        body = _said(body, pages.next, made.following, made)
    if isinstance(pages, d.CursorPages) and pages.more:
        body = _said(body, pages.more, made.more, made)
    return body


def _said(body: Any, where: Source, value: Any, made: Cut) -> Any:
    if where.header:
        made.headers[where.header] = str(value).lower() if isinstance(value, bool) else str(value)
        return body
    if where.path is None:
        raise untold(f"how {where} is said in an answer")
    return placed(body, way_to(where.path), value)


def _names(records: Sequence[Mapping[str, Any]]) -> list[str]:
    return list(dict.fromkeys(name for record in records for name in record))


def _rows(listed: d.Listed, records: Sequence[Mapping[str, Any]]) -> Any:
    """The records as the list has them: mappings, rows, or one mapping by their keys."""
    if listed.members is not None:
        names = _names(records) if isinstance(listed.members, Path) else listed.members
        rows = [[record.get(name) for name in names] for record in records]
        return [row[0] for row in rows] if len(names) == 1 else rows
    if listed.keyed_by:
        key = listed.keyed_by
        return {str(record[key]): {n: v for n, v in record.items() if n != key} for record in records}
    return list(records)
