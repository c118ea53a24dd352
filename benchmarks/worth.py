"""Whether findings are worth reading: of each kind the share that is true, by what is known of a fleet."""

from __future__ import annotations

import polars as pl
from worlds import MANAGERS, SIGHTING, Meanings

from concordex.match.concordance import Concordance

#: Numbers of hardware that was swapped are those of what stands there now, and so much more.
_SWAPPED = 5_000_000_000

#: What two records may both show.
_KEYS = ("serial_key", "uuid_key", "tag_key", "name_key", "card")


def worth(made: Concordance, truth: pl.DataFrame, means: Meanings) -> pl.DataFrame:
    """``kind``, ``field``, ``severity``, how many, and the share that is ``true``; of what is missing also the share
    that is false though something could have ``told``: a serial, UUID, tag, name or card that both sides show.

    ``truth`` says for each ``system`` and ``record_id`` of which ``device`` it is.
    """
    members = made.members.drop("device", "case", strict=False).join(truth, on=["system", "record_id"])
    members = members.with_columns(pl.col("mac_keys").list.first().alias("card"))
    found = made.findings.with_row_index("finding")
    said = members.select("entry", "system", "record_id", "device", *_KEYS, "site", "model", "maker", "kind")
    told = pl.concat([
        _absent(found, said), _unmanaged(found, said), _twice(found, said), _swapped(found, said),
        _serials(found, members), _conflicts(found, said, means), _torn(found, said),
        _alike(found, said),
    ], how="diagonal")  # fmt: skip
    joined = found.select("finding", "kind", "field", "severity").join(told, on="finding", how="left")
    return (
        joined.group_by("kind", "field", "severity")
        .agg(pl.len().alias("findings"), pl.col("true").mean(), pl.col("told").mean())
        .sort("severity", "kind", "field")
    )


def _absent(found: pl.DataFrame, said: pl.DataFrame) -> pl.DataFrame:
    """Missing in an inventory: none of its records is of a device that the entry is of."""
    mine = found.filter(pl.col("kind") == "missing_in_inventory").select("finding", "entry", "about")
    return _missing(mine.join(said, on="entry"), said.with_columns(pl.col("system").alias("about")))


def _unmanaged(found: pl.DataFrame, said: pl.DataFrame) -> pl.DataFrame:
    mine = found.filter(pl.col("kind") == "missing_at_managers").select("finding", "entry")
    managed = said.filter(pl.col("system").is_in(MANAGERS) & pl.col("system").is_in(SIGHTING).not_())
    return _missing(
        mine.join(said, on="entry").with_columns(pl.lit("").alias("about")),
        managed.with_columns(pl.lit("").alias("about")),
    )


def _missing(mine: pl.DataFrame, there: pl.DataFrame) -> pl.DataFrame:
    """Of each finding whether nothing of its devices is there, and whether what is shows a value that its own do."""
    both = mine.join(there, on=["about", "device"], how="left", suffix="_there")
    same = pl.any_horizontal(pl.col(key) == pl.col(f"{key}_there") for key in _KEYS)
    return both.group_by("finding").agg(
        pl.col("entry_there").is_null().all().alias("true"), same.fill_null(value=False).any().alias("told")
    )


def _twice(found: pl.DataFrame, said: pl.DataFrame) -> pl.DataFrame:
    """A duplicate: two records of the system are of one device."""
    mine = found.filter(pl.col("kind") == "duplicate").select("finding", "entry", pl.col("about").alias("system"))
    joined = mine.join(said, on=["entry", "system"])
    return joined.group_by("finding").agg((pl.col("device").n_unique() < pl.len()).alias("true"))


def _swapped(found: pl.DataFrame, said: pl.DataFrame) -> pl.DataFrame:
    """Replaced: the one is of the hardware that was where the other's is, or of the same device with a wrong serial."""
    mine = found.filter(pl.col("kind") == "replaced").select("finding", "entry", "about")
    devices = said.select("entry", pl.col("device").alias("before")).unique()
    others = devices.rename({"entry": "about", "before": "now"})
    joined = mine.join(devices, on="entry").join(others, on="about")
    return joined.group_by("finding").agg((pl.col("before") - pl.col("now")).is_in([0, _SWAPPED]).any().alias("true"))


def _serials(found: pl.DataFrame, members: pl.DataFrame) -> pl.DataFrame:
    """A serial in two entries: they are of one device, or one of its bearers has another's."""
    mine = found.filter(pl.col("kind") == "serial_in_two").select("finding", "entry", "about")
    bearing = members.select("entry", "device", "serial_key").drop_nulls()
    both = mine.join(bearing, on="entry").join(
        bearing.rename({"entry": "about", "device": "other"}), on=["about", "serial_key"]
    )
    return both.group_by("finding").agg(pl.len().gt(0).alias("true"))


def _conflicts(found: pl.DataFrame, said: pl.DataFrame, means: Meanings) -> pl.DataFrame:
    """A conflict: what two systems say means different things."""
    parts = []
    for field, meaning in means.items():
        mine = found.filter(pl.col("kind") == "conflict", pl.col("field") == field).select("finding", "entry")
        values = said.select("entry", pl.col(field).replace_strict(meaning, default=None).alias("value")).drop_nulls()
        joined = mine.join(values.group_by("entry").agg(pl.col("value").n_unique()), on="entry", how="left")
        parts.append(joined.select("finding", (pl.col("value").fill_null(0) > 1).alias("true")))
    return pl.concat(parts)


def _alike(found: pl.DataFrame, said: pl.DataFrame) -> pl.DataFrame:
    """A look-alike: the two are of one device, or the one is of the hardware that was where the other's is."""
    mine = found.filter(pl.col("kind") == "look_alike").select("finding", "entry", "resembles")
    devices = said.select("entry", "device").unique()
    joined = mine.join(devices, on="entry").join(
        devices.rename({"entry": "resembles", "device": "other"}), on="resembles"
    )
    moved = (pl.col("device") - pl.col("other")).abs()
    return joined.group_by("finding").agg(moved.is_in([0, _SWAPPED]).any().alias("true"))


def _torn(found: pl.DataFrame, said: pl.DataFrame) -> pl.DataFrame:
    """Undecided: it is of a device that one of those which it fits is of."""
    mine = found.filter(pl.col("kind") == "undecided").select(
        "finding", "entry", pl.col("seen").str.extract_all(r"E\d+").alias("other")
    )
    devices = said.select("entry", "device").unique()
    joined = mine.explode("other").join(devices, on="entry").join(devices, left_on="other", right_on="entry")
    return joined.group_by("finding").agg((pl.col("device") == pl.col("device_right")).any().alias("true"))
