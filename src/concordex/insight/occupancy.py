"""Room in racks: which units are taken, how much is free, what fits where, and what cannot be as it is told."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

import polars as pl

from concordex.insight.racks import Meeting, Mounted, is_outside, meeting

#: A thing in a rack: ``thing`` numbers it, ``rack`` is the number of its rack, ``device`` tells devices apart where two
#: records may be one, ``at`` is its lowest unit, and ``height`` how many it takes.
THINGS: dict[str, Any] = {
    "thing": pl.Int64, "rack": pl.Int64, "device": pl.String, "label": pl.String, "at": pl.Float64,
    "height": pl.Float64, "face": pl.String, "full_depth": pl.Boolean, "weight": pl.Float64, "power": pl.Float64,
}  # fmt: skip
#: A rack: how many ``units`` it has, and how much it ``carries``, where that is known; see :data:`THINGS`.
RACKS: dict[str, Any] = {"rack": pl.Int64, "units": pl.Float64, "carries": pl.Float64}


#: No unit is so far away, and no thing so high.
_FAR, _HIGHEST = 1_000_000, 200


class Misplaced(NamedTuple):
    """Something that cannot stand as it is told: which thing, what it meets, if that is a thing, and the rack's own
    number where it is the rack that is wrong."""

    kind: Meeting | str
    thing: int | None = None
    other: int | None = None
    rack: int | None = None
    unit: int | None = None


def rooms(things: pl.DataFrame, racks: pl.DataFrame) -> pl.DataFrame:
    """Of each rack the units ``used`` on either face and ``free`` on both, the ``largest`` run of free ones, the
    ``things`` in it, and their ``weight`` and ``power`` as far as they are known, of ``unweighed`` ones nothing is.

    Where nobody knows how many units a rack has, nobody knows what is free.
    """
    taken = _units(things).join(racks.select("rack", "units"), on="rack")
    inside = taken.filter(pl.col("unit").is_between(1, pl.col("units").fill_null(float("inf"))))
    used = inside.group_by("rack").agg(pl.col("unit").n_unique().alias("used"))
    largest = gaps(things, racks).group_by("rack").agg((pl.col("to") - pl.col("from") + 1).max().alias("largest"))
    within = things.group_by("rack").agg(
        pl.len().alias("things"), pl.col("weight").sum(), pl.col("weight").is_null().sum().alias("unweighed"),
        pl.col("power").sum(),
    )  # fmt: skip
    made = racks
    for frame in (used, largest, within):
        made = made.join(frame, on="rack", how="left", maintain_order="left")
    counts = [pl.col(name).fill_null(0).cast(pl.Int64) for name in ("used", "things", "unweighed")]
    made = made.with_columns(*counts, pl.col("weight", "power").fill_null(0.0))
    known = pl.col("units").is_not_null()
    return made.with_columns(
        pl.when(known).then(pl.col("units").cast(pl.Int64) - pl.col("used")).alias("free"),
        pl.when(known).then(pl.col("largest").fill_null(0)).alias("largest"),
    )


def gaps(things: pl.DataFrame, racks: pl.DataFrame, face: str | None = None) -> pl.DataFrame:
    """Runs of free units: ``rack``, ``from``, ``to``; free on both faces, or for something on one ``face`` that is not
    deep."""
    if face is not None:
        things = things.filter(
            pl.col("face").is_null() | (pl.col("face") == face) | pl.col("full_depth").fill_null(value=False)
        )
    known = racks.filter(pl.col("units").is_not_null()).select("rack", pl.col("units").cast(pl.Int64))
    taken = _units(things).join(known, on="rack").filter(pl.col("unit").is_between(1, pl.col("units")))
    marks = pl.concat([
        taken.select("rack", "unit"), known.select("rack", pl.lit(0, dtype=pl.Int64).alias("unit")),
        known.select("rack", (pl.col("units") + 1).alias("unit")),
    ]).unique().sort("rack", "unit")  # fmt: skip
    after = pl.col("unit").shift(-1).over("rack", order_by="unit")
    runs = marks.select("rack", (pl.col("unit") + 1).alias("from"), (after - 1).alias("to"))
    return runs.filter(pl.col("to") >= pl.col("from"))


def misplaced(things: pl.DataFrame, racks: pl.DataFrame) -> Iterator[Misplaced]:
    """All that cannot be as it is told.

    ``outside`` its rack; ``taken`` by another, or ``behind`` one that is as deep as the rack; ``twice`` one device in
    two places; ``heavy`` a rack that bears more than it carries.
    """
    sizes = racks.select("rack", "units")
    last = pl.col("at").floor() + pl.max_horizontal(pl.col("height").ceil(), 1) - 1
    unlikely = (pl.col("at") < 1) | (pl.col("at") != pl.col("at").floor()) | (last > pl.col("units"))
    strange = things.join(sizes, on="rack", how="left", maintain_order="left").filter(unlikely)
    for row in strange.iter_rows(named=True):
        if is_outside(_mounted(row), row["units"]):
            yield Misplaced("outside", row["thing"], unit=int(row["at"]))
    for one, other, unit in _sharing(things):
        how = meeting(_mounted(one), _mounted(other))
        if how is not None and (one["device"] is None or one["device"] != other["device"]):
            yield Misplaced(how, one["thing"], other["thing"], unit=unit)
    places = things.filter(pl.col("device").is_not_null()).unique(["device", "rack", "at"], maintain_order=True)
    for _, mine in places.filter(pl.len().over("device") > 1).group_by("device", maintain_order=True):
        first, *others = mine["thing"].to_list()
        for thing in others:
            yield Misplaced("twice", first, thing)
    bearing = rooms(things, racks).filter(pl.col("weight") > pl.col("carries"))
    for rack in bearing["rack"]:
        yield Misplaced("heavy", rack=rack)


def _units(things: pl.DataFrame) -> pl.DataFrame:
    """Each unit of each thing; of what is said to be far away, or higher than any rack, as many as a rack may have."""
    first = pl.col("at").floor().clip(-_FAR, _FAR).cast(pl.Int64)
    height = pl.col("height").ceil().clip(1, _HIGHEST).cast(pl.Int64)
    return things.select("thing", "rack", pl.int_ranges(first, first + height).alias("unit")).explode(
        "unit", empty_as_null=True
    )


def _sharing(things: pl.DataFrame) -> Iterator[tuple[dict[str, Any], dict[str, Any], int]]:
    """Pairs of things that share a unit, and the lowest that they share."""
    shared = _units(things).filter(pl.len().over("rack", "unit") > 1)
    pairs = shared.join(shared, on=["rack", "unit"], suffix="_other").filter(pl.col("thing") < pl.col("thing_other"))
    lowest = pairs.group_by("thing", "thing_other").agg(pl.col("unit").min()).sort("thing", "thing_other")
    concerned = pl.concat([lowest["thing"], lowest["thing_other"]]).unique()
    known = {row["thing"]: row for row in things.filter(pl.col("thing").is_in(concerned.implode())).to_dicts()}
    for one, other, unit in lowest.iter_rows():
        yield known[one], known[other], unit


def _mounted(row: dict[str, Any]) -> Mounted:
    return Mounted(
        label=row["label"], rack=(str(row["rack"]),), at=row["at"], height=row["height"], face=row["face"],
        full_depth=row["full_depth"],
    )  # fmt: skip
