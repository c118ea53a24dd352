"""What a rehearsal showed: how each step would end, what was refused, and what a copy cannot know."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection
from typing import TYPE_CHECKING

from concordex.change.reasons import ALREADY, has
from concordex.cli import draw
from concordex.cli.outcome import troubled
from concordex.cli.propose import draw_steps
from concordex.cli.statuses import Status
from concordex.words import plural

if TYPE_CHECKING:
    from datetime import datetime

    from concordex.wire.copy.route import Noted
    from concordex.work.rehearse.against_copy import Rehearsed

#: How many kinds of refusal, and of what is not told.
_TOLD = 10


def tell_rehearsal(shown: Rehearsed, chosen: Collection[int], now: datetime) -> int:
    """Tell how a change fared against a copy; the status says whether all of it would be written."""
    change, made = shown.change, shown.copy
    steps = [step for step in change.steps if step.number in chosen or step.state == "held"]
    wrong = [step for step in steps if troubled(step) or step.state in ("ready", "written")]
    draw_steps(wrong)
    confirmed = [step for step in steps if step.state == "confirmed"]
    already = sum(not step.sent and has(step.why, *ALREADY) for step in confirmed)
    states = Counter(step.state for step in wrong)
    word = "taken" if change.kind == "action" else "written, read back and confirmed"
    told = f"{plural(len(confirmed) - already, 'step')} {word}"
    told += f"; {already:,} so already" if already else ""
    told += "".join(f"; {count:,} {state}" for state, count in sorted(states.items()))
    age = draw.ago(made.taken[0], now)
    draw.note(
        f"rehearsed against a copy of {made.system}, as it was pulled {age} ago: {told}", "yellow" if wrong else "green"
    )
    for text in shown.left_out[:_TOLD]:
        draw.note(f"not rehearsed: {text}", "yellow")
    if made.doubtful:
        draw.note(f"not proved to be whole in that pull: {', '.join(made.doubtful)}", "yellow")
    number = change.number or 0
    draw.note(
        f"nothing was sent to {made.system}, and a rule that its dialect does not tell may still refuse something;"
        f" to run it: concordex change run {number}"
    )
    return Status.PARTLY if wrong else Status.DONE


def tell_copy(noted: Noted, system: str) -> None:
    """What a copy was asked while it was served."""
    draw.note(f"the copy of {system} ends: {plural(noted.requests, 'request')}, {plural(noted.writes, 'write')}")
    for text, count in noted.refused.most_common(_TOLD):
        draw.note(f"refused{_times(count)}: {text}")
    for text, count in noted.untold.most_common(_TOLD):
        draw.note(f"not told by its dialect{_times(count)}: {text}", "yellow")


def _times(count: int) -> str:
    return f" {count:,} times" if count > 1 else ""
