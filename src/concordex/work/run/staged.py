"""What a system holds staged: looked at, put into effect, or taken back, by itself."""

from __future__ import annotations

from typing import TYPE_CHECKING

from concordex.change.reasons import Why, has
from concordex.change.steps import Change, Outcome, Step
from concordex.errors import CalledWrongly, ConcordexError
from concordex.parallel import completed
from concordex.wire.writing.records import commit
from concordex.wire.writing.staging import Pending, discard, pending
from concordex.work.run.guards import check_guards

if TYPE_CHECKING:
    from concordex.wire import dialect as d
    from concordex.work.workspace.base import BaseWorkspace


def staged(workspace: BaseWorkspace, system: str) -> list[Pending]:
    """What is staged in a system, by anybody."""
    if _staging(workspace, system).pending is None:
        raise CalledWrongly(f"the dialect of {system} does not say how to ask what is staged")

    async def ask() -> list[Pending]:
        async with workspace.session(system) as session:
            return await pending(session)

    return completed(ask())


def waiting(workspace: BaseWorkspace, system: str) -> dict[int, list[Step]]:
    """The changes that wait for their commit in a system, the oldest first, and the steps of each that are staged."""
    numbers = [row["id"] for row in workspace.journal.changes() if (row["system"], row["state"]) == (system, "staged")]
    return {
        number: [step for step in workspace.journal.change(number).steps if has(step.why, Why.STAGED)]
        for number in sorted(numbers)
    }


def put_into_effect(workspace: BaseWorkspace, system: str, *, any_time: bool = False) -> None:
    """Commit what our user has staged in a system and no change of ours knows of."""
    workspace.allowed.require("run", system)
    staging = _staging(workspace, system)
    check_guards(workspace, Change(kind="config", system=system, steps=()), any_time=any_time)
    writes = [table.write for table in workspace.dialect(system).tables.values() if table.write]
    how = next((write.commit for write in writes if write.commit), None)
    if how is None:
        raise CalledWrongly(f"the dialect of {system} does not say how to commit")

    async def send(how: d.Send) -> list[Pending]:
        async with workspace.session(system) as session:
            await commit(session, how)
            return await pending(session) if staging.ours else []

    _check_none(system, completed(send(how)))


def take_back(workspace: BaseWorkspace, system: str) -> list[int]:
    """Take back what our user has staged in a system; the changes that can be run again."""
    workspace.allowed.require("run", system)
    if _staging(workspace, system).discard is None:
        raise CalledWrongly(f"the dialect of {system} does not say how what is staged is taken back")
    check_guards(workspace, Change(kind="config", system=system, steps=()), any_time=True)

    async def send() -> list[Pending]:
        async with workspace.session(system) as session:
            return await discard(session)

    _check_none(system, completed(send()))
    staged = waiting(workspace, system)
    for number, steps in staged.items():
        workspace.journal.settled(number, [Outcome(step, "ready") for step in steps])
        workspace.journal.end(number, "stopped")
    return list(staged)


def _staging(workspace: BaseWorkspace, system: str) -> d.Staging:
    workspace.target(system)
    staging = workspace.dialect(system).staging
    if staging is None:
        raise CalledWrongly(f"{system} stages nothing: it takes each write at once")
    return staging


def _check_none(system: str, left: list[Pending]) -> None:
    ours = [step for step in left if step.ours]
    if ours:
        raise ConcordexError(f"{system} still has {len(ours):,} staged of this user's, such as {ours[0].what}")
