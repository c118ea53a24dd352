"""Entry numbers that stay with their device from one reconciliation to the next."""

from __future__ import annotations

import polars as pl


def number(members: pl.DataFrame, before: pl.DataFrame | None) -> pl.Series:
    """The entry (``E00001``) of each row of ``members`` (``system``, ``record_id``, ``group``).

    ``before`` holds ``system``, ``record_id`` and ``entry`` of the last time.  A group takes the
    entry that most of its records had; of two groups that want one, the larger; the rest get new ones.
    """
    groups = members.group_by("group", maintain_order=True).len()
    kept = (
        _kept(members, before)
        if before is not None
        else pl.DataFrame(schema={"group": members.schema["group"], "entry": pl.String})
    )
    highest = _highest(before)
    numbered = groups.join(kept, on="group", how="left", maintain_order="left")
    fresh = numbered["entry"].is_null().cast(pl.Int64).cum_sum() + highest
    names = pl.select("E" + fresh.cast(pl.String).str.zfill(5)).to_series()
    numbered = numbered.with_columns(pl.coalesce("entry", names.alias("new")).alias("entry"))
    return members.join(numbered.select("group", "entry"), on="group", how="left", maintain_order="left")["entry"]


def _kept(members: pl.DataFrame, before: pl.DataFrame) -> pl.DataFrame:
    votes = (
        members.join(before.select("system", "record_id", "entry"), on=["system", "record_id"])
        .group_by("group", "entry")
        .len("votes")
        .sort(["votes", "entry", "group"], descending=[True, False, False])
    )
    first = votes.unique("group", keep="first", maintain_order=True)
    return first.unique("entry", keep="first", maintain_order=True).select("group", "entry")


def _highest(before: pl.DataFrame | None) -> int:
    if before is None or before.is_empty():
        return 0
    return int(before.select(pl.col("entry").str.slice(1).cast(pl.Int64).max()).item())
