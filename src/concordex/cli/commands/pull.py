"""``concordex pull``."""

from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING, Annotated

import typer

from concordex.cli import draw
from concordex.cli.options import Labels, OutputFormat, Systems, Tags, Where, chosen, complete_tables, words, workspace
from concordex.cli.rows import emit_rows
from concordex.cli.statuses import Status
from concordex.errors import Stopped
from concordex.words import plural

if TYPE_CHECKING:
    from concordex.store.catalogue import Snapshot

STATUSES = {
    "whole": Status.DONE,
    "unproven": Status.PARTLY,
    "partial": Status.PARTLY,
    "failed": Status.FAILED,
    "stopped": Status.STOPPED,
}
STYLES = {
    "whole": "green",
    "unproven": "yellow",
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
    where: Where = None,
    changed_only: Annotated[
        bool, typer.Option("--changed-only", help="Only what changed since the last pull, where the system can tell.")
    ] = False,
    accept_fall: Annotated[
        bool, typer.Option("--accept-fall", help="Believe lists that fell by more than the workspace allows.")
    ] = False,
    tag: Tags = None,
    label: Labels = None,
    form: OutputFormat = None,
) -> int:
    """Fetch tables and keep them, each proved whole, or called unproven or partial.

    The proof is a total that agrees with nothing past it, an end that was seen, or the word of the dialect.
    A list that fell by more than a third is partial until --accept-fall says that it is right.  With --where and
    --changed-only a part is fetched and put into what was there, so that it is still the whole.  Paused
    systems are left alone.  Exit status 0 when all is whole, 4 when something is not, 1
    when nothing came, 5 when it was stopped.

    Examples:

    concordex pull

    concordex pull muster fairlead --table devices

    concordex pull --tag quays --where 'kind = switch'

    concordex pull --changed-only
    """

    here, names = workspace(), chosen(systems, tag, label)
    draw_unverified(names)
    try:
        with draw.progress() as progress:
            done = here.pull(
                names, words(table), lambda s, t, came, of: progress(f"{s}/{t}", came, of), where=where,
                changed_only=changed_only, accept_fall=accept_fall,
            )  # fmt: skip
    except (KeyboardInterrupt, Stopped) as stopped:
        how = f"{stopped}; " if isinstance(stopped, Stopped) else "stopped; "
        draw.note(f"{how}what was finished is kept: concordex pulls", "yellow")
        return Status.STOPPED
    rows = [
        {
            "system": s.system, "table": s.table, "outcome": s.outcome, "proof": s.proof, "announced": s.announced,
            "received": s.received, "distinct": s.distinct, "requests": s.requests, "retries": s.retries,
            "seconds": f"{s.seconds:.1f}",
        }
        for s in sorted(done.snapshots, key=lambda s: (s.system, s.table))
    ]  # fmt: skip
    emit_rows(rows, form, None, styles=STYLES)
    _remark(done.snapshots)
    if len(done.snapshots) > 1:
        _sum_up(done.snapshots)
    if done.removed:
        draw.note(f"{done.removed} snapshots older than `keep:` says were removed")
    return STATUSES[done.outcome]


def _sum_up(snapshots: "Sequence[Snapshot]") -> None:
    """One line that says it all, for those whose table is longer than their screen."""
    counts = Counter(snapshot.outcome for snapshot in snapshots)
    text = ", ".join(f"{counts[outcome]} {outcome}" for outcome in STATUSES if counts[outcome])
    systems, records = len({s.system for s in snapshots}), sum(s.distinct for s in snapshots)
    worst = next((outcome for outcome in ("failed", "partial", "unproven") if counts[outcome]), "whole")
    tables = f"{plural(len(snapshots), 'table')} of {plural(systems, 'system')}"
    draw.note(f"{tables}: {text}; {plural(records, 'record')}", STYLES[worst])


def draw_unverified(names: list[str]) -> None:
    """Say which systems are spoken to without knowing who they are; every run says it."""
    here = workspace()
    loose = [n for n in here.systems(names) if not (tls := here.config.systems[n].tls).verify and not tls.fingerprint]
    if loose:
        draw.note(f"TLS is not verified for {', '.join(loose)}: anybody in between could answer for it", "bold yellow")


def _remark(snapshots: "Sequence[Snapshot]") -> None:
    """What is to be said of each; what is the same of several tables of a system, once."""
    faults, same = dict[tuple[str, str, str], list[str]](), dict[tuple[str, str], list[str]]()
    for taken in snapshots:
        if taken.fault:
            fault = taken.fault.removeprefix(f"{taken.system}: ")
            faults.setdefault((taken.system, taken.outcome, fault), []).append(taken.table)
        remarks = [*taken.notes, *(f"{count} left out: {rule}" for rule, count in taken.left_out.items())]
        if taken.lost:
            lost = ", ".join(f"{name} ({count})" for name, count in taken.lost.items())
            remarks.append(f"values that could not be read, and are missing now: {lost}")
        for text in remarks:
            same.setdefault((taken.system, text), []).append(taken.table)
    for (system, outcome, text), tables in faults.items():
        draw.note(f"{system}/{', '.join(tables)}: {text}", STYLES[outcome])
    for (system, text), tables in same.items():
        draw.note(f"{system}/{', '.join(tables)}: {text}")
    if doubtful := next((taken for taken in snapshots if taken.outcome == "unproven" and not taken.whole), None):
        known = f"systems: {doubtful.system}: trust: {{{doubtful.table}: unproven}}"
        draw.note(
            "nothing is called missing because of what is unproven; where you know that it is all, let the dialect"
        )
        draw.note(f"say why it is `complete`, or write into concordex.yaml: {known}")
