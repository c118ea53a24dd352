"""``concordex show``."""

import sys
from typing import Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.emit import Format, emit
from concordex.cli.options import (
    Between,
    Labels,
    Limit,
    Output,
    OutputFormat,
    Since,
    Tags,
    Where,
    chosen,
    complete_fields,
    complete_systems,
    complete_tables,
    moment,
    span,
    words,
    workspace,
)
from concordex.cli.rows import emit_rows
from concordex.cli.screenful import ROWS, on_screen
from concordex.errors import CalledWrongly

#: The columns of a table on a terminal where none are named, as many as there are.
_USUAL = (
    "change",
    "system",
    "entry",
    "name",
    "what",
    "kind",
    "serial",
    "site",
    "model",
    "os_version",
    "status",
    "last_seen",
    "parent",
    "device.kind",
    "device.site",
    "device.entry",
    "systems",
)


def show(
    table: Annotated[
        str,
        typer.Argument(
            help="A pulled table, or entries, records, findings or weights.", autocompletion=complete_tables
        ),
    ],
    where: Where = None,
    system: Annotated[
        list[str] | None,
        typer.Option("--system", "-s", help="Only these systems.", autocompletion=complete_systems),
    ] = None,
    columns: Annotated[
        list[str] | None,
        typer.Option("--columns", "-c", help="Columns to show, separated by commas.", autocompletion=complete_fields),
    ] = None,
    sort: Annotated[list[str] | None, typer.Option("--sort", help="By which columns; -name for descending.")] = None,
    count_by: Annotated[
        list[str] | None,
        typer.Option(
            "--count-by",
            help="Count records by these columns, or by TIME:hour, TIME:day, TIME:week.",
            autocompletion=complete_fields,
        ),
    ] = None,
    of: Annotated[
        str | None, typer.Option("--of", help="Of a field of numbers the least, most, mean, sum and last, too.")
    ] = None,
    limit: Limit = None,
    funnel: Annotated[bool, typer.Option("--funnel", help="How the count narrows, clause by clause.")] = False,
    live: Annotated[
        bool,
        typer.Option("--live", help="Ask the systems now; they filter what they can. Nothing is kept."),
    ] = False,
    as_of: Annotated[
        str | None, typer.Option("--as-of", help="As it was pulled by then: a date or time (UTC), or 3d ago.")
    ] = None,
    changes: Annotated[
        str | None, typer.Option("--changes", help="What appeared, vanished and changed since then.")
    ] = None,
    over: Annotated[
        str | None, typer.Option("--over", help="How many there were, day by day: 30d; or 2d:hour, 12w:week.")
    ] = None,
    since: Since = None,
    between: Between = None,
    tag: Tags = None,
    label: Labels = None,
    form: OutputFormat = None,
    output: Output = None,
) -> None:
    """Show records of a table: filtered, sorted, counted, in any format.

    `entries` is the concordance, one row for each device; `records` is every device record with its
    system and entry.  Dotted names reach into the system's own record.

    Examples:

    concordex show devices --where 'kind = switch and os_version < 7.2.10'

    concordex show entries --where 'ip within 10.22.0.0/16' --columns name,serial,systems -o list.xlsx

    concordex show devices --count-by site,kind

    concordex show interfaces --where 'device.site = "cobble-quay" and status = down'

    concordex show readings --count-by device.site,taken_at:day --of level

    concordex show readings --live --since 2h --where 'device.name = kiosk-fishgate-01'

    concordex show devices --as-of 2026-11-20 --count-by site

    concordex show devices --changes 1d

    concordex show devices --over 30d --count-by site

    concordex show devices --live --where 'kind in (tablet, handheld) and battery.level < 20' --funnel
    """
    screen = on_screen(form, output)
    watched = screen and draw.is_terminal(sys.stdout)
    rows = (ROWS + 1 if watched and not (count_by or of or over) else None) if limit is None else limit or None
    begin, end = span(since, between)
    selection = workspace().show(
        table, where=where, systems=chosen(system, tag, label), columns=words(columns), sort=words(sort),
        count_by=words(count_by), of=of, over=over, limit=rows, live=live, funnel=funnel,
        since=begin, until=end,
        as_of=moment(as_of, "--as-of", end_of_day=True), changes=moment(changes, "--changes"),
    )  # fmt: skip
    for text in selection.notes:
        draw.note(text, "yellow")
    if funnel:
        _draw_funnel(selection.stages, where, form, output)
        return
    frame = selection.frame
    if screen and not (columns or count_by or of or over):
        kept = [name for name in _USUAL if name in frame.columns]
        frame = frame.select(kept) if "name" in kept else frame
    cut = watched and limit is None and frame.height > ROWS  # how many more is not known: no more were asked for
    emit(
        frame.head(ROWS) if cut else frame, form, output, all_columns=bool(columns),
        private=output is not None and bool(workspace().codes() & set(frame.columns)),
    )  # fmt: skip
    if cut:
        draw.note(f"the first {ROWS} rows; --limit 0 shows all, --count-by counts", "dim")


def _draw_funnel(stages: Any, where: str | None, form: OutputFormat, output: Output) -> None:
    if not where:
        raise CalledWrongly("--funnel goes with --where")
    rows, most = [], max([stage.left or 0 for stage in stages] or [0])
    for stage in stages:
        bar = "█" * round(24 * (stage.left or 0) / most) if most else ""
        rows.append({"clause": stage.clause, "left": stage.left, "": bar, "applied by": stage.by})
    if form not in (None, Format.TABLE) or output:
        rows = [{"clause": row["clause"], "left": row["left"], "applied_by": row["applied by"]} for row in rows]
    emit_rows(rows, form, output, styles={"█" * length: "cyan" for length in range(1, 25)})
