"""The concordance as it is kept: made from the newest snapshots, read by everything after."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Callable
from dataclasses import dataclass, fields
from datetime import timedelta
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly
from concordex.match.concordance import Concordance, Rules, reconcile
from concordex.match.findings import Scope
from concordex.model.fields import ASKABLE, FIELDS, ORIGINAL
from concordex.model.values import parse_duration
from concordex.query.bind import Binder
from concordex.query.frames import to_polars
from concordex.query.parse import parse
from concordex.store import snapshots as store

if TYPE_CHECKING:
    from concordex.store.catalogue import Snapshot
    from concordex.store.database import Row
    from concordex.work.workspace import Workspace


@dataclass(frozen=True, kw_only=True)
class Summary:
    """What a reconciliation came to."""

    records: int
    entries: int
    systems: dict[str, dict[str, int]]
    findings: dict[str, int]
    doubts: list[str]


def make(workspace: Workspace, progress: Callable[[int, int], None] = lambda _done, _of: None) -> Summary:
    """Reconcile the newest device snapshots of all systems, and keep the result."""
    found = [s for s in workspace.memory.newest("devices") if s.system in workspace.config.systems]
    if not found:
        raise CalledWrongly("there is no snapshot of devices", advice="concordex pull")
    records = _records(workspace, found)
    rest = _resting(workspace, records)
    progress(1, 3)
    concordance = reconcile(records, _rules(workspace, found), _before(workspace), rest)
    progress(2, 3)
    summary = _summary(concordance, found)
    _keep(workspace, concordance, found, summary)
    return summary


def read(workspace: Workspace, part: str) -> pl.LazyFrame:
    """One of the frames of the newest concordance."""
    return store.scan(workspace.store / str(_newest(workspace)["folder"]) / f"{part}.parquet")


def notes(workspace: Workspace) -> list[str]:
    """Whether the concordance is older than what it should rest on."""
    used = set(json.loads(_newest(workspace)["snapshots"]))
    newer = [s.system for s in workspace.memory.newest("devices") if s.id not in used]
    return [f"pulled since it was reconciled: {', '.join(newer)}; run `concordex reconcile`"] if newer else []


def is_current(workspace: Workspace) -> bool:
    """Whether nothing was pulled since."""
    return not notes(workspace)


def with_entries(workspace: Workspace, records: pl.LazyFrame) -> pl.LazyFrame:
    """``records`` with the entry that each belongs to, once there is a concordance."""
    if workspace.memory.reconciliation() is None:
        return records
    members = read(workspace, "members").select("system", "record_id", "entry")
    joined = records.join(members, on=["system", "record_id"], how="left", maintain_order="left")
    names = [name for name in joined.collect_schema().names() if name != "entry"]
    return joined.select(names[0], "entry", *names[1:])


def _newest(workspace: Workspace) -> Row:
    row = workspace.memory.reconciliation()
    if row is None:
        raise CalledWrongly("nothing has been reconciled yet", advice="concordex reconcile")
    return row


def _records(workspace: Workspace, found: list[Snapshot]) -> pl.DataFrame:
    """All device records with all common fields, and the reference that our own writes left behind."""
    lazy = store.together(workspace.store, found)
    schema = lazy.collect_schema()
    absent = [pl.lit(None, dtype=t.dtype).alias(n) for n, t in FIELDS.items() if n not in schema]
    frame = lazy.with_columns(absent).drop(ORIGINAL, strict=False).collect()
    made = workspace.memory.references()
    origin = pl.col("origin") if "origin" in frame.columns else pl.lit(None, dtype=pl.String)
    if not made:
        return frame.with_columns(origin.alias("reference"))
    kept = pl.DataFrame(
        [(row["system"], row["record_id"], row["source"]) for row in made],
        schema={"system": pl.String, "record_id": pl.String, "kept": pl.String}, orient="row",
    )  # fmt: skip
    joined = frame.join(kept, on=["system", "record_id"], how="left", maintain_order="left")
    return joined.with_columns(pl.coalesce(origin, "kept").alias("reference")).drop("kept")


def _resting(workspace: Workspace, records: pl.DataFrame) -> pl.Expr | None:
    text = workspace.config.reconcile.at_rest
    return None if text is None else _filter(workspace, text)


def _filter(workspace: Workspace, text: str) -> pl.Expr:
    binder = Binder(parse(text), ASKABLE, workspace.now(), extra=False)
    return to_polars(binder.query.node, binder)


def _rules(workspace: Workspace, found: list[Snapshot]) -> Rules:
    config = workspace.config.reconcile
    names = list(workspace.config.systems)
    managers = [name for name in names if workspace.role(name) == "manager"]
    inventories = [name for name in names if workspace.role(name) == "inventory"]
    whole = {snapshot.system for snapshot in found if snapshot.whole}
    order = [*config.prefer, *(n for n in [*managers, *inventories] if n not in config.prefer)]
    tables = {name: "devices" in workspace.dialect(name).tables for name in managers}
    scope = Scope(
        inventories=[name for name in inventories if name in whole],
        managers=[name for name in managers if name in whole],
        all_managers=all(name in whole for name in managers if tables[name]),
        stale_before=workspace.now() - (parse_duration(config.stale_after) or timedelta.max),
        expected={name: _filter(workspace, rule.where) for name, rule in workspace.config.sync.items() if rule.where},
    )
    return Rules(order=order, scope=scope, by_field=config.fields, placeholders=config.placeholders)


def _before(workspace: Workspace) -> pl.DataFrame | None:
    if workspace.memory.reconciliation() is None:
        return None
    return read(workspace, "members").select("system", "record_id", "entry").collect()


def _summary(made: Concordance, found: list[Snapshot]) -> Summary:
    per_system = made.members.group_by("system").agg(
        pl.len().alias("records"), pl.col("entry").n_unique().alias("entries")
    )
    alone = made.entries.filter(pl.col("systems").list.len() == 1).group_by(pl.col("systems").list.first()).len()
    only = dict(alone.iter_rows())
    systems = {
        name: {"records": records, "entries": entries, "only_here": only.get(name, 0)}
        for name, records, entries in per_system.sort("system").iter_rows()
    }
    counts = made.findings.group_by("kind").len().sort(["len", "kind"], descending=[True, False])
    doubts = [
        f"{s.system} is partial ({s.fault}): nothing is called missing because of it" for s in found if not s.whole
    ]
    return Summary(
        records=made.members.height, entries=made.entries.height, systems=systems,
        findings=dict(counts.iter_rows()), doubts=doubts,
    )  # fmt: skip


def _keep(workspace: Workspace, made: Concordance, found: list[Snapshot], summary: Summary) -> None:
    row = workspace.catalogue.reconciliation()
    folder = f"concordance/{(row['id'] if row else 0) + 1:06d}-{os.getpid()}"
    for part in fields(made):
        store.write(getattr(made, part.name), workspace.store / folder / f"{part.name}.parquet")
    told = {"records": summary.records, "entries": summary.entries, "findings": summary.findings}
    workspace.catalogue.add_reconciliation(folder, [s.id for s in found if s.id], told)
    if row:  # the one before is superseded; nothing refers to it any more
        shutil.rmtree(workspace.store / str(row["folder"]), ignore_errors=True)
