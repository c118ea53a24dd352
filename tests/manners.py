"""A list on a server of many manners: how it pages, what it announces, where it cuts, and how it lies."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlencode


@dataclass
class Manners:
    """``size`` records, and how they are told; call it as a `Lamplight` answer."""

    size: int = 64
    cap: int | None = None  # the most that a page holds, whatever is asked
    by: str = "offset"  # offset, number, link, header, cursor, once
    base: int = 0  # the number of the first record, or page
    total: Any = "true"  # true, own (of the page), none, null, or a value to send
    past: Any = "empty"  # empty, repeats, or a status
    short: dict[int, int] = field(default_factory=dict)  # the nth request brings so few
    mark: str = "next"  # the member of the mark or link
    last: str = "null"  # how the last page says so: null, absent, loop
    more: Any = None  # whether to send `more`: true, lies, reversed
    stop: int | None = None  # nothing is given past this record
    deaf: bool = False  # parameters are ignored
    sizes: tuple[int, ...] = ()  # the only ones that may be asked for
    shy: bool = False  # nothing leads to a last page that would not be full
    asked: int = 0

    def __call__(self, _method: str, path: str, query: dict[str, str], _body: Any, _headers: dict[str, str]) -> tuple:
        """One page."""
        if path == "/tally":
            return 200, {"n": self.size}
        if self.sizes and int(query.get("many", self.sizes[0])) not in self.sizes:
            return 400, {"why": "no such size"}
        self.asked += 1
        records = [{"id": at, "label": f"lamp-{at:04d}"} for at in range(1, self.size + 1)][: self.stop]
        start, wanted = self._window(query)
        start, wanted = (0, len(records)) if self.by == "once" else (start, wanted)
        if self.deaf:
            start = 0
        many = self.short.get(self.asked, min(wanted, self.cap or wanted))
        page = records[start : start + many] if start >= 0 else []
        if not page and start >= len(records) and records:
            if isinstance(self.past, int):
                return self.past, {"why": "past the end"}
            if self.past == "repeats":
                first = (len(records) - 1) // many * many
                page = records[first : first + many]
        body: dict[str, Any] = {"lamps": page}
        if self.total == "true":
            body["n"] = self.size
        elif self.total == "own":
            body["n"] = len(page)
        elif self.total not in ("none",):
            body["n"] = None if self.total == "null" else self.total
        return 200, body | self._following(start, len(page), len(records), wanted), self._header(start, page, records)

    def _window(self, query: dict[str, str]) -> tuple[int, int]:
        wanted = int(query.get("many", self.cap or 10))
        if self.by == "number":
            many = min(wanted, self.cap or wanted)
            return (int(query.get("page", self.base)) - self.base) * many, many
        mark = query.get("mark", "0")
        if self.last == "same":
            return (self.asked - 1) * min(wanted, self.cap or wanted), wanted
        return (int(query["from"]) - self.base if "from" in query else int(mark)), wanted

    def _following(self, start: int, came: int, of: int, wanted: int) -> dict[str, Any]:
        if self.by not in ("link", "cursor"):
            return {}
        there_is_more = start + came < of and not (self.shy and start + 2 * came > of)
        said: dict[str, Any] = {}
        if self.more == "true":
            said["more"] = there_is_more
        elif self.more == "reversed":
            said["more"] = not there_is_more
        elif self.more == "lies":
            said["more"] = True
        if there_is_more or self.last == "same":
            mark = start + came if self.last != "same" else "scroll"
            said[self.mark] = mark if self.by == "cursor" else f"/lamps?{urlencode({'mark': mark, 'many': wanted})}"
        elif self.last == "null":
            said[self.mark] = None
        elif self.last == "loop":
            said[self.mark] = 0 if self.by == "cursor" else "/lamps?mark=0"
        return said

    def _header(self, start: int, page: list, records: list) -> list[tuple[str, str]]:
        if self.by != "header" or start + len(page) >= len(records):
            return []
        return [("Link", self.mark % f"/lamps?mark={start + len(page)}")]
