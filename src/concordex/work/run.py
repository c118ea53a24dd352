"""Running a change: each step is written down, sent once, read back, and compared."""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import Callable, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

from concordex.change.batches import halves, lists, stages
from concordex.change.compare import same
from concordex.change.steps import Change, State, Step
from concordex.errors import (
    CalledWrongly,
    ConcordexError,
    RequestRefused,
    ServerFault,
    SignInRefused,
    Unreachable,
    WireError,
)
from concordex.wire import dialect as d
from concordex.wire.session import Session, Traffic
from concordex.wire.writes import body_of, commit, create, refusals, update
from concordex.work.concurrent import all_of
from concordex.work.processes import is_alive
from concordex.work.pull import keep
from concordex.work.sync import check_guards
from concordex.work.target import Actual, tables_for, writable

if TYPE_CHECKING:
    from concordex.work.workspace import Workspace

#: Told as steps end: how many have, and of how many.
Progress = Callable[[int, int], None]
#: How often a write of unknown outcome is looked up and sent again.
_ROUNDS = 3


def run(workspace: Workspace, number: int, progress: Progress | None = None) -> Change:
    """Run what is still open of a change; the change as it stands afterwards.

    A step that was cut off is looked up before it is sent again.  Interrupted, the change is
    called stopped and can be run again.
    """
    change = workspace.journal.change(number)
    if change.state == "done" or not change.writes:
        raise CalledWrongly(f"change {number} has nothing left to do")
    check_guards(workspace, change)
    workspace.journal.begin(number, os.getpid(), is_alive(workspace.journal.runner(number)))
    state = "stopped"
    try:
        asyncio.run(_Run(workspace, change, progress).all())
        after = workspace.journal.change(number)
        state = "done" if all(s.state in ("confirmed", "held") for s in after.steps) else "incomplete"
    except ConcordexError:
        state = "incomplete"
        raise
    finally:
        workspace.journal.end(number, state)
    return workspace.journal.change(number)


