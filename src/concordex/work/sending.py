"""Sending steps: written down first, sent once, looked up when the answer is not known."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from typing import Any

from concordex.change.batches import halves, lists
from concordex.change.compare import same, shown
from concordex.change.steps import State, Step
from concordex.errors import RequestRefused, ServerFault, SignInRefused, Unreachable, WireError
from concordex.store.journal import Journal
from concordex.wire import dialect as d
from concordex.wire.session import Session
from concordex.wire.writes import act, body_of, commit, create, delete, refusals, update
from concordex.work.concurrent import all_of
from concordex.work.target import Actual, writable

#: How often a write of unknown outcome is looked up and sent again.
_ROUNDS = 3

#: What became of a step: its state, why, and the record's id.
Outcome = tuple[Step, State, str | None, str | None]


class Sender:
    """Sends the steps of one change into one system, stage by stage."""

    def __init__(
        self,
        session: Session,
        actual: Actual,
        journal: Journal,
        number: int,
        told: Callable[[int], None],
        *,
        most: int | None = None,
        regardless: bool = False,
    ) -> None:
        self.session, self.actual, self.journal, self.number = session, actual, journal, number
        self.told, self.most, self.regardless = told, most, regardless
        self.dialect = session.dialect
        #: Steps as the system says that it has done them.
        self.written: dict[int, Step] = {}

    async def stage(self, steps: list[Step]) -> None:
        """Send steps of one table and action, at most so many requests at once."""
        action = steps[0].action
        write = writable(self.dialect, steps[0].table, self.session.endpoint.name)
        ready = self._found_already(steps) if action == "create" else self._unaltered(steps)
        send = {"create": self._create, "update": self._update, "delete": self._delete, "act": self._act}[action]
        how = {"create": write.create, "delete": write.delete}.get(action)
        most = min(how.most if how else 1, self.most or how.most if how else 1)
        calls = [partial(send, write, part) for part in lists(ready, most)]
        await _at_most(self.dialect.limits.concurrency, calls)

    def settle(self, outcomes: Sequence[Outcome], *, ended: bool = True) -> None:
        """Write down what became of steps."""
        if outcomes:
            self.journal.settled(self.number, outcomes)
            for step, state, reason, record_id in outcomes:
                if state == "written":
                    self.written[step.number] = replace(
                        step, state=state, reason=reason, record_id=record_id or step.record_id
                    )
                else:
                    self.written.pop(step.number, None)
            if ended:
                self.told(len(outcomes))

    def _found_already(self, steps: Sequence[Step]) -> list[Step]:
        """Creations that are still to be sent; what is there already is settled."""
        ready, settled = [], list[Outcome]()
        for step in steps:
            there = self.actual.find(step.table, step.key)
            if there is None:
                ready.append(step)
            elif step.state in ("sent", "written") or step.sent or step.entry is None:
                settled.append((step, "written", "it was there already", there))
            else:
                settled.append((step, "held", f"record {there} has appeared there since the preview", there))
        self.settle(settled)
        return ready

    def _unaltered(self, steps: Sequence[Step]) -> list[Step]:
        """Steps whose base still stands; what somebody changed meanwhile is not overwritten."""
        records = self.actual.records(steps[0].table, [s.record_id for s in steps if s.record_id])
        ready, settled = [], list[Outcome]()
        for step in steps:
            record = records.get(step.record_id or "")
            moved = [n for n in step.was if record and n in record and not same(record[n], step.was[n])]
            if record is None and step.action == "delete":
                settled.append((step, "written", "it was gone already", None))
            elif record is None:
                settled.append((step, "held", "the record is gone since the preview", None))
            elif step.action == "update" and all(same(record.get(n), value) for n, value in step.shall.items()):
                settled.append((step, "written", "it was so already", None))
            elif moved and not self.regardless:
                now = ", ".join(f"{name} is now {shown(record.get(name))}" for name in moved)
                settled.append((step, "held", f"changed there since the preview: {now}", None))
            else:
                ready.append(step)
        self.settle(settled)
        return ready

    async def _create(self, write: d.Write, steps: list[Step]) -> None:
        """Send creations as one list; refused ones are named and the others go in a smaller list."""
        assert write.create
        record_id = self.dialect.tables[steps[0].table].fields["record_id"].from_[0]
        for _ in range(_ROUNDS):
            bodies = [body_of(step.shall, write, self.actual.number) for step in steps]
            self.journal.sending(self.number, steps)
            try:
                made = await create(self.session, write.create, bodies, record_id)
                await self._commit(write)
            except RequestRefused as refusal:
                await self._refused(write, steps, refusal, self._create)
                return
            except SignInRefused:
                self.settle([(step, "ready", None, None) for step in steps], ended=False)
                raise
            except WireError as error:
                steps = await self._look_up(steps, error)
                if not steps:
                    return
                continue
            for step, number in zip(steps, made, strict=True):
                self.actual.made(step.table, step.shall, number)
            self.settle([(s, "written", None, str(n)) for s, n in zip(steps, made, strict=True)])
            return

    async def _refused(
        self, write: d.Write, steps: list[Step], refusal: RequestRefused, again: Callable[..., Any]
    ) -> None:
        """Nothing of the list was done: set the bad ones aside, or find them by halving."""
        named = {found.index: found.reason for found in refusals(refusal, write.refusals, len(steps))}
        if len(steps) == 1:
            self.settle([(steps[0], "refused", named.get(0) or refusal.why or str(refusal), None)])
            return
        self.settle([(steps[at], "refused", reason, None) for at, reason in named.items()])
        rest = [step for at, step in enumerate(steps) if at not in named]
        for part in [rest] if named and rest else halves(rest):
            if part:
                await again(write, part)

    async def _look_up(self, steps: list[Step], error: WireError) -> list[Step]:
        """After an answer that never came: what was made counts, what was not is returned."""
        table = steps[0].table
        again = await self._read_again(table, error)
        self.actual.learn(again, table)
        rest, settled = [], list[Outcome]()
        for step in steps:
            there = again.find(table, step.key)
            if there is None:
                rest.append(step)
            else:
                settled.append((step, "written", f"made, although: {error.what}", there))
        self.settle(settled)
        self.settle([(step, "ready", f"not made: {error}", None) for step in rest], ended=False)
        return rest

    async def _read_again(self, table: str, error: WireError) -> Actual:
        await asyncio.sleep(_pause(error))
        again = Actual(self.session)
        await again.read([table])
        return again

    async def _update(self, write: d.Write, steps: list[Step]) -> None:
        """Send one update; it may be sent again, since twice is the same as once."""
        (step,) = steps
        if write.update is None:
            self.settle([(step, "held", "the dialect does not say how to update one", None)])
            return
        emptied = {name for name, value in step.shall.items() if value in (None, [])}
        body = body_of({**step.key, **step.shall}, _only(write, set(step.shall)), self.actual.number, emptied)
        self.journal.sending(self.number, steps)
        for tried in range(1, _ROUNDS + 1):
            try:
                await update(self.session, write.update, step.record_id or "", body, self._now(step))
                await self._commit(write)
            except RequestRefused as refusal:
                self.settle([(step, "refused", refusal.why or str(refusal), None)])
            except SignInRefused:
                self.settle([(step, "ready", None, None)], ended=False)
                raise
            except WireError as error:
                if tried == _ROUNDS:
                    self.settle([(step, "sent", str(error), None)])
                else:
                    await asyncio.sleep(0.2 * tried)
                    continue
            else:
                self.settle([(step, "written", None, None)])
            return

    async def _delete(self, write: d.Write, steps: list[Step]) -> None:
        """Send deletions as one list; after an answer that never came, what is gone is gone."""
        if write.delete is None:
            self.settle([(step, "held", "the dialect does not say how to delete one", None) for step in steps])
            return
        for _ in range(_ROUNDS):
            ids = [step.record_id or "" for step in steps]
            self.journal.sending(self.number, steps)
            try:
                await delete(self.session, write.delete, ids, self._now(steps[0]))
                await self._commit(write)
            except RequestRefused as refusal:
                await self._refused(write, steps, refusal, self._delete)
                return
            except SignInRefused:
                self.settle([(step, "ready", None, None) for step in steps], ended=False)
                raise
            except WireError as error:
                there = (await self._read_again(steps[0].table, error)).records(steps[0].table, ids)
                gone = [step for step in steps if step.record_id not in there]
                self.settle([(step, "written", f"deleted, although: {error.what}", None) for step in gone])
                steps = [step for step in steps if step.record_id in there]
                self.settle([(step, "ready", f"not deleted: {error}", None) for step in steps], ended=False)
                if not steps:
                    return
                continue
            self.actual.gone(steps[0].table, ids)
            self.settle([(step, "written", None, None) for step in steps])
            return

    async def _act(self, write: d.Write, steps: list[Step]) -> None:
        """Do to a record what the dialect calls by a name; never twice, since twice may not be as once."""
        (step,) = steps
        if step.sent:
            self.settle([(step, "sent", "it was sent before, and nobody can look up whether it was done", None)])
            return
        self.journal.sending(self.number, steps)
        try:
            await act(self.session, write.acts[step.act or ""], step.record_id or "", self._now(step))
        except RequestRefused as refusal:
            self.settle([(step, "refused", refusal.why or str(refusal), None)])
        except SignInRefused:
            self.settle([(step, "ready", None, None)], ended=False)
            raise
        except WireError as error:
            self.settle([(step, "sent", f"the answer is not known: {error.what}", None)])
        else:
            self.settle([(step, "confirmed", "the system took it", None)])

    def _now(self, step: Step) -> dict[str, Any] | None:
        return self.actual.records(step.table, [step.record_id or ""]).get(step.record_id or "")

    async def _commit(self, write: d.Write) -> None:
        if write.commit:
            await commit(self.session, write.commit)


def _pause(error: WireError) -> float:
    """Seconds until a look: what was under way when the line was cut must have had time to arrive."""
    if isinstance(error, ServerFault):
        return min(error.wait or 0.0, 60.0)
    return 1.0 if isinstance(error, Unreachable) else 0.0


def _only(write: d.Write, names: set[str]) -> d.Write:
    """The part of ``write`` that touches the fields ``names``."""
    fields = {name: spec for name, spec in write.fields.items() if name in names}
    references = {name: ref for name, ref in write.references.items() if names & set(ref.by.values())}
    return write.model_copy(update={"fields": fields, "references": references})


async def _at_most(most: int, calls: Sequence[Callable[[], Any]]) -> None:
    """Run ``calls``, at most so many at once; the first error ends the rest."""
    rest = iter(calls)

    async def work() -> None:
        for call in rest:
            await call()

    await all_of(work() for _ in range(most))
