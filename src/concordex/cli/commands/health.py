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
from concordex.cli.options import Columns, Limit, Output, Systems, Where, moment, words, workspace
from concordex.cli.rows import named_columns
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly, ConcordexError
from concordex.landing import landing

if TYPE_CHECKING:
    from concordex import Workspace
    from concordex.work.show.health import FleetHealth

#: Rows of each list that a terminal shows where no limit is given.
_SCREENFUL = 20
_STYLES = {"error": "bold red", "warning": "yellow", "unknown": "dim", "now": "bold red"}


def health(
    systems: Systems = None,
    where: Where = None,
    since: Annotated[
        str | None,
        typer.Option("--since", help="How far back readings count: 2h, 1d, a date; else as each threshold says."),
    ] = None,
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
    Thresholds stand in concordex.yaml (docs/fleet.md).  Exit status 3 where one is passed; with --plugin 0 is well,
    1 a warning, 2 an error, 3 not known.

    Examples:

    concordex health

    concordex health fairlead --where 'site = cobble-quay' --since 2h

    concordex health --batteries --where 'kind = handheld'

    concordex health --events --where 'name = kiosk-fishgate-01' --draw week.svg

    concordex health --format openmetrics -o fleet.prom
    """
    if plugin:
        return _in_one_line(words(systems), where, since)
    here = workspace()
    if batteries:
        return _batteries(here, where, (limit, columns, form, output), every=every)
    if events or use:
        of_week = here.fleet.happened(words(systems), where, moment(since, "--since"))
        return tell(of_week, (limit, words(columns), _format(form), output), figure, where, use=use)
    if figure is not None:
        raise CalledWrongly("--draw goes with --events")
    of = here.fleet.health(words(systems), where, moment(since, "--since"))
    for text in of.notes:
        draw.note(text, "yellow")
    passed = Status.FOUND if of.passed.height else Status.DONE
    if form == "openmetrics":
        _expose(here, of, output)
        return passed
    chosen = _format(form)
    if chosen not in (None, Format.TABLE) or output is not None or columns:
        frame = of.counts if count else _together(of)
        frame = named_columns(frame, words(columns))
        emit(frame.head(limit or frame.height), chosen, output, all_columns=bool(columns))
        return passed
    _table(of.counts, right=["normal", "warning", "error", "unknown", "all"])
    if not count:
        _listed(of.passed.drop("entry"), "readings beyond a threshold", limit)
        _listed(of.ailing.drop("entry"), "by the word of their systems", limit)
    return passed


def _in_one_line(systems: list[str], where: str | None, since: str | None) -> int:
    """One line, and one of four statuses; what goes wrong is not known, since there two means an error."""
    try:
        status, line = in_one_line(workspace().fleet.health(systems, where, moment(since, "--since")))
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
    cut = limit is None and draw.is_terminal(sys.stdout) and frame.height > _SCREENFUL
    most = _SCREENFUL if cut else limit or frame.height
    told = frame.head(most)
    _table(told.drop([name for name in told.columns if told[name].null_count() == told.height]), right=["value"])
    if cut:
        draw.note(f"{frame.height - _SCREENFUL:,} more; --limit 0 shows all", "dim")


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
    if chosen not in (None, Format.TABLE) or output is not None or columns:
        shown = named_columns(frame, words(columns))
        emit(shown.head(limit or shown.height), chosen, output, all_columns=bool(columns))
    else:
        names = ["replace", "site", "name", "kind", "user", "remaining", "capacity", "level", "charging", "cycles",
                 "age_days", "serial"]  # fmt: skip
        cut = limit is None and draw.is_terminal(sys.stdout) and frame.height > 2 * _SCREENFUL
        _table(frame.select(names).head(2 * _SCREENFUL if cut else limit or frame.height),
               right=["capacity", "level", "cycles", "age_days"])  # fmt: skip
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