class _Run:
    """One run of one change."""

    def __init__(self, workspace: Workspace, change: Change, progress: Progress | None) -> None:
        assert change.number is not None
        self.workspace, self.change, self.number = workspace, change, change.number
        self.dialect = workspace.dialect(change.system)
        self.progress = progress
        self.open = change.writes
        self.ended = 0
        self.actual: Actual

    async def all(self) -> None:
        """Look at the target, send each stage in its order, read it back."""
        tables = list(dict.fromkeys(step.table for step in self.open))
        async with self.workspace.session(self.change.system) as session:
            self.actual = Actual(session)
            await self.actual.read(tables_for(self.dialect, tables))
            for steps in stages(self.open):
                await self._stage(session, steps)
            await self._read_back(session, tables)

    async def _stage(self, session: Session, steps: list[Step]) -> None:
        write = writable(self.dialect, steps[0].table, self.change.system)
        ready = self._found_already(steps) if steps[0].action == "create" else self._unaltered(steps)
        most = write.create.most if steps[0].action == "create" and write.create else 1
        send = self._create if steps[0].action == "create" else self._update
        await _at_most(
            self.dialect.limits.concurrency,
            [partial(send, session, write, part) for part in lists(ready, most)],
        )

    def _found_already(self, steps: Sequence[Step]) -> list[Step]:
        """Creations that are still to be sent; what is there already is settled."""
        ready, settled = [], list[tuple[Step, State, str | None, str | None]]()
        for step in steps:
            there = self.actual.find(step.table, step.key)
            if there is None:
                ready.append(step)
            elif step.state in ("sent", "written") or step.entry is None:
                settled.append((step, "written", "it was there already", there))
            else:
                settled.append((step, "held", f"record {there} has appeared there since the preview", there))
        self._settle(settled)
        return ready

    def _unaltered(self, steps: Sequence[Step]) -> list[Step]:
        """Updates whose base still stands; a value that somebody changed meanwhile is not overwritten."""
        records = self.actual.records(steps[0].table, [s.record_id for s in steps if s.record_id])
        ready, settled = [], list[tuple[Step, State, str | None, str | None]]()
        for step in steps:
            record = records.get(step.record_id or "")
            moved = [n for n in step.shall if record and not same(record.get(n), step.was.get(n))]
            done = record is not None and all(same(record.get(n), value) for n, value in step.shall.items())
            if record is None:
                settled.append((step, "held", "the record is gone since the preview", None))
            elif done:
                settled.append((step, "written", "it was so already", None))
            elif moved:
                now = ", ".join(f"{name} is now {record.get(name)}" for name in moved)
                settled.append((step, "held", f"changed there since the preview: {now}", None))
            else:
                ready.append(step)
        self._settle(settled)
        return ready

    async def _create(self, session: Session, write: d.Write, steps: list[Step]) -> None:
        """Send creations as one list; refused ones are named and the others go in a smaller list."""
        assert write.create
        record_id = self.dialect.tables[steps[0].table].fields["record_id"].from_[0]
        for _ in range(_ROUNDS):
            bodies = [body_of(step.shall, write, self.actual.number) for step in steps]
            self.workspace.journal.sending(self.number, steps)
            try:
                made = await create(session, write.create, bodies, record_id)
                if write.commit:
                    await commit(session, write.commit)
            except RequestRefused as refusal:
                await self._refused(session, write, steps, refusal)
                return
            except SignInRefused:
                self._settle([(step, "ready", None, None) for step in steps], ended=False)
                raise
            except WireError as error:
                steps = await self._look_up(steps, error)
                if not steps:
                    return
                continue
            for step, number in zip(steps, made, strict=True):
                self.actual.made(step.table, step.shall, number)
            self._settle([(s, "written", None, str(n)) for s, n in zip(steps, made, strict=True)])
            return

    async def _refused(self, session: Session, write: d.Write, steps: list[Step], refusal: RequestRefused) -> None:
        """Nothing of the list was made: set the bad ones aside, or find them by halving."""
        named = {found.index: found.reason for found in refusals(refusal, write.refusals, len(steps))}
        if len(steps) == 1:
            self._settle([(steps[0], "refused", named.get(0) or refusal.why or str(refusal), None)])
            return
        self._settle([(steps[at], "refused", reason, None) for at, reason in named.items()])
        rest = [step for at, step in enumerate(steps) if at not in named]
        for part in [rest] if named and rest else halves(rest):
            if part:
                await self._create(session, write, part)

    async def _look_up(self, steps: list[Step], error: WireError) -> list[Step]:
        """After an answer that never came: what was made counts, what was not is returned."""
        await asyncio.sleep(_pause(error))
        table = steps[0].table
        again = Actual(self.actual.session)
        await again.read([table])
        self.actual.learn(again, table)
        rest, settled = [], list[tuple[Step, State, str | None, str | None]]()
        for step in steps:
            there = again.find(table, step.key)
            if there is None:
                rest.append(step)
            else:
                settled.append((step, "written", f"made, although: {error.what}", there))
        self._settle(settled)
        self._settle([(step, "ready", f"not made: {error}", None) for step in rest], ended=False)
        return rest

    async def _update(self, session: Session, write: d.Write, steps: list[Step]) -> None:
        """Send one update; it may be sent again, since twice is the same as once."""
        assert write.update
        (step,) = steps
        body = body_of({**step.key, **step.shall}, _only(write, set(step.shall)), self.actual.number)
        self.workspace.journal.sending(self.number, steps)
        for tried in range(1, _ROUNDS + 1):
            try:
                now = self.actual.records(step.table, [step.record_id or ""]).get(step.record_id or "")
                await update(session, write.update, step.record_id or "", body, now)
                if write.commit:
                    await commit(session, write.commit)
            except RequestRefused as refusal:
                self._settle([(step, "refused", refusal.why or str(refusal), None)])
            except SignInRefused:
                self._settle([(step, "ready", None, None)], ended=False)
                raise
            except WireError as error:
                if tried == _ROUNDS:
                    self._settle([(step, "sent", str(error), None)])
                else:
                    await asyncio.sleep(0.2 * tried)
                    continue
            else:
                self._settle([(step, "written", None, None)])
            return

    async def _read_back(self, session: Session, tables: Sequence[str]) -> None:
        """Read the tables again, compare every written step, and keep what was read as a pull."""
        begun = time.monotonic()
        after = Actual(session)
        wanted = tables_for(self.dialect, tables)
        await after.read(wanted)
        steps = [s for s in self.workspace.journal.change(self.number).steps if s.state == "written"]
        settled = list[tuple[Step, State, str | None, str | None]]()
        for table in tables:
            mine = [step for step in steps if step.table == table]
            records = after.records(table, [step.record_id for step in mine if step.record_id])
            settled += [(s, *_verdict(s, records.get(s.record_id or "")), None) for s in mine]
        self._settle(settled, ended=False)
        self._remember(steps)
        pull = self.workspace.catalogue.begin_pull(os.getpid())
        for table in wanted:
            keep(self.workspace, pull, self.change.system, table, after.looks[table], begun, Traffic())
        self.workspace.catalogue.end_pull(pull, "whole")

    def _remember(self, steps: Sequence[Step]) -> None:
        """Keep which record stands for which, for targets that have no field to say so."""
        self.workspace.catalogue.refer(
            (self.change.system, step.record_id, step.entry, step.source)
            for step in steps
            if step.action == "create" and step.record_id and step.entry and step.source
        )

    def _settle(self, outcomes: Sequence[tuple[Step, State, str | None, str | None]], *, ended: bool = True) -> None:
        if not outcomes:
            return
        self.workspace.journal.settled(self.number, outcomes)
        if ended:
            self.ended += len(outcomes)
            if self.progress:
                self.progress(self.ended, len(self.open))


def _pause(error: WireError) -> float:
    """Seconds until a look: what was under way when the line was cut must have had time to arrive."""
    if isinstance(error, ServerFault):
        return min(error.wait or 0.0, 60.0)
    return 1.0 if isinstance(error, Unreachable) else 0.0


def _verdict(step: Step, record: dict[str, Any] | None) -> tuple[State, str | None]:
    if record is None:
        return "differs", "read back: the record is not there"
    wrong = [
        f"{name} is {record.get(name)}, not {value}"
        for name, value in step.shall.items()
        if name in record and not same(record[name], value)
    ]
    return ("differs", f"read back: {'; '.join(wrong)}") if wrong else ("confirmed", step.reason)


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
