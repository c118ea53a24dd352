"""What of a table's records is kept, piece by piece: without what the rules leave out, and by site."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import polars as pl

from concordex.model.fields import KINDS
from concordex.store.snapshots import beside
from concordex.work.pull.retention import left_out

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: Which rule left a record out; an earlier release did not keep that.
_RULE, _EARLIER = "left out by", "an earlier pull"


class Sift:
    """The records of one table on their way into a snapshot, and what was seen of them there."""

    def __init__(self, workspace: BaseWorkspace, system: str, table: str) -> None:
        self._workspace, self._system, self._table = workspace, system, table
        self._rules = workspace.config.systems[system].leave_out
        self._hidden: dict[str, list[pl.DataFrame]] = {}
        self._kinds: set[str] = set()
        write = workspace.dialect(system).tables[table].write
        keys = (name for key in write.keys for name in key) if write else ()
        self._keys = sorted({"record_id", *keys, *(write.unique if write else ())})

    def piece(self, frame: pl.DataFrame) -> pl.DataFrame:
        """What is kept of some records, by site, so that a filter on one skips the rest."""
        kept, out = left_out(in_order(frame), self._table, self._rules, self._workspace)
        for rule, hidden in out.items():
            self._hidden.setdefault(rule, []).append(hidden.select(self._keys))
        if "kind" in kept.columns:
            self._kinds.update(kept["kind"].drop_nulls().unique())
        return kept

    @property
    def counts(self) -> dict[str, int]:
        """How many each rule has left out."""
        return {rule: sum(part.height for part in parts) for rule, parts in self._hidden.items()}

    @property
    def remarks(self) -> list[str]:
        """What a person should know: kinds that the dialect's `values` should translate."""
        odd = sorted(self._kinds - set(KINDS))
        return [f"kinds that are not among ours: {', '.join(odd[:5])}"] if odd else []

    def recall(self, file: str, frame: pl.DataFrame, gone: Sequence[str]) -> None:
        """What was left out of the snapshot in ``file`` still is, where only a part of its table came since.

        ``frame`` is the table as it is kept now; what is in it, or ``gone``, is left out no longer.
        """
        if not self._workspace.frames.known(beside(file)):
            return
        earlier = self._workspace.frames.scan(beside(file)).collect()
        came = [frame["record_id"], *(part["record_id"] for parts in self._hidden.values() for part in parts)]
        still = earlier.filter(
            pl.col("record_id").is_in(pl.concat([*came, pl.Series(gone, dtype=pl.String)]).implode()).not_()
        )
        by = still[_RULE] if _RULE in still.columns else pl.Series(_RULE, [_EARLIER], dtype=pl.String)
        for (rule,), part in still.with_columns(by).group_by(_RULE, maintain_order=True):
            self._hidden.setdefault(str(rule), []).append(part.select(pl.col(name) for name in self._keys))

    def keep_keys(self, file: str) -> None:
        """Of records that are left out, keep that their keys are taken: a sync must not make them once more."""
        parts = [
            part.with_columns(pl.lit(rule).alias(_RULE))
            for rule, of in self._hidden.items()
            for part in of
            if part.height
        ]
        if parts:
            self._workspace.frames.write(pl.concat(parts, how="vertical_relaxed"), beside(file))


def in_order(frame: pl.DataFrame) -> pl.DataFrame:
    """By site and id."""
    by = [name for name in ("site", "record_id") if name in frame.columns]
    return frame.sort(by, nulls_last=True)
