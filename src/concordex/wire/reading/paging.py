"""The ways through a list, page by page, to an end that was seen."""

from __future__ import annotations

from collections.abc import AsyncIterator
from typing import Any

from concordex.errors import ConcordexError, RequestRefused, ServerFault
from concordex.wire import dialect as d
from concordex.wire.reading.completeness import End, suspicious
from concordex.wire.reading.pages import Page, Pager, in_order
from concordex.wire.reading.spans import Spans, newest_span

#: Pages in a row that may bring nothing, where a mark says that there is more.
_IDLE = 20
#: Records of the first page that it takes to see whether paging works.
_SHOWS = 2


def walk(pager: Pager) -> AsyncIterator[Page]:
    """Every page of the list, in its order; the pager's trail tells how it ended."""
    pages = pager.call.pages
    if isinstance(pages, d.LinkedPages | d.HeaderLinkedPages | d.CursorPages):
        return _Followed(pager, pages).pages()
    if isinstance(pages, d.WindowPages):
        return Spans(pager, pages).pages()
    if isinstance(pages, d.OnePage):
        return _at_once(pager)
    return _Counted(pager, pages).pages()


async def first_page(pager: Pager, size: int | None = None) -> Page:
    """The first page, with ``size`` records if the system takes such a wish."""
    pages = pager.call.pages
    if isinstance(pages, d.WindowPages):
        return await newest_span(pager, pages)
    wanted = size or int(getattr(pages, "size", 1))
    if isinstance(pages, d.RangePages):
        return await pager.page({}, headers=_range(pages, 0, wanted))
    return await pager.page(pager.window(0, wanted))


async def _at_once(pager: Pager) -> AsyncIterator[Page]:
    await pager.total()
    page = pager.counted(await pager.page({}))
    pager.trail.doubts.append("it came in one answer, and nothing shows that this is all")
    if pager.trail.apart is not None:
        pager.trail.doubts.clear()
    yield page


