"""What happened to devices: counted by day, laid along the hours of a week, and added up to hours of use."""

from __future__ import annotations

from datetime import datetime
from typing import Any

import polars as pl

#: Something that happened to a ``part`` of a ``device`` of a ``system``; whether it ``begins`` or ``ends`` its use.
EVENTS: dict[str, Any] = {
    "system": pl.String, "device": pl.String, "part": pl.String, "event": pl.String, "detail": pl.String,
    "at": pl.Datetime("us", "UTC"), "begins": pl.Boolean, "ends": pl.Boolean,
}  # fmt: skip


def by_day(events: pl.DataFrame) -> pl.DataFrame:
    """How often each happened on each day (UTC), and to how many devices."""
    days = events.with_columns(pl.col("at").dt.date().alias("day"))
    return days.group_by("day", "event").agg(
        pl.len().cast(pl.Int64).alias("count"), pl.col("entry").n_unique().cast(pl.Int64).alias("devices")
    ).sort("day", "event", nulls_last=True)  # fmt: skip


def by_hour(events: pl.DataFrame) -> dict[str, list[int]]:
    """Of each day (UTC) how much happened in each of its 24 hours."""
    counted = events.group_by(pl.col("at").dt.date().alias("day"), pl.col("at").dt.hour().alias("hour")).len()
    days: dict[str, list[int]] = {}
    for day, hour, count in counted.sort("day", "hour").iter_rows():
        days.setdefault(f"{day:%a %Y-%m-%d}", [0] * 24)[hour] += count
    return days


def sessions(events: pl.DataFrame, since: datetime, until: datetime) -> pl.DataFrame:
    """When each device was in use, ``begun`` and ``ended``, between two moments.

    From what begins its use to the next that ends it; what begins it again meanwhile does not count, nor what begins
    and ends it at one moment.  A device of which the first that is known is an end was in use before, and one without
    an end is so still.
    """
    marks = events.filter(pl.col("begins") | pl.col("ends")).group_by("entry", "at").agg(
        pl.col("begins").any(), pl.col("ends").any()
    )  # fmt: skip
    rows = []
    for (entry,), mine in marks.sort("entry", "at").group_by("entry", maintain_order=True):
        begun = since if mine["ends"][0] and not mine["begins"][0] else None
        for at, begins, ends in mine.select("at", "begins", "ends").iter_rows():
            if ends and begun is not None:
                rows.append((entry, max(begun, since), min(at, until)))
                begun = at if begins else None  # of one moment: it ends, and begins anew
            elif begins and not ends and begun is None:
                begun = at
        if begun is not None:
            rows.append((entry, max(begun, since), until))
    kind = EVENTS["at"]
    return pl.DataFrame(rows, schema={"entry": pl.String, "begun": kind, "ended": kind}, orient="row").filter(
        pl.col("ended") > pl.col("begun")
    )


def hours_of_use(used: pl.DataFrame) -> pl.DataFrame:
    """Of each device how many hours, in how many sessions, and until when it was used last."""
    hours = (pl.col("ended") - pl.col("begun")).dt.total_seconds().sum() / 3600
    return used.group_by("entry").agg(
        hours.alias("hours"), pl.len().cast(pl.Int64).alias("sessions"), pl.col("ended").max().alias("last_used")
    )
