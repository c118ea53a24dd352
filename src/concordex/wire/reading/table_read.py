"""What one reading of a table brought: gathered from its pages, each record once."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any, Protocol

import polars as pl

from concordex.errors import BadAnswer
from concordex.model.fields import ORIGINAL
from concordex.wire import dialect as d
from concordex.wire.reading.completeness import Proof, TableOutcome, Verdict, summed_up
from concordex.wire.reading.mapping import Mapper
from concordex.wire.reading.pages import Page
from concordex.wire.reading.records import DecodedRecords, RawRecords, Records
from concordex.wire.reading.seen import SeenIds
from concordex.words import plural

#: How many records are put away at once: few enough to be small, and to be still at hand.
_CHUNK = 1_000
#: How many go to the disk at once, of a table that is put there while it comes; shorter ones are kept in memory.
_PIECE = 32_768

#: Pages without a new record after which a list is taken to have no end.
_IDLE = 20

#: What an id may be.
_ID_TYPES = frozenset([str, int, float])

#: The fields of the record to which a list belongs.
Parent = Mapping[str, Any]
#: What is done with records at last; it counts of each field the ids that led nowhere.
Finish = Callable[[pl.DataFrame, dict[str, int]], pl.DataFrame]


class Room(Protocol):
    """Where a long table goes while it comes."""

    def add(self, make: Callable[[], pl.DataFrame]) -> None:
        """Put away what ``make`` gives; it may be called in another thread."""
        ...

    def settle(self) -> None:
        """Wait until all that was added is made."""
        ...

    def discard(self) -> None:
        """Leave nothing of it, where it is not kept."""
        ...

    def lazy(self) -> pl.LazyFrame:
        """All of it, once it is kept."""
        ...


@dataclass(kw_only=True)
class TableRead:
    """What one reading of a table brought, and what shows that it is whole, if anything does.

    ``held`` are its records; of a long table that was put away while it came, the room that they are in.
    """

    held: pl.DataFrame | Room
    received: int
    distinct: int
    announced: int | None = None
    proof: Proof | None = None
    fault: str | None = None  # why it is partial
    doubt: str | None = None  # why it is unproven
    notes: list[str] = field(default_factory=list)
    lost: dict[str, int] = field(default_factory=dict)
    nowhere: dict[str, int] = field(default_factory=dict)  # of each field the ids that led to no record
    gone: list[str] = field(default_factory=list)
    again: bool = False  # records may have moved: worth a second look
    trusted: bool = False  # the workspace believes it though nothing proves it
    reading: str | None = None  # a digest of how it was read, and of what the ids in it meant

    @property
    def frame(self) -> pl.DataFrame:
        """Its records."""
        return self.held if isinstance(self.held, pl.DataFrame) else self.held.lazy().collect()

    @frame.setter
    def frame(self, frame: pl.DataFrame) -> None:
        self.held = frame

    def fields(self, names: Iterable[str] | None = None) -> pl.DataFrame:
        """Some fields of its records, or all that we have of them."""
        if names is not None:
            return self.held.lazy().select(names).collect()
        return self.held if isinstance(self.held, pl.DataFrame) else self.held.lazy().drop(ORIGINAL).collect()

    def discard(self) -> None:
        """Leave nothing of it, where it is not kept."""
        if not isinstance(self.held, pl.DataFrame):
            self.held.discard()

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
    """Gathers pages into a frame, each record once; ``finished`` is what is done with its records in the end.

    With ``room_for`` a long table is put away piece by piece.
    """

    def __init__(
        self,
        table: d.Table,
        most: int = 1_000_000,
        finished: Finish | None = None,
        room_for: Callable[[], Room] | None = None,
    ) -> None:
        self.received = 0
        self._finished, self._room_for = finished or (lambda frame, _: frame), room_for
        self._room: Room | None = None
        named = table.fields["record_id"]
        self._read_ids = SeenIds() if named.read_as or named.values is not None else None  # as the dialect reads them
        self._odd_ids = False
        self._table, self._most = table, most
        self._mapper = Mapper(table)
        self._ids = table.fields["record_id"].from_
        self._below = table.fields["record_id"].below_parent
        self._seen = SeenIds()
        self._waiting = self._mapper.empty()
        self._taken: list[pl.DataFrame] = []
        self._nameless = self._huge = 0
        self._nowhere: dict[str, int] = {}
        self._known = self._idle = 0
        self._unread, self._sample = 0, ""

    def add(self, page: Page, parent: Parent | None = None) -> None:
        """Take a page; a record that came before is counted and left out."""
        self.received += len(page.records)
        self._unread += len(page.unread)
        self._sample = self._sample or next(iter(page.unread), "").strip()[:60]
        came = page.records if isinstance(page.records, RawRecords) else DecodedRecords(page.records)
        new, texts = self._small(self._new(came, self._numbers(came, parent)))
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
        held = self._held()
        proved = summed_up(verdicts)
        if self._unread and proved.outcome is TableOutcome.WHOLE:
            proved = replace(proved, outcome=TableOutcome.UNPROVEN, proof=None, why=self._remarks()[0])
        partial_by = [proved.why] if proved.outcome is TableOutcome.PARTIAL else []
        all_faults = [*faults, *self._own_faults(), *partial_by]
        return TableRead(
            held=held, received=self.received, distinct=len(self._seen), proof=proved.proof,
            fault="; ".join(dict.fromkeys(all_faults)) or None, again=proved.again and not faults,
            doubt=proved.why if proved.outcome is TableOutcome.UNPROVEN else None,
            notes=list(dict.fromkeys([*notes, *proved.notes, *self._remarks()])), lost=self._mapper.lost,
            nowhere=self._nowhere,
        )  # fmt: skip

    def _remarks(self) -> list[str]:
        return [f"{plural(self._unread, 'line')} fit no record, such as {self._sample!r}"] if self._unread else []

    def _own_faults(self) -> list[str]:
        faults = []
        if self._unread and not self.received:
            faults.append(f"it says something, and no line of it fits a record, such as {self._sample!r}")
        if self._nameless:
            faults.append(f"{self._nameless} records came without an id")
        if self._huge:
            faults.append(f"{self._huge} records are larger than {self._most:,} bytes and were left out")
        if self._odd_ids:
            faults.append("some ids are missing, or no longer different, once they are read as the dialect says")
        return faults

    def _new(self, records: Records, numbers: Sequence[Any]) -> Records:
        """The records that did not come before."""
        if _ID_TYPES.issuperset(map(type, numbers)) and "" not in numbers:
            places = self._seen.new(list(map(str, numbers)))
            return records if places is None else records.take(places)
        named = [place for place, number in enumerate(numbers) if type(number) in _ID_TYPES and number != ""]
        self._nameless += len(numbers) - len(named)
        new = self._seen.new([str(numbers[place]) for place in named])
        return records.take(named if new is None else [named[at] for at in new])

    def _small(self, records: Records) -> tuple[Records, list[bytes]]:
        """The records that are not too large to keep, and each as JSON text."""
        texts = records.texts()
        if max(map(len, texts), default=0) <= self._most:
            return records, texts
        places = [place for place, text in enumerate(texts) if len(text) <= self._most]
        self._huge += len(records) - len(places)
        return records.take(places), [texts[place] for place in places]

    def _numbers(self, records: Records, parent: Parent | None) -> Sequence[Any]:
        numbers = records.column(self._ids[0]) if self._ids else [None] * len(records)
        for path in self._ids[1:]:
            more = records.column(path)
            numbers = [n if n not in (None, "") else m for n, m in zip(numbers, more, strict=True)]
        if self._below and parent is not None:
            numbers = [None if n is None else f"{parent['record_id']}/{n}" for n in numbers]
        return numbers

    def _flush(self) -> None:
        """Put aside what waits: in this thread, since another would wait for the interpreter."""
        self._taken.append(self._mapper.taken(self._waiting))
        self._waiting = self._mapper.empty()
        if self._room_for and sum(part.height for part in self._taken) >= _PIECE:
            self._put_away(self._room_for)

    def _put_away(self, room_for: Callable[[], Room]) -> None:
        parts, self._taken = self._taken, []
        self._room = self._room or room_for()
        self._room.add(partial(self._typed, parts))

    def _typed(self, parts: Sequence[pl.DataFrame]) -> pl.DataFrame:
        frame = self._finished(self._mapper.frame(parts), self._nowhere)
        ids = frame["record_id"]
        if self._room is None:
            self._odd_ids = bool(ids.null_count()) or ids.n_unique() < frame.height
        elif self._read_ids is not None:
            self._odd_ids |= bool(ids.null_count()) or self._read_ids.new(ids.drop_nulls().to_list()) is not None
        return frame

    def _held(self) -> pl.DataFrame | Room:
        """All that was gathered, or where it is."""
        self._flush()
        taken, self._taken = [part for part in self._taken if part.height] or self._taken[:1], []
        if self._room is None:
            return self._typed(taken)
        if taken and taken[0].height:
            self._room.add(partial(self._typed, taken))
        self._room.settle()
        return self._room
