"""Running a change: each step is written down, sent once, read back, and compared."""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import Callable, Collection, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from concordex.change.batches import stages
from concordex.change.compare import verdict
from concordex.change.steps import Change, State, Step
from concordex.errors import CalledWrongly, ConcordexError
from concordex.wire.session import Session, Traffic
from concordex.work.guards import check_guards
from concordex.work.processes import is_alive
from concordex.work.pull import keep
from concordex.work.sending import Outcome, Sender
from concordex.work.target import Actual, tables_for

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
    most: int | None = None,
    regardless: bool = False,
    any_time: bool = False,
) -> Change:
    """Run what is still open of a change; the change as it stands afterwards.

    ``only`` names steps by their numbers; ``most`` is how many records go in one request, at the most;
    ``regardless`` overwrites what others have altered since it was prepared; ``any_time`` runs outside
    the maintenance windows too.  A step that was cut off is looked up before it is sent again.
    Interrupted, the change is called stopped and can be run again.
    """
    change = workspace.journal.change(number)
    steps = [step for step in change.writes if only is None or step.number in only]
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
        else:
            asyncio.run(_Run(workspace, change, steps, progress, most=most, regardless=regardless).all())
        after = workspace.journal.change(number)
        if all(s.state in ("confirmed", "held") for s in after.steps):
            state = "done"
        else:
            chosen = {step.number for step in steps}
            left = [s for s in after.steps if s.state not in ("confirmed", "held") and s.number in chosen]
            state = "incomplete" if left else "partly"
    except ConcordexError:
        state = "incomplete"
        raise
    finally:
        workspace.journal.end(number, state)
    return replace(after, state=state)


class _Run:
    """One run of one change."""

    def __init__(
        self,
        workspace: Workspace,
        change: Change,
        steps: Sequence[Step],
        progress: Progress | None,
        *,
        most: int | None,
        regardless: bool,
    ) -> None:
        assert change.number is not None
        self.workspace, self.change, self.number = workspace, change, change.number
        self.dialect = workspace.dialect(change.system)
        self.progress, self.steps, self.ended = progress, steps, 0
        self.most, self.regardless = most, regardless

    async def all(self) -> None:
        """Look at the target, send each stage in its order, read it back."""
        tables = list(dict.fromkeys(step.table for step in self.steps))
        async with self.workspace.session(self.change.system) as session:
            actual = Actual(session)
            await actual.read(tables_for(self.dialect, tables))
            sender = Sender(
                session, actual, self.workspace.journal, self.number, self._told,
                most=self.most, regardless=self.regardless,
            )  # fmt: skip
            for steps in stages(self.steps):
                await sender.stage(steps)
            await self._read_back(session, sender, tables)

    def _told(self, count: int) -> None:
        self.ended += count
        if self.progress:
            self.progress(self.ended, len(self.steps))

    async def _read_back(self, session: Session, sender: Sender, tables: Sequence[str]) -> None:
        """Read the tables again, compare every written step, and keep what was read as a pull."""
        begun = time.monotonic()
        after = Actual(session)
        wanted = tables_for(self.dialect, tables)
        await after.read(wanted)
        steps = [sender.written[number] for number in sorted(sender.written)]
        settled, became = list[Outcome](), []
        for table in tables:
            mine = [step for step in steps if step.table == table]
            records = after.records(table, [step.record_id for step in mine if step.record_id])
            for step in mine:
                record = records.get(step.record_id or "")
                settled.append((step, *_verdict(step, record), None))
                if record is not None:
                    became.append((step, {name: record.get(name) for name in step.shall if name in record}))
        self.workspace.journal.became(self.number, became)
        sender.settle(settled, ended=False)
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
        gone = [step.record_id for step in steps if step.action == "delete" and step.record_id]
        self.workspace.catalogue.forget(self.change.system, gone)


def _verdict(step: Step, record: dict[str, Any] | None) -> tuple[State, str | None]:
    if step.action == "delete":
        return ("confirmed", step.reason) if record is None else ("differs", "read back: the record is still there")
    if record is None:
        return "differs", "read back: the record is not there"
    wrong, own = verdict(step.shall, step.was, record)
    if wrong:
        return "differs", f"read back: {'; '.join(wrong)}"
    return "confirmed", "; ".join(filter(None, [step.reason, *own])) or None
