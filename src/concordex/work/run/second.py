"""Changes that a second person must agree to, as they are, before they are run."""

from __future__ import annotations

from typing import TYPE_CHECKING

from concordex.change.steps import Change
from concordex.errors import CalledWrongly, Stopped

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


def waits_for_second(workspace: BaseWorkspace, change: Change) -> bool:
    """Whether nobody but who prepared it has agreed to a change as it is, and somebody must."""
    if not workspace.allowed.needs_second(change.system):
        return False
    digest = workspace.record_of_changes.digest_of(change.number or 0)
    return not any(one["by"] != change.about.by and one["digest"] == digest for one in change.about.agreed)


def check_agreed(workspace: BaseWorkspace, change: Change) -> None:
    """Raise Stopped where a second person must agree first."""
    if waits_for_second(workspace, change):
        raise Stopped(
            f"change {change.number} waits for a second person: {change.about.by or 'somebody'} prepared it",
            advice=f"somebody else who may: concordex change agree {change.number}",
        )


def agree(workspace: BaseWorkspace, number: int) -> Change:
    """Agree to a change that somebody else prepared, as it is now; raises Stopped where that is not for this person."""
    change, who = workspace.change(number), workspace.allowed.who
    workspace.allowed.require("agree", change.system)
    if change.state in ("done", "dropped"):
        raise CalledWrongly(f"change {number} is {change.state}: there is nothing to agree to")
    if change.about.by in (who, ""):
        raise Stopped(f"{who} prepared change {number}: somebody else agrees to it", advice="concordex rights show")
    workspace.journal.agree(number, who)
    return workspace.change(number)
