"""One page of a list: asked for in the way that its dialect declares, and taken out of the answer."""

from __future__ import annotations

import asyncio
import copy
import re
from collections.abc import AsyncIterable, AsyncIterator, Awaitable, Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any, TypeVar

from concordex.errors import BadAnswer
from concordex.wire import dialect as d
from concordex.wire.dialect.paths import Path
from concordex.wire.dialect.templates import Template
from concordex.wire.http.answers import Answer
from concordex.wire.http.formats import unread_lines
from concordex.wire.http.session import Request, Session
from concordex.wire.reading.completeness import Trail
from concordex.wire.reading.list_reader import ListReader, PartOfAnswer
from concordex.wire.reading.records import RawRecords, Record

T = TypeVar("T")


@dataclass(frozen=True, kw_only=True)
class Page:
    """One answer: its records, and what it says of the list.

    ``next`` is the mark or the address of the next page, and ``tells`` whether the answer had a place for it;
    ``more`` is whether it says that there is more, None where it does not say.
    """

    records: Sequence[Record]
    total: int | None = None
    next: Any = None
    tells: bool = False
    more: bool | None = None
    revision: Any = None
    body: Any = None
    unread: Sequence[str] = ()  # lines of a text that are no part of a record
    taken: datetime | None = None  # when it came

    @property
    def members(self) -> list[str]:
        """The members of the answer itself, to tell what it has where something is not found."""
        if isinstance(self.body, PartOfAnswer):
            return self.body.names()
        return list(self.body) if isinstance(self.body, dict) else []


@dataclass(frozen=True, kw_only=True)
class Narrow:
    """How a list is asked to be shorter: by the system itself."""

    parameters: Mapping[str, str] = field(default_factory=dict)
    path: Template | None = None
    members: Sequence[str] = ()
    since: datetime | None = None
    until: datetime | None = None
    changed_since: datetime | None = None
    parents: Callable[[Any], Any] | None = None  # of the frame of parents, those whose lists can hold what is wanted

    @property
    def fewer(self) -> bool:
        """Whether the system is asked for fewer records than it has."""
        return bool(self.parameters or self.path or self.since or self.until or self.changed_since)


