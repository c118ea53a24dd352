"""Running a change: each step is written down, sent once, read back, and compared."""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import Callable, Collection, Sequence
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING, Any

from concordex.change.batches import stages
from concordex.change.steps import Change, State, Step
from concordex.errors import CalledWrongly, ConcordexError, Stopped, StoreError
from concordex.wire.session import Session, Traffic
from concordex.wire.staging import pending
from concordex.words import plural
from concordex.work.concurrent import at_most
from concordex.work.devices import AT_ONCE
from concordex.work.guards import check_guards
from concordex.work.outcomes import outcome_of
from concordex.work.processes import is_alive
from concordex.work.pull import keep
from concordex.work.ready import until_ready
from concordex.work.sending import STAGED, How, Outcome, Sender
from concordex.work.target import Actual

if TYPE_CHECKING:
    from concordex.work.workspace import Workspace

#: Told as steps end: how many have, and of how many.
Progress = Callable[[int, int], None]


def run(
    workspace: Workspace,
    number: int,
    progress: Progress | None = None,
    *,
    only: Collection[int] | None = None,
    how: How | None = None,
    any_time: bool = False,
) -> Change:
    """Run what is still open of a change; the change as it stands afterwards.

    ``only`` names steps by their numbers; ``any_time`` runs outside the maintenance windows too.  A step
    that was cut off is looked up before it is sent again.  Interrupted, the change is called stopped and
    can be run again.
    """
    how = how or How()
    change = workspace.journal.change(number)
    steps = [step for step in change.writes if only is None or step.number in only]
    if how.stage:
        check_staging(workspace, change)
    if change.state in ("done", "dropped") or not steps:
        raise CalledWrongly(f"change {number} has nothing left to do")
    check_guards(workspace, change, steps, any_time=any_time)
    workspace.journal.begin(number, os.getpid(), is_alive(workspace.journal.runner(number)))
    if only is not None or change.about.get("chosen"):
        workspace.journal.chose(number, sorted(only or ()))
    state = "stopped"
    try:
        if change.system in workspace.config.outlets:
            from concordex.work.outlets import run_outlet

            run_outlet(workspace, change, steps, progress)
        elif change.system in workspace.config.devices:
            asyncio.run(_on_devices(workspace, change, steps, _Tally(progress, len(steps)), how))
        else:
            running = _Run(workspace, change, steps, _Tally(progress, len(steps)), how)
            asyncio.run(running.all(workspace.session(change.system)))
        after = workspace.journal.change(number)
        state = _came_to(after, {step.number for step in steps}, how)
    except ConcordexError:
        state = "incomplete"
        raise
    finally:
        workspace.journal.end(number, state)
    return replace(after, state=state)


def _came_to(change: Change, chosen: Collection[int], how: How) -> str:
    """How a change stands after a run of the ``chosen`` steps."""
    left = [step for step in change.steps if step.state not in ("confirmed", "held")]
    mine = [step for step in left if step.number in chosen]
    if not left:
        return "done"
    if not mine:
        return "partly"
    return "staged" if how.stage and all(step.reason == STAGED for step in mine) else "incomplete"


def check_staging(workspace: Workspace, change: Change) -> None:
    """Raise CalledWrongly where a change cannot be left staged, and say why."""
    staging = None if change.system in workspace.config.outlets else workspace.dialect(change.system).staging
    if staging is None:
        why = "it takes each write at once"
    elif not staging.outlasts_session:
        why = "what a session stages ends with it"
    elif not change.about.get("objects"):
        why = "only configuration objects are staged as one"
    else:
        return
    raise CalledWrongly(f"nothing can be left staged in {change.system}: {why}")


class _Tally:
    """Counts the steps that have ended, and tells."""

    def __init__(self, progress: Progress | None, of: int) -> None:
        self.progress, self.ended, self.of = progress, 0, of

    def __call__(self, count: int) -> None:
        self.ended += count
        if self.progress:
            self.progress(self.ended, self.of)


async def _on_devices(workspace: Workspace, change: Change, steps: Sequence[Step], told: _Tally, how: How) -> None:
    """Each device by itself; one that cannot be reached does not keep the others."""
    mine: dict[str, list[Step]] = {}
    for step in steps:
        mine.setdefault(step.at or "", []).append(step)

    async def one(address: str) -> None:
        running = _Run(workspace, change, mine[address], told, how)
        try:
            await running.all(workspace.device_session(change.system, address))
        except ConcordexError as error:
            if isinstance(error, StoreError):
                raise
            left = [step for step in mine[address] if running.states.get(step.number, "ready") == "ready"]
            workspace.journal.settled(running.number, [(step, "ready", str(error), None) for step in left])

    await at_most(AT_ONCE, [partial(one, address) for address in mine])


