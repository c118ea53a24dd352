"""Versions: who is behind what is wanted, what is out of support, what could be installed, how releases spread."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from datetime import date, timedelta
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.errors import CalledWrongly
from concordex.insight.versions import is_below, newest, releases_behind, standing
from concordex.model.fields import ASKABLE
from concordex.query.predicate import predicate, predicate_of
from concordex.work.concordance import stored
from concordex.work.show.over_time import ends_of
from concordex.work.show.tables import Selection
from concordex.work.workspace.wanted import FOLDER, Support, VersionsFile, WantedVersion, load

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

_ENTRY = ("entry", "name", "kind", "site", "model", "os", "os_version")
_SCHEMA: dict[str, Any] = {
    **dict.fromkeys(_ENTRY, pl.String), "wanted": pl.String, "state": pl.String, "behind": pl.Int64,
    "since": pl.Date, "days": pl.Int64, "support": pl.String, "ends": pl.Date, "update": pl.String,
}  # fmt: skip


def versions(workspace: BaseWorkspace, where: str | None = None) -> Selection:
    """Every device with a version, or for which one is wanted, beside what is wanted.

    ``state`` is current, behind, ahead or unknown, where a rule wants something; ``behind`` counts the releases
    between, of those that are seen anywhere; ``since`` is the day from which on it is wanted, ``days`` how long that
    is ago; ``support`` is ended, ending (within 90 days) or supported until it ``ends``; ``update`` is the newest
    version that a system offers for it.
    """
    rules = load(workspace.root)
    if not rules.wanted and not rules.support:
        raise CalledWrongly(
            "no version is wanted", advice=f"write {FOLDER}/*.yaml: docs/fleet.md; or concordex versions --spread"
        )
    entries = stored.read(workspace, "entries").collect()
    today = workspace.now().date()
    judged = _judged(workspace, entries, rules, today, _updates(workspace))
    frame = pl.DataFrame(judged, schema=_SCHEMA, orient="row", infer_schema_length=None)
    if where is not None:
        frame = frame.filter(predicate_of(frame, workspace.query(where), workspace.now()))
    order = pl.col("state").replace_strict(["behind", "unknown", "ahead", "current"], [0, 1, 2, 3], default=4)
    return Selection(
        frame=frame.sort(order, "ends", -pl.col("behind"), "site", "name", nulls_last=True),
        notes=stored.notes(workspace),
    )


def spread(workspace: BaseWorkspace, where: str | None = None, over: str | None = None) -> Selection:
    """How many devices run each version of each operating system; with ``over``, at the end of each span of time.

    Over time a device is what its records are today, and runs what the newest record of it says that told any.
    """
    if over is None:
        entries = stored.in_scope(workspace, [where] if where else [])
        return Selection(frame=_shared(entries, []), notes=stored.notes(workspace))
    members, chosen = stored.settled(
        workspace, lambda: (stored.entry_of(workspace), stored.in_scope(workspace, [where] if where else []))
    )
    parts, notes = [], stored.notes(workspace)
    span, ends = ends_of(workspace.now(), over)
    for end, called in ends:
        snapshots = [s for s in workspace.memory.newest("devices", until=end) if s.file]
        if not snapshots:
            continue
        told = workspace.frames.together(snapshots)
        needed = [name for name in ("os", "os_version", "last_seen") if name in told.collect_schema()]
        records = told.select("system", "record_id", *needed).join(members, on=["system", "record_id"]).collect()
        if "os_version" not in records.columns:
            continue
        latest = records.filter(pl.col("os_version").is_not_null()).join(chosen, on="entry", how="semi")
        latest = latest.sort("last_seen", nulls_last=False) if "last_seen" in latest.columns else latest
        latest = latest.unique("entry", keep="last").with_columns(pl.lit(called).alias(span))
        parts.append(_shared(latest, [span]))
    if not parts:
        raise CalledWrongly("no versions were pulled by then", advice="concordex pulls")
    return Selection(frame=pl.concat(parts), notes=notes)


def _shared(devices: pl.DataFrame, by: Sequence[str]) -> pl.DataFrame:
    counts = devices.group_by(*by, "os", "os_version").agg(pl.len().cast(pl.Int64).alias("devices"))
    whole = pl.col("devices").sum().over(*by, "os") if by else pl.col("devices").sum().over("os")
    return counts.with_columns((pl.col("devices") / whole).round(3).alias("share")).sort(
        *by, "os", "devices", "os_version", descending=[*([False] * len(by)), False, True, False], nulls_last=True
    )


def _judged(
    workspace: BaseWorkspace, entries: pl.DataFrame, rules: VersionsFile, today: date, updates: dict[str, list[str]]
) -> list[dict[str, Any]]:
    wanted = _counting(workspace, entries, [rule for rule in rules.wanted if rule.since is None or rule.since <= today])
    support = [(rule, _holds(workspace, entries, rule)) for rule in rules.support]
    seen: dict[str, set[str]] = defaultdict(set)
    for os, version in entries.select("os", "os_version").drop_nulls().unique().iter_rows():
        seen[os].add(version)
    rows = []
    for at, entry in enumerate(entries.select(_ENTRY).iter_rows(named=True)):
        rule, version = wanted[at], entry["os_version"]
        ends = [until.ends for until, holds in support if holds[at] and is_below(version, until.below)]
        if rule is None and not ends:
            continue
        row: dict[str, Any] = {**entry, "update": newest(updates.get(entry["entry"], []))}
        if rule is not None:
            row |= {"wanted": rule.version, "state": standing(version, rule.version), "since": rule.since}
        if row.get("state") == "behind" and rule is not None:
            row["behind"] = releases_behind(version, rule.version, seen[entry["os"]])
            row["days"] = (today - rule.since).days if rule.since else None
        if ends:
            row["ends"] = min(ends)
            row["support"] = _supported(min(ends), today)
        rows.append(dict.fromkeys(_SCHEMA) | row)
    return rows


#: So long before support ends it is told.
_SOON = timedelta(days=90)


def _supported(ends: date, today: date) -> str:
    return "ended" if ends < today else "ending" if ends - today <= _SOON else "supported"


def _holds(workspace: BaseWorkspace, entries: pl.DataFrame, rule: WantedVersion | Support) -> list[bool]:
    test = predicate(workspace.query(rule.where), ASKABLE, workspace.now())
    return entries.select(test.alias("holds"))["holds"].to_list()


def _counting(
    workspace: BaseWorkspace, entries: pl.DataFrame, rules: Sequence[WantedVersion]
) -> list[WantedVersion | None]:
    """Of each entry the last rule that holds for it."""
    counting: list[WantedVersion | None] = [None] * entries.height
    for rule in rules:
        for at, holds in enumerate(_holds(workspace, entries, rule)):
            if holds:
                counting[at] = rule
    return counting


def _updates(workspace: BaseWorkspace) -> dict[str, list[str]]:
    """What systems offer for each device: records of a table ``updates``, each of a ``parent`` and a ``version``."""
    snapshots = [s for s in workspace.memory.newest("updates") if s.file]
    if not snapshots:
        return {}
    told = workspace.frames.together(snapshots)
    if not {"parent", "version"} <= {*told.collect_schema()}:
        return {}
    members = stored.entry_of(workspace, "parent")
    offered: dict[str, list[str]] = defaultdict(list)
    for entry, version in told.join(members, on=["system", "parent"]).select("entry", "version").collect().iter_rows():
        if version is not None:
            offered[entry].append(version)
    return offered
