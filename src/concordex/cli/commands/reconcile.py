"""``concordex reconcile``."""

from concordex.cli import draw
from concordex.cli.options import Form, workspace
from concordex.words import plural


def reconcile(form: Form = None) -> None:
    """Find out which records are the same device, and what a person should look at.

    Nothing is merged on evidence that cannot be shown: see `concordex explain`.

    Example: concordex reconcile
    """
    from concordex.cli.rows import emit_rows
    from concordex.work.concordance import make

    with draw.progress() as told:
        made = make(workspace(), lambda done, of: told("reconcile", done, of))
    rows = [
        {
            "system": name, "records": counts["records"], "entries": counts["entries"],
            "of all": f"{counts['entries'] / max(made.entries, 1):.0%}", "only here": counts["only_here"],
        }
        for name, counts in made.systems.items()
    ]  # fmt: skip
    emit_rows(rows, form, None)
    draw.note(f"{plural(made.records, 'record')}, {plural(made.entries, 'entry', 'entries')}")
    found = ", ".join(f"{count:,} {kind.replace('_', ' ')}" for kind, count in made.findings.items())
    draw.note(f"findings: {found or 'none'}")
    for doubt in made.doubts:
        draw.note(doubt, "yellow")
