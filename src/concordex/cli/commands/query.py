"""``concordex query``."""

import sys
from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.emit import emit
from concordex.cli.options import Columns, Limit, Output, OutputFormat, complete_tables, moment, words, workspace
from concordex.cli.rows import emit_rows
from concordex.cli.screenful import fitted
from concordex.errors import CalledWrongly


def complete_statement(incomplete: str) -> list[str]:
    """The statement with the table's name that is being typed, for the shell."""
    done, space, last = incomplete.rpartition(" ")
    return [f"{done}{space}{name}" for name in complete_tables(last)] if space else []


def query(
    sql: Annotated[
        str | None,
        typer.Argument(help="One select; - reads it from standard input.", autocompletion=complete_statement),
    ] = None,
    as_of: Annotated[
        str | None, typer.Option("--as-of", help="Tables as they were pulled by then: a date or time (UTC), or 3d ago.")
    ] = None,
    tables: Annotated[bool, typer.Option("--tables", help="List all tables, their columns and types.")] = False,
    limit: Limit = None,
    columns: Columns = None,
    form: OutputFormat = None,
    output: Output = None,
) -> None:
    """Ask all that was pulled and reconciled in SQL; nothing is altered.

    Tables are those of `show`: what was pulled, entries, findings and records.  A name with a dot in it stands
    in double quotes.

    Examples:

    concordex query 'select site, count(*) as devices from entries group by site order by devices desc'

    concordex query 'select i.name, "device.site" from interfaces i where speed < 1000' -o slow.csv

    concordex query --tables
    """
    here, moment_of = workspace(), moment(as_of, "--as-of", end_of_day=True)
    if tables:
        emit_rows(list(here.sql_tables(moment_of)), form, output, columns=words(columns), limit=limit)
        return
    if sql is None:
        raise CalledWrongly("what is asked?", advice="concordex query 'select … from …'; concordex query --tables")
    if columns:
        raise CalledWrongly("--columns goes with --tables; a select names its own")
    found = here.sql(sys.stdin.read() if sql == "-" else sql, moment_of)
    for text in found.notes:
        draw.note(text, "yellow")
    shown = fitted(found.frame, limit, form, output)
    emit(shown.frame, form, output, all_columns=True)
    shown.say()
