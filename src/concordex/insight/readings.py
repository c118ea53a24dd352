"""Readings of devices and their parts: which can be believed, the last of each, and how fast counters grow."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

import polars as pl

#: A value, with its ``unit``, of a ``part`` of a ``device`` of a ``system``; of what is a counter its ``bits``, and
#: ``since`` when it counts, where that is told.
READINGS: dict[str, Any] = {
    "system": pl.String, "device": pl.String, "part": pl.String, "metric": pl.String, "value": pl.Float64,
    "unit": pl.String, "taken_at": pl.Datetime("us", "UTC"), "bits": pl.Int64, "since": pl.Datetime("us", "UTC"),
}  # fmt: skip
#: What tells one series of readings from another.
SERIES = ["system", "device", "part", "metric"]
#: Seconds in each span by which a rate is told.
SPANS = {"second": 1.0, "minute": 60.0, "hour": 3600.0, "day": 86400.0}

#: So many seconds may be between two tellings of one moment, reckoned from how long it is ago.
_STEADY = 60
#: By so much a device's clock may be ahead of ours.
_AHEAD = timedelta(minutes=5)


def believable(readings: pl.LazyFrame, since: datetime, now: datetime) -> pl.LazyFrame:
    """Readings with a value and a time, from ``since`` on and not from the future."""
    at = pl.col("taken_at")
    return readings.filter(pl.col("value").is_not_null(), pl.col("value").is_finite(), at >= since, at <= now + _AHEAD)


def from_the_future(readings: pl.LazyFrame, now: datetime) -> pl.LazyFrame:
    """How many readings each system has that were taken later than now."""
    later = readings.filter(pl.col("taken_at") > now + _AHEAD)
    return later.group_by("system").agg(pl.len().alias("count"))


def latest(readings: pl.LazyFrame) -> pl.LazyFrame:
    """The last reading of each series, whatever their order; of two of one moment the one that came last."""
    newest = pl.col("taken_at") == pl.col("taken_at").max().over(SERIES)
    return readings.filter(newest).unique(SERIES, keep="last", maintain_order=True)


def rates(readings: pl.DataFrame) -> pl.DataFrame:
    """How fast each counter grew on average, in ``value`` a second, over ``seconds``; up to when (``taken_at``).

    A counter that counts since another moment than before began anew (RFC 2863, ifCounterDiscontinuityTime): what it
    grew by is not known, that span does not count, and ``resets`` tells how often that was.  So did one that fell; but
    one of 32 bits that fell by more than half of what it can hold was full, and begun at nought (RFC 2578, section
    7.1.6), unless it says since when it counts, and that is another.  One reading makes no rate.
    """
    once = readings.unique([*SERIES, "taken_at"], keep="last", maintain_order=True).sort(*SERIES, "taken_at")
    grown = pl.col("value").diff().over(SERIES)
    # what the pair spans, and what a counter of so many bits went through if it was full in between
    passed = pl.col("taken_at").diff().over(SERIES).dt.total_microseconds() / 1e6
    full = pl.lit(2.0).pow(pl.col("bits"))
    moved = (pl.col("since").diff().over(SERIES).dt.total_seconds().abs() > _STEADY).fill_null(value=False)
    told = once.with_columns(grown.alias("_grown"), passed.alias("_passed"), full.alias("_full"), moved.alias("_moved"))
    wrapped = pl.col("_grown") + pl.col("_full")
    is_full = (pl.col("_grown") < 0) & (pl.col("bits") == 32) & (wrapped < pl.col("_full") / 2)
    told = told.with_columns(
        pl.when("_moved")
        .then(None)
        .when(pl.col("_grown") >= 0)
        .then("_grown")
        .when(is_full)
        .then(wrapped)
        .alias("_grown"),
        (pl.col("_moved") | ((pl.col("_grown") < 0) & is_full.not_())).alias("_reset"),
    )
    counted = pl.col("_grown").is_not_null()
    made = told.group_by(SERIES, maintain_order=True).agg(
        (pl.col("_grown").sum() / pl.col("_passed").filter(counted).sum()).alias("value"), pl.col("unit").last(),
        pl.col("taken_at").last(), pl.col("_passed").filter(counted).sum().alias("seconds"),
        pl.col("_reset").fill_null(value=False).sum().cast(pl.Int64).alias("resets"), counted.sum().alias("_pairs"),
    )  # fmt: skip
    return made.filter(pl.col("_pairs") > 0, pl.col("seconds") > 0).drop("_pairs")
