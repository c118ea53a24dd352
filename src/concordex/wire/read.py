"""Reading a whole table, and proving that it is whole.

Every look at a table compares what the system announced with what came and with what was distinct.
A look that does not add up is followed by a second one, since records move between pages while we
read; when neither adds up, what came is kept and called partial.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import orjson
import polars as pl

from concordex.errors import BadAnswer, RequestRefused, WireError
from concordex.wire import dialect as d
from concordex.wire.enrich import Enricher
from concordex.wire.files import read_file
from concordex.wire.mapping import Mapper
from concordex.wire.pages import Narrow, Page, Pager, Record, in_order
from concordex.wire.paths import at
from concordex.wire.session import Session

#: How many records are put away at once: few enough to be small, and to be still at hand.
_CHUNK = 1_000

#: Pages without a new record after which a list is taken to have no end.
_IDLE = 20

#: A record as JSON text; what JSON does not know, such as a date in a Parquet file, as plain text.
_AS_JSON = partial(orjson.dumps, default=str)

#: Told after each page: records so far, and how many were announced.
Progress = Callable[[int, int | None], None]
#: The fields of the record to which a list belongs.
Parent = Mapping[str, Any]


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
    gone: list[str] = field(default_factory=list)

    @property
    def whole(self) -> bool:
        """Whether all that was announced came, once each."""
        return self.fault is None and self.received == self.distinct and self.announced in (None, self.distinct)


class Collector:
    """Gathers pages into a frame, each record once."""

    def __init__(self, table: d.Table, most: int = 1_000_000) -> None:
        self.received = 0
        self._table, self._most = table, most
        self._mapper = Mapper(table)
        self._ids = [at(path) for path in table.fields["record_id"].from_]
        self._below = table.fields["record_id"].below_parent
        self._seen: set[str] = set()
        self._waiting = self._mapper.empty()
        self._taken: list[pl.DataFrame] = []
        self._nameless = self._huge = 0
        self._gone: dict[str, None] = {}
        self._known = self._idle = 0

    def add(self, page: Page, parent: Parent | None = None) -> None:
        """Take a page; a record that came before is counted and left out."""
        self.received += len(page.records)
        self._gone.update(dict.fromkeys(map(str, page.gone)))
        new, texts = self._small(self._new(page.records, self._numbers(page.records, parent)))
        self._mapper.add(self._waiting, new, texts, parent)
        if len(self._waiting["record_id"]) >= _CHUNK:
            self._flush()

    def refuse_endless(self, announced: int | None, system: str) -> None:
        """Raise BadAnswer where pages go on and on: with nothing new, or with far more than was announced."""
        self._idle = 0 if len(self._seen) > self._known else self._idle + 1
        self._known = len(self._seen)
        if self._idle >= _IDLE:
            raise BadAnswer(f"{_IDLE} pages in a row brought nothing new: the list has no end", where=system)
        if announced is not None and self.received > 2 * announced + 10_000:
            raise BadAnswer(f"{announced:,} records were announced, and the list has no end", where=system)

    def look(self, announced: int | None, fault: str | None, notes: list[str]) -> Look:
        """What has been gathered."""
        self._flush()
        if self._nameless:
            fault = fault or f"{self._nameless} records came without an id"
        if self._huge:
            fault = fault or f"{self._huge} records are larger than {self._most:,} bytes and were left out"
        taken, self._taken = [part for part in self._taken if part.height] or self._taken[:1], []
        return Look(
            frame=self._mapper.frame(taken), announced=announced, received=self.received,
            distinct=len(self._seen), fault=fault, notes=notes, lost=self._mapper.lost, gone=list(self._gone),
        )  # fmt: skip

    def _new(self, records: list[Record], numbers: list[Any]) -> list[Record]:
        """The records that did not come before."""
        fresh = set(map(str, numbers))
        if len(fresh) == len(records) and "None" not in fresh and self._seen.isdisjoint(fresh):
            self._seen |= fresh
            return records
        new = []
        for record, number in zip(records, numbers, strict=True):
            if number is None:
                self._nameless += 1
            elif str(number) not in self._seen:
                self._seen.add(str(number))
                new.append(record)
        return new

    def _small(self, records: list[Record]) -> tuple[list[Record], list[bytes]]:
        """The records that are not too large to keep, and each as JSON text."""
        texts = list(map(_AS_JSON, records))
        if max(map(len, texts), default=0) <= self._most:
            return records, texts
        kept = [(record, text) for record, text in zip(records, texts, strict=True) if len(text) <= self._most]
        self._huge += len(records) - len(kept)
        return [record for record, _ in kept], [text for _, text in kept]

    def _numbers(self, records: list[Record], parent: Parent | None) -> list[Any]:
        numbers = self._ids[0].column(records) if self._ids else [None] * len(records)
        for path in self._ids[1:]:
            numbers = [n if n not in (None, "") else path.first(r) for n, r in zip(numbers, records, strict=True)]
        if self._below and parent is not None:
            numbers = [None if n is None else f"{parent['record_id']}/{n}" for n in numbers]
        return numbers

    def _flush(self) -> None:
        """Put away what waits: in this thread, since another would wait for the interpreter."""
        self._taken.append(self._mapper.taken(self._waiting))
        self._waiting = self._mapper.empty()


async def read_table(
    session: Session,
    name: str,
    narrow: Narrow | None = None,
    progress: Progress | None = None,
    parents: pl.DataFrame | None = None,
) -> Look:
    """The table ``name`` of the session's system; ``narrow`` makes it shorter at the system.

    ``parents`` are the records of the table that its lists hang from, where the dialect says `each`.
    """
    first = await _look(session, name, narrow, progress, parents)
    if first.whole or first.fault:
        return first
    second = await _look(session, name, narrow, progress, parents)
    best = second if second.whole or second.distinct >= first.distinct else first
    if best.whole:
        best.notes.append("the first look did not add up; the second did")
    else:
        best.fault = best.fault or "two looks did not bring what the system announced"
    return best


async def count(session: Session, name: str) -> int | None:
    """How many records the system says the whole table has, or None where it does not tell."""
    read = session.dialect.tables[name].read
    if read.total is None or read.each:
        return None
    pager = Pager(session, read)
    return await pager.total() if isinstance(read.total, d.TotalCall) else (await pager.first(size=1)).total


async def peek(session: Session, name: str, parents: pl.DataFrame | None = None) -> tuple[Look, int | None]:
    """The first page of a table, mapped, and how many records are announced: to see whether it reads."""
    table = session.dialect.tables[name]
    collector = Collector(table, session.dialect.limits.record)
    if table.read.file:
        page, note = read_file(session.endpoint, table.read, session.dialect.limits.answer)
        collector.add(page)
        return collector.look(None, None, [note]), None
    parent = next(iter(_parents(table.read, parents)), None)
    if table.read.each and parent is None:
        return collector.look(None, None, ["there is no record that this list would hang from"]), None
    pager, enricher = Pager(session, table.read, parent), Enricher(session, table.read, parent)
    total = await pager.total()
    page = await pager.first()

    async def only() -> AsyncIterator[Page]:
        yield Page(page.records[:3], page.total, page.next) if table.read.details else page

    async for done in enricher.completed(only()):
        collector.add(done, parent)
    look = collector.look(page.total, enricher.fault, enricher.notes)
    look.received = len(page.records)
    return look, page.total if total is None else total


async def _look(
    session: Session, name: str, narrow: Narrow | None, progress: Progress | None, parents: pl.DataFrame | None
) -> Look:
    table = session.dialect.tables[name]
    collector = Collector(table, session.dialect.limits.record)
    if table.read.file:
        page, note = read_file(session.endpoint, table.read, session.dialect.limits.answer)
        collector.add(page)
        return collector.look(None, None, [note])
    if table.read.each:
        return await _look_below(session, table.read, collector, narrow, progress, _parents(table.read, parents))
    pager, enricher = Pager(session, table.read, narrow=narrow), Enricher(session, table.read)
    fault = None
    try:
        pages = enricher.completed(pager.pages()) if enricher.needed else pager.pages()
        async for page in pages:
            collector.add(page)
            collector.refuse_endless(pager.announced, session.endpoint.name)
            if progress:
                progress(collector.received, pager.announced)
    except WireError as error:
        if not collector.received:
            raise
        fault = str(error)
    return collector.look(pager.announced, fault or enricher.fault, [*pager.notes, *enricher.notes])


async def _look_below(
    session: Session,
    read: d.Read,
    collector: Collector,
    narrow: Narrow | None,
    progress: Progress | None,
    parents: Sequence[Parent],
) -> Look:
    """The lists of all parents as one table."""
    announced: list[int | None] = []
    notes: dict[str, None] = {}
    faults: list[str] = []
    vanished = 0

    async def one(parent: Parent) -> tuple[Parent, list[Page], Pager, Enricher] | None:
        pager, enricher = Pager(session, read, parent, narrow), Enricher(session, read, parent)
        try:
            pages = enricher.completed(pager.pages()) if enricher.needed else pager.pages()
            return parent, [page async for page in pages], pager, enricher
        except RequestRefused as refusal:
            if refusal.http != 404:
                raise
            return None

    fault = None
    try:
        async for found in in_order(one, parents, session.concurrency * 2):
            if found is None:
                vanished += 1
                continue
            parent, pages, pager, enricher = found
            for page in pages:
                collector.add(page, parent)
            announced.append(pager.announced)
            notes.update(dict.fromkeys([*pager.notes, *enricher.notes]))
            faults += [enricher.fault] if enricher.fault else []
            if progress:
                progress(collector.received, None)
    except WireError as error:
        if not collector.received:
            raise
        fault = str(error)
    total = None if None in announced or vanished else sum(number for number in announced if number is not None)
    told = [f"{vanished} records of {read.each.of} are not known there any more"] if vanished and read.each else []
    return collector.look(total, fault or (faults[0] if faults else None), [*notes, *told])


def _parents(read: d.Read, frame: pl.DataFrame | None) -> list[Parent]:
    """The records that lists hang from, as mappings."""
    if read.each is None or frame is None:
        return []
    if read.each.kinds and "kind" in frame.columns:
        frame = frame.filter(pl.col("kind").is_in(read.each.kinds))
    return [{key: value for key, value in row.items() if value is not None} for row in frame.iter_rows(named=True)]
