"""Entries that something speaks for being one, and not enough: before one is created anew, somebody should look."""

from __future__ import annotations

import polars as pl

#: What entries may have in common, as it is told, the weightiest first.
_SHARED = {"serial_key": "serial", "uuid_key": "UUID", "tag_key": "tag", "name_key": "name", "mac_keys": "network card",
           "ips": "address"}  # fmt: skip

#: A value of more entries says nothing.
_FEW = 3


def lookalikes(records: pl.DataFrame, apart: pl.DataFrame) -> pl.DataFrame:
    """``entry`` and ``other``, each pair both ways, with what they ``share``: values that few entries bear.

    ``apart`` holds pairs, as ``entry`` and ``other``, that somebody ruled to be two devices.
    """
    both = pl.concat([_sharing(records, key, rank) for rank, key in enumerate(_SHARED)])
    words = dict(enumerate(_SHARED.values()))
    told = (
        both.sort("entry", "other", "rank")
        .group_by("entry", "other", maintain_order=True)
        .agg(pl.col("rank").unique(maintain_order=True).replace_strict(words, return_dtype=pl.String).str.join(" and "))
        .rename({"rank": "share"})
    )
    ruled = pl.concat([apart, apart.select(pl.col("other").alias("entry"), pl.col("entry").alias("other"))])
    return told.join(ruled, on=["entry", "other"], how="anti", maintain_order="left")


def _sharing(records: pl.DataFrame, key: str, rank: int) -> pl.DataFrame:
    said = records.select("entry", pl.col(key).alias("value"))
    if said.schema["value"] == pl.List(pl.String):
        said = said.filter(pl.col("value").list.len() > 0).explode("value")
    said = said.drop_nulls("value").with_columns(pl.col("value").hash(seed=7))
    # most values are of one record: those are put aside before anything is compared
    said = said.filter(pl.len().over("value") > 1).unique()
    said = said.filter(pl.len().over("value").is_between(2, _FEW))
    pairs = said.join(said.rename({"entry": "other"}), on="value").filter(pl.col("entry") != pl.col("other"))
    return pairs.select("entry", "other", pl.lit(rank).alias("rank"))
