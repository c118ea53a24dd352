"""``concordex journal``: what was done, and whether it is as it was written down."""

from datetime import UTC, datetime
from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.options import Columns, Limit, Output, OutputFormat, moment, words, workspace
from concordex.cli.rows import emit_rows
from concordex.cli.statuses import Status
from concordex.cli.writes import rows_of

#: So many are shown, where nobody says how many.
_SHOWN = 50

journal = typer.Typer(
    help="What was done, by whom, and whether it is as it was written down.",
    no_args_is_help=True, rich_markup_mode=None,
)  # fmt: skip


@journal.command("list")
def list_writes(
    by: Annotated[str | None, typer.Option("--by", help="Only what this person did.")] = None,
    system: Annotated[str | None, typer.Option("--system", "-s", help="Only what went to this system.")] = None,
    since: Annotated[str | None, typer.Option("--since", help="Sent since then: a date or time (UTC), or 3d.")] = None,
    limit: Limit = None,
    columns: Columns = None,
    form: OutputFormat = None,
    output: Output = None,
) -> None:
    """Every write that left here, the newest first: when, by whom, what, and what came of it.

    Examples:

    concordex journal list --by watch --since 7d

    concordex journal list -o writes.csv
    """
    begun = moment(since, "--since") or datetime.min.replace(tzinfo=UTC)
    rows = [
        row
        for row in rows_of(workspace().writes())
        if by in (None, row["by"]) and system in (None, row["system"]) and row["sent"] >= begun
    ]
    emit_rows(rows, form, output, columns=words(columns), limit=_SHOWN if limit is None and output is None else limit)


@journal.command("verify")
def verify(
    seal: Annotated[str | None, typer.Option("--seal", help="The last seal as it was noted elsewhere.")] = None,
    form: OutputFormat = None,
) -> int:
    """Hold every change against the chain of digests that was written when it was prepared, ended or dropped.

    What was altered by hand, taken away or put in is told.  Whoever can write the catalogue could make all of the
    chain anew: note the seal elsewhere, and say it with --seal, which must then be in the chain.  Exit status 3 where
    something is not as it was written.

    Examples:

    concordex journal verify

    concordex journal verify --seal 5b1c…
    """
    told = workspace().upkeep.verify_journal()
    rows = [{"where": one.where, "what": one.what} for one in told.tampered]
    if seal is not None and not workspace().upkeep.has_seal(seal):
        rows.append({"where": "chain", "what": "the seal that was noted elsewhere is in none of its links"})
    if rows or form is not None:
        emit_rows(rows, form, None)
    for what in told.unsealed:
        draw.note(f"not sealed: {what}", "yellow")
    word = f"{len(rows)} not as they were written" if rows else "all as they were written"
    draw.note(f"{told.sealed} changes sealed by {told.links} links: {word}; the last seal is {told.seal}")
    return Status.FOUND if rows else Status.DONE
