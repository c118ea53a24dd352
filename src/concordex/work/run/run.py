"""Running a change: each step is written down, sent once, read back, and compared."""

from __future__ import annotations

import os
from collections.abc import Collection, Sequence
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

from concordex.change.reasons import Why, because, has
from concordex.change.run_options import RunOptions
from concordex.change.steps import Change, Outcome, Step
from concordex.errors import CalledWrongly, ConcordexError, StoreError
from concordex.parallel import at_most, completed
from concordex.progress import Counted
from concordex.spans import span
from concordex.work.run.api_run import ApiRun
from concordex.work.run.guards import check_guards
from concordex.work.run.row_writer import run_rows
from concordex.work.run.second import check_agreed
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
    with workspace.locks.held(workspace.journal.system_of(number), number, by, wait):
        change = workspace.journal.change(number)  # as it stands now that nobody else runs it
        steps = [step for step in change.writes if only is None or step.number in only]
        check_staging(workspace, change, stage=how.stage, note=how.note)
        if change.state in ("done", "dropped") or not steps:
            raise CalledWrongly(f"change {number} has nothing left to do")
        workspace.allowed.require("run", change.system)
        check_agreed(workspace, change)
        check_guards(workspace, change, steps, any_time=any_time)
        workspace.journal.begin(number, os.getpid())
        workspace.journal.note(number, chosen=sorted(only or ()), how=how.lasting())
        with span("change", concordex__system=change.system, concordex__change=number, concordex__steps=len(steps)):
            return _run_steps(workspace, change, steps, progress, how)


def _run_steps(
    workspace: BaseWorkspace, change: Change, steps: Sequence[Step], progress: Counted | None, how: RunOptions
) -> Change:
    number, state = change.number or 0, "stopped"
    try:
        tally = _Tally(progress, len(steps))
        if change.system in workspace.config.targets:
            completed(run_rows(workspace, change, steps, how, tally))
        elif change.system in workspace.config.devices:
            completed(_on_devices(workspace, change, steps, how, tally))
        else:
            completed(ApiRun(workspace, change, steps, how, tally).through(workspace.session(change.system)))
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
    return "staged" if how.stage and all(has(step.why, Why.STAGED) for step in mine) else "incomplete"


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
    workspace: BaseWorkspace, change: Change, steps: Sequence[Step], how: RunOptions, tally: _Tally
) -> None:
    """Each device by itself; one that cannot be reached does not keep the others."""
    mine: dict[str, list[Step]] = {}
    for step in steps:
        mine.setdefault(step.at or "", []).append(step)

    async def on_device(address: str) -> None:
        running = ApiRun(workspace, change, mine[address], how, tally)
        try:
            await running.through(workspace.device_session(change.system, address))
        except ConcordexError as error:
            if isinstance(error, StoreError):
                raise
            left = [step for step in mine[address] if running.states.get(step.number, "ready") == "ready"]
            workspace.journal.settled(
                change.number or 0, [Outcome(step, "ready", because(Why.ERROR, text=str(error))) for step in left]
            )

    await at_most(AT_ONCE, [partial(on_device, address) for address in mine])