class _Counted:
    """Pages by offset, by number, or by range."""

    def __init__(self, pager: Pager, pages: d.OffsetPages | d.NumberedPages | d.RangePages) -> None:
        self.pager, self.pages_of, self.trail = pager, pages, pager.trail
        self._last: Page | None = None
        self._first: Page | None = None
        self._different = 0  # pages that were not like the one before
        self._here, self._step = 0, pages.size  # the next place (or number of a page), and how far pages are apart

    async def pages(self) -> AsyncIterator[Page]:
        apart = await self.pager.total()
        first = await self._asked(0, self._step)
        if first is None:
            await self._none_after_all()
            return
        self._first = first
        yield first
        total = first.total if first.total is not None else apart
        self._step = self._step_after(len(first.records), total)
        self._here = len(first.records) if self._by_place else 1
        if total is not None and total > len(first.records):
            async for page in self._announced(total):
                yield page
        while self.trail.end is None and not self.trail.faults and not self.trail.doubts:
            following = await self._asked(self._here, self._step)
            if following is not None:
                yield following
                self._here += len(following.records) if self._by_place else 1
        await self._none_before()
        by_offset = isinstance(self.pages_of, d.OffsetPages)
        if self.trail.end and (by_offset or self._different == 1) and not self.trail.agrees:
            await self._second_record(first)

    async def _second_record(self, first: Page) -> None:
        """See that paging works, where no total shows it: asked from the second record on, that is what must come."""
        window = self._from_the_second()
        if window is None or len(first.records) < _SHOWS:
            if self.trail.end is not End.EMPTY and self._different == 1:
                self.trail.doubts.append("one page held all, and whether the next one can be asked for was not seen")
            return
        sample, known = await self._tried(window), self.pager.known
        if sample is None or not sample.records or known(sample.records[0]) != known(first.records[1]):
            self.trail.doubts.append(
                "asked from the second record on, the system sent something else: are the parameters of `pages` right?"
            )

    def _from_the_second(self) -> dict[str, Any] | None:
        """The parameters that ask from the second record on, where that can be asked."""
        pages = self.pages_of
        if isinstance(pages, d.OffsetPages):  # two, since of one alone an offset and a page number mean the same
            return {pages.offset: pages.first + 1, pages.limit: 2}
        if isinstance(pages, d.NumberedPages) and pages.limit:
            return {pages.page: pages.first + 1, pages.limit: 1}
        return None

    async def _announced(self, total: int) -> AsyncIterator[Page]:
        """The pages up to an announced total, side by side."""
        step, flight = self._step, self.pager.session.concurrency + 2
        places = range(step, total, step)
        starts = places if self._by_place else range(1, len(places) + 1)
        at = 0
        async for page in in_order(lambda start: self._side_by_side(start, step), starts, flight):
            at += step
            if not page.records:  # the end, before the total is reached
                self.pager.counted(page)
                self.trail.end = End.EMPTY
                return
            yield self._noted(page)
            self._here = at + len(page.records) if self._by_place else self._here + 1
            if self._by_place and len(page.records) < step and at + step < total:
                async for more in self._filled(self._here, at + step, step):
                    yield more

    @property
    def _by_place(self) -> bool:
        """Whether pages are asked for by the place of their first record, not by a number of their own."""
        return not isinstance(self.pages_of, d.NumberedPages)

    def _step_after(self, came: int, total: int | None) -> int:
        """How far apart pages begin, by the first one: a system may send fewer than were asked for, or more."""
        asked = self.pages_of.size
        if total is None or came >= total or came == asked:
            return asked
        if came < asked:
            self.trail.notes.append(f"the system sends {came} records a page, not the {asked} asked for")
        return came

    async def _page(self, start: int, size: int) -> Page:
        if isinstance(self.pages_of, d.RangePages):
            return await self.pager.page({}, headers=_range(self.pages_of, start, size))
        if isinstance(self.pages_of, d.NumberedPages):  # a number means another place with every size
            return await self.pager.page(self.pager.window(start * self.pages_of.size, self.pages_of.size))
        return await self.pager.page(self.pager.window(start, size))

    async def _side_by_side(self, start: int, size: int) -> Page:
        """A page that lies before the announced end."""
        try:
            return await self._page(start, size)
        except RequestRefused as refusal:
            if refusal.http == self._past_end:
                return Page(records=[])
            raise

    async def _filled(self, here: int, until: int, step: int) -> AsyncIterator[Page]:
        """What a page that came short left out, up to where the next one began."""
        while here < until:
            page = await self._page(here, min(step, until - here))
            if not page.records:
                return
            yield self._noted(page)
            here += len(page.records)

    async def _asked(self, start: int, size: int) -> Page | None:
        """The page from ``start``, or None where the list has ended, by what the trail then tells."""
        try:
            page = await self._page(start, size)
        except RequestRefused as refusal:
            if self._last is None and not isinstance(self.pages_of, d.RangePages):
                raise
            self._refused(refusal)
            return None
        if not page.records:
            self.pager.counted(page)
            self.trail.end = End.EMPTY
            return None
        if self._last is not None and _same(self.pager, page, self._last):
            self._repeated()
            return None
        return self._noted(page)

    def _noted(self, page: Page) -> Page:
        self._last = page
        self._different += 1
        return self.pager.counted(page)

    @property
    def _past_end(self) -> int | str | None:
        return 416 if isinstance(self.pages_of, d.RangePages) else self.pages_of.past_end

    def _refused(self, refusal: RequestRefused) -> None:
        if refusal.http == self._past_end:
            self.trail.end = End.REFUSED
        elif self.trail.agrees or self.trail.announced == self.trail.came:
            self.trail.doubts.append(
                f"the request past the end was answered with HTTP {refusal.http}: if that is how this system says "
                f"that there is no more, say `past_end: {refusal.http}` in the dialect"
            )
        else:
            raise refusal

    def _repeated(self) -> None:
        if self._past_end != "repeats":
            self.trail.faults.append(
                "a page came again in the place of the next one: does the system take the parameters of `pages`?"
            )
        else:
            self.trail.end = End.REPEATED

    async def _none_before(self) -> None:
        """See that counting does not begin before the first page, where no total would show it."""
        pages = self.pages_of
        if getattr(pages, "first", 0) != 1 or self.trail.agrees or not self._first or not self._last:
            return
        if isinstance(pages, d.OffsetPages):
            window: dict[str, Any] = {pages.offset: 0, pages.limit: 1}
        else:
            assert isinstance(pages, d.NumberedPages)
            window = {pages.page: 0} | ({pages.limit: pages.size} if pages.limit else {})
        page = await self._tried(window)
        if page is None and isinstance(pages, d.OffsetPages):  # perhaps it was the size that was refused
            page = await self._tried({pages.offset: 0, pages.limit: pages.size})
        known = self.pager.known
        came = [known(record) for record in (*self._first.records, *self._last.records)]
        if page and page.records and known(page.records[0]) not in came:
            self.trail.faults.append("something stands before the first record: does this system count from 0?")

    async def _none_after_all(self) -> None:
        """See that an empty list is one, and not asked for by numbers that the system does not have."""
        pages = self.pages_of
        if isinstance(pages, d.RangePages):
            return
        other = 1 - pages.first
        window = self.pager.window(0, pages.size)
        window[pages.offset if isinstance(pages, d.OffsetPages) else pages.page] = other
        page = await self._tried(window)
        if page and page.records:
            text = f"nothing stands at number {pages.first}, and records at number {other}"
            self.trail.faults.append(f"{text}: does it count from {other}?")

    async def _tried(self, window: dict[str, Any]) -> Page | None:
        """A page that should not be there."""
        try:
            return await self.pager.page(window)
        except ServerFault as fault:
            if fault.http != 500:
                raise
            return None
        except ConcordexError:
            return None


