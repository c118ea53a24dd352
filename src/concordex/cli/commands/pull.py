"""``concordex pull``."""

from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.options import Form, Systems, complete_tables, words, workspace
from concordex.cli.statuses import Status

STATUSES = {
    "whole": Status.DONE,
    "partial": Status.PARTLY,
    "failed": Status.FAILED,
    "stopped": Status.STOPPED,
}
STYLES = {
    "whole": "green",
    "partial": "yellow",
    "failed": "bold red",
    "stopped": "yellow",
    "running": "cyan",
}


def pull(
    systems: Systems = None,
    table: Annotated[
        list[str] | None,
        typer.Option("--table", "-t", help="Only these tables.", autocompletion=complete_tables),
    ] = None,
    form: Form = None,
) -> int:
    """Fetch tables and keep them, each proved whole or called partial.

    What a system announced is compared with what came and with what was distinct.  Exit status 0 when
    all is whole, 4 when something is partial or failed, 1 when nothing came.

    Examples:

    concordex pull

    concordex pull muster fairlead --table devices
    """
    from concordex.cli.rows import emit_rows
    from concordex.work.pull import pull as fetch

    here = workspace()
    try:
        with draw.progress() as told:
            done = fetch(here, systems or [], words(table), lambda s, t, came, of: told(f"{s}/{t}", came, of))
    except KeyboardInterrupt:
        draw.note("stopped; what was finished is kept: concordex pulls", "yellow")
        return Status.STOPPED
    rows = [
        {
            "system": s.system, "table": s.table, "outcome": s.outcome, "announced": s.announced,
            "received": s.received, "distinct": s.distinct, "requests": s.requests, "retries": s.retries,
            "seconds": f"{s.seconds:.1f}",
        }
        for s in sorted(done.snapshots, key=lambda s: (s.system, s.table))
    ]  # fmt: skip
    emit_rows(rows, form, None, styles=STYLES)
    for snapshot in done.snapshots:
        where = f"{snapshot.system}/{snapshot.table}"
        if snapshot.fault:
            draw.note(f"{where}: {snapshot.fault.removeprefix(f'{snapshot.system}: ')}", STYLES[snapshot.outcome])
        for text in snapshot.notes:
            draw.note(f"{where}: {text}")
        if snapshot.lost:
            lost = ", ".join(f"{name} ({count})" for name, count in snapshot.lost.items())
            draw.note(f"{where}: values that could not be read, and are missing now: {lost}")
    return STATUSES[done.outcome]
