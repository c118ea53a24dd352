"""Addresses that move between the members of a pair: each belongs to the member that holds it, or to nobody.

Members are known by the virtual router's MAC that they show together (RFC 9568).  Of an address that
several of them show, the one that was last seen with it is the holder.
"""

from __future__ import annotations

import polars as pl

from concordex.match.identity import VIRTUAL

_ROUTER = r"^00:00:5e:00:0[12]:"


def of_nobody(records: pl.DataFrame) -> pl.DataFrame:
    """Entries that are no device, but an address that floats: ``entry``, its virtual ``router`` and its ``ips``.

    All their records show virtual routers' MACs alone (RFC 9568), and no sign of hardware.
    """
    macs = pl.col("macs").list
    shown = (macs.len() > 0) & macs.eval(pl.element().str.contains(_ROUTER)).list.all()
    bare = pl.all_horizontal(pl.col(key).is_null() for key in ("serial_key", "uuid_key", "tag_key"))
    some = records.filter(macs.eval(pl.element().str.contains(_ROUTER)).list.any()).select("entry").unique()
    mine = records.join(some, on="entry", how="semi", maintain_order="left")
    by = mine.group_by("entry", maintain_order=True)
    addresses = by.agg(
        (shown & bare).fill_null(value=False).all().alias("floats"),
        pl.col("macs").explode().first().alias("router"),
        pl.col("ips").explode().drop_nulls().unique(maintain_order=True),
    )
    return addresses.filter("floats").drop("floats")


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
    cleaned = members.with_columns(pl.col("macs").list.filter(pl.element().str.contains(VIRTUAL).not_()))
    if others.is_empty():
        return cleaned
    kept = pl.col("ips").list.set_difference(pl.col("elsewhere").fill_null(pl.lit([], dtype=pl.List(pl.String))))
    joined = cleaned.join(others, on="row", how="left", maintain_order="left")
    return joined.with_columns(pl.when(pl.col("elsewhere").is_null()).then("ips").otherwise(kept).alias("ips")).drop(
        "elsewhere"
    )
