"""Retirement by rule: records that we made, whose source no whole pull has returned for long enough."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.change.compare import same
from concordex.change.reasons import Why, because
from concordex.change.steps import Step
from concordex.model.scalars import parse_duration
from concordex.wire import dialect as d
from concordex.work.concordance import stored

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

_TABLE = "devices"


def retirements(
    workspace: BaseWorkspace, system: str, frame: pl.DataFrame, write: d.Write, after: str | None
) -> list[Step]:
    """The steps that retire records of ``system`` whose source is gone for as long as ``after`` says.

    Only records that we made are meant, and only absence from whole pulls counts: each source must have one
    from before that time, and none since that returned the record.
    """
    lasted = parse_duration(after) if after else None
    if lasted is None or not write.retire or write.update is None:
        return []
    since = workspace.now() - lasted
    made = _made(workspace, system, frame, write)
    gone: dict[str, datetime] = {}
    for source in {ref.partition("/")[0] for ref in made.values()}:
        known = _returned(workspace, source, since)
        if known is not None:
            present, last = known
            gone |= {
                record_id: last
                for record_id, ref in made.items()
                if ref.partition("/")[0] == source and ref.partition("/")[2] not in present
            }
    spoken = _spoken_for(workspace, system)
    rows = frame.filter(pl.col("record_id").is_in(list(gone))).sort("record_id")
    return [
        _step(row, write.retire, made[row["record_id"]], gone[row["record_id"]])
        for row in rows.iter_rows(named=True)
        if row["record_id"] not in spoken
        and not all(same(row.get(name), value) for name, value in write.retire.items())
    ]


def _made(workspace: BaseWorkspace, system: str, frame: pl.DataFrame, write: d.Write) -> dict[str, str]:
    """Of each record that we made there, the record that it was made for.

    What stands in `origin` says so only where it is written at no other time.
    """
    made = {row["record_id"]: row["source"] for row in workspace.memory.references() if row["system"] == system}
    spec = write.fields.get("origin")
    if "origin" in frame.columns and spec is not None and spec.owner == "when_made":
        made |= dict(frame.select("record_id", "origin").drop_nulls().iter_rows())
    return made


def _returned(workspace: BaseWorkspace, source: str, since: datetime) -> tuple[set[str], datetime] | None:
    """The records that whole pulls of a source have returned since, and when it was last pulled; None if unknown."""
    kept = [snapshot for snapshot in workspace.memory.kept(source, _TABLE) if snapshot.whole]
    recent = [snapshot for snapshot in kept if snapshot.taken >= since]
    if not recent or len(recent) == len(kept):
        return None
    present: set[str] = set()
    for snapshot in recent:
        present |= set(workspace.frames.scan(str(snapshot.file)).select("record_id").collect()["record_id"])
    return present, recent[-1].taken


def _spoken_for(workspace: BaseWorkspace, system: str) -> set[str]:
    """Records of devices that some other manager still knows."""

    managers = [name for name in workspace.config.systems if workspace.role(name) == "manager"]
    members = stored.read(workspace, "members").select("system", "record_id", "entry").collect()
    known = members.filter(pl.col("system").is_in(managers))["entry"].unique()
    mine = members.filter(pl.col("system") == system, pl.col("entry").is_in(known.implode()))
    return set(mine["record_id"])


def _step(row: Mapping[str, Any], retired: Mapping[str, Any], source: str, last: datetime) -> Step:
    return Step(
        number=0, table=_TABLE, operation="update", action="retire", label=row["name"] or row["record_id"],
        key={name: row[name] for name in ("serial", "name", "maker", "model", "site") if name in row},
        before={name: row.get(name) for name in retired}, desired=dict(retired),
        record_id=row["record_id"], source=source,
        why=because(Why.UNSEEN, record=source, until=f"{last:%Y-%m-%d}"),
    )  # fmt: skip
