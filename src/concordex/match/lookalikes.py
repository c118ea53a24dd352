"""Entries that something speaks for being one, and not enough: before one is created anew, somebody should look."""

from __future__ import annotations

import numpy as np
import polars as pl

from concordex.match.frequencies import numbers
from concordex.match.ids import entry_numbers
from concordex.match.sorting import Numbers, argsorted, starts

#: What entries may have in common, as it is told, the weightiest first.
_SHARED = {"serial_key": "serial", "uuid_key": "UUID", "tag_key": "tag", "name_key": "name", "mac_keys": "network card",
           "ips": "address"}  # fmt: skip

#: What several of them are called together, by their bits.
_TOLD = {
    bits: " and ".join(word for rank, word in enumerate(_SHARED.values()) if bits >> rank & 1)
    for bits in range(1, 1 << len(_SHARED))
}

#: What makes two entries likely one device where they share nothing else.  A name passes on to what is put in a
#: device's place, a card is often a dock's, and a UUID a copied disk's.
_TELLING = ("serial", "tag", "address")

#: A value of more entries says nothing.
_FEW = 3


def lookalikes(records: pl.DataFrame, apart: pl.DataFrame) -> pl.DataFrame:
    """``entry`` and ``other``, each pair both ways, with what they ``share``: values that few entries bear; and whether
    it is ``likely`` that they are one device, or that the one stood where the other stands now.

    ``apart`` holds pairs, as ``entry`` and ``other``, that somebody ruled to be two devices.
    """
    number = entry_numbers(records["entry"])
    parts = [_sharing(number, records[key], 1 << rank) for rank, key in enumerate(_SHARED)]
    one, other, bit = (np.concatenate(some) for some in zip(*parts, strict=True))
    if not len(one):
        return _NONE
    pairs = (
        pl.DataFrame({"one": one, "two": other, "bits": bit}).unique().group_by("one", "two").agg(pl.col("bits").sum())
    )
    called = pl.DataFrame({"number": number, "entry": records["entry"]}).filter(
        pl.col("number").is_in(pairs["one"].unique().implode())
    )
    called = called.unique("number")
    alike = (
        pairs.join(called, left_on="one", right_on="number")
        .join(called.rename({"entry": "other"}), left_on="two", right_on="number")
        .select("entry", "other", pl.col("bits").replace_strict(_TOLD).alias("share"))
        .with_columns((pl.col("share").str.contains(" and ") | pl.col("share").is_in(_TELLING)).alias("likely"))
        .sort("entry", "other")
    )
    return alike.join(both_ways(apart), on=["entry", "other"], how="anti", maintain_order="left")


#: No look-alikes.
_NONE = pl.DataFrame(schema={"entry": pl.String, "other": pl.String, "share": pl.String, "likely": pl.Boolean})


def both_ways(pairs: pl.DataFrame) -> pl.DataFrame:
    """Pairs of ``entry`` and ``other``, each once and once the other way round."""
    return pl.concat([pairs, pairs.select(pl.col("other").alias("entry"), pl.col("entry").alias("other"))]).unique()


def borne_by_several(entry: Numbers, values: pl.Series) -> Numbers:
    """The rows whose value records of another ``entry`` bear as well: most values are of one entry."""
    value = numbers(values).to_numpy()
    rows = np.flatnonzero(value)
    rows = rows[argsorted(value[rows])]
    begins = np.flatnonzero(starts(value[rows]))
    if not len(begins):
        return begins
    owner = entry[rows]
    torn = np.minimum.reduceat(owner, begins) < np.maximum.reduceat(owner, begins)
    return np.asarray(np.sort(rows[np.repeat(torn, np.diff(np.r_[begins, len(rows)]))]))


def _sharing(entry: Numbers, values: pl.Series, bit: int) -> tuple[Numbers, Numbers, Numbers]:
    """Two entries each that share a value, both ways, each with ``bit``."""
    if values.dtype == pl.List(pl.String):
        entry = np.repeat(entry, values.list.len().fill_null(0).to_numpy())
        values = values.drop_nulls().explode(empty_as_null=False)
    rows = borne_by_several(entry, values)
    if not len(rows):
        return rows, rows, rows
    borne = pl.DataFrame({"value": numbers(values.gather(rows)), "entry": entry[rows]}).unique().sort("value", "entry")
    value, entry = borne["value"].to_numpy(), borne["entry"].to_numpy()
    first = np.flatnonzero(np.r_[True, value[1:] != value[:-1]][: len(value)])
    many = np.diff(np.r_[first, len(value)])
    pairs = [
        (entry[at + here], entry[at + there])
        for count in range(2, _FEW + 1)
        for at in (first[many == count],)
        for here in range(count)
        for there in range(count)
        if here != there
    ]
    one, other = (np.concatenate(some) for some in zip(*pairs, strict=True))
    return one, other, np.full(len(one), bit)
