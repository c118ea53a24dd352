"""Batteries: how each is, how long it will last and who says so, and which to replace first."""

from __future__ import annotations

from datetime import timedelta
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.errors import CalledWrongly
from concordex.insight.batteries import Remaining, estimated, predicted
from concordex.insight.readings import believable
from concordex.model.scalars import parse_duration
from concordex.work.concordance import stored
from concordex.work.fleet.told import TableSource, readings
from concordex.work.show.tables import Selection

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: Fields of a table ``batteries``, each of a ``parent``.
FIELDS: dict[str, Any] = {
    "level": pl.Float64, "charging": pl.Boolean, "source": pl.String, "temperature": pl.Float64, "voltage": pl.Float64,
    "cycles": pl.Float64, "capacity": pl.Float64, "made_at": pl.Datetime("us", "UTC"), "serial": pl.String,
    "days_left": pl.Float64, "days_left_ceiling": pl.Float64, "days_observed": pl.Float64,
}  # fmt: skip
_CAPACITY = "battery.capacity"
_HISTORY = timedelta(days=400)


def batteries(workspace: BaseWorkspace, where: str | None = None) -> Selection:
    """Every battery of which a system tells, by site, the most urgent first.

    ``replace`` is now, later or unknown: now is what will not last as long as the workspace says, or holds less than it
    should.  ``remaining`` is as the system predicts it, or our own estimate, with what that rests on.
    """
    snapshots = [s for s in workspace.memory.newest("batteries") if s.file]
    if not snapshots:
        raise CalledWrongly("no batteries were pulled", advice="concordex pull; a dialect reads them into batteries")
    told = workspace.frames.together(snapshots)
    known = told.collect_schema()
    columns = [
        (pl.col(name) if name in known else pl.lit(None)).cast(dtype).alias(name) for name, dtype in FIELDS.items()
    ]
    of = told.select("system", pl.col("parent").alias("device"), *columns).collect()
    members = stored.entry_of(workspace, "device").collect()
    entries = stored.in_scope(workspace, [where] if where else [])
    named = of.join(members, on=["system", "device"], maintain_order="left").join(
        entries.select("entry", "name", "kind", "site", "user"), on="entry", maintain_order="left"
    )
    if where is not None:
        named = named.join(entries.select("entry"), on="entry", how="semi", maintain_order="left")
    judged = _judged(workspace, named)
    notes = [*stored.notes(workspace), *(f"{s.system}/{s.table} is {s.outcome}" for s in snapshots if not s.whole)]
    order = pl.col("replace").replace_strict(["now", "later", "unknown"], [0, 1, 2])
    frame = judged.sort("site", order, "days_least", "capacity", "name", nulls_last=True)
    return Selection(frame=frame, notes=notes)


def _judged(workspace: BaseWorkspace, named: pl.DataFrame) -> pl.DataFrame:
    rules = workspace.config.health.batteries
    soon = (parse_duration(rules.within) or timedelta(days=90)).days
    history = _history(workspace)
    rows = []
    for row in named.iter_rows(named=True):
        remaining = predicted(row["days_left"], row["days_left_ceiling"], row["days_observed"])
        if remaining.basis == "unknown":
            days, capacities = history.get((row["system"], row["device"]), ([], []))
            remaining = estimated(days, capacities, rules.worn_at)
        rows.append({**_shown(row, workspace), **_told(remaining, row["capacity"], rules.worn_at, soon)})
    return pl.DataFrame(rows, schema=_SCHEMA, infer_schema_length=None)


_SCHEMA: dict[str, Any] = {
    "replace": pl.String, "site": pl.String, "name": pl.String, "kind": pl.String, "user": pl.String,
    "entry": pl.String, "remaining": pl.String, "basis": pl.String, "days_least": pl.Float64,
    "days_most": pl.Float64, "capacity": pl.Float64, "level": pl.Float64, "charging": pl.Boolean,
    "source": pl.String, "temperature": pl.Float64, "voltage": pl.Float64, "cycles": pl.Float64,
    "age_days": pl.Int64, "serial": pl.String, "system": pl.String,
}  # fmt: skip


def _shown(row: dict[str, Any], workspace: BaseWorkspace) -> dict[str, Any]:
    age = (workspace.now() - row["made_at"]).days if row["made_at"] else None
    return {name: row.get(name) for name in _SCHEMA} | {"age_days": age}


def _told(remaining: Remaining, capacity: float | None, worn_at: float, soon: int) -> dict[str, Any]:
    worn = capacity is not None and capacity < worn_at
    ending = remaining.most is not None and remaining.most <= soon
    replace = "now" if worn or ending else "unknown" if remaining.least is None else "later"
    return {
        "replace": replace, "remaining": remaining.words, "basis": remaining.basis, "days_least": remaining.least,
        "days_most": remaining.most,
    }  # fmt: skip


def _history(workspace: BaseWorkspace) -> dict[tuple[str, str], tuple[list[float], list[float]]]:
    """What each battery could hold, by the days on which that was read."""
    now = workspace.now()
    lazy = believable(readings(TableSource(workspace), [_CAPACITY], now - _HISTORY, ()), now - _HISTORY, now)
    series = lazy.unique(["system", "device", "taken_at"]).sort("taken_at").collect()
    day = (pl.col("taken_at") - pl.lit(now).cast(pl.Datetime("us", "UTC"))).dt.total_seconds() / 86400
    grouped = series.with_columns(day.alias("day")).group_by("system", "device").agg("day", "value")
    return {(system, device): (days, values) for system, device, days, values in grouped.iter_rows()}
