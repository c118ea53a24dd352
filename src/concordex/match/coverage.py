"""What each system knows of all devices, how far it agrees with the others, and what moved since last time."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import polars as pl

#: Values by which systems are compared, as they compare.
_COMPARED = {"serial_key": None, "name_key": None, "site": None, "model": None, "kind": "other", "os_version": None}


def coverage(members: pl.DataFrame, entries: pl.DataFrame, scopes: Mapping[str, pl.Expr]) -> dict[str, dict[str, Any]]:
    """For each system: its records and entries, those that no other knows, how many of those that it should
    know by its scope it does, and the share of its values that another system confirms where another speaks."""
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
    shared = members.filter(pl.col("system").n_unique().over("entry") > 1)
    parts = []
    for name, nothing in _COMPARED.items():
        value = pl.col(name).cast(pl.String).str.to_lowercase()
        said = (
            shared.select("entry", "system", value.alias("value"))
            .drop_nulls("value")
            .filter(pl.col("value") != (nothing or ""))
        )
        said = said.unique().with_columns(
            pl.col("system").n_unique().over("entry").alias("speak"),
            pl.col("system").n_unique().over("entry", "value").alias("agree"),
        )
        parts.append(said.filter(pl.col("speak") > 1).select("system", (pl.col("agree") > 1).alias("yes")))
    return dict(pl.concat(parts).group_by("system").agg(pl.col("yes").mean()).iter_rows())


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
