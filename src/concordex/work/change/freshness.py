"""How old what a prepared change rests on is, and what of it is no longer so by what was pulled since."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.change.compare import same
from concordex.change.prepare import NaturalKeys, natural
from concordex.change.reasons import Reasons, Why, because
from concordex.change.steps import Change, Step
from concordex.work.change.basis import forms_of
from concordex.work.targets.records import known_in

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True)
class Freshness:
    """When the tables of a change were last pulled whole, the oldest of them; and steps that rest on what has moved."""

    pulled: datetime | None = None
    moved: list[tuple[Step, Reasons]] = field(default_factory=list)


def freshness(workspace: BaseWorkspace, change: Change) -> Freshness:
    """Look at the open steps of a change again, by the newest whole pulls; nobody is asked for that.

    Of configuration objects, databases, files and devices nothing is pulled that would tell: a run looks by itself.
    """
    if change.about.objects or change.system not in workspace.config.systems or not change.writes:
        return Freshness()
    tables = {step.table for step in change.writes}
    newest = {s.table: s for s in workspace.memory.newest(system=change.system) if s.whole and s.file}
    if not tables <= newest.keys():
        return Freshness()
    forms, moved = forms_of(workspace, change.system), list[tuple[Step, Reasons]]()
    for table in sorted(tables):
        frame = workspace.frames.scan(str(newest[table].file)).collect()
        mine = [step for step in change.writes if step.table == table]
        known = known_in(frame, forms[table])
        ids = [step.record_id for step in mine if step.record_id]
        rows = {r["record_id"]: r for r in frame.filter(pl.col("record_id").is_in(ids)).iter_rows(named=True)}
        for step in mine:
            if why := _moved(step, rows.get(step.record_id or ""), known, forms[table].keys):
                moved.append((step, why))
    return Freshness(min(newest[table].taken for table in tables), sorted(moved, key=lambda pair: pair[0].number))


def _moved(step: Step, record: Mapping[str, Any] | None, known: NaturalKeys, keys: Sequence[Sequence[str]]) -> Reasons:
    """Why a step no longer rests on what it did."""
    if step.operation == "create":
        ids = [known.keys[key] for names in keys if (key := natural(step.key, names)) in known.keys]
        return because(Why.IS_THERE, record=ids[0]) if ids else ()
    if record is None:
        return because(Why.IS_GONE)
    now = [name for name, before in step.before.items() if name in record and not same(record[name], before)]
    return because(Why.IS_NOW, fields={name: record[name] for name in now}) if now else ()