class _Run:
    """One run of steps against one system, or one device."""

    def __init__(self, workspace: Workspace, change: Change, steps: Sequence[Step], told: _Tally, how: How) -> None:
        assert change.number is not None
        self.workspace, self.change, self.number = workspace, change, change.number
        self.dialect = workspace.dialect(change.system)
        as_one = bool(change.about.get("objects")) and self.dialect.staging is not None
        self.told, self.steps, self.how = told, steps, replace(how, as_one=as_one)
        #: How steps stand that were settled in this run.
        self.states: dict[int, State] = {}

    async def all(self, entering: Session) -> None:
        """Look at the target, send each stage in its order, read it back."""
        tables = list(dict.fromkeys(step.table for step in self.steps))
        together = self.dialect.together.tables if self.dialect.together and self.how.together else ()
        async with entering as session:
            await self._alone(session)
            actual = self._actual(session)
            await actual.read(actual.needed(tables))
            sender = Sender(session, actual, self.workspace.journal, self.number, self.told, self.how, self.states)
            try:
                for steps in stages(self.steps, together):
                    several = len({step.table for step in steps}) > 1
                    for layer in [steps] if several else actual.layers(steps):
                        await sender.stage(layer)
                await sender.finish()
            except ConcordexError:
                await sender.committer.abandon()
                raise
            if not any(step.reason == STAGED for step in sender.written.values()):
                await self._read_back(session, sender, tables)

    async def _alone(self, session: Session) -> None:
        """Raise Stopped where we have staged something else: a commit would put that into effect too."""
        commits = any((write := self.dialect.tables[step.table].write) and write.commit for step in self.steps)
        if not commits or any(step.state in ("sent", "written") for step in self.change.steps):
            return  # what is staged is, or may be, of this change
        others = [one for one in await pending(session) if one.ours]
        if others:
            raise Stopped(
                f"{self.change.system} holds {plural(len(others), 'thing')} that we have staged and not committed,"
                f" such as {others[0].what} (since {others[0].since}): a commit would take it along",
                advice=f"concordex config commit {self.change.system}, or config unstage {self.change.system}",
            )

    def _actual(self, session: Session) -> Actual:
        if self.change.about.get("objects"):
            from concordex.work.objects import ActualObjects

            return ActualObjects(session)
        return Actual(session)

    async def _read_back(self, session: Session, sender: Sender, tables: Sequence[str]) -> None:
        """Read the tables again, compare every written step, and keep what was read as a pull."""
        begun = time.monotonic()
        after = self._actual(session)
        wanted = after.needed(tables)
        await after.read(wanted)
        steps = [sender.written[number] for number in sorted(sender.written)]
        settled, became = list[Outcome](), []
        for table in tables:
            mine = [after.located(s) if s.action == "update" else s for s in steps if s.table == table]
            waited = await until_ready(session, after, table, mine, self.workspace.now())
            records = after.records(table, [step.record_id for step in mine if step.record_id])
            write = self.dialect.tables[table].write
            spent = {name for name, spec in write.fields.items() if spec.once} if write else set()
            for step in mine:
                record = records.get(step.record_id or "")
                shown = replace(step, shall={n: v for n, v in step.shall.items() if n not in spent}) if spent else step
                settled.append((step, *_judged(after, shown, record, waited.get(step.number)), None))
                if record is not None:
                    became.append((step, {name: record.get(name) for name in step.shall if name in record}))
        self.workspace.journal.became(self.number, became)
        sender.settle(settled, ended=False)
        if self.workspace.is_device(self.change.system):
            return
        self._remember(steps)
        pull = self.workspace.catalogue.begin_pull(os.getpid())
        for table in wanted:
            keep(self.workspace, pull, self.change.system, table, after.looks[table], begun, Traffic())
        self.workspace.catalogue.end_pull(pull, outcome_of(self.workspace.catalogue.snapshots_of(pull)))

    def _remember(self, steps: Sequence[Step]) -> None:
        """Keep which record stands for which, for targets that have no field to say so."""
        self.workspace.catalogue.refer(
            (self.change.system, step.record_id, step.entry, step.source)
            for step in steps
            if step.action == "create" and step.record_id and step.entry and step.source
        )
        gone = [step.record_id for step in steps if step.action == "delete" and step.record_id]
        self.workspace.catalogue.forget(self.change.system, gone)


def _judged(
    after: Actual, step: Step, record: dict[str, Any] | None, waited: tuple[bool, str] | None
) -> tuple[State, str | None]:
    """What became of a written step: as it was read back, and once it was really there."""
    state, reason = _verdict(after, step, record)
    if waited is None or state != "confirmed":
        return state, reason
    is_ready, words = waited
    return ("confirmed" if is_ready else "differs"), "; ".join(filter(None, [words, reason]))


def _shown(after: Actual, step: Step) -> tuple[State, str | None]:
    """What became of an act whose target should show it."""
    wrong = after.shows(step)
    return ("differs", f"read back: {wrong}") if wrong else ("confirmed", step.reason)


def _verdict(after: Actual, step: Step, record: dict[str, Any] | None) -> tuple[State, str | None]:
    if step.action == "act":
        return _shown(after, step)
    if step.action == "delete":
        return ("confirmed", step.reason) if record is None else ("differs", "read back: the record is still there")
    if record is None:
        return "differs", "read back: the record is not there"
    wrong, own = after.verdict(step, record)
    if wrong:
        return "differs", f"read back: {'; '.join(wrong)}"
    return "confirmed", "; ".join(filter(None, [step.reason, *own])) or None
