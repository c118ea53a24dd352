"""Reading back: every written step is compared, and what changed in its record beside it is told."""

from __future__ import annotations

import time
from collections.abc import Awaitable, Callable, Mapping, Sequence, Set
from dataclasses import dataclass, field, replace
from typing import Any

from concordex.change.reasons import Reasons, Why, because, has, resting
from concordex.change.steps import Change, Outcome, Step
from concordex.change.whole import Flat, beside, is_stamp, lost, prints
from concordex.model.fields import ORIGINAL
from concordex.model.members import pruned
from concordex.work.run.lookout import looks
from concordex.work.run.precheck import is_done
from concordex.work.run.writer import Writer
from concordex.work.targets.target import Target

#: Waits until what steps of a table have made is ready: of each, by its number, that it is, or why it is not.
Ready = Callable[[str, Sequence[Step]], Awaitable[Mapping[int, Reasons]]]

#: What a reading shows of a step, and its record.
_Shown = tuple[Outcome, Mapping[str, Any] | None]

#: Seconds by which the system's clock may differ from ours.
_SKEW = 300.0


@dataclass(frozen=True)
class Before:
    """The records of steps as they were before anything was sent, by the steps' numbers: ours, and the system's own."""

    fields: Mapping[int, Mapping[str, Any]] = field(default_factory=dict)
    whole: Mapping[int, Flat] = field(default_factory=dict)
    was_there: Callable[[str, str | None], bool] = lambda table, record_id: True

    @classmethod
    def of(cls, actual: Target, steps: Sequence[Step]) -> Before:
        """The records that ``steps`` alter or delete, as ``actual`` holds them."""
        fields: dict[int, Mapping[str, Any]] = {}
        whole: dict[int, Flat] = {}
        for table in dict.fromkeys(step.table for step in steps):
            mine = [actual.located(s) for s in steps if s.table == table and s.operation in ("update", "delete")]
            ids = [step.record_id for step in mine if step.record_id]
            records, wholes = actual.records(table, ids), actual.whole(table, ids)
            for step in mine:
                if step.record_id in records:
                    fields[step.number] = records[step.record_id]
                    whole[step.number] = wholes.get(step.record_id, {})
        return cls(fields, whole, actual.was_there)