def _same(pager: Pager, one: Page, other: Page) -> bool:
    """Whether two pages hold the same records, in the same order."""
    if len(one.records) != len(other.records):
        return False
    return all(pager.known(a) == pager.known(b) for a, b in zip(one.records, other.records, strict=True))


class _Followed:
    """Each page by what the one before it says; who denies that there is more must be seen able to affirm it."""

    def __init__(self, pager: Pager, pages: d.LinkedPages | d.HeaderLinkedPages | d.CursorPages) -> None:
        self.pager, self.pages_of, self.trail = pager, pages, pager.trail
        self._says = isinstance(pages, d.CursorPages) and pages.more is not None
        self._shown = False  # whether any answer told of more

    async def pages(self) -> AsyncIterator[Page]:
        await self.pager.total()
        page, seen, idle = await first_page(self.pager), set[str](), 0
        while True:
            self.pager.counted(page)
            self._shown = self._shown or self._tells_of_more(page)
            if page.records:
                yield page
            idle = 0 if page.records else idle + 1
            if self._ended(page, idle):
                break
            if str(page.next) in seen and not self._same_mark:
                what = "mark" if isinstance(self.pages_of, d.CursorPages) else "link to the next page"
                self.trail.faults.append(f"the {what} leads back to a page that was read")
                return
            seen.add(str(page.next))
            page = await self._following(page)
        if self.trail.end is None and not self.trail.faults:
            await self._show_more(page)
        if self.trail.end is End.SAID and page.next is not None and page.more is False and not self.trail.agrees:
            await self._nothing_follows(page)
        if self.trail.end is End.SAID and not (self.trail.doubts or self.trail.faults or self.trail.agrees):
            await self._ends_elsewhere()

    async def _ends_elsewhere(self) -> None:
        """A list whose last page is full may be cut there: in pages of another size it must hold as many."""
        lengths = [length for _, length in self.trail.counts]
        came, most = self.trail.came, max(lengths)
        whole_pages = lengths[-1] == most and (len(lengths) > 1 or most == self.pages_of.size or suspicious(most))
        if not whole_pages or not most:
            return
        doubt = f"it ends with a full page of {most:,}, as it would if it were cut there"
        sizes = [*range(most - 1, most // 2, -1), most + 1, most + 2]
        size = next((size for size in sizes if came % size), None)
        if getattr(self.pages_of, "limit", None) is None or size is None:
            self.trail.doubts.append(doubt)
            return
        try:
            page = await first_page(self.pager, size=size)
            again, marks = len(page.records), 0
            while self._tells_of_more(page) and page.next is not None and marks < 3 * len(lengths) + 3:
                page, marks = await self._following(page, size), marks + 1
                again += len(page.records)
        except ConcordexError:  # some systems take a few sizes alone
            self.trail.doubts.append(doubt)
            return
        if again > came:
            self.trail.faults.append(f"{came:,} came in pages of {most:,}, and {again:,} in pages of {size:,}")
        elif again < came or len(page.records) in (most, size) or self._tells_of_more(page):
            self.trail.doubts.append(doubt)

    def _tells_of_more(self, page: Page) -> bool:
        return bool(page.more) if self._says else page.next is not None

    async def _nothing_follows(self, page: Page) -> None:
        """Where the system says that there is no more and gives a mark all the same, see that nothing is behind it."""
        try:
            more = await self._following(page)
        except ConcordexError as error:
            self.trail.doubts.append(f"it denies at {self._more} that there is more, and its mark leads to: {error}")
            return
        known = self.pager.known
        if more.records and known(more.records[0]) in map(known, page.records):
            self.trail.doubts.append(
                "the mark of the last page leads to that page again: is it given back as it should?"
            )
        elif more.records:
            self.trail.faults.append(f"there is more, although it is denied at {self._more}: does it say the opposite?")

    @property
    def _same_mark(self) -> bool:
        return isinstance(self.pages_of, d.CursorPages) and self.pages_of.same_mark

    async def _following(self, page: Page, size: int | None = None) -> Page:
        pages = self.pages_of
        if isinstance(pages, d.CursorPages):
            wanted = {pages.limit: size or pages.size} if pages.limit else {}
            return await self.pager.page({pages.cursor: page.next} | wanted)
        return await self.pager.page({}, link=str(page.next))

    def _ended(self, page: Page, idle: int) -> bool:
        """Whether there is no next page; the trail tells by what, where that was seen."""
        if self._says and page.more is None:
            self.trail.faults.append(f"no answer says at {self._more} whether there is more{_has(page)}")
        elif self._same_mark and not page.records:
            self.trail.end = End.EMPTY
        elif idle >= _IDLE:
            self.trail.faults.append(f"{_IDLE} pages in a row brought nothing, and each says that there is more")
        elif self._tells_of_more(page) and page.next is not None:
            return False
        elif self._tells_of_more(page):
            self.trail.faults.append(f"the system says that there is more, and gives no mark at {self._place}")
        elif self._shown:
            self.trail.end = End.SAID
        elif self.trail.came == 0:
            self.trail.end = End.EMPTY
        return True

    async def _show_more(self, page: Page) -> None:
        """A single page that tells of no more: asked for one record only, the system must tell of the rest."""
        is_told = page.tells or page.more is not None
        where = self._more if self._says else self._place
        why = f"nothing stands at {where} in the only answer{_has(page)}"
        why = f"{where} was never seen to tell of more" if is_told else why
        limit, size = getattr(self.pages_of, "limit", None), self.pages_of.size
        if is_told and len(page.records) == 1 and size > 1:
            self.trail.end = End.SAID
        elif limit is None or len(page.records) < 2:
            self.trail.doubts.append(why)
        else:
            try:
                await self._shown_by_fewer(page, why)
            except RequestRefused:  # some systems take a few sizes alone
                self.trail.doubts.append(why)

    async def _shown_by_fewer(self, page: Page, why: str) -> None:
        sample = await first_page(self.pager, size=1)
        self.trail.samples.append((sample.total, len(sample.records)))
        if self._tells_of_more(sample):
            self.trail.end = End.SAID
            await self._one_follows(page, sample)
        elif len(sample.records) < len(page.records):
            self.trail.faults.append(f"asked for fewer records, the system tells nothing of the rest: {why}")
        else:
            self.trail.doubts.append(why)

    async def _one_follows(self, page: Page, sample: Page) -> None:
        """Behind all but one record of a single page that one is told of, and nothing else.

        Pages may be shorter than they were asked for, and some systems never tell of one that would not be full.
        """
        came, fewer = len(page.records), len(page.records) - 1
        if self.trail.agrees:
            return
        if fewer > 1:
            sample = await first_page(self.pager, size=fewer)
        if len(sample.records) != fewer or sample.next is None or not self._tells_of_more(sample):
            self.trail.doubts.append(f"asked for {fewer:,} of {came:,} records, the system tells nothing of the last")
            return
        rest = await self._following(sample, fewer)
        if len(rest.records) > 1 or self._tells_of_more(rest):
            self.trail.faults.append(f"{came:,} came in one page, and more in pages of {fewer:,}")
        elif not rest.records:
            self.trail.doubts.append(f"the mark behind {fewer:,} of {came:,} records leads to nothing")

    @property
    def _place(self) -> str:
        return "the header Link" if isinstance(self.pages_of, d.HeaderLinkedPages) else self.pages_of.next

    @property
    def _more(self) -> str:
        return str(getattr(self.pages_of, "more", ""))


def _has(page: Page) -> str:
    return f"; it has {', '.join(map(str, page.members[:12]))}" if page.members else ""


def _range(pages: d.RangePages, start: int, size: int) -> dict[str, str]:
    return {"Range": f"{pages.unit}={start}-{start + size - 1}"}
