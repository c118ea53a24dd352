"""What of a table's records is kept, piece by piece: without what the rules leave out, and by site."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

import polars as pl

from concordex.model.fields import KINDS
from concordex.store.snapshots import beside
from concordex.work.pull.retention import left_out

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


class Sift:
    """The records of one table on their way into a snapshot, and what was seen of them there."""

    def __init__(self, workspace: BaseWorkspace, system: str, table: str) -> None:
        self._workspace, self._system, self._table = workspace, system, table
        self._rules = workspace.config.systems[system].leave_out
        self._counts: Counter[str] = Counter()
        self._hidden: list[pl.DataFrame] = []
        self._kinds: set[str] = set()
        write = workspace.dialect(system).tables[table].write
        keys = (name for key in write.keys for name in key) if write else ()
        self._keys = sorted({"record_id", *keys, *write.unique}) if write else []

    def piece(self, frame: pl.DataFrame) -> pl.DataFrame:
        """What is kept of some records, by site, so that a filter on one skips the rest."""
        kept, counts = left_out(in_order(frame), self._table, self._rules, self._workspace)
        self._counts.update(counts)
        if counts and self._keys:
            self._hidden.append(frame.join(kept.select("record_id"), on="record_id", how="anti").select(self._keys))
        if "kind" in kept.columns:
            self._kinds.update(kept["kind"].drop_nulls().unique())
        return kept

    @property
    def counts(self) -> dict[str, int]:
        """How many each rule has left out."""
        return dict(self._counts)

    @property
    def remarks(self) -> list[str]:
        """What a person should know: kinds that the dialect's `values` should translate."""
        odd = sorted(self._kinds - set(KINDS))
        return [f"kinds that are not among ours: {', '.join(odd[:5])}"] if odd else []

    def keep_keys(self, file: str) -> None:
        """Of records that are left out, keep that their keys are taken: a sync must not make them once more."""
        if self._hidden:
            self._workspace.frames.write(pl.concat(self._hidden), beside(file))


def in_order(frame: pl.DataFrame) -> pl.DataFrame:
    """By site and id."""
    by = [name for name in ("site", "record_id") if name in frame.columns]
    return frame.sort(by, nulls_last=True)
