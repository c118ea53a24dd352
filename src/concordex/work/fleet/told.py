"""What systems tell of how things are: states, and readings, by what their dialects say of their tables."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.insight.events import EVENTS
from concordex.insight.readings import READINGS
from concordex.insight.states import meaning
from concordex.query.predicate import predicate_of

if TYPE_CHECKING:
    from concordex.store.catalogue import Snapshot
    from concordex.wire import dialect as d
    from concordex.work.workspace.base import BaseWorkspace

#: How something is: the ``device`` by its record's id, the ``table`` that tells, a ``part`` of the device, the word
#: that was ``said`` and what it means (``state``), and of when that is.
STATES: dict[str, Any] = {
    "system": pl.String, "device": pl.String, "table": pl.String, "part": pl.String, "said": pl.String,
    "state": pl.String, "at": pl.Datetime("us", "UTC"),
}  # fmt: skip


def telling(workspace: BaseWorkspace, systems: Sequence[str] = ()) -> Iterator[tuple[str, str, d.Table]]:
    """Each table of the systems whose dialects say how it tells how things are."""
    for system in workspace.systems(systems):
        for name, table in workspace.dialect(system).tables.items():
            if table.health is not None:
                yield system, name, table


def states(workspace: BaseWorkspace, systems: Sequence[str] = ()) -> pl.DataFrame:
    """How each thing is, as the newest pulls tell it."""
    told = [pl.DataFrame(schema=STATES)]
    for system, name, table in telling(workspace, systems):
        newest = [s for s in workspace.memory.newest(name, system=system) if s.file]
        if table.health and table.health.states and newest:
            told.append(_states(workspace, newest, name, table, table.health))
    return pl.concat(told)


def _states(
    workspace: BaseWorkspace, newest: Sequence[Snapshot], name: str, table: d.Table, health: d.Health
) -> pl.DataFrame:
    frame = workspace.frames.together(newest).collect()
    if health.state not in frame.columns:  # pulled when the dialect did not read it
        frame = frame.with_columns(pl.lit(None, dtype=pl.String).alias(health.state))
    state = meaning(health.state, health.states)
    if health.unless is not None:
        as_it_should = predicate_of(frame, health.unless.query, workspace.now())
        state = pl.when(as_it_should).then(pl.lit("normal")).otherwise(state)
    at = health.at or ("last_seen" if "last_seen" in table.fields else None)
    return frame.select(
        "system", _device(table), pl.lit(name).alias("table"), _part(table, health, frame.schema),
        pl.col(health.state).cast(pl.String).alias("said"), state.alias("state"),
        (_field(frame.schema, at, STATES["at"]) if at else pl.lit(newest[0].taken).cast(STATES["at"])).alias("at"),
    )  # fmt: skip


def readings(
    workspace: BaseWorkspace, metrics: Collection[str], since: datetime, systems: Sequence[str] = ()
) -> pl.LazyFrame:
    """The readings of some metrics from ``since`` on, as the pulls that are kept tell them.

    What has no time of its own is of the moment at which it was pulled; of such a table all pulls since then count, and
    two at the least, so that counters have rates.
    """
    frames = [pl.LazyFrame(schema=READINGS)]
    for system, name, table in telling(workspace, systems):
        health = table.health
        if health is None or not _wanted(health, metrics):
            continue
        if health.at is not None:
            snapshots = [s for s in workspace.memory.newest(name, system=system) if s.file]
        else:
            kept = workspace.catalogue.kept(system, name)
            snapshots = [s for s in kept if s.taken >= since]
            snapshots = snapshots if len(snapshots) > 1 else kept[-2:]
        for snapshot in snapshots:
            if snapshot.file and workspace.frames.damage(snapshot.file) is None:
                frames += _readings(workspace, snapshot, table, metrics, since)
    return pl.concat(frames)


def events(workspace: BaseWorkspace, since: datetime, systems: Sequence[str] = ()) -> pl.LazyFrame:
    """What happened from ``since`` on, as the newest pulls tell it."""
    frames = [pl.LazyFrame(schema=EVENTS)]
    for system, name, table in telling(workspace, systems):
        health = table.health
        newest = [s for s in workspace.memory.newest(name, system=system) if s.file]
        if health is None or health.events is None or not newest:
            continue
        told, lazy = health.events, workspace.frames.together(newest)
        known = lazy.collect_schema()
        if health.at is None or health.at not in known or told.event not in known:
            continue  # it was pulled when the dialect did not read them
        frames.append(lazy.filter(pl.col(health.at) >= since).select(
            "system", _device(table), _part(table, health, known), pl.col(told.event).cast(pl.String).alias("event"),
            _field(known, told.detail, pl.String()).alias("detail"), pl.col(health.at).cast(EVENTS["at"]).alias("at"),
            pl.col(told.event).is_in(told.begins).fill_null(value=False).alias("begins"),
            pl.col(told.event).is_in(told.ends).fill_null(value=False).alias("ends"),
        ))  # fmt: skip
    return pl.concat(frames)


def _wanted(health: d.Health, metrics: Collection[str]) -> bool:
    return health.long is not None or any(metric.called in metrics for metric in health.metrics.values())


def _readings(
    workspace: BaseWorkspace, snapshot: Snapshot, table: d.Table, metrics: Collection[str], since: datetime
) -> Iterator[pl.LazyFrame]:
    health = table.health
    assert health
    lazy = workspace.frames.together([snapshot])
    known = lazy.collect_schema()
    if health.at is not None and health.at not in known:
        return  # it was pulled when the dialect did not read the time
    if health.at is not None:
        lazy = lazy.filter(pl.col(health.at) >= since)
    at = (pl.col(health.at) if health.at else pl.lit(snapshot.taken)).cast(READINGS["taken_at"]).alias("taken_at")
    counting = _field(known, health.since, READINGS["since"]).alias("since")
    about: list[str | pl.Expr] = ["system", _device(table), _part(table, health, known)]
    if health.long is not None:
        fields = health.long
        unit = _field(known, fields.unit, pl.String())
        yield lazy.filter(pl.col(fields.metric).is_in(list(metrics))).select(
            *about, pl.col(fields.metric).alias("metric"), pl.col(fields.value).cast(pl.Float64).alias("value"),
            unit.alias("unit"), at, pl.lit(None, dtype=pl.Int64).alias("bits"), counting,
        )  # fmt: skip
    for field, metric in health.metrics.items():
        if metric.called in metrics and field in known:
            yield lazy.select(
                *about, pl.lit(metric.called).alias("metric"), pl.col(field).cast(pl.Float64).alias("value"),
                pl.lit(metric.unit, dtype=pl.String).alias("unit"), at,
                pl.lit(metric.counter, dtype=pl.Int64).alias("bits"), counting,
            )  # fmt: skip


def _device(table: d.Table) -> pl.Expr:
    """The record of the device: of what hangs from one, its parent."""
    return pl.col("parent" if "parent" in table.fields else "record_id").alias("device")


def _part(table: d.Table, health: d.Health, known: Mapping[str, pl.DataType]) -> pl.Expr:
    name = health.part or ("name" if "parent" in table.fields and "name" in table.fields else None)
    return _field(known, name, pl.String()).alias("part")


def _field(known: Mapping[str, pl.DataType], name: str | None, dtype: pl.DataType) -> pl.Expr:
    """A field, which a snapshot of an earlier dialect may lack."""
    return (pl.col(name) if name is not None and name in known else pl.lit(None)).cast(dtype)
