"""Records completed by further calls: one for each record, or a second list that belongs to the first."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterable, Mapping, Sequence
from dataclasses import replace
from itertools import zip_longest
from typing import Any, TypeVar

from concordex.errors import ForeignHost, RequestRefused, WireError
from concordex.parallel import all_of
from concordex.wire import dialect as d
from concordex.wire.dialect.paths import Path, at
from concordex.wire.dialect.templates import Template
from concordex.wire.http.answers import Answer
from concordex.wire.http.session import Session
from concordex.wire.reading.belonging import Belonging
from concordex.wire.reading.completeness import TableOutcome, Verdict, verdict
from concordex.wire.reading.heeded import Heeded
from concordex.wire.reading.pages import Page, Pager, in_order
from concordex.wire.reading.paging import walk
from concordex.wire.reading.records import Record

#: A call whose address a record may hold.
Linked = TypeVar("Linked", d.Details, d.Gather)

#: Pages whose records are being completed while the next is fetched.
_AHEAD = 3
#: Details that may fail, one by one, before the whole list is given up.
_PATIENCE = 10


class Enricher:
    """Completes the records of a list; ``verdicts``, ``fault`` and ``notes`` tell what could not be had.

    heeded  take note of the lists that are a record's own, each of its `gathers`
    """

    def __init__(
        self, session: Session, table: d.Table, values: Mapping[str, Any] | None = None, heeded: Sequence[Heeded] = ()
    ) -> None:
        self.session, self.values, self._heeded = session, values or {}, heeded
        self.read = read = table.read
        self.faults: list[str] = []
        self._of_lists: list[Verdict] = []
        self._belonging = Belonging(table)
        self._vanished = self._failed = self._asked_for = 0
        self._reason = ""
        calls: list[d.Call] = [*read.gathers, *([read.details] if read.details else [])]
        self._names = {name for call in calls for name in call.names}
        self._lists: list[tuple[d.Also, dict[tuple[str, ...], Any]]] = []

    @property
    def needed(self) -> bool:
        """Whether there is anything to add."""
        return bool(self.read.details or self.read.also or self.read.gathers)

    @property
    def by_record(self) -> bool:
        """Whether every record costs further calls."""
        return bool(self.read.details or self.read.gathers)

    @property
    def verdicts(self) -> list[Verdict]:
        """What may be said of second lists, and of details that may not be what they seem."""
        doubt = self._belonging.doubt
        return [*self._of_lists, doubt] if doubt else self._of_lists

    @property
    def notes(self) -> list[str]:
        """Remarks that do not make the table partial."""
        return [self._gone] if self._vanished and self._are_few else []

    @property
    def fault(self) -> str | None:
        """Why the table is not whole, if it is not."""
        faults = list(self.faults)
        if self._failed:
            faults.append(f"the details of {self._failed} records could not be had: {self._reason}")
        if self._vanished and not self._are_few:
            faults.append(self._gone)
        if self._belonging.fault:
            faults.append(self._belonging.fault)
        return "; ".join(dict.fromkeys(faults)) or None

    @property
    def _are_few(self) -> bool:
        return few(self._vanished, self._asked_for, self.session.dialect.limits)

    @property
    def _gone(self) -> str:
        return f"{self._vanished} of {self._asked_for} records went away between the list and their details (HTTP 404)"

    async def completed(self, pages: AsyncIterator[Page]) -> AsyncIterator[Page]:
        """The pages with their records completed, in order; the next is fetched meanwhile."""
        for also in self.read.also:
            self._lists.append((also, await self._second(also)))
        async for page in in_order(self._complete, pages, _AHEAD):
            yield page

    async def _second(self, also: d.Also) -> dict[tuple[str, ...], Any]:
        """The whole of a second list, by the members that tie it to the first."""
        pager, records, came = Pager(self.session, also, self.values), dict[tuple[str, ...], Any](), 0
        async for page in walk(pager):
            for record in page.records:
                key = _key(record, also.match)
                if key is None:  # it belongs to nothing
                    continue
                came += 1
                if also.several:
                    records.setdefault(key, []).append(record)
                else:
                    records[key] = record
        proof = verdict(pager.trail, vouched=also.complete)
        name = also.rpc or also.path
        if not also.several and came != len(records):
            self.faults.append(f"the second list {name} brought {len(records)} records, {came} received")
        if proof.outcome is not TableOutcome.WHOLE:
            proof = replace(proof, why=f"the second list {name}: {proof.why}")
        self._of_lists.append(proof)
        return records

    async def _complete(self, page: Page) -> Page:
        records = [self._with_lists(record) for record in page.records] if self._lists else list(page.records)
        if self.read.details:
            records = await self._with_details(self.read.details, records)
        for gather, heeded in zip_longest(self.read.gathers, self._heeded):
            records = await all_of(self._gathered(gather, record, heeded) for record in records)
        return replace(page, records=records)

    async def _gathered(self, gather: d.Gather, record: Record, heeded: Heeded | None) -> Record:
        """A record with the list that is its own."""
        call = self._linked(gather, gather.link, record)
        if call is None:
            return record
        pager = Pager(self.session, call, self._known(record))
        self._asked_for += 1
        try:
            records = [gathered async for page in walk(pager) for gathered in page.records]
        except WireError as error:
            self._missed(error)
            return record
        if heeded:
            heeded.took(pager.values, records)
        proof = verdict(pager.trail, vouched=gather.complete)
        if proof.outcome is not TableOutcome.WHOLE or not self._of_lists:
            self._of_lists.append(replace(proof, why=f"the list {gather.under}: {proof.why}" if proof.why else ""))
        return {**record, gather.under: records}

    def _linked(self, call: Linked, link: Path | None, record: Record) -> Linked | None:
        """The call at the address that a record holds; None where it holds none."""
        if link is None:
            return call
        address = link.first(record)
        if not isinstance(address, str) or not address:
            return None
        return call.model_copy(update={"path": Template.literal(self.session.link(address, self.read.path))})

    def _missed(self, error: WireError) -> None:
        """Count what could not be had; raises the error where it is not this record, but the system itself."""
        if isinstance(error, RequestRefused) and error.http == 404:
            self._vanished += 1
            return
        self._failed += 1
        self._reason = self._reason or str(error)
        if self._failed >= _PATIENCE or isinstance(error, ForeignHost):
            raise error

    def _with_lists(self, record: Record) -> Record:
        for also, records in self._lists:
            key = _key(record, also.match.values())
            joined = _joined(record, records.get(key) if key else None, also.under)
            if not self._belonging.keeps(record, joined):
                name = also.rpc or also.path
                self.faults.append(f"the second list {name} has ids of its own: `under` keeps them apart")
                continue
            record = joined
        return record

    async def _with_details(self, details: d.Details, records: list[Record]) -> list[Record]:
        if details.rpc and self.session.dialect.rpc and self.session.dialect.rpc.batch > 1:
            asked = [await self.session.asked(details, self._known(record)) for record in records]
            answers = await self.session.read_many(asked)
            self._asked_for += len(records)
            return [self._added(details, record, answer) for record, answer in zip(records, answers, strict=True)]
        return await all_of(self._detailed(details, record) for record in records)

    async def _detailed(self, details: d.Details, record: Record) -> Record:
        call = self._linked(details, details.link, record)
        if call is None:
            return record
        self._asked_for += 1
        try:
            answer = await self.session.get(call, self._known(record))
        except WireError as error:
            self._missed(error)
            return record
        return self._added(details, record, answer)

    def _added(self, details: d.Details, record: Record, answer: Answer) -> Record:
        more = details.record.first(answer.body)
        if not isinstance(more, Mapping) and not (details.under and isinstance(more, list)):
            self._failed += 1
            self._reason = self._reason or f"nothing that could be added stands at {details.record} in the answer"
            return record
        self._belonging.took(record, more)
        return _joined(record, more, details.under)

    def _known(self, record: Record) -> dict[str, Any]:
        """What a details call may name: values of the list, and members of the record."""
        members = {name: at(name).first(record) for name in self._names}
        return {**self.values, **{name: value for name, value in members.items() if value is not None}}


def _key(record: Record, members: Iterable[Path]) -> tuple[str, ...] | None:
    """What ties a record to another one; None where it does not say all of it."""
    values = [member.first(record) for member in members]
    return None if None in values else tuple(map(str, values))


def few(vanished: int, of: int, limits: d.SystemLimits) -> bool:
    """Whether so many may have gone away while the others were read, as the dialect's limits say."""
    return vanished <= limits.vanish and vanished <= max(1, limits.vanish_share * of) and vanished < of


def _joined(record: Record, more: Any, under: str | None) -> Record:
    if under and isinstance(more, Mapping | list):
        return {**record, under: more}
    return {**record, **more} if isinstance(more, Mapping) else record