class ReadBack:
    """The tables of a change, read again after it was sent, and compared with what it should have done."""

    def __init__(self, change: Change, after: Target, writer: Writer, before: Before, ready: Ready | None) -> None:
        self.after, self.writer, self.before, self.ready = after, writer, before, ready
        self.change, self.ledger = change, writer.ledger
        self._began = min((step.sent for step in change.steps if step.sent), default=after.began.timestamp())

    async def compare(self, tables: Sequence[str]) -> list[Step]:
        """Read the tables until what was written shows, or must have; judge each written step, and give them back.

        The journal notes what an undo needs.
        """
        shown = await self._read(self.after.needed(tables), tables)
        steps = [self.ledger.written[number] for number in sorted(self.ledger.written)]
        settled, read_back = list[Outcome](), []
        for table in tables:
            mine = [outcome.step for outcome, _ in shown[table]]
            waited = await self.ready(table, mine) if self.ready else {}
            ids = [step.record_id for step in mine if step.record_id]
            wholes = self.after.whole(table, ids)
            for outcome, record in self._shown(table) if waited else shown[table]:  # it was read again meanwhile
                step, whole = outcome.step, wholes.get(outcome.step.record_id or "", {})
                aside = self._beside(step, record, whole)
                judged = self._judged(outcome, record, whole, aside, waited.get(step.number, ()))
                settled.append(judged._replace(record_id=step.record_id))
                read_back.append(self._kept(step, record, whole, aside))
        self.ledger.judge(settled, read_back)
        self._doubt_refusals(tables)
        return steps

    def _doubt_refusals(self, tables: Sequence[str]) -> None:
        """What is said to be refused and is there all the same: an answer may tell of a list in another order."""
        doubtful = list[Outcome]()
        for step in self.ledger.refused.values():
            if step.table in tables and step.operation != "action":
                done = self.after.bearers(step) if step.operation == "create" else is_done(self.after, step)
                if done:
                    doubtful.append(Outcome(step, "unknown", resting(Why.REFUSED_AND_DONE, step.why or ())))
        self.ledger.settle(doubtful, ended=False)

    async def _read(self, wanted: Sequence[str], tables: Sequence[str]) -> dict[str, list[_Shown]]:
        """Read the tables, again and again while something that was written does not show and may do so yet.

        What the last reading shows of each table's steps.
        """
        shown: dict[str, list[_Shown]] = {}
        async for _ in looks(time.time() + self.after.settle):
            await self.after.read(wanted)
            for table in tables:  # a last look at what is unknown, at no cost
                unknown = [step for step in self.ledger.unknown.values() if step.table == table]
                self.writer.seen(because(Why.SHOWS_NOW), self.after, unknown)
            shown = {table: self._shown(table) for table in tables}
            if all(outcome.state in ("confirmed", "doubled") for mine in shown.values() for outcome, _ in mine):
                break
        return shown

    def _shown(self, table: str) -> list[_Shown]:
        """What was written into a table as it shows there, in the order of the steps."""
        mine = sorted((step for step in self.ledger.written.values() if step.table == table), key=lambda s: s.number)
        bearers = [self.after.bearers(step) if step.operation == "create" else [] for step in mine]
        steps = [self._identified(step, there) for step, there in zip(mine, bearers, strict=True)]
        records = self.after.records(table, [step.record_id for step in steps if step.record_id])
        shown = list[_Shown]()
        missing = any(step.operation == "create" and not there for step, there in zip(steps, bearers, strict=True))
        borne = self._borne(table) if missing else set[str]()
        for step, there in zip(steps, bearers, strict=True):
            record = records.get(step.record_id or "")
            if step.operation == "create" and not there:
                shown.append((self._under_another_key(step, record, borne), record))
            else:
                shown.append((self._verdict(step, record, there), record))
        return shown

    def _identified(self, step: Step, there: Sequence[str]) -> Step:
        """A step with the id of its record as it was read, whatever the system said of it; ``there`` bear its key."""
        if step.operation == "update":
            return self.after.located(step)
        if len(there) != 1 or there[0] == step.record_id:
            return step
        called = because(Why.CALLED, record=step.record_id) if step.record_id else ()
        return replace(step, record_id=there[0], why=(*(step.why or because(Why.FOUND)), *called))

    def _beside(self, step: Step, record: Mapping[str, Any] | None, whole: Flat) -> dict[str, tuple[Any, Any]]:
        """What changed in the record of an update though the update does not write it."""
        before = self.before.whole.get(step.number)
        if step.operation != "update" or record is None or before is None:
            return {}
        moved = beside(before, whole, self.after.written_paths(step))
        stamps = self._stamps(whole)
        return {path: (old, now) for path, (old, now) in moved.items() if path not in stamps}

    def _stamps(self, whole: Flat) -> set[str]:
        """The members that say when the system altered the record, which is its own affair."""
        begin, end = self._began - _SKEW, time.time() + _SKEW
        return {path for path, value in whole.items() if is_stamp(value, begin, end)}

    def _kept(
        self, step: Step, record: Mapping[str, Any] | None, whole: Flat, aside: Mapping[str, tuple[Any, Any]]
    ) -> tuple[dict[str, Any], dict[str, Any]]:
        """What the journal keeps of a record: our fields as they became, and what an undo rests on."""
        shown = pruned(step.desired, self.after.unread(step))
        became = {name: record[name] for name in shown if name in record} if record is not None else {}
        if step.operation == "create" and record is not None:
            return became, {"prints": prints(whole, self._stamps(whole))}
        if step.operation == "delete":
            return became, {"before": self.before.whole.get(step.number, {})}
        if aside and record is not None:
            earlier = self.before.fields.get(step.number, {})
            moved = {
                n: [earlier.get(n), now] for n, now in record.items() if n not in step.desired and earlier.get(n) != now
            }
            moved.pop(ORIGINAL, None)
            return became, {"beside": dict(aside), "fields": moved}
        return became, {}

    def _judged(
        self,
        outcome: Outcome,
        record: Mapping[str, Any] | None,
        whole: Flat,
        aside: Mapping[str, tuple[Any, Any]],
        waited: Reasons,
    ) -> Outcome:
        """What became of a written step: as it was read back, and once it was really there."""
        step, state, why = outcome.step, outcome.state, outcome.why
        if state == "confirmed" and aside:  # by name only: among unmapped members there may be secrets
            return Outcome(step, "differs", (*because(Why.ALSO_CHANGED, members=list(aside)), *why))
        if state == "confirmed" and step.number in self.writer.spared:
            return Outcome(step, "differs", (*self.writer.spared[step.number], *why))
        stamps = self._stamps(whole) if step.again else set()
        again = {path: before for path, before in step.again.items() if path not in stamps}
        missing = lost(again, whole) if record is not None else []
        if state == "confirmed" and missing:
            return Outcome(step, "differs", because(Why.NOT_BACK, members=list(missing)))
        if not waited or state != "confirmed":
            return outcome
        return Outcome(step, "confirmed" if has(waited, Why.READY) else "differs", (*waited, *why))

    def _verdict(self, step: Step, record: Mapping[str, Any] | None, there: Sequence[str]) -> Outcome:
        if len(there) > 1:
            return Outcome(step, "doubled", because(Why.DOUBLED, ids=there))
        if step.operation in ("action", "delete"):
            return self._verdict_of_effect(step, record)
        if record is None:
            return Outcome(step, "differs", because(Why.NOT_THERE))
        reasons = self.after.verdict(step, record)
        if has(reasons, Why.DIFFERS):
            return Outcome(step, "differs", tuple(reason for reason in reasons if reason.why is Why.DIFFERS))
        unread = self.after.unread(step)
        silent = because(Why.UNREAD, fields=sorted(unread)) if unread else ()
        return Outcome(step, "confirmed", (*step.why, *reasons, *silent))

    def _under_another_key(self, step: Step, record: Mapping[str, Any] | None, borne: Set[str]) -> Outcome:
        """What became of a creation whose key no record bears: the system may have cut, or altered, what it was sent.

        The record that it says it made is ours where it was not there before, and is none of those ``borne`` by others.
        """
        unseen = Outcome(step, "unknown", because(Why.NOT_SHOWN))
        if record is None or step.record_id in borne or self.before.was_there(step.table, step.record_id):
            return unseen
        told = {reason.why: reason.facts["fields"] for reason in self.after.verdict(step, record)}
        own = {name: {"now": now, "desired": step.desired[name]} for name, now in told.get(Why.OWN_WAY, {}).items()}
        fields = {**told.get(Why.DIFFERS, {}), **own}
        return Outcome(step, "differs", because(Why.DIFFERS, fields=fields)) if fields else unseen

    def _borne(self, table: str) -> set[str]:
        """The ids of the records that bear the keys of the change's creations, as they were last read."""
        made = [step for step in self.change.steps if step.table == table and step.operation == "create"]
        return {there for step in made for there in self.after.bearers(step)}

    def _verdict_of_effect(self, step: Step, record: Mapping[str, Any] | None) -> Outcome:
        """What became of a deletion or an action, which leave no record to compare."""
        still = because(Why.STILL_THERE) if step.operation == "delete" and record is not None else ()
        wrong = self.after.shows(step) if step.operation == "action" else still
        return Outcome(step, "differs", wrong) if wrong else Outcome(step, "confirmed", step.why)
