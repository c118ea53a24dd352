"""Counting and summing up the records of a table, by groups and by spans of time."""

from __future__ import annotations

from dataclasses import replace

import polars as pl

from concordex.errors import CalledWrongly
from concordex.model.fields import Type
from concordex.words import suggestion
from concordex.work.show.columns import Columns, chosen
from concordex.work.show.show_options import ShowOptions, parted

#: Spans of time as ISO 8601 writes them: the hour, the day, and the week, which begins on Monday.
SPANS = {"hour": "%Y-%m-%dT%H:00Z", "day": "%Y-%m-%d", "week": "%G-W%V"}
#: The fields that say when a record was so, the surest first.
_MOMENTS = ("taken_at", "at", "last_seen")


def summed(lazy: pl.LazyFrame, columns: Columns, choice: ShowOptions) -> tuple[pl.DataFrame, list[str]]:
    """How many records there are in each group, and what a field of numbers comes to in it; with notes on that.

    A record whose list has several values is in the group of each.  ``last`` is the value of the newest record.
    """
    keys = {name: _key(columns, name) for name in choice.count_by}
    if choice.of is None:
        value, moment, notes = None, None, list[str]()
    else:
        value, (moment, notes) = _number(columns, choice.of), _moment(columns)
    picked = lazy.select(
        *(key.alias(name) for name, key in keys.items()),
        *([value.alias("_value")] if value is not None else []),
        *([pl.col(moment).alias("_moment")] if moment else []),
    )
    for name in choice.count_by:
        if columns.type_of(parted(name)[0]).is_list:
            picked = picked.explode(name)
    sums = [pl.len().alias("count")]
    if value is not None:
        number = pl.col("_value")
        sums += [number.min().alias("least"), number.max().alias("most")]
        sums += [number.mean().round_sig_figs(6).alias("mean"), number.sum().alias("sum")]
    if moment:
        newest = pl.col("_value").drop_nulls().sort_by(pl.col("_moment").filter(pl.col("_value").is_not_null()))
        sums.append(newest.last().alias("last"))
    grouped = picked.group_by(list(keys)).agg(sums) if keys else picked.select(sums)
    if choice.sort:
        return chosen(grouped, Columns(grouped), replace(choice, columns=(), count_by=(), of=None)), notes
    spans = any(parted(name)[1] for name in keys)
    order = [*keys] if spans else ["count", *keys]
    grouped = grouped.sort(order, descending=[name == "count" for name in order], nulls_last=True)
    return (grouped.limit(choice.limit) if choice.limit is not None else grouped).collect(engine="streaming"), notes


def _key(columns: Columns, name: str) -> pl.Expr:
    column, span = parted(name)
    if span is None:
        return columns.column(column)
    if span not in SPANS:
        raise CalledWrongly(f"--count-by {name}: {span!r} is no span of time", advice=suggestion(span, SPANS))
    if columns.type_of(column) is not Type.TIME:
        raise CalledWrongly(f"--count-by {name}: {column} is no time")
    return columns.column(column).dt.strftime(SPANS[span])


def _number(columns: Columns, name: str) -> pl.Expr:
    value, kind = columns.column(name), columns.type_of(name)
    if name in columns.types and kind is not Type.NUMBER:
        numbers = [known for known, of in columns.types.items() if of is Type.NUMBER]
        raise CalledWrongly(f"--of {name}: is {kind.value}, and no number", advice=suggestion(name, numbers))
    return value.cast(pl.Float64, strict=False)


def _moment(columns: Columns) -> tuple[str | None, list[str]]:
    """The column that says when a record was so, or a note that nothing does."""
    times = [name for name, kind in columns.types.items() if kind is Type.TIME and "." not in name]
    known = next((name for name in (*_MOMENTS, *times) if name in times), None)
    if known is None:
        return None, ["no field says when a record was so: there is no last value"]
    return known, [] if known in _MOMENTS[:2] else [f"the last value is that of the newest {known}"]
