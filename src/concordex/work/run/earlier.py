"""What other changes have sent: a record of which nobody knows whether it was made is not made a second time."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass
from functools import cached_property

from concordex.change.reasons import Reasons, Why, because, has
from concordex.change.steps import Outcome, Step
from concordex.work.run.precheck import Precheck
from concordex.work.targets.api_target import ApiTarget

#: Creations, each with the number of the change that sent it.
Sent = Sequence[tuple[int, Step]]


@dataclass
class Earlier:
    """Creations of other changes that have not come to what they should, as ``unsettled`` tells them.

    A record may be there all the same, under a key that the system has cut or altered.
    """

    actual: ApiTarget
    unsettled: Callable[[], Sent]

    def hold(self, checked: Precheck) -> None:
        """Hold creations of what another change has sent, until somebody knows what became of that."""
        if checked.ready and self._reasons:
            held = [(step, why) for step in checked.ready if (why := self._reasons.get(self._key(step)))]
            checked.settled += [Outcome(step, "held", why) for step, why in held]
            numbers = {step.number for step, _ in held}
            checked.ready = [step for step in checked.ready if step.number not in numbers]

    def _key(self, step: Step) -> tuple[str | None, str, Hashable]:
        return step.at, step.table, self.actual.natural_key(step)

    @cached_property
    def _reasons(self) -> dict[tuple[str | None, str, Hashable], Reasons]:
        """Why records are not made, by device, table and key."""
        reasons: dict[tuple[str | None, str, Hashable], Reasons] = {}
        for change, step in self.unsettled():
            if step.table not in self.actual.looks or self.actual.natural_key(step) is None:
                continue
            if has(step.why, Why.REFUSED_AND_DONE):  # that was seen, and is gone
                continue
            if step.state in ("sent", "unknown"):
                reasons[self._key(step)] = because(Why.SENT_EARLIER, change=change)
            elif self.actual.was_there(step.table, step.record_id):
                reasons[self._key(step)] = because(Why.MADE_EARLIER, change=change, record=step.record_id)
        return reasons
