"""``concordex pulls``."""

from datetime import datetime
from typing import Annotated, Any

import typer

from concordex.cli.commands.pull import STYLES
from concordex.cli.options import Form, workspace


def pulls(
    pull: Annotated[int | None, typer.Argument(help="One pull, table by table.")] = None,
    limit: Annotated[int, typer.Option("--limit", "-n", help="How many, the newest first.")] = 20,
    form: Form = None,
) -> None:
    """The history of pulls, or one of them in full.

    Examples:

    concordex pulls

    concordex pulls 3
    """
    from concordex.cli.rows import emit_rows

    memory = workspace().memory
    rows: list[dict[str, Any]]
    if pull is not None:
        rows = [
            {
                "system": s.system, "table": s.table, "outcome": s.outcome, "announced": s.announced,
                "received": s.received, "distinct": s.distinct, "requests": s.requests, "retries": s.retries,
                "kB": s.bytes // 1000, "seconds": f"{s.seconds:.1f}",
                "remarks": "; ".join(filter(None, [s.fault, *s.notes])),
            }
            for s in memory.snapshots_of(pull)
        ]  # fmt: skip
        emit_rows(rows, form, None, styles=STYLES)
        return
    rows = []
    for row in memory.pulls(limit):
        found = memory.snapshots_of(row["id"])
        begun = datetime.fromisoformat(row["begun"])
        took = (datetime.fromisoformat(row["ended"]) - begun).total_seconds() if row["ended"] else None
        rows.append({
            "pull": row["id"], "begun": begun, "outcome": row["outcome"],
            "systems": ", ".join(sorted({s.system for s in found})), "tables": len(found),
            "records": sum(s.distinct for s in found), "retries": sum(s.retries for s in found),
            "seconds": f"{took:.1f}" if took is not None else "",
        })  # fmt: skip
    emit_rows(rows, form, None, styles=STYLES)
