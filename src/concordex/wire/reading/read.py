"""Reading a whole table, and finding out what shows that it is whole.

A look whose numbers do not agree is followed by a second one, since records move between pages while we
read; when neither agrees, what came is kept and called partial.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Coroutine, Sequence
from typing import Any

import polars as pl

from concordex.errors import ConcordexError, RequestRefused, SignInRefused, Unreachable, WireError
from concordex.progress import Counted
from concordex.wire import dialect as d
from concordex.wire.http.session import Session
from concordex.wire.reading.completeness import TableOutcome, Trail, Verdict, verdict
from concordex.wire.reading.databases import VOUCHED, select
from concordex.wire.reading.details import Enricher, few
from concordex.wire.reading.files import read_file
from concordex.wire.reading.heeded import Heeded, doubts
from concordex.wire.reading.list_reader import list_reader
from concordex.wire.reading.pages import Narrow, Page, Pager, in_order
from concordex.wire.reading.paging import first_page, walk
from concordex.wire.reading.table_read import Collector, Finish, Parent, Room, TableRead
from concordex.words import plural

__all__ = ["Collector", "TableRead", "count", "peek", "read_table"]


#: Which of two looks is the better one.
_RANK = {TableOutcome.PARTIAL: 0, TableOutcome.UNPROVEN: 1, TableOutcome.WHOLE: 2}

#: Lists below parents that may fail, one after the other, before the table is given up.
_PATIENCE = 10


async def read_table(
    session: Session,
    name: str,
    narrow: Narrow | None = None,
    progress: Counted | None = None,
    parents: pl.DataFrame | None = None,
    finished: Finish | None = None,
    room_for: Callable[[], Room] | None = None,
) -> TableRead:
    """The table ``name`` of the session's system; ``narrow`` makes it shorter at the system.

    ``parents`` are the records of the table that its lists hang from, where the dialect says `each`; ``finished`` is
    done with its records in the end, and ``room_for`` gives room for each reading of a long table.
    """
    mended, cached = session.judge.mended, session.judge.cached
    table = session.dialect.tables[name]

    def look() -> Coroutine[Any, Any, TableRead]:
        collector = Collector(table, session.dialect.limits.record, finished, room_for)
        return _look(session, table, collector, narrow or Narrow(), progress, parents)

    best = await look()
    if best.again or (best.received != best.distinct and not best.fault):
        first, second = best, await look()
        best = max(second, first, key=lambda look: (_RANK[look.outcome], look.distinct))
        (first if best is second else second).discard()
        if best.whole:
            best.notes.append("the first look did not add up; the second did")
        elif best.outcome is TableOutcome.PARTIAL:
            best.fault = f"two looks did not add up: {best.why}"
        elif best.again:
            best.doubt = f"two looks did not add up: {best.why}"
    if halves := session.judge.mended - mended:
        best.notes.append(f"of {halves:,} character{'s' * (halves > 1)} only a half came: U+FFFD stands there")
    if (old := session.judge.cached - cached) and best.whole:
        best.proof = None
        best.doubt = f"{plural(old, 'answer')} came out of a cache, though it was asked not to give any (Age, RFC 9111)"
    best.trusted = name in session.endpoint.trusted
    return best


async def count(session: Session, name: str) -> int | None:
    """How many records the system says the whole table has, or None where it does not tell."""
    read = session.dialect.tables[name].read
    if read.total is None or read.each:
        return None
    pager = Pager(session, read)
    if isinstance(read.total, d.TotalCall):
        return await pager.total()
    try:
        return (await first_page(pager, size=1)).total
    except RequestRefused:  # some systems take a few sizes alone
        return (await first_page(pager)).total


async def peek(session: Session, name: str, parents: pl.DataFrame | None = None) -> tuple[TableRead, int | None]:
    """The first page of a table, mapped, and how many records are announced: to see whether it reads."""
    table = session.dialect.tables[name]
    collector = Collector(table, session.dialect.limits.record)
    if table.read.sql:
        selected = select(session.endpoint, table)
        for page in selected.pages:
            collector.add(page)
        return collector.look([], notes=[selected.note]), None
    if table.read.file:
        file = read_file(session.endpoint, session.dialect, table)
        for page in file.pages:
            collector.add(page)
        return collector.look([], notes=[file.note, *file.doubts, *file.notes]), None
    parent = next(iter(parents_of(table.read, parents)), None)
    if table.read.each and parent is None:
        return collector.look([], notes=["there is no record that this list would hang from"]), None
    pager, enricher = Pager(session, table.read, parent), Enricher(session, table, parent)
    total = await pager.total()
    page = await first_page(pager)

    async def only() -> AsyncIterator[Page]:
        yield Page(records=page.records[:3], total=page.total) if enricher.by_record else page

    async for done in enricher.completed(only()):
        collector.add(done, parent)
    look = collector.look([], [enricher.fault] if enricher.fault else [], enricher.notes)
    look.received = len(page.records)
    return look, page.total if total is None else total


async def _look_elsewhere(session: Session, table: d.Table, collector: Collector) -> TableRead:
    """What a file holds, or a statement selects; who vouches for a file vouches for what was written to its end."""
    read, vouched = table.read, table.read.complete
    if read.sql:
        selected = select(session.endpoint, table)
        notes, doubts, vouched = [selected.note], ["it is what a statement selects"], vouched or VOUCHED
        while (piece := await asyncio.to_thread(next, selected.pages, None)) is not None:  # it may take its time
            collector.add(piece)
    else:
        file = read_file(session.endpoint, session.dialect, table)
        for piece in file.pages:
            collector.add(piece)
        notes, vouched = [file.note, *file.notes], None if file.doubts else read.complete
        doubts = file.doubts or ["it is a file, and nothing in it shows that it is all"]
    trail = Trail(doubts=doubts)
    trail.counts.append((None, collector.received))
    return collector.look([verdict(trail, vouched=vouched)], notes=notes)


async def _look(
    session: Session,
    table: d.Table,
    collector: Collector,
    narrow: Narrow,
    progress: Counted | None,
    parents: pl.DataFrame | None,
) -> TableRead:
    read = table.read
    if read.sql or read.file:
        return await _look_elsewhere(session, table, collector)
    if read.each:
        if narrow.parents and parents is not None:
            parents = narrow.parents(parents)
        kindless = parents.height if parents is not None else 0
        below = _Below(read, parents_of(read, parents), kindless)
        return await _look_below(session, table, collector, narrow, progress, below)
    ids = table.fields["record_id"].from_
    own = [Heeded(session, gather) for gather in read.gathers]
    enricher = Enricher(session, table, heeded=own)
    reader = None if enricher.needed else list_reader(session.dialect, table)
    pager = Pager(session, read, narrow=narrow, ids=ids, reader=reader)
    faults = []
    try:
        async for page in _pages(pager, enricher):
            collector.add(page)
            collector.refuse_endless(pager.trail.announced, session.endpoint.name)
            if progress:
                progress(collector.received, pager.trail.announced)
    except WireError as error:
        if not collector.received:
            raise
        faults.append(str(error))
    faults += [enricher.fault] if enricher.fault else []
    if narrow.changed_since and not pager.trail.tells_gone and read.changed and read.changed.gone:
        faults.append(f"no answer held the list of what is gone, which should stand at {read.changed.gone}")
    proved = verdict(pager.trail, vouched=read.complete, narrowed=narrow.fewer)
    look = collector.look([proved, *enricher.verdicts, *await doubts(own)], faults, enricher.notes)
    look.announced, look.gone = pager.trail.announced, list(pager.trail.gone)
    return look


def _pages(pager: Pager, enricher: Enricher) -> AsyncIterator[Page]:
    return enricher.completed(walk(pager)) if enricher.needed else walk(pager)


class _Below:
    """The lists of all parents, as they come in: what they announced, and which could not be had.

    ``above`` is how many records there were before the dialect's `kinds` were looked at.
    """

    def __init__(self, read: d.Read, parents: Sequence[Parent], above: int) -> None:
        self.parents = parents
        self._read, self._parents = read, len(parents)
        self.verdicts: list[Verdict] = []
        if above and not parents:
            kinds = ", ".join(read.each.kinds if read.each else ())
            why = f"none of the {above} records above is of the kinds {kinds}"
            self.verdicts.append(Verdict(outcome=TableOutcome.UNPROVEN, why=why))
        self.notes: list[str] = []
        self.faults: list[str] = []
        self.announced: list[int | None] = []
        self.gone: dict[str, None] = {}
        self._vanished = self._failed = self._in_a_row = 0
        self._reason = ""

    def took(self, pager: Pager, enricher: Enricher, *, narrowed: bool) -> None:
        """Take note of one parent's list."""
        self._in_a_row = 0
        proved = verdict(pager.trail, vouched=self._read.complete, narrowed=narrowed)
        self.verdicts += [proved, *enricher.verdicts]
        self.notes += enricher.notes
        self.faults += [enricher.fault] if enricher.fault else []
        self.announced.append(pager.trail.announced)
        self.gone |= pager.trail.gone

    def missed(self, error: WireError) -> None:
        """Take note of one parent whose list could not be had; raises it where that is no affair of this parent."""
        self._in_a_row += 1
        if isinstance(error, RequestRefused) and error.http == 404:
            self._vanished += 1
            return
        self._failed += 1
        self._reason = self._reason or str(error)
        nobody = isinstance(error, Unreachable) or (isinstance(error, SignInRefused) and error.http == 401)
        if nobody or self._in_a_row >= _PATIENCE:
            raise error

    def closed(self, limits: d.SystemLimits) -> None:
        """Sum up, once all have been asked."""
        of = self._read.each.of if self._read.each else ""
        if self._failed:
            self.faults.append(f"the lists of {self._failed} of {self._parents} {of} could not be had: {self._reason}")
        if self._vanished:
            text = f"{self._vanished} of {self._parents} {of} are not known there any more (HTTP 404)"
            (self.notes if few(self._vanished, self._parents, limits) else self.faults).append(text)

    @property
    def total(self) -> int | None:
        """How many were announced in all, if every list told."""
        totals = [number for number in self.announced if number is not None]
        return sum(totals) if len(totals) == self._parents else None


