"""What a system holds staged: looked at, committed, taken back."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from concordex.cli import draw
from concordex.cli.change_options import AnyTime, Yes
from concordex.cli.commands.config.choose import System
from concordex.cli.options import Columns, Limit, Output, OutputFormat, words, workspace
from concordex.cli.propose import run_and_tell
from concordex.cli.rows import emit_rows
from concordex.cli.statuses import Status

if TYPE_CHECKING:
    from concordex.wire.writing.staging import Pending


def pending(
    system: System, limit: Limit = None, columns: Columns = None, form: OutputFormat = None, output: Output = None
) -> int:
    """What is staged in a system and not committed: by whom, and since when.  Exit status 3 if anything is.

    Example: concordex config pending bollard
    """
    staged = workspace().staged(system)
    if staged or form or output:
        emit_rows(_rows(staged), form, output, columns=words(columns), limit=limit)
    draw.note(f"{len(staged):,} staged and not committed in {system}" if staged else f"nothing is staged in {system}")
    return Status.FOUND if staged else Status.DONE


def commit(system: System, yes: Yes = False, any_time: AnyTime = False) -> int:
    """Put into effect what is staged in a system by this user; changes that were staged are read back.

    Example: concordex config commit bollard
    """

    here = workspace()
    ours = [staged for staged in here.staged(system) if staged.ours]
    changes = here.waiting(system)
    if not ours and not changes:
        draw.note(f"nothing of yours is staged in {system}")
        return Status.DONE
    _draw_staged(ours)
    of_changes = f" (of {', '.join(f'change {number}' for number in changes)})" if changes else ""
    if not (yes or draw.ask(f"Commit this in {system}?{of_changes}")):
        draw.note("not agreed; it remains staged")
        return Status.STOPPED
    if not changes:
        here.commit(system, any_time=any_time)
        draw.note(f"{len(ours):,} committed in {system}", "green")
        return Status.DONE
    ended = []
    for number, steps in changes.items():
        chosen = {step.number for step in steps}
        part = len(chosen) < len(here.change(number).writes)
        ended.append(run_and_tell(here, number, chosen, part=part, any_time=any_time))
    return max(ended)


def unstage(system: System, yes: Yes = False) -> int:
    """Take back what is staged in a system by this user; nothing of it comes into effect.

    Example: concordex config unstage bollard
    """
    here = workspace()
    ours = [staged for staged in here.staged(system) if staged.ours]
    if not ours and not here.waiting(system):
        draw.note(f"nothing of yours is staged in {system}")
        return Status.DONE
    _draw_staged(ours)
    if not (yes or draw.ask(f"Take this back in {system}?")):
        draw.note("not agreed; it remains staged")
        return Status.STOPPED
    changes = here.unstage(system)
    draw.note(f"{len(ours):,} taken back in {system}", "green")
    for number in changes:
        draw.note(f"change {number} can be run again: concordex change run {number}")
    return Status.DONE


def _draw_staged(staged: list[Pending]) -> None:
    if staged:
        emit_rows(_rows(staged), None, None)


def _rows(staged: list[Pending]) -> list[dict[str, Any]]:
    return [{"who": step.who, "ours": step.ours, "since": step.since, "what": step.what} for step in staged]
