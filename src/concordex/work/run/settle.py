"""A person's word on a step whose outcome nobody knows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from concordex.change.reasons import Why, because
from concordex.change.run_options import RunOptions
from concordex.change.steps import Change, Outcome, State
from concordex.errors import CalledWrongly
from concordex.work.run.run import came_to

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


def settle(workspace: BaseWorkspace, number: int, step: int, *, done: bool) -> Change:
    """Take a person's word that an unknown step was done or not; the change as it stands then.

    An act that was done is confirmed by it, since nothing can be read back; another step is then read back by the
    next run.  What was not done is sent by the next run.
    """
    system = workspace.change(number).system
    workspace.allowed.require("run", system)
    with workspace.locks.held(system, number, str(workspace.signature()["by"])):
        change = workspace.change(number)
        unsettled = next((candidate for candidate in change.steps if candidate.number == step), None)
        if unsettled is None:
            raise CalledWrongly(f"change {number} has no step {step}", advice=f"concordex change show {number} --all")
        if unsettled.state not in ("unknown", "sent"):
            raise CalledWrongly(
                f"step {step} is {unsettled.state}: only what is unknown can be settled by a person's word"
            )
        state: State = ("confirmed" if unsettled.operation == "action" else "written") if done else "ready"
        why = because(Why.SETTLED, by=str(workspace.signature()["by"]), done=done)
        workspace.journal.settled(number, [Outcome(unsettled, state, why)])
        after = workspace.journal.change(number)
        workspace.journal.end(number, came_to(after, {candidate.number for candidate in after.steps}, RunOptions()))
        return workspace.journal.change(number)
