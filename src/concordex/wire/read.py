"""Reading a whole table, and proving that it is whole.

Every look at a table compares what the system announced with what came and with what was distinct.
A look that does not add up is followed by a second one, since records move between pages while we
read; when neither adds up, what came is kept and called partial.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import polars as pl

from concordex.errors import BadAnswer, WireError
from concordex.wire import dialect as d
from concordex.wire.mapping import Mapper
from concordex.wire.paths import at
from concordex.wire.session import Session

#: How many records become a frame at once: enough to be fast, few enough to be small.
_CHUNK = 4_000

#: Told after each page: records so far, and how many were announced.
Progress = Callable[[int, int | None], None]


@dataclass(frozen=True)
class Page:
    """One answer: its records, the announced total, and the address of the next page."""

    records: list[dict[str, Any]]
    total: int | None = None
    next: str | None = None


@dataclass(kw_only=True)
class Look:
    """What one reading of a table brought."""

    frame: pl.DataFrame
    announced: int | None
    received: int
    distinct: int
    fault: str | None = None
    notes: list[str] = field(default_factory=list)
    lost: dict[str, int] = field(default_factory=dict)

    @property
    def whole(self) -> bool:
        """Whether all that was announced came, once each."""
        return self.fault is None and self.received == self.distinct and self.announced in (None, self.distinct)


class Collector:
    """Gathers pages into a frame, each record once."""

    def __init__(self, table: d.Table) -> None:
        self.received = 0
        self._mapper = Mapper(table)
        self._ids = [at(path) for path in table.fields["record_id"].from_]
        self._seen: set[str] = set()
        self._waiting = self._mapper.empty()
        self._frames: list[pl.DataFrame] = []
        self.nameless = 0

    def add(self, records: list[dict[str, Any]]) -> None:
        """Take a page; a record that came before is counted and left out."""
        self.received += len(records)
        new = self._new(records, self._numbers(records))
        self._mapper.add(self._waiting, new)
        if len(self._waiting["record_id"]) >= _CHUNK:
            self._flush()

    def look(self, announced: int | None, fault: str | None, notes: list[str]) -> Look:
        """What has been gathered."""
        self._flush()
        if self.nameless:
            fault = fault or f"{self.nameless} records came without an id"
        frames = [frame for frame in self._frames if frame.height] or self._frames[:1]
        return Look(
            frame=pl.concat(frames, rechunk=False), announced=announced, received=self.received,
            distinct=len(self._seen), fault=fault, notes=notes, lost=self._mapper.lost,
        )  # fmt: skip

    def _new(self, records: list[dict[str, Any]], numbers: list[Any]) -> list[dict[str, Any]]:
        """The records that did not come before."""
        fresh = set(map(str, numbers))
        if len(fresh) == len(records) and "None" not in fresh and self._seen.isdisjoint(fresh):
            self._seen |= fresh
            return records
        new = []
        for record, number in zip(records, numbers, strict=True):
            if number is None:
                self.nameless += 1
            elif str(number) not in self._seen:
                self._seen.add(str(number))
                new.append(record)
        return new

    def _numbers(self, records: list[dict[str, Any]]) -> list[Any]:
        numbers = self._ids[0].column(records)
        for path in self._ids[1:]:
            numbers = [n if n is not None else path.first(r) for n, r in zip(numbers, records, strict=True)]
        return numbers

    def _flush(self) -> None:
        """Make a frame of what waits: in this thread, since another would wait for the interpreter."""
        self._frames.append(self._mapper.frame(self._waiting))
        self._waiting = self._mapper.empty()


async def read_table(
    session: Session, name: str, query: Mapping[str, str] | None = None, progress: Progress | None = None
) -> Look:
    """The table ``name`` of the session's system; ``query`` narrows it at the system."""
    first = await _look(session, name, query or {}, progress)
    if first.whole or first.fault:
        return first
    second = await _look(session, name, query or {}, progress)
    best = second if second.whole or second.distinct >= first.distinct else first
    if best.whole:
        best.notes.append("the first look did not add up; the second did")
    else:
        best.fault = best.fault or "two looks did not bring what the system announced"
    return best


async def count(session: Session, name: str) -> int | None:
    """How many records the system says the whole table has, or None where it does not tell."""
    if session.dialect.tables[name].read.total is None:
        return None
    return (await _Pager(session, name, {}).first(size=1)).total


async def peek(session: Session, name: str) -> tuple[Look, int | None]:
    """The first page of a table, mapped, and how many records are announced: to see whether it reads."""
    page = await _Pager(session, name, {}).first()
    collector = Collector(session.dialect.tables[name])
    collector.add(page.records)
    return collector.look(page.total, None, []), page.total