class Pager:
    """Asks for single pages of one list, and keeps the trail of what they showed.

    ``ids`` are the paths of what its records are known by, the first that says something.  With a ``reader`` only the
    first answer is decoded whole: of the others what is asked for.
    """

    def __init__(
        self,
        session: Session,
        call: d.Listed,
        values: Mapping[str, Any] | None = None,
        narrow: Narrow | None = None,
        ids: Sequence[Path] = (),
        reader: ListReader | None = None,
    ) -> None:
        self.session, self.call, self.values = session, call, values or {}
        self._reader, self._has_one = reader, False
        self.narrow = narrow or Narrow()
        self._ids = ids
        self.trail = Trail(promised=call.total if isinstance(call.total, str) else None)
        self._asked: Request | None = None
        self._revisions: set[str] = set()

    async def total(self) -> int | None:
        """How many there are by a call of its own, where the dialect has one."""
        if isinstance(self.call.total, d.TotalCall):
            answer = await self.session.get(self.call.total, self.values)
            total = whole_number(answer.at(self.call.total.at))
            if total is None:
                raise self.bad(f"there is no number at {self.call.total.at} in the answer that should tell the total")
            self.trail.apart = total
            return total
        return None

    async def page(
        self, window: Mapping[str, Any], link: str | None = None, headers: Mapping[str, str] | None = None
    ) -> Page:
        """One page, by parameters, by its link, or by headers."""
        if self._asked is None:
            self._asked = await self.session.asked(self._call_narrowed(), self.values)
        asked = copy.copy(self._asked)
        asked.query, asked.params = dict(asked.query), copy.deepcopy(asked.params)
        asked.body = copy.deepcopy(asked.body)
        asked.headers = {**asked.headers, **(headers or {})}
        if link:
            asked.path, asked.query = self._address(link, asked.path), {}
        else:
            for name, value in {**self._narrowing(), **window}.items():
                asked.put(self.call.place, name, value)
        asked.reader = self._read if self._reader else None
        page = self._taken(await self.session.read(asked))
        self._has_one = True
        if self.call.revision and page.revision is not None:
            self._revisions.add(str(page.revision))
            if len(self._revisions) > 1:
                self.trail.moved = f"{self.call.revision} was not the same on all pages: the list changed meanwhile"
        return page

    def _read(self, content: bytes) -> Any:
        """The body of an answer; None where it is to be decoded whole, as the first is, for all that can be wrong."""
        return self._reader.page(content) if self._reader and self._has_one else None

    def window(self, start: int, size: int) -> dict[str, Any]:
        """The parameters that ask for ``size`` records from number ``start``, counted from nought."""
        pages = self.call.pages
        if isinstance(pages, d.OffsetPages):
            return {pages.offset: start + pages.first, pages.limit: size}
        if isinstance(pages, d.NumberedPages):
            return {pages.page: start // size + pages.first} | ({pages.limit: size} if pages.limit else {})
        limit = getattr(pages, "limit", None)
        return {limit: size} if limit else {}

    def known(self, record: Record) -> Any:
        """By what a record is known again: its id, since counters and times in it may change from page to page."""
        values = (path.first(record) for path in self._ids)
        return next((value for value in values if value is not None), record)

    def counted(self, page: Page) -> Page:
        """Take note of what a page showed."""
        self.trail.counts.append((page.total, len(page.records)))
        return page

    def bad(self, what: str, advice: str = "") -> BadAnswer:
        """An answer that is not as the dialect says."""
        return BadAnswer(what, where=self.session.endpoint.name, advice=advice)

    def _address(self, link: str, path: str) -> str:
        full = self.session.link(link, path)
        return self.session.own(full) if getattr(self.call.pages, "path_only", False) else full

    def _call_narrowed(self) -> d.Listed:
        return self.call.model_copy(update={"path": self.narrow.path}) if self.narrow.path else self.call

    def _narrowing(self) -> dict[str, Any]:
        parameters: dict[str, Any] = dict(self.narrow.parameters)
        if isinstance(self.call, d.Read):
            if self.call.columns and self.narrow.members:
                wanted = dict.fromkeys([*self.call.columns.always, *self.narrow.members])
                parameters[self.call.columns.parameter] = self.call.columns.several.join(wanted)
            if self.call.changed and self.narrow.changed_since:
                parameters[self.call.changed.parameter] = moment(self.narrow.changed_since, self.call.changed.time)
        return parameters

    def _taken(self, answer: Answer) -> Page:
        call, pages = self.call, self.call.pages
        if isinstance(call, d.Read) and call.changed and call.changed.gone:  # an answer without records may tell it too
            self.trail.tells_gone |= call.changed.gone.shown(answer.body)
            self.trail.gone |= dict.fromkeys(map(str, call.changed.gone.several(answer.body) or ()))
        following, tells = self._next(answer, pages)
        shape = call.shape or self.session.dialect.shape
        return Page(
            records=self._records(answer.body, shape), total=self._total(answer), next=following, tells=tells,
            more=self._more(answer, pages),
            revision=answer.at(call.revision) if call.revision else None,
            body=answer.body if isinstance(answer.body, dict) else None, taken=datetime.now(UTC),
            unread=unread_lines(answer.raw, shape) if isinstance(shape, d.TextShape) else (),
        )  # fmt: skip

    def _records(self, body: Any, shape: d.Shape) -> Sequence[Record]:
        call = self.call
        where = call.records
        records = where.first(body) if call.keyed_by else where.several(body)
        if isinstance(records, RawRecords):
            return records
        if call.keyed_by and isinstance(records, dict):
            odd = [key for key, record in records.items() if not isinstance(record, dict)]
            if odd:
                raise self.bad(f"{len(odd)} values at {where} are not mappings, such as that of {odd[0]!r}")
            records = [{**record, call.keyed_by: key} for key, record in records.items()]
        if isinstance(records, dict):
            records = [records]
        if records is None and (call.may_lack or (shape.by == "xml" and _empty_element(body, where))):
            records = []
        if isinstance(records, list) and call.members is not None:
            records = self._named(body, records)
        if not isinstance(records, list) or not set(map(type, records)) <= {dict}:
            has = f"; the answer has {', '.join(map(str, list(body)[:12]))}" if isinstance(body, dict) and body else ""
            raise self.bad(
                f"there is no list of records at {where} in the answer to {call.rpc or call.path}{has}",
                "does `records` in the dialect fit this system's release?",
            )
        made: list[Record] = records
        return made

    def _named(self, body: Any, rows: list[Any]) -> list[Any]:
        """Rows and plain values as mappings."""
        names = self.call.members
        if isinstance(names, Path):
            names = names.several(body)
            if not isinstance(names, list) or not all(isinstance(name, str) for name in names):
                raise self.bad(f"there are no names of members at {self.call.members}")
        assert names is not None
        made = [row if isinstance(row, list) else [row] for row in rows]
        odd = next((row for row in made if len(row) != len(names)), None)
        if odd is not None:
            raise self.bad(f"a row has {len(odd)} values, where {len(names)} members are named: {', '.join(names)}")
        return [dict(zip(names, row, strict=True)) for row in made]

    def _total(self, answer: Answer) -> int | None:
        if isinstance(self.call.pages, d.RangePages) and self.call.total is None:
            return _range_total(answer)
        return whole_number(answer.at(self.call.total)) if isinstance(self.call.total, str) else None

    def _next(self, answer: Answer, pages: d.Pages) -> tuple[Any, bool]:
        """The mark or address of the next page, and whether the answer has a place for it."""
        if isinstance(pages, d.HeaderLinkedPages):
            links = answer.links
            return links.get("next"), bool(links)
        if isinstance(pages, d.LinkedPages | d.CursorPages):
            onward = answer.at(pages.next)
            empty = onward is None or onward == "" or onward is False
            return None if empty else onward, answer.has(pages.next)
        return None, False

    def _more(self, answer: Answer, pages: d.Pages) -> bool | None:
        if not isinstance(pages, d.CursorPages) or not pages.more or not answer.has(pages.more):
            return None
        value = answer.at(pages.more)
        return not (value in (False, None, 0) or str(value).strip().lower() in ("false", "0", "no", ""))


def _empty_element(body: Any, path: Path) -> bool:
    """Whether what should hold the list is there, and holds nothing (XML has no empty lists)."""
    if path.steps is None:
        return False
    above = path.above
    return path.shown(body) or (above.shown(body) if above else False)


def _range_total(answer: Answer) -> int | None:
    match = re.fullmatch(r"\s*\S+\s+(?:\*|\d+-\d+)/(\d+)\s*", answer.headers.get("Content-Range", ""))
    return int(match[1]) if match else None


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


def whole_number(value: Any) -> int | None:
    """A count as a system says it, with or without separators between thousands; None if it is none."""
    if isinstance(value, bool):
        return None
    if isinstance(value, int | float):
        return int(value) if value >= 0 and value == int(value) else None
    if not isinstance(value, str):
        return None
    text = value.strip()
    if re.fullmatch(r"\d{1,3}(?:[.,'_ \u00a0\u202f]\d{3})+", text):
        text = re.sub(r"\D", "", text)
    return int(text) if text.isdecimal() else None
