"""Running a change: each step is written down, sent once, read back, and compared."""

from __future__ import annotations

import os
from collections.abc import Awaitable, Callable, Collection, Sequence
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

from concordex.change.batches import stages
from concordex.change.run_options import RunOptions
from concordex.change.steps import Cause, Change, Outcome, State, Step
from concordex.errors import CalledWrongly, ConcordexError, Stopped, StoreError
from concordex.parallel import at_most, completed
from concordex.progress import Counted
from concordex.wire.http.session import Session
from concordex.wire.writing.staging import pending
from concordex.words import plural
from concordex.work.run.bodies import Bodies
from concordex.work.run.commits import Committer
from concordex.work.run.guards import check_guards
from concordex.work.run.ledger import Ledger
from concordex.work.run.precheck import AWAY
from concordex.work.run.readback import Before, ReadBack
from concordex.work.run.sender import Sender
from concordex.work.show.first_seen import seen_since
from concordex.work.targets.records import Actual
from concordex.work.workspace.devices import AT_ONCE

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


def run(
    workspace: BaseWorkspace,
    number: int,
    progress: Counted | None = None,
    *,
    only: Collection[int] | None = None,
    how: RunOptions | None = None,
    any_time: bool = False,
    wait: float = 0.0,
) -> Change:
    """Run what is still open of a change; the change as it stands afterwards.

    ``only`` names steps by their numbers; ``any_time`` runs outside the maintenance windows too; ``wait`` is for how
    many seconds to wait while another process writes to the system.  A step that was cut off is looked for, and not
    sent again.  Interrupted, the change is called stopped and can be run again, and what it was told is kept with it.
    """
    how = how or RunOptions()
    by = str(workspace.signature()["by"])
    with workspace.locks.held(workspace.journal.change(number).system, number, by, wait):
        change = workspace.journal.change(number)  # as it stands now that nobody else runs it
        steps = [step for step in change.writes if only is None or step.number in only]
        check_staging(workspace, change, stage=how.stage, note=how.note)
        if change.state in ("done", "dropped") or not steps:
            raise CalledWrongly(f"change {number} has nothing left to do")
        check_guards(workspace, change, steps, any_time=any_time)
        workspace.journal.begin(number, os.getpid())
        workspace.journal.note(number, chosen=sorted(only or ()), how=how.told())
        return _run_steps(workspace, change, steps, progress, how)


def _run_steps(
    workspace: BaseWorkspace, change: Change, steps: Sequence[Step], progress: Counted | None, how: RunOptions
) -> Change:
    number, state = change.number or 0, "stopped"
    try:
        if change.system in workspace.config.targets:
            from concordex.work.targets.databases import run_target

            run_target(workspace, change, steps, progress)
        elif change.system in workspace.config.devices:
            completed(_on_devices(workspace, change, steps, _Tally(progress, len(steps)), how))
        else:
            running = _Run(workspace, change, steps, _Tally(progress, len(steps)), how)
            completed(running.all(workspace.session(change.system)))
        after = workspace.journal.change(number)
        state = came_to(after, {step.number for step in steps}, how)
    except ConcordexError:
        state = "incomplete"
        raise
    finally:
        workspace.journal.end(number, state)
    return replace(after, state=state)


def came_to(change: Change, chosen: Collection[int], how: RunOptions) -> str:
    """How a change stands after a run of the ``chosen`` steps."""
    left = [step for step in change.steps if step.state != "confirmed"]
    mine = [step for step in left if step.number in chosen]
    if not left:
        return "done"
    if not mine:
        return "partly" if any(step.open for step in left) else "incomplete"
    return "staged" if how.stage and all(Cause.STAGED in step.causes for step in mine) else "incomplete"


def check_staging(workspace: BaseWorkspace, change: Change, *, stage: bool, note: str | None) -> None:
    """Raise CalledWrongly where a change cannot be left staged, or nothing takes its note; and say why."""
    dialect = None if change.system in workspace.config.targets else workspace.dialect(change.system)
    staging = dialect.staging if dialect else None
    if stage and staging is None:
        raise CalledWrongly(f"nothing can be left staged in {change.system}: it takes each write at once")
    if stage and staging and not staging.outlasts_session:
        raise CalledWrongly(f"nothing can be left staged in {change.system}: what a session stages ends with it")
    if note is None:
        return
    writes = [dialect.tables[table].write for table in {step.table for step in change.writes}] if dialect else []
    if not any(write and write.commit and "{note}" in write.commit.model_dump_json() for write in writes):
        raise CalledWrongly(
            f"{change.system} takes no note with what it is given",
            advice=f"leave --note out; change list says who prepared change {change.number or ''}".rstrip(),
        )


