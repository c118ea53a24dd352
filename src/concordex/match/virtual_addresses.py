"""Addresses that move between the members of a pair: each belongs to the member that holds it, or to nobody.

Members are known by the virtual router's MAC that they show together (RFC 9568).  Of an address that
several of them show, the one that was last seen with it is the holder.
"""

from __future__ import annotations

import numpy as np
import polars as pl

from concordex.match.identity import VIRTUAL, showing

_ROUTER = r"^00:00:5e:00:0[12]:"


def of_nobody(records: pl.DataFrame) -> pl.DataFrame:
    """Entries that are no device, but an address that floats: ``entry``, its virtual ``router`` and its ``ips``.

    All their records show virtual routers' MACs alone (RFC 9568), and no sign of hardware.
    """
    macs = pl.col("macs").list
    shown = (macs.len() > 0) & macs.eval(pl.element().str.contains(_ROUTER)).list.all()
    bare = pl.all_horizontal(pl.col(key).is_null() for key in ("serial_key", "uuid_key", "tag_key"))
    some = pl.DataFrame(records["entry"].gather(showing(records["macs"], _ROUTER))).unique()
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
    rows = showing(members["macs"], VIRTUAL)
    if not len(rows):
        return members
    virtual = pl.element().str.contains(VIRTUAL)
    showers = members.select("row", "entry", "macs", "ips", "last_seen")[rows]
    shown = showers.with_columns(pl.col("macs").list.filter(virtual).alias("shared"))
    shown = shown.filter(pl.col("ips").list.len() > 0)
    held = shown.explode("shared").explode("ips").drop_nulls(["ips", "last_seen"])
    latest = held.sort("last_seen", "row", descending=[True, False]).group_by("shared", "ips", maintain_order=True)
    holders = latest.agg(pl.col("entry").first().alias("holder"), pl.col("entry").n_unique().alias("members"))
    claims = shown.explode("shared").explode("ips").join(holders.filter(pl.col("members") > 1), on=["shared", "ips"])
    others = claims.filter(pl.col("entry") != pl.col("holder")).group_by("row").agg(pl.col("ips").alias("elsewhere"))
    kept = pl.col("ips").list.set_difference(pl.col("elsewhere").fill_null(pl.lit([], dtype=pl.List(pl.String))))
    cleaned = showers.join(others, on="row", how="left", maintain_order="left").select(
        pl.col("macs").list.filter(virtual.not_()),
        pl.when(pl.col("elsewhere").is_null()).then("ips").otherwise(kept).alias("ips"),
    )
    at = np.full(members.height, -1)
    at[rows] = np.arange(len(rows))
    place = pl.Series(at)
    mended = cleaned.select(pl.all().gather(place.set(place < 0, None)))
    return members.with_columns(
        pl.when(place < 0).then(name).otherwise(mended[name]).alias(name) for name in ("macs", "ips")
    )
