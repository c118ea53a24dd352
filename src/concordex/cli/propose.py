"""A prepared change before its person: shown, kept, agreed to, run, told."""

from __future__ import annotations

import shlex
from collections.abc import Collection, Sequence
from typing import TYPE_CHECKING

from concordex.change.reasons import ALREADY, Why, has
from concordex.cli import draw
from concordex.cli.outcome import troubled
from concordex.cli.preview import STYLES, draw_change, summary
from concordex.cli.reasons import ready as in_words
from concordex.cli.reasons import why
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly
from concordex.model.scalars import parse_duration
from concordex.words import plural

if TYPE_CHECKING:
    from concordex import Workspace
    from concordex.change.run_options import RunOptions
    from concordex.change.steps import Change, Step
    from concordex.cli.change_options import ChangeOptions

#: How many that had to be waited for are told one by one.
_READY = 20
#: How many that are to be installed on devices, or are made without a secret, are told.
_ONWARD = 5
#: How many that did not work are told at once.
_WRONG = 40


def propose(here: Workspace, change: Change, answers: ChangeOptions, nothing: str) -> int:
    """Show a change, keep it, and run it if that is agreed to; ``nothing`` says that there is nothing to write."""
    if change.writes and (answers.stage or answers.note):
        here.check_staging(change, stage=answers.stage, note=answers.note)
    if change.writes:
        change = here.keep(change)
    if change.steps or answers.form:
        draw_change(change, answers.form, every=answers.every)
    if not change.writes and change.steps:
        draw.note(f"nothing can be written: {len(change.steps):,} held, each with its reason", "yellow")
        return Status.PARTLY
    if not change.writes:
        draw.note(f"nothing to do: {nothing}")
        return Status.DONE
    if change.about.objects:
        for text in here.objects.made_without(change)[:_ONWARD]:
            draw.note(text, "yellow")
    number = change.number or 0
    draw.note(f"change {number}: {summary(change)}{_resting_on(here, change)}{_as_one(here, change, answers)}")
    if answers.draft:
        draw.note(f"kept; to run it: concordex change run {number}")
        return Status.DONE
    here.check_guards(change, any_time=answers.any_time)
    chosen = {step.number for step in change.writes}
    if not agreed(change, answers, chosen):
        draw.note(f"not agreed; the change is kept: concordex change run {number}")
        return Status.STOPPED
    return run_and_tell(here, number, chosen, any_time=answers.any_time, how=answers.run_options(), wait=answers.wait)


def _as_one(here: Workspace, change: Change, answers: ChangeOptions) -> str:
    """Whether the steps come into effect at once, by a commit."""
    actions = all(step.operation == "action" for step in change.writes)  # what is done to devices is done at once
    if actions or change.system in here.config.targets:
        return ""
    dialect = here.dialect(change.system)
    writes = (dialect.tables[step.table].write for step in change.writes)
    if dialect.staging is None or not any(write and write.commit for write in writes):
        return ""
    return "; staged only, not committed" if answers.stage else "; staged first, then committed as one"


def _resting_on(here: Workspace, change: Change) -> str:
    """On which pull a change was prepared; a run looks again before it sends anything."""
    if change.kind in ("undo", "config", "install") or change.system not in here.config.systems:
        return ""
    tables = {step.table for step in change.steps}
    taken = [s.taken for s in here.memory.newest(system=change.system) if s.table in tables]
    return f"; {change.system} as it was pulled {draw.ago(min(taken), here.now())} ago" if taken else ""


def agreed(change: Change, answers: ChangeOptions, chosen: Collection[int]) -> bool:
    """Whether the person wants these steps; what cannot be taken back asks for their number."""
    steps = [step for step in change.writes if step.number in chosen]
    if _is_irreversible(change):
        count = answers.count if answers.count is not None else draw.ask_number(
            f"This cannot be taken back. How many records of {change.system} does it concern?"
        )  # fmt: skip
        if count != len(steps):
            draw.note(f"it concerns {plural(len(steps), 'record')}; say so with --count, or type the number", "yellow")
        return count == len(steps)
    return answers.yes or draw.ask(
        f"Run {plural(len(steps), 'step')} of change {change.number} against {change.system}?"
    )


def _is_irreversible(change: Change) -> bool:
    return change.about.irreversible or change.kind == "delete"


def run_and_tell(
    here: Workspace,
    number: int,
    chosen: Collection[int],
    *,
    part: bool = False,
    how: RunOptions | None = None,
    any_time: bool = False,
    wait: str | None = None,
) -> int:
    """Run ``chosen`` steps of a change, all that are open or a ``part``, with a progress bar; tell how it ended."""
    with draw.progress() as progress:
        try:
            done = here.run(
                number, lambda ended, of: progress(f"change {number}", ended, of), only=chosen if part else None,
                how=how, any_time=any_time, wait=_seconds(wait),
            )  # fmt: skip
        except KeyboardInterrupt:
            draw.note(f"stopped; to look at what arrived and go on: concordex change resume {number}", "yellow")
            return Status.STOPPED
    status = _tell(done, chosen)
    if done.about.objects:
        for address in here.objects.onward(done)[:_ONWARD]:
            draw.note(f"devices get it when it is installed: concordex config install {shlex.quote(address)}")
    return status


