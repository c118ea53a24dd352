"""Addresses that move between the members of a pair: each belongs to the member that holds it.

Members are known by the virtual router's MAC that they show together (RFC 9568).  Of an address that
several of them show, the one that was last seen with it is the holder.
"""

from __future__ import annotations

import polars as pl

from concordex.match.identity import VIRTUAL


def settled(members: pl.DataFrame) -> pl.DataFrame:
    """``members`` (``row``, ``entry``, ``macs``, ``ips``, ``last_seen``) without the addresses that another holds.

    Virtual routers' MACs are nobody's, and are taken out as well.
    """
    virtual = pl.col("macs").list.filter(pl.element().str.contains(VIRTUAL))
    shown = members.select("row", "entry", "ips", "last_seen", virtual.alias("shared")).filter(
        pl.col("shared").list.len() > 0, pl.col("ips").list.len() > 0
    )
    held = shown.explode("shared").explode("ips").drop_nulls(["ips", "last_seen"])
    latest = held.sort("last_seen", "row", descending=[True, False]).group_by("shared", "ips", maintain_order=True)
    holders = latest.agg(pl.col("entry").first().alias("holder"), pl.col("entry").n_unique().alias("members"))
    claims = shown.explode("shared").explode("ips").join(holders.filter(pl.col("members") > 1), on=["shared", "ips"])
    others = claims.filter(pl.col("entry") != pl.col("holder")).group_by("row").agg(pl.col("ips").alias("elsewhere"))
    told = members.with_columns(pl.col("macs").list.filter(pl.element().str.contains(VIRTUAL).not_()))
    if others.is_empty():
        return told
    kept = pl.col("ips").list.set_difference(pl.col("elsewhere").fill_null(pl.lit([], dtype=pl.List(pl.String))))
    joined = told.join(others, on="row", how="left", maintain_order="left")
    return joined.with_columns(pl.when(pl.col("elsewhere").is_null()).then("ips").otherwise(kept).alias("ips")).drop(
        "elsewhere"
    )
