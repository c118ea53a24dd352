"""Somebody at a dock: whose machine it is may be known from elsewhere.

A sight that shows a shared card and a user, and no sign of its own, is of the machine that is known both at that dock
and as that user's, be it by different records, where there is one such machine alone.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import polars as pl

from concordex.match.frequencies import Frequencies, Numbers


def taken(known: Frequencies, chains: Numbers) -> tuple[Numbers, Numbers]:
    """Chains of such sights, and for each the chain of the machine.

    ``chains`` names for each row what it hangs together with, by one of its rows.
    """
    weak = np.ones(len(chains), dtype=np.bool_)
    weak[chains[_own(known)]] = False
    at = loose(known) & weak[chains]
    if not at.any():
        return np.zeros(0, dtype=np.int64), np.zeros(0, dtype=np.int64)
    wanted = _docks(known, chains, at).join(_users(known, chains, at), on=["chain", "row"]).drop("row").unique()
    strong = ~weak[chains]
    at_dock = _docks(known, chains, strong).join(wanted, on="dock", how="semi").select("chain", "dock").unique()
    of_user = _users(known, chains, strong).join(wanted, on="user", how="semi").select("chain", "user").unique()
    seats = at_dock.join(of_user, on="chain").rename({"chain": "into"})
    fits = wanted.join(seats, on=["dock", "user"]).select("chain", "into").unique()
    sure = fits.group_by("chain").agg(pl.col("into").first(), pl.len()).filter(pl.col("len") == 1)
    return sure["chain"].to_numpy(), sure["into"].to_numpy()


def loose(known: Frequencies) -> npt.NDArray[np.bool_]:
    """Which rows show a shared card and a user, and no sign of their own."""
    return np.asarray(np.any([dock != 0 for dock in docks(known)], axis=0) & (known.user.values != 0) & ~_own(known))


def docks(known: Frequencies) -> list[Numbers]:
    """The shared cards of each row, nought for none."""
    return [np.where(column.bearers > 1, column.values, 0) for column in known.macs]


def _own(known: Frequencies) -> npt.NDArray[np.bool_]:
    """Which rows show a sign that is a device's own, or a name."""
    plain = (known.serial, known.uuid, known.tag, known.name, *known.drawn)
    cards = [(column.values != 0) & (column.bearers <= 1) for column in known.macs]
    return np.asarray(np.any([*(column.values != 0 for column in plain), *cards], axis=0))


def _docks(known: Frequencies, chains: Numbers, of: npt.NDArray[np.bool_]) -> pl.DataFrame:
    parts = []
    for column in docks(known):
        rows = np.flatnonzero(of & (column != 0))
        parts.append(pl.DataFrame({"chain": chains[rows], "row": rows, "dock": column[rows]}))
    return pl.concat(parts)


def _users(known: Frequencies, chains: Numbers, of: npt.NDArray[np.bool_]) -> pl.DataFrame:
    rows = np.flatnonzero(of & (known.user.values != 0))
    return pl.DataFrame({"chain": chains[rows], "row": rows, "user": known.user.values[rows]})