class _Tally:
    """Counts the steps that have ended, and tells."""

    def __init__(self, progress: Counted | None, of: int) -> None:
        self.progress, self.ended, self.of = progress, 0, of
        self(0)  # a system that is long silent is seen to be waited for

    def __call__(self, count: int) -> None:
        self.ended += count
        if self.progress:
            self.progress(self.ended, self.of)


async def _on_devices(
    workspace: BaseWorkspace, change: Change, steps: Sequence[Step], told: _Tally, how: RunOptions
) -> None:
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
            workspace.journal.settled(running.number, [Outcome(step, "ready", str(error)) for step in left])

    await at_most(AT_ONCE, [partial(one, address) for address in mine])


class _Run:
    """One run of steps against one system, or one device."""

    def __init__(
        self, workspace: BaseWorkspace, change: Change, steps: Sequence[Step], told: _Tally, how: RunOptions
    ) -> None:
        assert change.number is not None
        self.workspace, self.change, self.number = workspace, change, change.number
        self.dialect = workspace.dialect(change.system)
        as_one = self.dialect.staging is not None
        self.told, self.steps = told, steps
        by_field = change.kind == "undo"
        self.how = replace(how, as_one=as_one, all_of_it=change.about.objects, field_by_field=by_field)
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
            before = Before.of(actual, self.steps)
            referred = {name for table in tables for name in actual.needed([table]) if name != table}
            sender = self._sender(session, actual)
            try:
                for steps in stages(self.steps, together):
                    several = len({step.table for step in steps}) > 1
                    for layer in [steps] if several else actual.layers(steps):
                        if not sender.ended:
                            await sender.stage(layer)
                    if not several and steps[0].operation == "create" and steps[0].table in referred:
                        await sender.identify(steps)
                await sender.finish()
            except ConcordexError:
                await sender.committer.abandon()
                raise
            if not any(Cause.STAGED in step.causes for step in sender.ledger.written.values()):
                back = ReadBack(self.workspace, self.change, self._actual(session), sender, before)
                try:
                    await back.compare(tables)
                except ConcordexError:
                    if sender.ended is None:
                        raise
            if sender.ended:
                raise sender.ended

    def _sender(self, session: Session, actual: Actual) -> Sender:
        committer = Committer(session, as_one=self.how.as_one, note=self.how.note or f"change {self.number}")
        ledger = Ledger(self.workspace.journal, self.number, self.dialect, committer, self.states, self.told)
        bodies = Bodies(
            actual, partial(self.workspace.secrets.of_row, name=self.change.system), self.change.about.token or None
        )
        since = None if self.change.about.objects else partial(seen_since, self.workspace, self.change.system)
        return Sender(bodies, ledger, self.how, asks=self._asks(), since=since)

    def _asks(self) -> Callable[[Sequence[Step]], Awaitable[list[Step | str]]] | None:
        """What devices are asked for just before each step, where the change says so."""
        asks = self.change.about.asks
        if not asks:
            return None
        from concordex.work.change.onboarding import asked_again

        once = self.change.about.once
        return partial(asked_again, self.workspace, asks["devices"], asks["table"], asks["at"], once)

    async def _alone(self, session: Session) -> None:
        """Raise Stopped where we have staged something else: a commit would put that into effect too."""
        commits = any((write := self.dialect.tables[step.table].write) and write.commit for step in self.steps)
        if not commits or any(step.state in AWAY for step in self.change.steps):
            return  # what is staged is, or may be, of this change
        others = [one for one in await pending(session) if one.ours]
        if others:
            raise Stopped(
                f"{self.change.system} holds {plural(len(others), 'thing')} that we have staged and not committed,"
                f" such as {others[0].what} (since {others[0].since}): a commit would take it along",
                advice=f"concordex config commit {self.change.system}, or config unstage {self.change.system}",
            )

    def _actual(self, session: Session) -> Actual:
        if self.change.about.objects:
            from concordex.work.objects.live import ActualObjects

            return ActualObjects(session)
        return Actual(session)
