"""How the fleet is: states counted by kind, thresholds that are passed, and what tells neither."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.insight.readings import SPANS, believable, from_the_future, latest, rates
from concordex.insight.states import counted, worst
from concordex.insight.thresholds import SEVERITIES, Boundary, passing
from concordex.model.scalars import parse_duration
from concordex.query.predicate import predicate_of
from concordex.words import plural
from concordex.work.concordance import stored
from concordex.work.fleet.told import TableSource, readings, states

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace
    from concordex.work.workspace.rules import Threshold

_DAY = timedelta(days=1)
_ENTRY = ("entry", "name", "kind", "site")
_PASSED: dict[str, Any] = {
    "severity": pl.String, **dict.fromkeys(_ENTRY, pl.String), "metric": pl.String, "part": pl.String,
    "value": pl.Float64, "unit": pl.String, "bound": pl.String, "system": pl.String,
    "taken_at": pl.Datetime("us", "UTC"),
}  # fmt: skip


@dataclass(frozen=True, kw_only=True)
class FleetHealth:
    """How a fleet is.

    counts   by ``of`` (devices, or what hangs from them) and ``kind``: how many are normal, warning, error, unknown
    ailing   what is warning or error by its system's own word
    passed   readings beyond a threshold of the workspace
    watched  of each threshold how many readings it was compared with
    notes    what a reader must know to trust it
    """

    counts: pl.DataFrame
    ailing: pl.DataFrame
    passed: pl.DataFrame
    watched: dict[str, int]
    notes: list[str] = field(default_factory=list)


def health(
    workspace: BaseWorkspace,
    systems: Sequence[str] = (),
    where: str | None = None,
    since: datetime | None = None,
    until: datetime | None = None,
    *,
    live: bool = False,
) -> FleetHealth:
    """How the devices of a filter on entries are, as some systems, or all, tell it; with ``live``, at this moment.

    A device is as the worst of its systems says; one of which none says anything is unknown.  ``since`` takes the place
    of how far back each threshold looks; readings of ``until`` and later do not count.
    """
    entries = stored.in_scope(workspace, [where] if where else [])
    source = TableSource(workspace)
    if live:
        from concordex.work.show.told_live import told_live  # what speaks to systems takes a while to import

        rules = workspace.config.health.thresholds
        begin = since or workspace.now() - max((_over(rule) for rule in rules), default=_DAY)
        source = told_live(workspace, systems, entries if where else None, begin, until)
    members = stored.entry_of(workspace, "device").collect()
    told = states(source, systems).join(members, on=["system", "device"], how="inner", maintain_order="left")
    told = told.join(entries.select(_ENTRY), on="entry", how="inner", maintain_order="left")
    of_devices = entries.select(_ENTRY).join(
        worst(told.filter(pl.col("table") == "devices"), "entry").select("entry", "system", "said", "state", "at"),
        on="entry", how="left", maintain_order="left",
    ).with_columns(pl.col("state").fill_null("unknown"), pl.lit(None, dtype=pl.String).alias("part"))  # fmt: skip
    parts = told.filter(pl.col("table") != "devices")
    counts = pl.concat([
        counted(of_devices.with_columns(pl.lit("devices").alias("of")), ["of", "kind"]),
        counted(parts.with_columns(pl.col("table").alias("of")), ["of", "kind"]),
    ])  # fmt: skip
    columns = ["state", *_ENTRY, "part", "said", "system", "at"]
    ailing = pl.concat([of_devices.select(columns), parts.select(columns)])
    ailing = ailing.filter(pl.col("state").is_in(["error", "warning"])).sort(
        pl.col("state") != "error", "site", "name", "part", nulls_last=True
    )
    passed, watched, notes = _passed(source, systems, members, entries, (since, until))
    return FleetHealth(counts=counts, ailing=ailing, passed=passed, watched=watched,
                       notes=[*stored.notes(workspace), *source.notes, *notes])  # fmt: skip


def _passed(
    source: TableSource, systems: Sequence[str], members: pl.DataFrame, entries: pl.DataFrame,
    span: tuple[datetime | None, datetime | None],
) -> tuple[pl.DataFrame, dict[str, int], list[str]]:  # fmt: skip
    found, watched, notes = [pl.DataFrame(schema=_PASSED)], dict[str, int](), dict[str, None]()
    workspace, (since, until) = source.workspace, span
    now = workspace.now()
    for rule in workspace.config.health.thresholds:
        begin = since or now - _over(rule)
        raw = readings(source, [rule.metric], begin, systems)
        if until is not None:
            raw = raw.filter(pl.col("taken_at") < until)
        if rule.unit is not None:
            raw = raw.filter(pl.col("unit") == rule.unit)
        values, later = _values(rule, raw, begin, now)
        chosen = entries
        if rule.where is not None:
            chosen = entries.filter(predicate_of(entries, workspace.query(rule.where), now))
        fresh = int(values["resets"].sum()) if "resets" in values.columns else 0
        if fresh:
            notes[f"{plural(fresh, 'counter')} of {rule.metric} began anew: what they counted before is left out"] = (
                None
            )
        known = values.join(members, on=["system", "device"], maintain_order="left").join(
            chosen.select(_ENTRY), on="entry", maintain_order="left"
        )
        called = _called(rule)
        watched[called] = watched.get(called, 0) + known.height
        if not known.height:
            notes[f"no reading of {called} since {begin:%Y-%m-%d %H:%M} UTC: its threshold watches nothing"] = None
        for system, count in later.iter_rows():
            notes[f"{plural(count, 'reading')} of {system} come from the future and do not count"] = None
        bounds = {name: Boundary.of(text) for name in SEVERITIES if (text := getattr(rule, name)) is not None}
        beyond = passing(known, bounds).with_columns(pl.lit(called).alias("metric"))
        found.append(beyond.select([pl.col(name).cast(dtype) for name, dtype in _PASSED.items()]))
    every = pl.concat(found).sort(pl.col("severity") != "error", "metric", "site", "name", "part", nulls_last=True)
    return every, watched, list(notes)


def _values(rule: Threshold, raw: pl.LazyFrame, begin: datetime, now: datetime) -> tuple[pl.DataFrame, pl.DataFrame]:
    """What is compared with a threshold, and how many readings of each system come from the future."""
    later = from_the_future(raw, now)
    if rule.per is None:
        sound = latest(believable(raw, begin, now))
        values, after = pl.collect_all([sound, later], engine="streaming")
        return values, after
    whole, after = pl.collect_all([believable(raw, datetime.min.replace(tzinfo=now.tzinfo), now), later])
    values = rates(whole).filter(pl.col("taken_at") >= begin).with_columns(pl.col("value") * SPANS[rule.per])
    return values.with_columns(pl.format("{}/{}", pl.col("unit").fill_null(""), pl.lit(rule.per)).alias("unit")), after


def _over(rule: Threshold) -> timedelta:
    """How far back a threshold looks."""
    return parse_duration(rule.over) or _DAY


def _called(rule: Threshold) -> str:
    """A threshold's reading as people call it."""
    return f"{rule.metric} per {rule.per}" if rule.per else rule.metric
