"""``concordex change``: prepared sets of writes."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Annotated

import typer

from concordex.cli import draw
from concordex.cli.options import Form, workspace
from concordex.cli.preview import STYLES, draw_change, summary
from concordex.cli.statuses import Status

if TYPE_CHECKING:
    from concordex.work import Workspace

change = typer.Typer(
    help="Prepared sets of writes: list them, look at them, run them.", no_args_is_help=True, rich_markup_mode=None
)
Number = Annotated[int, typer.Argument(help="The number of the change.")]


@change.command("list")
def list_changes(form: Form = None) -> None:
    """List the changes, newest first.

    Example: concordex change list
    """
    from concordex.cli.rows import emit_rows

    rows = [
        {
            "change": row["id"], "made": datetime.fromisoformat(row["made"]), "kind": row["kind"],
            "system": row["system"], "state": row["state"],
            "steps": ", ".join(f"{count:,} {state}" for state, count in sorted(row["steps"].items())),
        }
        for row in workspace().record_of_changes.changes()
    ]  # fmt: skip
    emit_rows(rows, form, None)


@change.command("show")
def show(
    number: Number,
    every: Annotated[bool, typer.Option("--all", help="Show every step.")] = False,
    form: Form = None,
) -> None:
    """Show a change: every step with what was, what shall be, and how it stands.

    Example: concordex change show 1
    """
    found = workspace().change(number)
    draw_change(found, form, every=every)
    draw.note(f"change {number} ({found.state}): {summary(found)}")


@change.command("run")
def run(
    number: Number,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Agree beforehand.")] = False,
) -> int:
    """Run what is still open of a change; what was cut off is looked up before it is sent again.

    Example: concordex change run 1 --yes
    """
    here = workspace()
    found = here.change(number)
    if not found.writes:
        draw.note(f"change {number} has nothing left to do")
        return Status.DONE
    if not yes:
        draw_change(found, None)
    if not yes and not draw.ask(f"Run {len(found.writes):,} steps of change {number} against {found.system}?"):
        draw.note("not agreed; nothing was sent")
        return Status.STOPPED
    return run_and_tell(here, number)


def run_and_tell(here: Workspace, number: int) -> int:
    """Run a change with a progress bar, and tell how it ended."""
    from concordex.work.run import run as run_change

    with draw.progress() as told:
        try:
            done = run_change(here, number, lambda ended, of: told(f"change {number}", ended, of))
        except KeyboardInterrupt:
            draw.note(f"stopped; to look at what arrived and go on: concordex change run {number}", "yellow")
            return Status.STOPPED
    troubled = [
        s
        for s in done.steps
        if s.state in ("refused", "differs", "sent", "ready") or (s.state == "held" and s.action != "report")
    ]
    if troubled:
        rows = [[s.number, s.table, s.label, s.state, s.reason] for s in troubled[:40]]
        draw.table(["step", "table", "record", "state", "why"], rows, right=["step"], styles=STYLES)
    confirmed = sum(step.state == "confirmed" for step in done.steps)
    draw.note(
        f"change {number} is {done.state}: {confirmed:,} steps written, read back and confirmed",
        "green" if not troubled else "yellow",
    )
    if troubled:
        draw.note(f"{len(troubled):,} steps were not: `concordex change show {number} --all` tells why of each")
    return Status.PARTLY if troubled else Status.DONE
