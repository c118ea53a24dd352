"""The entries as of a date: made once more, of what was pulled by then."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly
from concordex.match.concordance import reconcile
from concordex.work.concordance import inputs, last
from concordex.work.concordance.stored import as_pulled

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


def entries_as_of(workspace: BaseWorkspace, moment: datetime) -> tuple[pl.LazyFrame, list[str]]:
    """The entries that the snapshots of a moment make, by the rules, rulings and weights of today.

    A device that is an entry today has the number of that entry; one that is no more has none.
    """
    snapshots = [
        s
        for s in workspace.memory.newest("devices", until=moment)
        if s.file is not None and s.system in workspace.config.systems
    ]
    if not snapshots:
        raise CalledWrongly(f"no devices were pulled by {moment:%Y-%m-%d %H:%M} UTC", advice="concordex pulls")
    records, before = inputs.records(workspace, snapshots), last.members_before(workspace)
    made = reconcile(
        records, inputs.rules(workspace, snapshots), before, inputs.resting(workspace),
        last.learned(workspace, records.height),
    )  # fmt: skip
    entries, notes = made.entries, as_pulled(snapshots)
    if before is not None:
        still = pl.col("entry").is_in(before["entry"].unique().implode())
        entries = entries.with_columns(pl.when(still).then("entry").alias("entry"))
    notes += [f"{s.system}/devices was {s.outcome} then: some may lack" for s in snapshots if not s.whole]
    return entries.lazy(), [*notes, "matched by the rules, rulings and weights of today"]
