"""``concordex health``."""

import sys
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import polars as pl
import typer

from concordex.cli import draw
from concordex.cli.emit import Format, emit
from concordex.cli.happened import tell
from concordex.cli.openmetrics import UNKNOWN, exposition, in_one_line, not_known
from concordex.cli.options import Between, Columns, Limit, Output, Since, Systems, Where, span, words, workspace
from concordex.cli.rows import named_columns
from concordex.cli.screenful import fitted, on_screen
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly, ConcordexError
from concordex.landing import landing

if TYPE_CHECKING:
    from concordex import Workspace
    from concordex.work.show.health import FleetHealth

#: Rows of each list that a terminal shows where no limit is given.
_ROWS = 20
_STYLES = {"error": "bold red", "warning": "yellow", "unknown": "dim", "now": "bold red"}


def health(
    systems: Systems = None,
    where: Where = None,
    since: Since = None,
    between: Between = None,
    live: Annotated[
        bool, typer.Option("--live", help="Ask the systems now, for these devices and this while. Nothing is kept.")
    ] = False,
    batteries: Annotated[
        bool, typer.Option("--batteries", help="Batteries, by site, the most urgent first: what to replace.")
    ] = False,
    events: Annotated[
        bool, typer.Option("--events", help="What happened over a week, by day and hour; --since for another while.")
    ] = False,
    use: Annotated[bool, typer.Option("--use", help="Hours of use in that while, the least used first.")] = False,
    figure: Annotated[
        Path | None, typer.Option("--draw", help="With --events: a timeline into a file, .svg, .png or .pdf.")
    ] = None,
    every: Annotated[bool, typer.Option("--all", help="With --batteries: also those that will last.")] = False,
    count: Annotated[bool, typer.Option("--count", help="Only how many are how.")] = False,
    plugin: Annotated[
        bool, typer.Option("--plugin", help="One line with performance data, and 0 to 3 as monitoring reads it.")
    ] = False,
    limit: Limit = None,
    columns: Columns = None,
    form: Annotated[
        str | None,
        typer.Option("--format", "-f", help="table, csv, json, yaml, … as elsewhere; or openmetrics."),
    ] = None,
    output: Output = None,
) -> int:
    """How devices are: states counted by kind, and readings beyond the thresholds of the workspace.

    What the words of a system mean is said in its dialect; a device of which nobody says anything is unknown.
    Thresholds stand in concordex.yaml (docs/fleet.md), and how far back each looks, where no option says it.
    Exit status 3 where one is passed; with --plugin 0 is well, 1 a warning, 2 an error, 3 not known.

    Examples:

    concordex health

    concordex health fairlead --where 'site = cobble-quay' --since 2h

    concordex health muster --live --where 'name = kiosk-fishgate-01' --since 2h

    concordex health --batteries --where 'kind = handheld'

    concordex health --events --where 'name = kiosk-fishgate-01' --draw week.svg

    concordex health --format openmetrics -o fleet.prom
    """
    if plugin:
        return _in_one_line(words(systems), where, since, between, live=live)
    here, (begin, end) = workspace(), span(since, between)
    if batteries:
        if live or begin or end:
            raise CalledWrongly("--batteries lists all that is known: --live, --since and --between are for the rest")
        return _batteries(here, where, (limit, columns, form, output), every=every)
    if events or use:
        of_week = here.fleet.happened(words(systems), where, begin, end, live=live)
        return tell(of_week, (limit, words(columns), _format(form), output), figure, where, use=use)
    if figure is not None:
        raise CalledWrongly("--draw goes with --events")
    of = here.fleet.health(words(systems), where, begin, end, live=live)
    for text in of.notes:
        draw.note(text, "yellow")
    passed = Status.FOUND if of.passed.height else Status.DONE
    if form == "openmetrics":
        _expose(here, of, output)
        return passed
    chosen = _format(form)
    if not on_screen(chosen, output) or columns:
        frame = of.counts if count else _together(of)
        frame = named_columns(frame, words(columns))
        emit(frame.head(limit or frame.height), chosen, output, all_columns=bool(columns))
        return passed
    _table(of.counts, right=["normal", "warning", "error", "unknown", "all"])
    if not count:
        _listed(of.passed.drop("entry"), "readings beyond a threshold", limit)
        _listed(of.ailing.drop("entry"), "by the word of their systems", limit)
    return passed


