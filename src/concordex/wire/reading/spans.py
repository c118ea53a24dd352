"""Pages by spans of time: what a system tells of each span, from the earliest in reach to what time it is there."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from datetime import datetime, timedelta
from typing import Any

from concordex.model.scalars import parse_duration
from concordex.wire import dialect as d
from concordex.wire.reading.completeness import End
from concordex.wire.reading.pages import Page, Pager, in_order, moment


async def newest_span(pager: Pager, pages: d.WindowPages) -> Page:
    """What is told of the last span."""
    begin, end = _spans(pages, pager.session.began, None, None)[-1]
    return await pager.page(_span_parameters(pages, begin, end))


class Spans:
    """Spans of time, halved where one comes full; the fullest are read again in halves to see that none was cut."""

    def __init__(self, pager: Pager, pages: d.WindowPages) -> None:
        self.pager, self.pages_of, self.trail = pager, pages, pager.trail
        self._full = pages.full

    async def pages(self) -> AsyncIterator[Page]:
        """A page for each span that held anything, in their order."""
        narrow = self.pager.narrow
        spans = _spans(self.pages_of, self.pager.session.began, narrow.since, narrow.until)
        while True:
            held = [span async for batch in self._all(spans) for span in batch]
            if later := self._later(spans[-1][1]):
                held += [span async for batch in self._all(later) for span in batch]
            if await self._none_is_cut(held):
                break
        for _, _, page in held:
            self.pager.counted(page)
            if page.records:  # weeks without any event are no list without an end
                yield page
        if any(page.records for *_, page in held):
            self.trail.end = End.SPANNED
        elif self.pager.narrow.fewer:
            self.trail.doubts.append("nothing came of what was asked for, and nothing proves that there is none")
        else:
            self.trail.doubts.append("no span of time held anything: is `time` how this system writes moments?")

    def _later(self, end: datetime) -> list[tuple[datetime, datetime]]:
        """The spans from ``end`` to what time it is there, where its clock is ahead of ours: they have been already."""
        there = self.pager.session.now_there
        if there is None or there < end or self.pager.narrow.until is not None:
            return []
        return _spans(self.pages_of, there, end, None)

    def _all(self, spans: Sequence[tuple[datetime, datetime]]) -> AsyncIterator[list[tuple[datetime, datetime, Page]]]:
        return in_order(lambda span: self._span(*span), spans, self.pager.session.concurrency + 2)

    async def _span(self, begin: datetime, end: datetime) -> list[tuple[datetime, datetime, Page]]:
        """A span of time; halved for as long as it comes full, since then something may be left out."""
        page = await self._read(begin, end)
        if len(page.records) < self._full:
            return [(begin, end, page)]
        if end - begin <= timedelta(seconds=1):
            raise self.pager.bad(
                f"more than {self._full - 1} records in the one second from {begin:%Y-%m-%dT%H:%M:%SZ}"
            )
        middle = _middle(begin, end)
        return [*await self._span(begin, middle), *await self._span(middle, end)]

    async def _read(self, begin: datetime, end: datetime) -> Page:
        return await self.pager.page(_span_parameters(self.pages_of, begin, end))

    async def _none_is_cut(self, held: Sequence[tuple[datetime, datetime, Page]]) -> bool:
        """Whether the fullest spans hold no more than they brought; else the cap is lower than `full`."""
        most = max((len(page.records) for *_, page in held), default=0)
        for begin, end, page in held:
            if len(page.records) == most > 1 and await self._is_cut(begin, end, most):
                self._full = most
                self.trail.notes.append(f"the system sends at most {most} records for a span, not {self.pages_of.full}")
                return False
        return True

    async def _is_cut(self, begin: datetime, end: datetime, count: int) -> bool:
        """Whether the halves of a span bring more than its ``count``: of one that brings as many, its halves again."""
        while end - begin > timedelta(seconds=1):
            middle = _middle(begin, end)
            first, second = await self._read(begin, middle), await self._read(middle, end)
            came = len(first.records), len(second.records)
            if sum(came) > count:
                return True
            if max(came) < count:
                return False
            begin, end = (begin, middle) if came[0] == count else (middle, end)
        self.trail.doubts.append(f"{count} records in one second, and perhaps more: nothing finer can be asked for")
        return False


def _middle(begin: datetime, end: datetime) -> datetime:
    middle = (begin + (end - begin) / 2).replace(microsecond=0)
    return middle if middle > begin else begin + timedelta(seconds=1)


def _span_parameters(pages: d.WindowPages, begin: datetime, end: datetime) -> dict[str, Any]:
    return {pages.since: moment(begin, pages.time), pages.until: moment(end, pages.time)}


def _spans(
    pages: d.WindowPages, now: datetime, since: datetime | None, until: datetime | None
) -> list[tuple[datetime, datetime]]:
    """The spans of time to ask for, oldest first; the last one ends with the second that is not over yet."""
    reach, span = parse_duration(pages.reach), parse_duration(pages.span)
    assert reach
    assert span
    end = now.replace(microsecond=0) + timedelta(seconds=1)
    begin = max(end - reach, since.replace(microsecond=0)) if since else end - reach
    if until is not None:
        end = min(end, until.replace(microsecond=0) + timedelta(seconds=1))
    spans = []
    while begin < end:
        spans.append((begin, min(begin + span, end)))
        begin += span
    return spans or [(end - timedelta(seconds=1), end)]
