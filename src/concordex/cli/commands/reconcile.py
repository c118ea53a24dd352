"""``concordex reconcile``."""

from typing import Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.options import OutputFormat, workspace
from concordex.cli.rows import emit_rows
from concordex.words import plural


def reconcile(
    relearn: Annotated[
        bool, typer.Option("--relearn", help="Learn the weights again, even if little has changed.")
    ] = False,
    form: OutputFormat = None,
) -> None:
    """Find out which records are the same device, and what a person should look at.

    Nothing is merged on evidence that cannot be shown: see `concordex explain`.

    Examples:

    concordex reconcile

    concordex reconcile --format json
    """

    with draw.progress() as progress:
        made = workspace().reconcile(lambda done, of: progress("reconcile", done, of), relearn=relearn)
    emit_rows([_row(name, counts, made.entries) for name, counts in made.systems.items()], form, None)
    again = f"; {made.looked_at:,} looked at again" if made.looked_at < made.records else ""
    draw.note(f"{plural(made.records, 'record')}, {plural(made.entries, 'entry', 'entries')}{again}")
    if made.changes:
        draw.note("since last time: " + ", ".join(f"{count:,} {what}" for what, count in made.changes.items()))
    text = ", ".join(f"{count:,} {kind.replace('_', ' ')}" for kind, count in made.findings.items())
    draw.note(f"findings: {text or 'none'}")
    for doubt in made.doubts:
        draw.note(doubt, "yellow")


def _row(name: str, counts: dict[str, Any], entries: int) -> dict[str, Any]:
    due = counts.get("due")
    return {
        "system": name, "records": counts["records"], "entries": counts["entries"],
        "of all": f"{counts['entries'] / max(entries, 1):.0%}",
        "of its scope": "" if due is None else f"{counts['due_known'] / max(due, 1):.0%} of {due:,}",
        "only here": counts["only_here"],
        "agrees": "" if counts["agreement"] is None else f"{counts['agreement']:.0%}",
    }  # fmt: skip
