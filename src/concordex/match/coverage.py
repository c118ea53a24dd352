"""What each system knows of all devices, how far it agrees with the others, and what moved since last time."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from typing import Any

import numpy as np
import numpy.typing as npt
import polars as pl

from concordex.match.ids import entry_numbers
from concordex.match.sidebyside import side_by_side
from concordex.match.sorting import Numbers, argsorted, mixed, starts

#: Values by which systems are compared, as they compare.
COMPARED = {"serial_key": None, "name_key": None, "site": None, "model": None, "kind": "other", "os_version": None}


def coverage(
    members: pl.DataFrame, entries: pl.DataFrame, scopes: Mapping[str, pl.Expr], agreed: pl.DataFrame
) -> dict[str, dict[str, Any]]:
    """For each system: its records and entries, those that no other knows, how many of those that it should
    know by its scope it does, and the share of its records' values that another system confirms, where one speaks.

    ``agreed`` is what :func:`agreement` counts.
    """
    share = {system: yes / of for system, yes, of in agreed.iter_rows() if of}
    covered = {}
    counted = members.group_by("system").agg(pl.len().alias("records"), pl.col("entry").n_unique().alias("entries"))
    alone = dict(
        entries.filter(pl.col("systems").list.len() == 1).group_by(pl.col("systems").list.first()).len().iter_rows()
    )
    for name, records, known in counted.sort("system").iter_rows():
        covered[name] = {
            "records": records,
            "entries": known,
            "only_here": alone.get(name, 0),
            "agreement": share.get(name),
        }
        if name in scopes:
            due = entries.filter(scopes[name])
            covered[name] |= {"due": due.height, "due_known": due.filter(pl.col("systems").list.contains(name)).height}
    return covered


def agreement(members: pl.DataFrame) -> pl.DataFrame:
    """For each ``system`` how many of its records' values another system confirms, and ``of`` how many one speaks of.

    What is counted of entries adds up: of some and of the others it is what it is of all.
    """
    names = members["system"].unique().sort()
    entry = members["entry"].hash().reinterpret(signed=True).to_numpy()
    order = argsorted(entry)
    entry = entry[order]
    system = members["system"].cast(pl.Enum(names)).to_physical().to_numpy().astype(np.int64)[order]

    def counted(name: str, nothing: str | None) -> Numbers:
        if members[name].null_count() == members.height:
            return np.zeros((2, len(names)), dtype=np.int64)
        text = pl.col(name) if name.endswith("_key") else pl.col(name).cast(pl.String).str.to_lowercase()
        says = (text != (nothing or "")).fill_null(value=False)
        values = members.select(says.alias("says"), text.hash().reinterpret(signed=True).alias("value"))
        rows = np.flatnonzero(values["says"].to_numpy()[order])
        both = mixed(entry[rows], values["value"].to_numpy()[order[rows]])
        by_value = argsorted(both)
        speaking = _of_several(entry[rows], system[rows])
        agreeing = _of_several(both[by_value], system[rows[by_value]])
        return np.stack([
            np.bincount(system[rows[by_value]][agreeing], minlength=len(names)),
            np.bincount(system[rows][speaking], minlength=len(names)),
        ])  # fmt: skip

    tallies = side_by_side((partial(counted, name, nothing) for name, nothing in COMPARED.items()), len(entry))
    counts = np.asarray(np.sum(tallies, axis=0, dtype=np.int64))
    return pl.DataFrame({"system": names, "confirmed": counts[0], "of": counts[1]})


def _of_several(ordered: Numbers, system: Numbers) -> npt.NDArray[np.bool_]:
    """Of equal numbers, which stand together, those that records of several systems bear."""
    begins = np.flatnonzero(starts(ordered))
    if not len(begins):
        return np.zeros(0, dtype=np.bool_)
    several = np.minimum.reduceat(system, begins) < np.maximum.reduceat(system, begins)
    return np.asarray(np.repeat(several, np.diff(np.r_[begins, len(ordered)])))


def moves(was: pl.Series, entry: pl.Series, before: pl.Series) -> dict[str, int]:
    """How many entries are new and gone, and how many records came, went and changed entry.

    ``was`` and ``entry`` say of each record its entry of last time, where it is not new, and that of now; ``before``
    holds the entries of all records of last time.
    """
    old, now = (entry_numbers(part) for part in (before, entry))
    there = np.zeros((2, int(max(old.max(initial=0), now.max(initial=0))) + 1), dtype=np.bool_)
    there[0, old], there[1, now] = True, True
    counts = {
        "entries new": (there[1] & ~there[0]).sum(),
        "entries gone": (there[0] & ~there[1]).sum(),
        "records new": was.null_count(),
        "records gone": len(before) - (len(was) - was.null_count()),
        "records moved to another entry": (was != entry).sum(),
    }
    return {what: int(count) for what, count in counts.items() if count}
