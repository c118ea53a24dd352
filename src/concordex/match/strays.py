"""Sights under a name that is out of date: the address belongs to another device by now.

What looks devices up by address may call one by the name of whoever had the address before.  Such a record shows an
address that another device has at the time, and nothing but the name speaks for it; and several systems agree where
the device of that name is, or that the other is at that address.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import polars as pl

from concordex.match.frequencies import Frequencies, Numbers

#: An address that so many systems agree on is where a device is.
SETTLED = 3

#: Hours between two sights of one time.
_NEAR = 7 * 24


def put_aside(groups: Numbers, known: Frequencies, hours: Numbers, ruled: Numbers) -> Numbers:
    """``groups``, with sights under a name that is out of date in groups of their own, by address.

    ``hours`` says when each record was seen; nought where that is unknown.  Rows that somebody ``ruled`` stay.
    """
    weak = loose(known)
    weak[ruled] = False
    if not weak.any():
        return groups
    shown = pl.concat(_shown(groups, known, weak, hours)) if known.ips else pl.DataFrame()
    if shown.is_empty():
        return groups
    by = shown.group_by("group", "ip").agg(pl.col("system").n_unique().alias("systems"), pl.col("weak").all())
    settled = by.filter(pl.col("systems") > 1).group_by("group").agg(pl.col("systems").max(), pl.len().alias("many"))
    sure = settled.filter(pl.col("systems") >= SETTLED, pl.col("many") == 1).select("group")
    lone = by.filter(pl.col("weak"), pl.col("systems") < SETTLED).select("group", "ip")
    mine = shown.join(lone, on=["group", "ip"], how="semi")
    near = (pl.col("hour") > 0) & (pl.col("hour_other") > 0)
    near &= (pl.col("hour") - pl.col("hour_other")).abs() <= _NEAR
    others = mine.join(shown, on="ip", suffix="_other").filter(pl.col("group") != pl.col("group_other"), near)
    held = by.filter(pl.col("systems") >= SETTLED).select(pl.col("group").alias("group_other"), "ip")
    beside = pl.concat([
        others.join(sure, on="group", how="semi").select("group", "ip"),
        others.join(held, on=["group_other", "ip"], how="semi").select("group", "ip"),
    ])  # fmt: skip
    stray = mine.join(beside.select("group", "ip").unique(), on=["group", "ip"], how="semi")
    stray = stray.with_columns(pl.col("row").min().over("group", "ip").alias("own"))
    out = groups.copy()
    out[stray["row"].to_numpy()] = stray["own"].to_numpy() + len(groups)  # their group may be named by one of them
    return _renamed(out)


def loose(known: Frequencies) -> npt.NDArray[np.bool_]:
    """Which rows are sights without a sign of hardware or a user."""
    return np.asarray(known.sights & ~known.hardware() & (known.user.values == 0))


def addresses(known: Frequencies, systems: int = SETTLED) -> list[Numbers]:
    """The address of each row, of several the first, that one device and so many systems show; nought for none."""
    return [np.where((c.bearers <= 1) & (c.systems >= systems), c.values, 0) for c in known.ips[:1]]


def _shown(groups: Numbers, known: Frequencies, weak: npt.NDArray[np.bool_], hours: Numbers) -> list[pl.DataFrame]:
    """Which group shows which address, where one device alone and several systems do."""
    frames = []
    for column in addresses(known, 2):
        rows = np.flatnonzero(column)
        frames.append(
            pl.DataFrame({
                "row": rows, "group": groups[rows], "ip": column[rows], "system": known.system[rows],
                "weak": weak[rows], "hour": hours[rows],
            })
        )  # fmt: skip
    return frames


def _renamed(groups: Numbers) -> Numbers:
    """Groups named by their first rows, which may have left."""
    first = np.full(int(groups.max(initial=-1)) + 1, len(groups), dtype=np.int64)
    np.minimum.at(first, groups, np.arange(len(groups)))
    return np.asarray(first[groups])