def _in_one_line(
    systems: list[str], where: str | None, since: str | None, between: tuple[str, str] | None, *, live: bool
) -> int:
    """One line, and one of four statuses; what goes wrong is not known, since there two means an error."""
    try:
        status, line = in_one_line(workspace().fleet.health(systems, where, *span(since, between), live=live))
    except ConcordexError as error:
        status, line = UNKNOWN, not_known(str(error))
    draw.line(line)
    return status


def _together(of: "FleetHealth") -> pl.DataFrame:
    """What is beyond a threshold, and what its system calls ill, as rows of one sort."""
    ailing = of.ailing.select(
        pl.col("state").alias("severity"), "entry", "name", "kind", "site", pl.lit("state").alias("metric"), "part",
        pl.col("said"), "system", pl.col("at").alias("taken_at"),
    )  # fmt: skip
    return pl.concat([of.passed, ailing], how="diagonal_relaxed")


def _listed(frame: pl.DataFrame, what: str, limit: int | None) -> None:
    """A list below a heading; nothing where it is empty."""
    if not frame.height:
        return
    draw.line()
    draw.heading(f"{frame.height:,} {what}")
    fit = fitted(frame, limit, rows=_ROWS)
    told = fit.frame
    _table(told.drop([name for name in told.columns if told[name].null_count() == told.height]), right=["value"])
    fit.say()


def _table(frame: pl.DataFrame, right: list[str]) -> None:
    rows = [[f"{value:.4g}" if isinstance(value, float) else value for value in row] for row in frame.iter_rows()]
    draw.table(frame.columns, rows, right=right, styles=_STYLES)


def _batteries(
    here: "Workspace", where: str | None, how: tuple[int | None, Columns, str | None, Output], *, every: bool
) -> int:
    limit, columns, form, output = how
    found = here.fleet.batteries(where)
    for text in found.notes:
        draw.note(text, "yellow")
    chosen, frame = _format(form), found.frame
    counts = {what: frame.filter(pl.col("replace") == what).height for what in ("now", "later", "unknown")}
    frame = frame if every else frame.filter(pl.col("replace") == "now")
    if not on_screen(chosen, output) or columns:
        shown = named_columns(frame, words(columns))
        emit(shown.head(limit or shown.height), chosen, output, all_columns=bool(columns))
    else:
        names = ["replace", "site", "name", "kind", "user", "remaining", "capacity", "level", "charging", "cycles",
                 "age_days", "serial"]  # fmt: skip
        fit = fitted(frame.select(names), limit)
        _table(fit.frame, right=["capacity", "level", "cycles", "age_days"])
        fit.say()
        told = f"{counts['now']:,} to replace now, {counts['later']:,} will last, of {counts['unknown']:,} nobody knows"
        draw.note(told + ("" if every else "; --all shows all"))
    return Status.FOUND if counts["now"] else Status.DONE


def _expose(here: "Workspace", of: "FleetHealth", output: Output) -> None:
    now = datetime.now(UTC)
    ages = [
        ({"system": s.system, "table": s.table, "outcome": s.outcome}, round((now - s.taken).total_seconds()), None)
        for s in here.memory.newest()
    ]
    text = exposition(of, ages)
    if output is None:
        sys.stdout.write(text)
    else:
        with landing(output) as making:
            making.write_text(text, encoding="utf-8")


def _format(form: str | None) -> Format | None:
    """The format of that name."""
    if form is None:
        return None
    try:
        return Format(form)
    except ValueError as error:
        raise CalledWrongly(f"--format {form}: is no format", advice=f"{', '.join(Format)} or openmetrics") from error