def _tell(done: Change, chosen: Collection[int]) -> int:
    mine = [step for step in done.steps if step.number in chosen]
    if done.state == "staged":
        draw.note(
            f"change {done.number} is staged in {done.system}: {plural(len(mine), 'step')}, not committed", "yellow"
        )
        draw.note(f"to commit it: concordex config commit {done.system}; to take it back: config unstage {done.system}")
        return Status.DONE
    if done.state != "partly":  # what could not be written from the beginning is told as well
        mine = [step for step in done.steps if step.number in chosen or step.state == "held"]
    wrong = [step for step in mine if troubled(step) or step.state in ("ready", "written")]
    draw_steps(wrong)
    _draw_ready(mine)
    confirmed = [step for step in mine if step.state == "confirmed"]
    word = "taken by the system" if done.kind == "action" else "written, read back and confirmed"
    state = "run in part" if done.state == "partly" else done.state
    already = sum(not step.sent and has(step.why, *ALREADY) for step in confirmed)  # by others
    text = f"{plural(len(confirmed) - already, 'step')} {word}" + (f"; {already:,} so already" if already else "")
    draw.note(f"change {done.number} is {state}: {text}", "" if wrong else "green")
    own = [step for step in confirmed if has(step.why, Why.OWN_WAY)]
    if own:
        draw.note(f"{len(own):,} of them the system wrote in its own way, such as: {own[0].label}: {why(own[0])}")
    if unread := [step for step in confirmed if has(step.why, Why.UNREAD)]:
        draw.note(f"of {len(unread):,} of them not all was read back, such as: {unread[0].label}: {why(unread[0])}")
    left = len([step for step in done.writes if step.number not in chosen and not troubled(step)])
    if left:
        draw.note(f"{plural(left, 'step')} left: concordex change run {done.number}")
    if wrong and not confirmed and any(has(step.why, Why.TAKEN_BACK) for step in wrong):
        draw.note(f"nothing of it is in effect; once that is mended: concordex change resume {done.number}")
    elif wrong:
        draw.note(f"not confirmed: {plural(len(wrong), 'step')}; concordex change show {done.number} --all tells why")
        _advise(done, wrong)
    return Status.PARTLY if wrong else Status.DONE


def draw_steps(steps: Sequence[Step]) -> None:
    """Steps with their reasons, the first of many."""
    if steps:
        rows = [[s.number, s.table, s.label, s.state, why(s)] for s in steps[:_WRONG]]
        draw.table(["step", "table", "record", "state", "why"], rows, right=["step"], styles=STYLES)
    if len(steps) > _WRONG:
        draw.note(f"and {len(steps) - _WRONG:,} more")


def _advise(done: Change, wrong: Sequence[Step]) -> None:
    """What a person does about steps of which nobody knows, and about those that can be tried again."""
    states = {step.state for step in wrong}
    number = done.number
    unknown = [step for step in wrong if step.state in ("unknown", "sent")]
    if unknown and any(step.operation != "action" for step in unknown):
        draw.note(
            f"unknown: it may have arrived. To look again: concordex change resume {number};"
            f" if it never did: concordex change resume {number} --send-again", "yellow"
        )  # fmt: skip
    if any(step.operation == "action" for step in unknown):
        draw.note(
            f"unknown actions are never done again by themselves: look there, then concordex change settle {number}"
            " STEP --done, or --not-done", "yellow"
        )  # fmt: skip
    if "doubled" in states:
        draw.note("doubled: more than one record bears the key; look there which one is to go", "yellow")
    if "differs" in states:
        draw.note(f"differs: look there, or take it back as far as that goes: concordex change undo {number}", "yellow")
    if {"refused", "ready"} & states or any(step.state == "held" and step.open for step in wrong):
        draw.note(f"once it is mended: concordex change resume {number}")


def _seconds(wait: str | None) -> float:
    if wait is None:
        return 0.0

    length = parse_duration(wait)
    if length is None:
        raise CalledWrongly(f"--wait {wait}: is not a duration", advice="such as 30s, 10m or 2h")
    return length.total_seconds()


def _draw_ready(steps: Sequence[Step]) -> None:
    """What came of records that had to be waited for."""

    ready = [(step, reason) for step in steps for reason in step.why if reason.why is Why.READY]
    if ready:
        rows = [[step.label, in_words(reason.facts) or "ready"] for step, reason in ready[:_READY]]
        draw.table(["record", "ready"], rows)
    if len(ready) > _READY:
        draw.note(f"and {len(ready) - _READY:,} more are ready")