async def _look_below(
    session: Session, table: d.Table, collector: Collector, narrow: Narrow, progress: Counted | None, below: _Below
) -> TableRead:
    """The lists of all parents as one table; a list that cannot be had costs that parent only."""
    read, ids = table.read, table.fields["record_id"].from_
    heeded, own = Heeded(session, read, ids), [Heeded(session, gather) for gather in read.gathers]

    async def list_below(parent: Parent) -> tuple[Parent, list[Page], Pager, Enricher] | WireError:
        pager, enricher = Pager(session, read, parent, narrow, ids), Enricher(session, table, parent, own)
        try:
            return parent, [page async for page in _pages(pager, enricher)], pager, enricher
        except WireError as error:
            return error

    try:
        async for outcome in in_order(list_below, below.parents, session.concurrency * 2):
            if isinstance(outcome, WireError):
                below.missed(outcome)
                continue
            parent, pages, pager, enricher = outcome
            heeded.took(parent, [record for page in pages for record in page.records])
            for page in pages:
                collector.add(page, parent)
            below.took(pager, enricher, narrowed=narrow.fewer)
            if progress:
                progress(collector.received, None)
    except ConcordexError as error:
        if not collector.received:
            raise
        below.faults.append(str(error))
    below.verdicts += await doubts([heeded, *own])
    below.closed(session.dialect.limits)
    look = collector.look(below.verdicts, below.faults, below.notes)
    look.announced, look.gone = below.total, list(below.gone)
    return look


def parents_of(read: d.Read, frame: pl.DataFrame | None) -> list[Parent]:
    """The records that lists hang from, as mappings."""
    if read.each is None or frame is None:
        return []
    if read.each.kinds and "kind" in frame.columns:
        frame = frame.filter(pl.col("kind").is_in(read.each.kinds))
    return [{key: value for key, value in row.items() if value is not None} for row in frame.iter_rows(named=True)]
