"""What systems tell of how things are: states, and readings, by what their dialects say of their tables."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.insight.events import EVENTS
from concordex.insight.readings import READINGS
from concordex.insight.states import meaning
from concordex.query.predicate import predicate_of

if TYPE_CHECKING:
    from concordex.wire import dialect as d
    from concordex.work.workspace.base import BaseWorkspace

#: How something is: the ``device`` by its record's id, the ``table`` that tells, a ``part`` of the device, the word
#: that was ``said`` and what it means (``state``), and of when that is.
STATES: dict[str, Any] = {
    "system": pl.String, "device": pl.String, "table": pl.String, "part": pl.String, "said": pl.String,
    "state": pl.String, "at": pl.Datetime("us", "UTC"),
}  # fmt: skip


@dataclass(frozen=True)
class TableSource:
    """Where tables come from: the newest pulls, or what systems answered just now (``live``, by system and table)."""

    workspace: BaseWorkspace
    live: Mapping[tuple[str, str], pl.LazyFrame] = field(default_factory=dict)
    #: What a reader of what was answered must know.
    notes: Sequence[str] = ()

    def newest(self, system: str, table: str) -> tuple[pl.LazyFrame, datetime] | None:
        """The newest of a table, and when it was taken."""
        if (system, table) in self.live:
            return self.live[system, table], self.workspace.now()
        snapshots = [s for s in self.workspace.memory.newest(table, system=system) if s.file]
        return (self.workspace.frames.together(snapshots), snapshots[0].taken) if snapshots else None

    def since(self, system: str, table: str, since: datetime) -> Iterator[tuple[pl.LazyFrame, datetime]]:
        """Each time it was taken since a moment, two times at the least; what was answered just now is the last."""
        kept = self.workspace.catalogue.kept(system, table)
        least = 1 if (system, table) in self.live else 2
        recent = [s for s in kept if s.taken >= since]
        for snapshot in recent if len(recent) >= least else kept[-least:]:
            if snapshot.file and self.workspace.frames.damage(snapshot.file) is None:
                yield self.workspace.frames.together([snapshot]), snapshot.taken
        if (system, table) in self.live:
            yield self.live[system, table], self.workspace.now()


def telling(workspace: BaseWorkspace, systems: Sequence[str] = ()) -> Iterator[tuple[str, str, d.Table]]:
    """Each table of the systems whose dialects say how it tells how things are."""
    for system in workspace.systems(systems):
        for name, table in workspace.dialect(system).tables.items():
            if table.health is not None:
                yield system, name, table


def states(source: TableSource, systems: Sequence[str] = ()) -> pl.DataFrame:
    """How each thing is, as the newest of its table tells it."""
    told = [pl.DataFrame(schema=STATES)]
    for system, name, table in telling(source.workspace, systems):
        newest = source.newest(system, name) if table.health and table.health.states else None
        if newest is not None and table.health is not None:
            told.append(_states(source.workspace, newest, name, table, table.health))
    return pl.concat(told)


def _states(
    workspace: BaseWorkspace, newest: tuple[pl.LazyFrame, datetime], name: str, table: d.Table, health: d.Health
) -> pl.DataFrame:
    frame = newest[0].collect()
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
        (_field(frame.schema, at, STATES["at"]) if at else pl.lit(newest[1]).cast(STATES["at"])).alias("at"),
    )  # fmt: skip


def readings(
    source: TableSource, metrics: Collection[str], since: datetime, systems: Sequence[str] = ()
) -> pl.LazyFrame:
    """The readings of some metrics from ``since`` on, as their tables tell them.

    What has no time of its own is of the moment at which it was pulled; of such a table all pulls since then count, and
    two at the least, so that counters have rates.
    """
    frames = [pl.LazyFrame(schema=READINGS)]
    for system, name, table in telling(source.workspace, systems):
        health = table.health
        if health is None or not _wanted(health, metrics):
            continue
        if health.at is None:
            for lazy, taken in source.since(system, name, since):
                frames += _readings(lazy, taken, table, metrics, since)
        elif (newest := source.newest(system, name)) is not None:
            frames += _readings(*newest, table, metrics, since)
    return pl.concat(frames)


def events(source: TableSource, since: datetime, systems: Sequence[str] = ()) -> pl.LazyFrame:
    """What happened from ``since`` on, as the newest of each table tells it."""
    frames = [pl.LazyFrame(schema=EVENTS)]
    for system, name, table in telling(source.workspace, systems):
        health = table.health
        newest = source.newest(system, name) if health is not None and health.events is not None else None
        if newest is None or health is None or health.events is None:
            continue
        told, lazy = health.events, newest[0]
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
    lazy: pl.LazyFrame, taken: datetime, table: d.Table, metrics: Collection[str], since: datetime
) -> Iterator[pl.LazyFrame]:
    health = table.health
    assert health
    known = lazy.collect_schema()
    if health.at is not None and health.at not in known:
        return  # it was pulled when the dialect did not read the time
    if health.at is not None:
        lazy = lazy.filter(pl.col(health.at) >= since)
    at = (pl.col(health.at) if health.at else pl.lit(taken)).cast(READINGS["taken_at"]).alias("taken_at")
    counting = _field(known, health.since, READINGS["since"]).alias("since")
    about: list[str | pl.Expr] = ["system", _device(table), _part(table, health, known)]
    if health.long is not None:
        fields = health.long
        unit = _field(known, fields.unit, pl.String())
        yield lazy.filter(pl.col(fields.metric).is_in(list(metrics))).select(
            *about, pl.col(fields.metric).alias("metric"), pl.col(fields.value).cast(pl.Float64).alias("value"),
            unit.alias("unit"), at, pl.lit(None, dtype=pl.Int64).alias("bits"), counting,
        )  # fmt: skip
    for name, metric in health.metrics.items():
        if metric.called in metrics and name in known:
            yield lazy.select(
                *about, pl.lit(metric.called).alias("metric"), pl.col(name).cast(pl.Float64).alias("value"),
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
