"""``concordex pull``."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from concordex.cli import draw
from concordex.cli.options import Labels, OutputFormat, Systems, Tags, Where, chosen, complete_tables, words, workspace
from concordex.cli.rows import emit_rows
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly, Stopped
from concordex.words import plural

if TYPE_CHECKING:
    from concordex import Workspace
    from concordex.store.catalogue import Snapshot
    from concordex.work.pull.pull import Pull

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
    record: Annotated[
        Path | None, typer.Option("--record", help="Keep what is sent, without secrets, in this new folder (HAR).")
    ] = None,
    anonymise: Annotated[
        bool, typer.Option("--anonymise", help="With --record: other names, serials and addresses of the same form.")
    ] = False,
    replay: Annotated[
        Path | None, typer.Option("--replay", help="Ask no system, but recordings; kept apart from real pulls.")
    ] = None,
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

    concordex pull muster --record for-a-colleague --anonymise

    concordex pull --replay for-a-colleague
    """

    if anonymise and record is None:
        raise CalledWrongly("--anonymise is about a recording", advice="--record DIR as well")
    if replay is not None and (record or where or changed_only):
        raise CalledWrongly("--replay answers what was asked when it was recorded, and nothing else")
    here = workspace()
    names = words(systems) if replay is not None else chosen(systems, tag, label)
    fetch: _Fetch
    if replay is not None:
        fetch = partial(here.rehearsals.replay, replay, names, words(table))
    else:
        draw_unverified(here, names)
        plain = partial(here.pull, names, words(table), where=where, changed_only=changed_only, accept_fall=accept_fall)
        fetch = partial(here.rehearsals.record_pull, record, plain, anonymise=anonymise) if record else plain
    try:
        with draw.progress() as progress:
            done = fetch(progress=lambda s, t, came, of: progress(f"{s}/{t}", came, of))
    except (KeyboardInterrupt, Stopped) as stopped:
        how = f"{stopped}; " if isinstance(stopped, Stopped) else "stopped; "
        draw.note(f"{how}what was finished is kept: concordex pulls", "yellow")
        return Status.STOPPED
    _tell(done, form)
    if replay is not None:
        place = here.rehearsals.played_in(replay)
        draw.note(f"no system was asked; what the recordings gave is in a workspace of its own: concordex -w {place}")
    if record is not None and not any(record.glob("*.har")):
        draw.note(f"nothing is recorded in {record}", "yellow")
    elif record is not None:
        hidden = "names, serials and addresses are others" if anonymise else "names, serials and addresses are real"
        draw.note(f"recorded in {record}, without secrets; {hidden}: look before you hand it on", "yellow")
    return STATUSES[done.outcome]


#: Fetches, and tells how far it is.
_Fetch = Callable[..., "Pull"]


def _tell(done: Pull, form: OutputFormat) -> None:
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


def _sum_up(snapshots: Sequence[Snapshot]) -> None:
    """One line that says it all, for those whose table is longer than their screen."""
    counts = Counter(snapshot.outcome for snapshot in snapshots)
    text = ", ".join(f"{counts[outcome]} {outcome}" for outcome in STATUSES if counts[outcome])
    systems, records = len({s.system for s in snapshots}), sum(s.distinct for s in snapshots)
    worst = next((outcome for outcome in ("failed", "partial", "unproven") if counts[outcome]), "whole")
    tables = f"{plural(len(snapshots), 'table')} of {plural(systems, 'system')}"
    draw.note(f"{tables}: {text}; {plural(records, 'record')}", STYLES[worst])


def draw_unverified(here: Workspace, names: list[str]) -> None:
    """Say which systems are spoken to without knowing who they are; every run says it."""
    loose = [n for n in here.systems(names) if not (tls := here.config.systems[n].tls).verify and not tls.fingerprint]
    if loose:
        draw.note(f"TLS is not verified for {', '.join(loose)}: anybody in between could answer for it", "bold yellow")


def _remark(snapshots: Sequence[Snapshot]) -> None:
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
