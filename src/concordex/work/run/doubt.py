"""Steps that were sent and whose answer does not say what was done: looked for, and unknown where they do not show."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from concordex.change.reasons import Reasons, Why, because, resting
from concordex.change.steps import Outcome, Step
from concordex.errors import WireError
from concordex.work.run.commits import Committer
from concordex.work.run.ledger import Ledger
from concordex.work.run.lookout import Lookout
from concordex.work.run.precheck import is_done
from concordex.work.targets.api_target import ApiTarget
from concordex.work.targets.records import writable


class Settlement:
    """Looks what a target shows of steps, and settles those that show; ``actual`` learns what each look found."""

    def __init__(self, actual: ApiTarget, ledger: Ledger, committer: Committer) -> None:
        self.actual, self.ledger, self.committer = actual, ledger, committer
        self.lookout = Lookout(actual)

    async def settle(self, steps: Sequence[Step], error: WireError) -> None:
        """After an answer that does not say what was done, look; what does not show is unknown, and not sent again."""
        try:
            left = await self.look(steps, because(Why.ERROR, text=error.what))
        except WireError as blind:
            left = [step for step in steps if not self.ledger.is_written(step)]
            why = (*because(Why.ERROR, text=str(error)), *because(Why.BLIND, text=str(blind)))
        else:
            why = because(Why.ERROR, text=str(error))
        self.ledger.settle([Outcome(step, "unknown", not_seen(why)) for step in left])

    async def look(self, steps: Sequence[Step], why: Reasons, since: float | None = None) -> list[Step]:
        """Steps that do not show at the system, however long it may take to settle; those that do are settled."""
        actions = [step for step in steps if step.operation == "action" and not self.actual.can_show(step)]
        rest = [step for step in steps if step not in actions]
        if not rest:
            return actions
        session = self.actual.session
        await self.committer.settle(writable(session.dialect, steps[0].table, session.endpoint.name))
        return actions + await self.lookout.until(rest, partial(self.seen, why), since)

    def seen(self, why: Reasons, now: ApiTarget, steps: Sequence[Step]) -> list[Step]:
        """Steps that do not show in a reading; those that do are written, although the system did not say so."""
        left, settled = [], list[Outcome]()
        if not steps:
            return []
        for step in steps:
            if step.operation == "create":
                there = now.bearers(step)
                if there:
                    only = there[0] if len(there) == 1 else None
                    settled.append(Outcome(step, "written", resting(Why.FOUND_MADE, why), only))
            elif is_done(now, step):
                settled.append(Outcome(step, "written", resting(Why.FOUND_DONE, why)))
                if step.operation == "delete":
                    self.actual.gone(step.table, [step.record_id or ""])
            if not settled or settled[-1].step is not step:
                left.append(step)
        self.actual.learn(now, steps[0].table)
        self.ledger.settle(settled)
        return left

    async def identify(self, steps: Sequence[Step]) -> None:
        """Look up the ids of records that were just made; what is not found by its key is unknown."""
        mine = [self.ledger.written[step.number] for step in steps if step.number in self.ledger.written]
        if not mine:
            return
        left = await self.lookout.until(mine, self._known_by_key)
        self.actual.forget(left)
        self.ledger.settle(
            [Outcome(step, "unknown", not_seen(because(Why.MADE_IT_SAYS))) for step in left], ended=False
        )

    def _known_by_key(self, now: ApiTarget, steps: Sequence[Step]) -> list[Step]:
        self.actual.learn(now, steps[0].table)
        return [step for step in steps if not now.bearers(step)]


def not_seen(why: Reasons) -> Reasons:
    """Why nobody knows whether a step was done."""
    return resting(Why.NOT_SEEN, why)
