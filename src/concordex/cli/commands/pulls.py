"""``concordex pulls``."""

from datetime import datetime
from typing import TYPE_CHECKING, Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.commands.pull import STYLES
from concordex.cli.options import LARGEST, Columns, Output, OutputFormat, complete_systems, moment, words, workspace
from concordex.cli.rows import emit_rows
from concordex.errors import CalledWrongly

if TYPE_CHECKING:
    from concordex.store.catalogue import Catalogue


def pulls(
    pull: Annotated[int | None, typer.Argument(min=1, max=LARGEST, help="One pull, table by table.")] = None,
    system: Annotated[
        str | None, typer.Option("--system", "-s", help="Pulls of this system.", autocompletion=complete_systems)
    ] = None,
    outcome: Annotated[
        str | None, typer.Option("--outcome", help="whole, unproven, partial, failed, stopped or running.")
    ] = None,
    since: Annotated[str | None, typer.Option("--since", help="Begun since then: a date or time (UTC), or 3d.")] = None,
    stop: Annotated[bool, typer.Option("--stop", help="Stop a running pull; what it finished is kept.")] = False,
    limit: Annotated[
        int, typer.Option("--limit", "-n", min=1, max=LARGEST, help="At most this many, the newest first.")
    ] = 20,
    columns: Columns = None,
    form: OutputFormat = None,
    output: Output = None,
) -> None:
    """The history of pulls, or one of them in full; running ones are shown with their progress.

    Examples:

    concordex pulls

    concordex pulls --system muster --outcome partial --since 7d

    concordex pulls 3

    concordex pulls 3 --stop
    """

    here = workspace()
    if outcome and outcome not in STYLES:
        raise CalledWrongly(f"there is no outcome {outcome!r}", advice=f"one of {', '.join(STYLES)}")
    if stop:
        if pull is None:
            raise CalledWrongly("which pull should stop?", advice="concordex pulls NUMBER --stop")
        here.stop_pull(pull)
        draw.note(f"pull {pull} is asked to stop; it does so within a second")
        return
    if here.memory.running() and here.can_write:
        here.settle_pulls()
    memory = here.memory
    if pull is not None:
        emit_rows(_tables(memory, pull), form, output, columns=words(columns), styles=STYLES)
        return
    rows = memory.pulls(limit, system=system, outcome=outcome, since=moment(since, "--since"))
    emit_rows([_row(memory, row, here.now()) for row in rows], form, output, columns=words(columns), styles=STYLES)


def _row(memory: "Catalogue", row: Any, now: datetime) -> dict[str, Any]:
    snapshots, going = memory.snapshots_of(row["id"]), memory.progress(row["id"])
    begun = datetime.fromisoformat(row["begun"])
    ended = datetime.fromisoformat(row["ended"]) if row["ended"] else now
    done = {(s.system, s.table) for s in snapshots}
    under_way = sum(g["received"] for g in going if (g["system"], g["name"]) not in done)
    return {
        "pull": row["id"], "begun": begun, "outcome": row["outcome"],
        "systems": ", ".join(sorted({s.system for s in snapshots} | {g["system"] for g in going})),
        "tables": len({*done, *((g["system"], g["name"]) for g in going)}),
        "records": sum(s.distinct for s in snapshots) + under_way,
        "left out": sum(sum(s.left_out.values()) for s in snapshots),
        "requests": sum(s.requests for s in snapshots), "retries": sum(s.retries for s in snapshots),
        "MB": f"{sum(s.bytes for s in snapshots) / 1e6:.1f}", "seconds": f"{(ended - begun).total_seconds():.1f}",
    }  # fmt: skip


def _tables(memory: "Catalogue", pull: int) -> list[dict[str, Any]]:
    snapshots = memory.snapshots_of(pull)
    done = {(s.system, s.table) for s in snapshots}
    if not any(row["id"] == pull for row in memory.pulls(2**31)):
        raise CalledWrongly(f"there is no pull {pull}", advice="concordex pulls")
    rows: list[dict[str, Any]] = [
        {
            "system": s.system, "table": s.table, "outcome": s.outcome, "proof": s.proof, "announced": s.announced,
            "received": s.received, "distinct": s.distinct, "left out": sum(s.left_out.values()),
            "requests": s.requests, "retries": s.retries, "kB": s.bytes // 1000, "seconds": f"{s.seconds:.1f}",
            "remarks": "; ".join(
                filter(None, [s.fault, *s.notes, *(f"{count} left out: {rule}" for rule, count in s.left_out.items())])
            ),
        }
        for s in snapshots
    ]  # fmt: skip
    rows += [
        {
            "system": g["system"], "table": g["name"], "outcome": "running", "proof": None, "announced": g["announced"],
            "received": g["received"], "distinct": None, "left out": None, "requests": None, "retries": None,
            "kB": None, "seconds": "", "remarks": "",
        }
        for g in memory.progress(pull)
        if (g["system"], g["name"]) not in done
    ]  # fmt: skip
    return rows
