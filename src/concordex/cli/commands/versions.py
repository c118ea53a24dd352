"""``concordex versions``."""

from typing import Annotated

import polars as pl
import typer

from concordex.cli import draw
from concordex.cli.emit import emit
from concordex.cli.options import Columns, Limit, Output, OutputFormat, Where, words, workspace
from concordex.cli.rows import named_columns
from concordex.cli.screenful import fitted, on_screen
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly

_STYLES = {"behind": "yellow", "ended": "bold red", "ending": "yellow", "unknown": "dim"}


def versions(
    where: Where = None,
    every: Annotated[
        bool, typer.Option("--all", help="Also devices that are as they are wanted, and supported.")
    ] = False,
    spread: Annotated[bool, typer.Option("--spread", help="How many devices run each version.")] = False,
    over: Annotated[
        str | None, typer.Option("--over", help="With --spread: at the end of each day of 30d, or 12w:week, 2d:hour.")
    ] = None,
    limit: Limit = None,
    columns: Columns = None,
    form: OutputFormat = None,
    output: Output = None,
) -> int:
    """Which devices are behind the version that is wanted, by how much and since when, or out of support.

    What is wanted, and how long what is supported, stands in versions/*.yaml (docs/fleet.md).  Exit status 3 where a
    device is behind, or its support has ended.

    Examples:

    concordex versions

    concordex versions --where 'site = cobble-quay and behind > 1'

    concordex versions --spread --where 'kind = switch' --over 30d
    """
    if over is not None and not spread:
        raise CalledWrongly("--over goes with --spread")
    here = workspace()
    found = here.fleet.version_spread(where, over) if spread else here.fleet.versions(where)
    for text in found.notes:
        draw.note(text, "yellow")
    frame, status = found.frame, Status.DONE
    if not spread:
        late = (pl.col("state") == "behind") | (pl.col("support") == "ended")
        status = Status.FOUND if frame.filter(late.fill_null(value=False)).height else Status.DONE
        fine = pl.col("state").is_in(["current", "ahead"]) | pl.col("state").is_null()
        fine &= (pl.col("support") == "supported") | pl.col("support").is_null()
        left = frame if every else frame.filter(fine.not_())
        if not every and on_screen(form, output):
            _count(frame)
        frame = left
    shown = named_columns(frame, words(columns))
    screen = on_screen(form, output)
    if screen and not columns:
        shown = shown.select(
            [name for name in shown.columns if shown[name].null_count() < shown.height or not shown.height]
        )
    fit = fitted(shown, limit, form, output)
    kept = fit.frame
    if screen:
        draw.table(kept.columns, kept.iter_rows(), right=[n for n, t in kept.schema.items() if t.is_numeric()],
                   styles=_STYLES, all_columns=bool(columns))  # fmt: skip
    else:
        emit(kept, form, output, all_columns=bool(columns))
    fit.say()
    return status


def _count(frame: pl.DataFrame) -> None:
    """How many there are of each state, in one line."""
    counts = {name: frame.filter(pl.col("state") == name).height for name in ("current", "behind", "ahead", "unknown")}
    parts = [f"{count:,} {name}" for name, count in counts.items() if count]
    ended = frame.filter(pl.col("support") == "ended").height
    parts += [f"{ended:,} out of support"] if ended else []
    draw.note(", ".join(parts) or "no device is meant by versions/*.yaml")
