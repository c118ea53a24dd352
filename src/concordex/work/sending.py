"""Sending steps: written down first, sent once, looked up when the answer is not known."""

from __future__ import annotations

import asyncio
import operator
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

from concordex.change.batches import halves, lists, stages
from concordex.change.compare import shown
from concordex.change.steps import State, Step
from concordex.errors import (
    CalledWrongly,
    Conflict,
    RequestRefused,
    ServerFault,
    SignInRefused,
    Unreachable,
    WireError,
)
from concordex.store.journal import Journal
from concordex.wire import dialect as d
from concordex.wire.session import Session
from concordex.wire.writes import act, create, create_together, delete, refusals, update
from concordex.work.committing import Committer
from concordex.work.concurrent import at_most
from concordex.work.target import Actual, writable

#: How often a write of unknown outcome is looked up and sent again.
_ROUNDS = 3

#: Why a written step is not confirmed yet.
STAGED = "staged, and not committed"

#: How a step stands that keeps others of its change from coming into effect.
_STANDS = {"refused": "was refused", "held": "was held"}

#: What became of a step: its state, why, and the record's id.
Outcome = tuple[Step, State, str | None, str | None]


@dataclass(frozen=True, kw_only=True)
class How:
    """How a change is run.

    most        records in one request, at the most; none: as many as the system takes
    together    one request for several tables, where the system takes them so; else lists of one table each
    regardless  also over what others have altered since it was prepared
    as_one      where a system stages: everything is staged before one commit, or nothing is left of it
    stage       only that: the commit is left for later
    """

    most: int | None = None
    together: bool = False
    regardless: bool = False
    as_one: bool = False
    stage: bool = False


@dataclass(frozen=True, kw_only=True)
class Attempt:
    """What came of sending: the system's answer, or the error after which nobody knows."""

    answer: Any = None
    error: WireError | None = None


