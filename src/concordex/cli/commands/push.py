"""``concordex push``."""

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.change_options import ChangeOptions, change_options
from concordex.cli.mistakes import keep_rejected, tell_mistakes
from concordex.cli.options import complete_systems, pairs, words, workspace
from concordex.cli.propose import propose
from concordex.cli.statuses import Status
from concordex.words import plural

if TYPE_CHECKING:
    from concordex import Workspace
    from concordex.change.rows import Mistake, Row


@change_options()
def push(
    file: Annotated[str, typer.Argument(help="CSV, XLSX, JSON, NDJSON, YAML or Parquet; - is standard input.")],
    to: Annotated[str, typer.Option("--to", help="The system to write to.", autocompletion=complete_systems)],
    table: Annotated[str, typer.Option("--table", help="The table to write to.")] = "devices",
    column: Annotated[
        list[str] | None, typer.Option("--column", help="COLUMN=FIELD: what a column means. Repeatable.")
    ] = None,
    ignore: Annotated[list[str] | None, typer.Option("--ignore", help="Columns to ignore.")] = None,
    default: Annotated[
        list[str] | None, typer.Option("--default", help="FIELD=VALUE for rows that do not say it. Repeatable.")
    ] = None,
    defaults: Annotated[
        Path | None, typer.Option("--defaults", help="A YAML file with values for groups of rows (docs/changes.md).")
    ] = None,
    make: Annotated[
        list[str] | None, typer.Option("--make", help="Tables whose missing records may be created, such as sites.")
    ] = None,
    rejects: Annotated[
        Path | None, typer.Option("--rejects", help="Write rows with mistakes to this file, and go on with the others.")
    ] = None,
    given: Annotated[
        str | None, typer.Option("--from", help="Format of the file, where its ending does not say.")
    ] = None,
    ask: Annotated[
        str | None,
        typer.Option("--ask", help="Devices of the workspace: each row's own, at its `address`, tells what it must."),
    ] = None,
    sheet: Annotated[str | None, typer.Option("--sheet", help="The sheet of a workbook that shows several.")] = None,
    *,
    answers: ChangeOptions,
) -> int:
    """Write rows of a file into a table of a system: checked whole, previewed, sent once, read back.

    Columns are our fields by name.  A row whose natural key is there alters that record; ids are looked
    up.  All mistakes are told at once, and nothing is prepared while there are any, unless --rejects says
    where their rows go.

    Examples:

    concordex push racks.xlsx --to stowage --table racks

    concordex push new.csv --to stowage --make sites,models --default kind=switch --rejects bad.csv
    """
    here = workspace()
    rows, columns = here.read_rows(file, given, sheet), pairs(column, "--column")
    given_for_all = [(None, pairs(default, "--default"))] if default else []
    every_default = [*(here.read_defaults(defaults) if defaults else []), *given_for_all]
    unheard: list[Mistake] = []
    left_out: list[Row] = []
    asks: dict[str, Any] = {}
    silent: dict[tuple[str, str], str] = {}
    count = len(rows)
    if ask:
        outcome = _asked(here, to, table, ask, rows, columns, every_default, answers, file)
        if isinstance(outcome, int):
            return outcome
        rows, unheard, left_out, asks = outcome
        sets, silent = asks.pop("sets"), asks.pop("silent")
        plain = [(where, {n: v for n, v in values.items() if n not in sets}) for where, values in every_default]
        every_default = [wrong for wrong in plain if wrong[1]]
    prepared = here.push(
        to, table, rows, columns=columns, ignore=words(ignore), make=words(make), defaults=every_default
    )
    told_of = [replace(wrong, what=silent.get((wrong.place, wrong.column), wrong.what)) for wrong in prepared.mistakes]
    mistakes, rejected = [*unheard, *told_of], [*left_out, *prepared.rejected]
    if mistakes:
        tell_mistakes(mistakes, file, count)
        if rejects is None or not mistakes[-1].place:
            draw.note("nothing was prepared; correct them, or say --rejects FILE to go on without these rows")
            return Status.CALLED_WRONGLY
        keep_rejected(rejected, mistakes, rejects)
        draw.note(f"{plural(len(rejected), 'row')} with mistakes in {rejects}")
    if prepared.aside:
        draw.note(f"left aside, since they are only read: {', '.join(prepared.aside)}")
    draw.note(f"{plural(count, 'row')}: {prepared.equal:,} are there as they are, {len(rejected):,} rejected")

    change = prepared.change.described(source=file, command="push", asks=asks)
    status = propose(here, change, answers, f"{to} holds what the file says")
    return Status.PARTLY if mistakes and status == Status.DONE else status


def _asked(
    here: "Workspace",
    to: str,
    table: str,
    devices: str,
    rows: "list[Row]",
    columns: dict[str, str],
    defaults: "list[tuple[str | None, dict[str, str]]]",
    answers: ChangeOptions,
    file: str,
) -> "tuple[list[Row], list[Mistake], list[Row], dict[str, Any]] | int":
    """Set on each device what its row says, as a change of its own; then ask each for what the table needs.

    The rows with the answers, what is wrong and the rows left out for it; or the status to end with.
    """
    change, made = here.ask_devices(to, table, devices, rows, columns, defaults)
    if change.steps:
        change = change.described(source=file, command="push")
        status = propose(here, change, answers, "every device is set as its row says")
        if answers.draft:
            draw.note(f"what the devices tell is asked for once that is done: then push {file} again")
        if answers.draft or status not in (Status.DONE, Status.PARTLY):
            return status
    complete, mistakes, left_out = here.answers_of_devices(made)
    draw.note(f"{plural(len(complete), 'device')} of {len(rows):,} told what {to} needs of them")
    again = {
        "devices": devices, "table": made.spec.table, "at": made.addresses, "sets": list(made.spec.sets),
        "silent": made.silent,
    }  # fmt: skip
    return complete, mistakes, left_out, again
