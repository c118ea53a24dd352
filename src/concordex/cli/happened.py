"""What happened to devices, and how much they were used, for people and as data."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from concordex.cli import draw
from concordex.cli.emit import Format, emit
from concordex.cli.rows import named_columns
from concordex.cli.screenful import fitted, on_screen
from concordex.cli.statuses import Status
from concordex.figures.timeline import draw as draw_timeline
from concordex.words import plural

if TYPE_CHECKING:
    import polars as pl

    from concordex.work.show.events import Happened

#: Rows of each list that a terminal shows where no limit is given.
_ROWS = 20
#: Limit, columns, format and file.
How = tuple[int | None, Sequence[str], Format | None, Path | None]


def tell(of: Happened, how: How, figure: Path | None, where: str | None, *, use: bool) -> int:
    """Tell of it as it is asked for."""
    limit, columns, form, output = how
    for text in of.notes:
        draw.note(text, "yellow")
    if figure is not None:
        left_out = draw_timeline(of.every.to_dicts(), of.used.to_dicts(), (of.since, of.until), figure, where or "All")
        draw.note(
            f"{figure}: {plural(of.every.height, 'event')}" + (f"; {left_out} devices left out" if left_out else "")
        )
        return Status.DONE
    frame = of.use if use else of.every
    if not on_screen(form, output) or columns:
        shown = named_columns(frame, columns)
        emit(shown.head(limit or shown.height), form, output, all_columns=bool(columns))
        return Status.DONE
    if use:
        _rows(frame, limit)
        idle = frame.filter(frame["hours"] == 0).height
        draw.note(f"{idle:,} of {plural(frame.height, 'device')} were not used since {of.since:%Y-%m-%d %H:%M} UTC")
        return Status.DONE
    draw.heading(f"events by day and hour (UTC), {plural(of.every.height, 'event')}")
    hours = "".join(f"{hour:<6}" for hour in range(0, 24, 6))
    draw.table(["day", hours, "events"], [(day, _marks(counts), sum(counts)) for day, counts in of.hours.items()],
               right=["events"])  # fmt: skip
    draw.line()
    _rows(of.days, limit)
    return Status.DONE


def _marks(counts: Sequence[int]) -> str:
    """A sign for each hour: a dot for nothing, a digit for so many, a plus for more."""
    return "".join("." if not count else str(count) if count < 10 else "+" for count in counts)


def _rows(frame: pl.DataFrame, limit: int | None) -> None:
    fit = fitted(frame, limit, rows=_ROWS)
    shown = fit.frame
    rows = [[f"{value:.1f}" if isinstance(value, float) else value for value in row] for row in shown.iter_rows()]
    draw.table(shown.columns, rows, right=[name for name, dtype in shown.schema.items() if dtype.is_numeric()])
    fit.say()