class Sender:
    """Sends the steps of one change into one system, stage by stage."""

    def __init__(
        self,
        session: Session,
        actual: Actual,
        journal: Journal,
        number: int,
        told: Callable[[int], None],
        how: How,
        states: dict[int, State],
    ) -> None:
        self.session, self.actual, self.journal, self.number = session, actual, journal, number
        self.committer = Committer(session, as_one=how.as_one)
        self.told, self.how, self.states = told, how, states
        self.dialect = session.dialect
        #: What became of steps that come into effect as one, until that is known.
        self._kept: dict[int, Outcome] = {}
        #: Steps as the system says that it has done them.
        self.written: dict[int, Step] = {}

    async def stage(self, steps: list[Step]) -> None:
        """Send steps of one table and action, at most so many requests at once."""
        if len({step.table for step in steps}) > 1:
            await self._together(steps)
            return
        action = steps[0].action
        write = writable(self.dialect, steps[0].table, self.session.endpoint.name)
        if any(step.state in ("sent", "written") for step in steps):
            self.committer.expect(write)
        ready = self._found_already(steps) if action == "create" else self._unaltered(steps)
        send = {"create": self._create, "update": self._update, "delete": self._delete, "act": self._act}[action]
        how = {"create": write.create, "delete": write.delete}.get(action)
        calls = [partial(send, write, part) for part in lists(ready, self._most(how))]
        await at_most(self.dialect.limits.concurrency, calls)

    def _most(self, how: d.Create | d.Delete | d.Together | None) -> int:
        """How many records go in one request."""
        return min(how.most, self.how.most or how.most) if how else 1

    async def _together(self, steps: list[Step]) -> None:
        """Send creations of several tables in one call; what does not come through so goes table by table."""
        how = self.dialect.together
        assert how
        for part in lists([step for mine in stages(steps) for step in self._found_already(mine)], self._most(how)):
            mine = {found[0].table: found for found in stages(part)}
            writes = {table: writable(self.dialect, table, self.session.endpoint.name) for table in mine}
            ids = {table: self.dialect.tables[table].fields["record_id"].from_[0] for table in mine}
            try:
                bodies = self._all_bodies(how, writes, mine)
                self.journal.sending(self.number, part)
                made = await self.committer.in_effect(
                    writes.values(), partial(create_together, self.session, how, bodies, ids)
                )
            except (RequestRefused, CalledWrongly):
                left = mine
            except SignInRefused:
                self.settle([(step, "ready", None, None) for step in part], ended=False)
                raise
            except WireError as error:
                left = {table: await self._look_up(found, error) for table, found in mine.items()}
            else:
                for table, found in mine.items():
                    self._made(found, made[table])
                continue
            for table, found in left.items():
                for layer in self.actual.layers(found):
                    for some in lists(layer, self._most(writes[table].create)):
                        await self._create(writes[table], some)

    def _all_bodies(
        self, how: d.Together, writes: Mapping[str, d.Write], steps: Mapping[str, Sequence[Step]]
    ) -> dict[str, list[dict[str, Any]]]:
        """What is sent of each table; each record is known, for those that come after it, by its place in the call."""
        bodies: dict[str, list[dict[str, Any]]] = {}
        places: dict[str, list[str]] = {}
        try:
            for table, found in steps.items():
                for at, step in enumerate(found):
                    bodies.setdefault(table, []).append(self.actual.body(writes[table], step))
                    if how.refers:
                        place = how.refers.format(member=how.tables[table], at=at)
                        self.actual.made(step, place)
                        places.setdefault(table, []).append(place)
        finally:  # outside of the call they mean nothing
            for table, named in places.items():
                self.actual.gone(table, named)
        return bodies

    def _made(self, steps: Sequence[Step], numbers: Sequence[Any]) -> None:
        """What the system says that it has made."""
        for step, number in zip(steps, numbers, strict=True):
            self.actual.made(step, number)
        self.settle([(s, "written", None, str(n)) for s, n in zip(steps, numbers, strict=True)])

    async def finish(self) -> None:
        """Commit what was staged as one, or take all of it back where a step is not done; or leave it staged."""
        kept, self._kept = list(self._kept.values()), {}
        undone = ((step, _STANDS.get(state, "is not done")) for step, state, *_ in kept if state != "written")
        against = next((f"{step.table}/{step.label} {stands}" for step, stands in undone), None)
        if self.committer.waiting and self.how.stage and not against:
            self.committer.leave()
            self.settle([(step, state, STAGED, rid) for step, state, _, rid in kept], ended=False)
        elif why := await self.committer.end(against) or against:
            self.settle(
                [(step, "ready", _back(state, reason, why), None) for step, state, reason, _ in kept], ended=False
            )
        else:
            self.settle(kept, ended=False)

    def settle(self, outcomes: Sequence[Outcome], *, ended: bool = True) -> None:
        """Write down what became of steps; of those that come into effect as one, at the end."""
        settled = list[Outcome]()
        for one in outcomes:
            if not self._keeps(one):
                settled.append(one)
        if settled:
            self.journal.settled(self.number, settled)
            self.states |= {step.number: state for step, state, _, _ in settled}
        for step, state, reason, record_id in settled:
            if state == "written":
                self.written[step.number] = replace(
                    step, state=state, reason=reason, record_id=record_id or step.record_id
                )
            else:
                self.written.pop(step.number, None)
        if ended and outcomes:
            self.told(len(outcomes))

    def _keeps(self, outcome: Outcome) -> bool:
        """Whether what became of a step waits for the end: all are done then, or none, and its last word counts."""
        step, state, *_ = outcome
        write = self.dialect.tables[step.table].write
        if not self.how.as_one or step.action == "act" or write is None or write.commit is None:
            return False
        if state == "written" and not self.committer.waiting:  # it was so before anything was staged
            self._kept.pop(step.number, None)
            return False
        self._kept[step.number] = outcome
        return state in ("refused", "held", "written")  # others are written down at once, too

    def _found_already(self, steps: Sequence[Step]) -> list[Step]:
        """Creations that are still to be sent; what is there already is settled."""
        ready, settled = [], list[Outcome]()
        for step in steps:
            there = self.actual.find(step.table, step.key)
            if there is None:
                ready.append(step)
            elif step.reason == STAGED:
                settled.append((step, "written", None, there))
            elif step.state in ("sent", "written") or step.sent or step.entry is None:
                settled.append((step, "written", "it was there already", there))
            else:
                settled.append((step, "held", f"record {there} has appeared there since the preview", there))
        self.settle(settled)
        return ready

    def _unaltered(self, steps: Sequence[Step]) -> list[Step]:
        """Steps whose base still stands; what somebody changed meanwhile is not overwritten."""
        steps = [self.actual.located(step) for step in steps]
        records = self.actual.records(steps[0].table, [s.record_id for s in steps if s.record_id])
        ready, settled = [], list[Outcome]()
        for step in steps:
            record = records.get(step.record_id or "")
            same = operator.eq if step.action == "act" else self.actual.same  # an act is done to what was, exactly
            moved = [n for n in step.was if record and n in record and not same(record[n], step.was[n])]
            as_shall = record is not None and all(self.actual.same(record.get(n), v) for n, v in step.shall.items())
            if step.reason == STAGED and (record is None if step.action == "delete" else as_shall):
                settled.append((step, "written", None, None))
            elif self._done_already(step):
                settled.append((step, "written", "it was done already", None))
            elif record is None and step.action == "delete":
                settled.append((step, "written", "it was gone already", None))
            elif record is None:
                settled.append((step, "held", "the record is gone since the preview", None))
            elif step.action == "update" and as_shall:
                settled.append((step, "written", "it was so already", None))
            elif moved and not self.how.regardless:
                now = ", ".join(f"{name} is now {shown(record.get(name))}" for name in moved)
                settled.append((step, "held", f"changed there since the preview: {now}", None))
            else:
                ready.append(step)
        self.settle(settled)
        return ready

    def _done_already(self, step: Step) -> bool:
        """Whether an act that was sent before shows at the record, so that it is not done again."""
        write = writable(self.dialect, step.table, self.session.endpoint.name)
        acts = step.action == "act" and step.sent and bool(write.acts[step.act or ""].shows)
        return acts and self.actual.shows(step) is None

    async def _attempt(
        self, write: d.Write, steps: list[Step], send: Callable[[], Awaitable[Any]], again: Callable[..., Any]
    ) -> Attempt | None:
        """Send steps once; nothing where that settled them, since the system said no.

        ``again`` sends a smaller list, where one of it was refused.
        """
        self.journal.sending(self.number, steps)
        try:
            return Attempt(answer=await self.committer.in_effect([write], send))
        except Conflict as conflict:
            self._meanwhile(steps, conflict)
        except RequestRefused as refusal:
            await self._refused(write, steps, refusal, again)
        except SignInRefused:
            self.settle([(step, "ready", None, None) for step in steps], ended=False)
            raise
        except WireError as error:
            return Attempt(error=error)
        return None

    async def _create(self, write: d.Write, steps: list[Step]) -> None:
        """Send creations as one list; refused ones are named and the others go in a smaller list."""
        assert write.create
        record_id = self.dialect.tables[steps[0].table].fields["record_id"].from_[0]
        for _ in range(_ROUNDS):
            steps, bodies = self._sayable(write, steps)
            if not steps:
                return
            send = partial(create, self.session, write.create, bodies, record_id)
            tried = await self._attempt(write, steps, send, self._create)
            if tried is None:
                return
            if tried.error is None:
                self._made(steps, tried.answer)
                return
            steps = await self._look_up(steps, tried.error)
            if not steps:
                return

    def _sayable(self, write: d.Write, steps: Sequence[Step]) -> tuple[list[Step], list[dict[str, Any]]]:
        """Steps, with what is sent for each; those that refer to what was not made after all are held."""
        found, bodies, settled = list[Step](), [], list[Outcome]()
        for step in steps:
            try:
                bodies.append(self.actual.body(write, step))
                found.append(step)
            except CalledWrongly as lack:
                settled.append((step, "held", lack.what, None))
        self.settle(settled)
        return found, bodies

    def _meanwhile(self, steps: Sequence[Step], conflict: Conflict) -> None:
        """Somebody else wrote meanwhile: nothing of ours is there; going on looks anew, and then sends."""
        self.settle([(step, "ready", conflict.why or str(conflict), None) for step in steps])

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
        write = writable(self.dialect, table, self.session.endpoint.name)
        await self.committer.settle(write)
        again = type(self.actual)(self.session)
        await again.read([table])
        return again

    async def _update(self, write: d.Write, steps: list[Step]) -> None:
        """Send one update; it may be sent again, since twice is the same as once."""
        (step,) = steps
        if write.update is None:
            self.settle([(step, "held", "the dialect does not say how to update one", None)])
            return
        steps, bodies = self._sayable(write, steps)
        if not steps:
            return
        send = partial(update, self.session, write.update, step.record_id or "", bodies[0], self._now(step))
        for tried in range(1, _ROUNDS + 1):
            attempt = await self._attempt(write, steps, send, self._update)
            if attempt is None:
                return
            if attempt.error is None:
                self.settle([(step, "written", None, None)])
                return
            if tried == _ROUNDS:
                self.settle([(step, "sent", str(attempt.error), None)])
            else:
                await asyncio.sleep(0.2 * tried)

    async def _delete(self, write: d.Write, steps: list[Step]) -> None:
        """Send deletions as one list; after an answer that never came, what is gone is gone."""
        if write.delete is None:
            self.settle([(step, "held", "the dialect does not say how to delete one", None) for step in steps])
            return
        for _ in range(_ROUNDS):
            ids = [step.record_id or "" for step in steps]
            send = partial(delete, self.session, write.delete, ids, self._now(steps[0]))
            tried = await self._attempt(write, steps, send, self._delete)
            if tried is None:
                return
            if tried.error is None:
                self.actual.gone(steps[0].table, ids)
                self.settle([(step, "written", None, None) for step in steps])
                return
            steps = await self._still_there(steps, tried.error)
            if not steps:
                return

    async def _still_there(self, steps: list[Step], error: WireError) -> list[Step]:
        """After an answer that never came: what is gone counts, what is still there is returned."""
        table, ids = steps[0].table, [step.record_id or "" for step in steps]
        there = (await self._read_again(table, error)).records(table, ids)
        gone = [step for step in steps if step.record_id not in there]
        rest = [step for step in steps if step.record_id in there]
        self.settle([(step, "written", f"deleted, although: {error.what}", None) for step in gone])
        self.settle([(step, "ready", f"not deleted: {error}", None) for step in rest], ended=False)
        return rest

    async def _act(self, write: d.Write, steps: list[Step]) -> None:
        """Do to a record what the dialect calls by a name; never twice, since twice may not be as once."""
        step = self.actual.located(steps[0])
        if step.sent and not write.acts[step.act or ""].shows:
            self.settle([(step, "sent", "it was sent before, and nobody can look up whether it was done", None)])
            return
        how = write.acts[step.act or ""]
        try:
            values = {**(self._now(step) or {}), **self.actual.aim(step)}
        except CalledWrongly as lack:
            self.settle([(step, "held", lack.what, None)])
            return
        self.journal.sending(self.number, steps)
        try:
            await act(self.session, how, step.record_id or "", values)
        except RequestRefused as refusal:
            self.settle([(step, "refused", refusal.why or str(refusal), None)])
        except SignInRefused:
            self.settle([(step, "ready", None, None)], ended=False)
            raise
        except WireError as error:
            self.settle([(step, "sent", f"the answer is not known: {error.what}", None)])
        else:
            self.settle([(step, "written" if how.shows else "confirmed", "the system took it", None)])

    def _now(self, step: Step) -> dict[str, Any] | None:
        return self.actual.records(step.table, [step.record_id or ""]).get(step.record_id or "")


def _pause(error: WireError) -> float:
    """Seconds until a look: what was under way when the line was cut must have had time to arrive."""
    if isinstance(error, ServerFault):
        return min(error.wait or 0.0, 60.0)
    return 1.0 if isinstance(error, Unreachable) else 0.0


def _back(state: State, reason: str | None, why: str) -> str:
    """Why a step that comes into effect with others is to be done anew: its own reason, or else theirs."""
    if state == "written":
        return why
    return f"{state}: {reason}" if state in _STANDS else reason or why
