"""What of a table is kept, and for how long: by the rules of the workspace."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from typing import TYPE_CHECKING

import polars as pl

from concordex.model.scalars import parse_duration
from concordex.query.predicate import predicate_of
from concordex.store.snapshots import beside

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace
    from concordex.work.workspace.rules import Keep
    from concordex.work.workspace.system_settings import LeaveOut

_IDENTITY = ("serial", "macs", "name")


def left_out(
    frame: pl.DataFrame, table: str, rules: Sequence[LeaveOut], workspace: BaseWorkspace
) -> tuple[pl.DataFrame, dict[str, pl.DataFrame]]:
    """``frame`` without what the rules leave out, and what each of them left out."""
    out: dict[str, pl.DataFrame] = {}
    for rule in rules:
        if rule.table == table:
            unwanted = _unwanted(frame, rule, workspace)
            if unwanted is not None:
                mine = frame.select(unwanted.fill_null(value=False)).to_series()
                out[rule.name], frame = frame.filter(mine), frame.filter(~mine)
    return frame, out


def _unwanted(frame: pl.DataFrame, rule: LeaveOut, workspace: BaseWorkspace) -> pl.Expr | None:
    if rule.nameless:
        known = [name for name in _IDENTITY if name in frame.columns]
        return pl.all_horizontal(pl.col(name).is_null() for name in known) if known else None
    if rule.unseen:
        before = workspace.now() - (parse_duration(rule.unseen) or timedelta.max)
        return pl.col("last_seen") < before if "last_seen" in frame.columns else None
    return predicate_of(frame, workspace.query(rule.where or ""), workspace.now())


def tidy(workspace: BaseWorkspace, keep: Keep) -> int:
    """Remove snapshots that are older than the workspace keeps them; how many went."""
    workspace.frames.forget_copies("snapshots")
    age = parse_duration(keep.snapshots) if keep.snapshots else None
    if age is None:
        return 0
    used = workspace.catalogue.newest()
    resting = {snapshot.id for snapshot in used} | set(workspace.catalogue.reconciled())
    removed = 0
    for snapshot in workspace.catalogue.old_files(workspace.now() - age, keep.least):
        if snapshot.id in resting or snapshot.id is None or snapshot.file is None:
            continue
        workspace.catalogue.forget_file(snapshot.id)
        workspace.frames.forget(snapshot.file)
        workspace.frames.forget(beside(snapshot.file))
        removed += 1
    return removed
