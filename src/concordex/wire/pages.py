"""Asking for a list page by page, in the way that its dialect declares."""

from __future__ import annotations

import asyncio
import copy
from collections.abc import AsyncIterable, AsyncIterator, Awaitable, Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any, TypeVar

from concordex.errors import BadAnswer
from concordex.model.values import parse_duration
from concordex.wire import dialect as d
from concordex.wire.answers import Answer
from concordex.wire.paths import at
from concordex.wire.session import Asked, Session

Record = dict[str, Any]
T = TypeVar("T")


@dataclass(frozen=True)
class Page:
    """One answer: its records, the announced total, the mark or address of the next page, and ids that are gone."""

    records: list[Record]
    total: int | None = None
    next: Any = None
    gone: Sequence[Any] = ()


@dataclass(frozen=True, kw_only=True)
class Narrow:
    """How a list is asked to be shorter: by the system itself."""

    parameters: Mapping[str, str] = field(default_factory=dict)
    path: str | None = None
    members: Sequence[str] = ()
    since: datetime | None = None
    changed_since: datetime | None = None


class Pager:
    """Asks for the pages of one list."""

    def __init__(
        self, session: Session, call: d.Listed, values: Mapping[str, Any] | None = None, narrow: Narrow | None = None
    ) -> None:
        self.session, self.call, self.values = session, call, values or {}
        self.narrow = narrow or Narrow()
        self.announced: int | None = None
        self.notes: list[str] = []
        self._asked: Asked | None = None

    def pages(self) -> AsyncIterator[Page]:
        """Every page, in the order of the list."""
        pages = self.call.pages
        if isinstance(pages, d.LinkedPages | d.HeaderLinkedPages | d.CursorPages):
            return self._followed()
        return self._windows(pages) if isinstance(pages, d.WindowPages) else self._counted()

    async def first(self, size: int | None = None) -> Page:
        """The first page, with ``size`` records if the system takes such a wish."""
        if isinstance(self.call.pages, d.WindowPages):
            begin, end = _spans(self.call.pages, self.session.began, None)[-1]
            return await self._page(self._window_parameters(self.call.pages, begin, end))
        return await self._page(self._window(0, size or int(getattr(self.call.pages, "size", 1))))

    async def total(self) -> int | None:
        """How many there are by a call of its own, or as the first page says."""
        if isinstance(self.call.total, d.TotalCall):
            answer = await self.session.get(self.call.total, self.values)
            said = _whole(answer.at(self.call.total.at))
            if said is None:
                raise self._bad(f"there is no number at {self.call.total.at} in the answer that should tell the total")
            return said
        return None

    async def _page(self, window: Mapping[str, Any], link: str | None = None) -> Page:
        if self._asked is None:
            self._asked = await self.session.asked(self._call_narrowed(), self.values)
        asked = copy.copy(self._asked)
        asked.query, asked.params = dict(asked.query), copy.deepcopy(asked.params)
        asked.body = copy.deepcopy(asked.body)
        if link:
            asked.path, asked.query = self.session.link(link, asked.path), {}
        else:
            for name, value in {**self._narrowing(), **window}.items():
                asked.put(self.call.place, name, value)
        return self._taken(await self.session.read(asked))

    def _call_narrowed(self) -> d.Listed:
        return self.call.model_copy(update={"path": self.narrow.path}) if self.narrow.path else self.call

    def _narrowing(self) -> dict[str, Any]:
        said: dict[str, Any] = dict(self.narrow.parameters)
        if isinstance(self.call, d.Read):
            if self.call.columns and self.narrow.members:
                wanted = dict.fromkeys([*self.call.columns.always, *self.narrow.members])
                said[self.call.columns.parameter] = self.call.columns.several.join(wanted)
            if self.call.changed and self.narrow.changed_since:
                said[self.call.changed.parameter] = moment(self.narrow.changed_since, self.call.changed.time)
        return said

    def _taken(self, answer: Answer) -> Page:
        call, pages = self.call, self.call.pages
        records = at(call.records).several(answer.body)
        if call.keyed_by and isinstance(records, dict):
            records = [{**record, call.keyed_by: key} for key, record in records.items() if isinstance(record, dict)]
        if isinstance(records, dict) and call.records != "$":
            records = [records]
        is_xml = (call.shape or self.session.dialect.shape).by == "xml"
        if records is None and is_xml:
            records = []  # an empty element
        if not isinstance(records, list) or not set(map(type, records)) <= {dict}:
            raise self._bad(
                f"there is no list of records at {call.records} in the answer to {call.rpc or call.path}",
                "does `records` in the dialect fit this system's release?",
            )
        total = answer.at(call.total) if isinstance(call.total, str) else None
        gone: Any = ()
        if isinstance(call, d.Read) and call.changed and call.changed.gone:
            gone = at(call.changed.gone).several(answer.body) or ()
        return Page(records, _whole(total), self._next(answer, pages), gone)

    def _next(self, answer: Answer, pages: d.Pages) -> Any:
        if isinstance(pages, d.HeaderLinkedPages):
            return answer.links.get("next")
        if isinstance(pages, d.LinkedPages):
            return answer.at(pages.next) or None
        if isinstance(pages, d.CursorPages):
            more = answer.at(pages.more) if pages.more else True
            ended = more in (False, None, 0, "false", "0", "no")
            return None if ended else answer.at(pages.next) or None
        return None

    def _window(self, start: int, size: int) -> dict[str, Any]:
        """The parameters that ask for ``size`` records from number ``start``, counted from nought."""
        pages = self.call.pages
        if isinstance(pages, d.OffsetPages):
            return {pages.offset: start + pages.first, pages.limit: size}
        if isinstance(pages, d.NumberedPages):
            return {pages.page: start // size + pages.first} | ({pages.limit: size} if pages.limit else {})
        limit = getattr(pages, "limit", None)
        return {limit: size} if limit else {}

    async def _followed(self) -> AsyncIterator[Page]:
        """Each page by what the one before it says."""
        pages = self.call.pages
        self.announced = await self.total()
        page, seen = await self.first(), set[str]()
        while True:
            self.announced = page.total if page.total is not None else self.announced
            yield page
            if page.next is None:
                return
            if str(page.next) in seen:
                raise self._bad("the link to the next page leads back to a page that was read")
            seen.add(str(page.next))
            if isinstance(pages, d.CursorPages):
                size = {pages.limit: pages.size} if pages.limit else {}
                page = await self._page({pages.cursor: page.next} | size)
            else:
                page = await self._page({}, link=str(page.next))

    async def _counted(self) -> AsyncIterator[Page]:
        self.announced = await self.total()
        first = await self.first()
        self.announced = first.total if first.total is not None else self.announced
        yield first
        if isinstance(self.call.pages, d.OnePage) or not first.records:
            return
        size = self._step(len(first.records))
        if self.announced is None:
            async for page in self._until_short(size):
                yield page
        else:
            starts = range(size, self.announced, size)
            async for page in in_order(lambda start: self._page(self._window(start, size)), starts, self._flight):
                yield page

    @property
    def _flight(self) -> int:
        return self.session.concurrency + 2

    def _step(self, came: int) -> int:
        """How far apart pages begin: a system may send fewer than were asked for."""
        asked = int(getattr(self.call.pages, "size", came))
        capped = came < asked and came < (self.announced or 0)
        if capped:
            self.notes.append(f"the system sends {came} records a page, not the {asked} asked for")
        return came if capped else asked

    async def _until_short(self, size: int) -> AsyncIterator[Page]:
        start = size
        while True:
            page = await self._page(self._window(start, size))
            if page.records:
                yield page
            if len(page.records) < size:
                return
            start += size

    async def _windows(self, pages: d.WindowPages) -> AsyncIterator[Page]:
        spans = _spans(pages, self.session.began, self.narrow.since)
        async for found in in_order(lambda span: self._span(pages, *span), spans, self._flight):
            for page in found:
                yield page

    async def _span(self, pages: d.WindowPages, begin: datetime, end: datetime) -> list[Page]:
        """A span of time; halved for as long as it comes full, since then something may be left out."""
        page = await self._page(self._window_parameters(pages, begin, end))
        if len(page.records) < pages.full:
            return [page]
        if end - begin <= timedelta(seconds=1):
            raise self._bad(f"more than {pages.full - 1} records in the one second from {begin:%Y-%m-%dT%H:%M:%SZ}")
        middle = (begin + (end - begin) / 2).replace(microsecond=0)
        middle = middle if middle > begin else begin + timedelta(seconds=1)
        return [*await self._span(pages, begin, middle), *await self._span(pages, middle, end)]

    @staticmethod
    def _window_parameters(pages: d.WindowPages, begin: datetime, end: datetime) -> dict[str, Any]:
        return {pages.since: moment(begin, pages.time), pages.until: moment(end, pages.time)}

    def _bad(self, what: str, advice: str = "") -> BadAnswer:
        return BadAnswer(what, where=self.session.endpoint.name, advice=advice)


async def in_order(
    ask: Callable[[Any], Awaitable[T]], things: Iterable[Any] | AsyncIterable[Any], flight: int
) -> AsyncIterator[T]:
    """What ``ask`` gives for each thing, in their order, while as many as ``flight`` are under way."""
    waiting: list[asyncio.Future[T]] = []
    try:
        async for thing in _one_by_one(things):
            waiting.append(asyncio.ensure_future(ask(thing)))
            if len(waiting) >= flight:
                yield await waiting.pop(0)
        while waiting:
            yield await waiting.pop(0)
    finally:
        for task in waiting:
            task.cancel()
        await asyncio.gather(*waiting, return_exceptions=True)


async def _one_by_one(things: Iterable[Any] | AsyncIterable[Any]) -> AsyncIterator[Any]:
    if isinstance(things, AsyncIterable):
        async for thing in things:
            yield thing
    else:
        for thing in things:
            yield thing


def moment(when: datetime, form: str) -> str:
    """A moment as a system's query says it."""
    if form == "epoch":
        return str(int(when.timestamp()))
    return str(int(when.timestamp() * 1000)) if form == "epoch_ms" else when.strftime("%Y-%m-%dT%H:%M:%SZ")


def _spans(pages: d.WindowPages, now: datetime, since: datetime | None) -> list[tuple[datetime, datetime]]:
    """The spans of time to ask for, oldest first; the last one ends with the second that is not over yet."""
    reach, span = parse_duration(pages.reach), parse_duration(pages.span)
    assert reach
    assert span
    end = now.replace(microsecond=0) + timedelta(seconds=1)
    begin = max(end - reach, since.replace(microsecond=0)) if since else end - reach
    spans = []
    while begin < end:
        spans.append((begin, min(begin + span, end)))
        begin += span
    return spans or [(end - timedelta(seconds=1), end)]


def _whole(said: Any) -> int | None:
    if isinstance(said, bool):
        return None
    if isinstance(said, int | float):
        return int(said)
    return int(said) if isinstance(said, str) and said.strip().isdecimal() else None
