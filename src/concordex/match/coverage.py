"""What each system knows of all devices, how far it agrees with the others, and what moved since last time."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np
import numpy.typing as npt
import polars as pl

Places = npt.NDArray[np.int64]

#: Values by which systems are compared, as they compare.
_COMPARED = {"serial_key": None, "name_key": None, "site": None, "model": None, "kind": "other", "os_version": None}


def coverage(members: pl.DataFrame, entries: pl.DataFrame, scopes: Mapping[str, pl.Expr]) -> dict[str, dict[str, Any]]:
    """For each system: its records and entries, those that no other knows, how many of those that it should
    know by its scope it does, and the share of its records' values that another system confirms, where one speaks."""
    agreed = _agreement(members)
    told = {}
    counted = members.group_by("system").agg(pl.len().alias("records"), pl.col("entry").n_unique().alias("entries"))
    alone = dict(
        entries.filter(pl.col("systems").list.len() == 1).group_by(pl.col("systems").list.first()).len().iter_rows()
    )
    for name, records, known in counted.sort("system").iter_rows():
        told[name] = {
            "records": records,
            "entries": known,
            "only_here": alone.get(name, 0),
            "agreement": agreed.get(name),
        }
        if name in scopes:
            due = entries.filter(scopes[name])
            told[name] |= {"due": due.height, "due_known": due.filter(pl.col("systems").list.contains(name)).height}
    return told


def _agreement(members: pl.DataFrame) -> dict[str, float]:
    names = members["system"].unique().sort()
    system = members["system"].cast(pl.Enum(names)).to_physical().to_numpy()
    entry = members["entry"].hash().to_numpy()
    order = np.argsort(entry, kind="stable")
    pairs = [(order[one], order[other]) for one, other in _beside(entry[order], system[order])]
    yes, all_of = np.zeros(len(names)), np.zeros(len(names))
    for name, nothing in _COMPARED.items():
        text = members[name].cast(pl.String).str.to_lowercase()
        said = (text.is_not_null() & (text != (nothing or "")).fill_null(value=False)).to_numpy()
        value = text.hash().to_numpy()
        speak, agree = np.zeros(len(value), dtype=np.bool_), np.zeros(len(value), dtype=np.bool_)
        for one, other in pairs:
            both = said[one] & said[other]
            same = both & (value[one] == value[other])
            for rows in (one, other):
                speak[rows[both]] = True
                agree[rows[same]] = True
        yes += np.bincount(system[agree], minlength=len(names))
        all_of += np.bincount(system[speak], minlength=len(names))
    return {name: float(yes[at] / all_of[at]) for at, name in enumerate(names) if all_of[at]}


def _beside(entry: npt.NDArray[np.uint64], system: npt.NDArray[np.uint32]) -> Iterator[tuple[Places, Places]]:
    """The places of two records each of one entry and of two systems; ``entry`` stands in order."""
    at, far = np.arange(len(entry)), 0
    while len(at):
        far += 1
        at = at[at + far < len(entry)]
        at = at[entry[at] == entry[at + far]]
        two = at[system[at] != system[at + far]]
        yield two, two + far


def moves(before: pl.DataFrame, members: pl.DataFrame) -> dict[str, int]:
    """How many entries are new and gone since ``before``, and how many records came, went and changed entry."""
    old, new = before.select("system", "record_id", "entry"), members.select("system", "record_id", "entry")
    both = old.join(new, on=["system", "record_id"], suffix="_now")
    counts = {
        "entries new": new.join(old, on="entry", how="anti")["entry"].n_unique(),
        "entries gone": old.join(new, on="entry", how="anti")["entry"].n_unique(),
        "records new": new.height - both.height,
        "records gone": old.height - both.height,
        "records moved to another entry": both.filter(pl.col("entry") != pl.col("entry_now")).height,
    }
    return {what: count for what, count in counts.items() if count}
