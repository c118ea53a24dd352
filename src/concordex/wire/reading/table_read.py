"""What one reading of a table brought: gathered from its pages, each record once."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any

import orjson
import polars as pl

from concordex.errors import BadAnswer
from concordex.wire import dialect as d
from concordex.wire.reading.completeness import Proof, TableOutcome, Verdict, summed_up
from concordex.wire.reading.mapping import Mapper
from concordex.wire.reading.pages import Page, Record
from concordex.words import plural

#: How many records are put away at once: few enough to be small, and to be still at hand.
_CHUNK = 1_000

#: Pages without a new record after which a list is taken to have no end.
_IDLE = 20

#: What an id says that is none.
_NO_IDS = {""}
#: What an id may be.
_ID_TYPES = frozenset([str, int, float])

#: A record as JSON text; what JSON does not know, such as a date in a Parquet file, as plain text.
_AS_JSON = partial(orjson.dumps, default=str)

#: The fields of the record to which a list belongs.
Parent = Mapping[str, Any]


@dataclass(kw_only=True)
class TableRead:
    """What one reading of a table brought, and what shows that it is whole, if anything does."""

    frame: pl.DataFrame
    received: int
    distinct: int
    announced: int | None = None
    proof: Proof | None = None
    fault: str | None = None  # why it is partial
    doubt: str | None = None  # why it is unproven
    notes: list[str] = field(default_factory=list)
    lost: dict[str, int] = field(default_factory=dict)
    gone: list[str] = field(default_factory=list)
    again: bool = False  # records may have moved: worth a second look
    trusted: bool = False  # the workspace believes it though nothing proves it

    @property
    def outcome(self) -> TableOutcome:
        """What may be said of it."""
        if self.fault or self.received != self.distinct:
            return TableOutcome.PARTIAL
        return TableOutcome.WHOLE if self.proof else TableOutcome.UNPROVEN

    @property
    def whole(self) -> bool:
        """Whether absence from it means anything."""
        return self.outcome is TableOutcome.WHOLE or (self.trusted and self.outcome is TableOutcome.UNPROVEN)

    @property
    def why(self) -> str | None:
        """Why it is no more than it is."""
        repeats = f"{self.received - self.distinct} records came twice" if self.received != self.distinct else None
        return self.fault or repeats or (None if self.proof else self.doubt)


class Collector:
    """Gathers pages into a frame, each record once."""

    def __init__(self, table: d.Table, most: int = 1_000_000) -> None:
        self.received = 0
        self._table, self._most = table, most
        self._mapper = Mapper(table)
        self._ids = table.fields["record_id"].from_
        self._below = table.fields["record_id"].below_parent
        self._seen: set[str] = set()
        self._waiting = self._mapper.empty()
        self._taken: list[pl.DataFrame] = []
        self._nameless = self._huge = 0
        self._gone: dict[str, None] = {}
        self._known = self._idle = 0
        self.tells_gone = False
        self._unread, self._sample = 0, ""

    def add(self, page: Page, parent: Parent | None = None) -> None:
        """Take a page; a record that came before is counted and left out."""
        self.received += len(page.records)
        self._gone.update(dict.fromkeys(map(str, page.gone)))
        self.tells_gone = self.tells_gone or page.tells_gone
        self._unread += len(page.unread)
        self._sample = self._sample or next(iter(page.unread), "").strip()[:60]
        new, texts = self._small(self._new(page.records, self._numbers(page.records, parent)))
        self._mapper.add(self._waiting, new, texts, parent, page.taken)
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

    def look(self, verdicts: Sequence[Verdict], faults: Sequence[str] = (), notes: Sequence[str] = ()) -> TableRead:
        """What has been gathered, and what the lists it came from showed of their ends."""
        self._flush()
        taken, self._taken = [part for part in self._taken if part.height] or self._taken[:1], []
        frame = self._mapper.frame(taken)
        proved = summed_up(verdicts)
        if self._unread and proved.outcome is TableOutcome.WHOLE:
            proved = replace(proved, outcome=TableOutcome.UNPROVEN, proof=None, why=self._remarks()[0])
        partial_by = [proved.why] if proved.outcome is TableOutcome.PARTIAL else []
        all_faults = [*faults, *self._own_faults(frame), *partial_by]
        return TableRead(
            frame=frame, received=self.received, distinct=len(self._seen), proof=proved.proof,
            fault="; ".join(dict.fromkeys(all_faults)) or None, again=proved.again and not faults,
            doubt=proved.why if proved.outcome is TableOutcome.UNPROVEN else None,
            notes=list(dict.fromkeys([*notes, *proved.notes, *self._remarks()])), lost=self._mapper.lost,
            gone=list(self._gone),
        )  # fmt: skip

    def _remarks(self) -> list[str]:
        return [f"{plural(self._unread, 'line')} fit no record, such as {self._sample!r}"] if self._unread else []

    def _own_faults(self, frame: pl.DataFrame) -> list[str]:
        faults = []
        if self._unread and not self.received:
            faults.append(f"it says something, and no line of it fits a record, such as {self._sample!r}")
        if self._nameless:
            faults.append(f"{self._nameless} records came without an id")
        if self._huge:
            faults.append(f"{self._huge} records are larger than {self._most:,} bytes and were left out")
        ids = frame["record_id"]
        if ids.null_count() or ids.n_unique() < frame.height:
            faults.append("some ids are missing, or no longer different, once they are read as the dialect says")
        return faults

    def _new(self, records: list[Record], numbers: list[Any]) -> list[Record]:
        """The records that did not come before."""
        fresh = set(map(str, numbers))
        odd = not _ID_TYPES.issuperset(map(type, numbers))
        if len(fresh) == len(records) and not odd and not _NO_IDS & fresh and self._seen.isdisjoint(fresh):
            self._seen |= fresh
            return records
        new = []
        for record, number in zip(records, numbers, strict=True):
            if number == "" or type(number) not in _ID_TYPES:
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
