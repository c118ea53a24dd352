"""``concordex sync``."""

from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.commands.change import run_and_tell
from concordex.cli.options import Form, Where, complete_systems, workspace
from concordex.cli.preview import draw_change, summary
from concordex.cli.statuses import Status


def sync(
    system: Annotated[str, typer.Argument(help="The inventory to bring up to date.", autocompletion=complete_systems)],
    where: Where = None,
    draft: Annotated[bool, typer.Option("--draft", help="Keep the change for later; send nothing.")] = False,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Agree beforehand.")] = False,
    every: Annotated[bool, typer.Option("--all", help="Show every step.")] = False,
    form: Form = None,
) -> int:
    """Bring an inventory up to what the concordance says: preview, agree, write once, read back.

    References are created first and ids are looked up; what people own is not touched; what cannot
    be written is listed with the reason.  Exit status 4 when something was refused, 5 when not agreed.

    Examples:

    concordex sync stowage --draft

    concordex sync stowage --where 'site = "cobble-quay"' --yes
    """
    from concordex.work.sync import check_guards, prepare_sync

    here = workspace()
    prepared = prepare_sync(here, system, where)
    for text in prepared.notes:
        draw.note(text)
    change = prepared.change
    if change.writes:
        change = here.journal.keep(change)
    if change.steps or form:
        draw_change(change, form, every=every)
    if not change.writes:
        held = f"; {len(change.steps):,} held, each with its reason" if change.steps else ""
        draw.note(f"nothing to do: {system} is up to date{held}")
        return Status.DONE
    draw.note(f"change {change.number}: {summary(change)}")
    if draft:
        draw.note(f"kept; to run it: concordex change run {change.number}")
        return Status.DONE
    check_guards(here, change)
    if not yes and not draw.ask(f"Run change {change.number} against {system}?"):
        draw.note(f"not agreed; the change is kept: concordex change run {change.number}")
        return Status.STOPPED
    return run_and_tell(here, change.number or 0)