async def _look(session: Session, name: str, query: Mapping[str, str], progress: Progress | None) -> Look:
    table = session.dialect.tables[name]
    collector, pager = Collector(table), _Pager(session, name, query)
    fault = None
    try:
        async for page in pager.pages():
            collector.add(page.records)
            if progress:
                progress(collector.received, pager.announced)
    except WireError as error:
        if not collector.received:
            raise
        fault = str(error)
    return collector.look(pager.announced, fault, pager.notes)


class _Pager:
    """Asks for the pages of a table in the way that its dialect declares."""

    def __init__(self, session: Session, name: str, query: Mapping[str, str]) -> None:
        self.session, self.name = session, name
        self.read = session.dialect.tables[name].read
        self.query = {**self.read.query, **query}
        self.announced: int | None = None
        self.notes: list[str] = []

    def pages(self) -> AsyncIterator[Page]:
        return self._linked() if isinstance(self.read.pages, d.LinkedPages) else self._counted()

    async def first(self, size: int | None = None) -> Page:
        return await self._page(self._window(0, size or int(getattr(self.read.pages, "size", 1))))

    async def _page(self, window: Mapping[str, str], link: str | None = None) -> Page:
        query = None if link else {**self.query, **window}
        address = self.session.link(link, self.read.path) if link else self.read.path
        body = await self.session.read(address, query)
        records = at(self.read.records).first(body)
        if isinstance(records, dict) and self.read.records != "$":
            records = [records]
        if not isinstance(records, list) or not set(map(type, records)) <= {dict}:
            raise BadAnswer(
                f"there is no list of records at {self.read.records} in the answer to {self.read.path}",
                where=f"{self.session.endpoint.name}/{self.name}",
                advice="does `records` in the dialect fit this system's release?",
            )
        total = at(self.read.total).first(body) if self.read.total else None
        following = at(self.read.pages.next).first(body) if isinstance(self.read.pages, d.LinkedPages) else None
        return Page(records, int(total) if isinstance(total, int | float) else None, following or None)

    def _window(self, start: int, size: int) -> dict[str, str]:
        """The parameters that ask for ``size`` records from number ``start``, counted from nought."""
        pages = self.read.pages
        if isinstance(pages, d.OffsetPages):
            return {pages.offset: str(start + pages.first), pages.limit: str(size)}
        if isinstance(pages, d.NumberedPages):
            limit = {pages.limit: str(size)} if pages.limit else {}
            return {pages.page: str(start // size + pages.first)} | limit
        if isinstance(pages, d.LinkedPages) and pages.limit:
            return {pages.limit: str(size)}
        return {}

    async def _linked(self) -> AsyncIterator[Page]:
        page, seen = await self.first(), set[str]()
        while True:
            self.announced = page.total if page.total is not None else self.announced
            yield page
            if page.next is None:
                return
            if page.next in seen:
                raise BadAnswer(
                    "the link to the next page leads back to a page that was read",
                    where=self.session.endpoint.name,
                )
            seen.add(page.next)
            page = await self._page({}, link=page.next)

    async def _counted(self) -> AsyncIterator[Page]:
        first = await self.first()
        self.announced = first.total
        yield first
        if isinstance(self.read.pages, d.OnePage) or not first.records:
            return
        size = self._step(len(first.records))
        if first.total is None:
            async for page in self._until_short(size):
                yield page
        else:
            async for page in self._in_parallel(range(size, first.total, size), size):
                yield page

    def _step(self, came: int) -> int:
        """How far apart pages begin: a system may send fewer than were asked for."""
        asked = getattr(self.read.pages, "size", came)
        capped = came < asked and isinstance(self.read.pages, d.OffsetPages) and came < (self.announced or 0)
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

    async def _in_parallel(self, starts: range, size: int) -> AsyncIterator[Page]:
        """The pages in their order, while as many as the system bears are under way."""
        flight = self.session.dialect.limits.concurrency * 2
        waiting: list[asyncio.Task[Page]] = []
        rest: Iterator[int] = iter(starts)
        try:
            for start in rest:
                waiting.append(asyncio.create_task(self._page(self._window(start, size))))
                if len(waiting) >= flight:
                    yield await waiting.pop(0)
            while waiting:
                yield await waiting.pop(0)
        finally:
            for task in waiting:
                task.cancel()
            await asyncio.gather(*waiting, return_exceptions=True)
