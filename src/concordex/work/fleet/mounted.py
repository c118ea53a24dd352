"""What stands in racks, as the newest pulls of every system that keeps racks tell it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import polars as pl

from concordex.insight.occupancy import RACKS, THINGS
from concordex.work.workspace.models import models

if TYPE_CHECKING:
    from concordex.store.catalogue import Snapshot
    from concordex.wire import dialect as d
    from concordex.work.workspace.base import BaseWorkspace

#: What is known of a thing beside where it stands; ``record_id`` is its record's.
_ABOUT = ("system", "record_id", "name", "kind", "site", "status")


@dataclass(frozen=True, kw_only=True)
class Racked:
    """Racks and the things in them.

    racks   as in :data:`concordex.insight.occupancy.RACKS`, with ``system``, ``name`` and ``site``
    things  as in :data:`concordex.insight.occupancy.THINGS`, with what their records say of them
    notes   what a reader must know to trust them
    """

    racks: pl.DataFrame
    things: pl.DataFrame
    notes: Sequence[str] = field(default_factory=list)


_NO_RACKS = pl.DataFrame(schema={**RACKS, "system": pl.String, "name": pl.String, "site": pl.String})
_NO_THINGS = pl.DataFrame(schema={**THINGS, **dict.fromkeys(_ABOUT, pl.String)})


def racked(workspace: BaseWorkspace, members: pl.DataFrame | None = None) -> Racked:
    """What stands in the racks of all systems whose dialects say how records stand in racks.

    By ``members`` (``system``, ``record_id``, ``entry``) records are known to be of one device.  What a system does
    not say of a model, the workspace's own ``models/`` do.
    """
    racks, things, notes = [_NO_RACKS], [_NO_THINGS], list[str]()
    catalogue = models(workspace)
    for system in workspace.config.systems:
        newest = {s.table: s for s in workspace.memory.newest(system=system) if s.file}
        for table, spec in workspace.dialect(system).tables.items():
            if spec.write and spec.write.stands and table in newest:
                told = _of_table(workspace, newest, spec.write, table, catalogue)
                if told is not None:
                    offset = sum(frame.height for frame in racks)
                    racks.append(told[0].with_columns(pl.col("rack") + offset))
                    things.append(told[1].with_columns(pl.col("rack") + offset))
                    notes += [
                        f"{system}/{s.table} is {s.outcome}: {s.fault}" for s in newest.values()
                        if s.table == table and not s.whole
                    ]  # fmt: skip
    every = pl.concat(things, how="diagonal_relaxed")
    if members is not None:
        known = members.select("system", "record_id", "entry")
        every = every.join(known, on=["system", "record_id"], how="left", maintain_order="left")
    else:
        every = every.with_columns(pl.lit(None, dtype=pl.String).alias("entry"))
    one = pl.format("{}/{}", "system", pl.coalesce("entry", "record_id"))  # each inventory has racks of its own
    every = every.with_columns(one.alias("device"), pl.int_range(pl.len()).alias("thing"))
    return Racked(racks=pl.concat(racks), things=every, notes=notes)


def _of_table(
    workspace: BaseWorkspace,
    newest: Mapping[str, Snapshot],
    write: d.Write,
    table: str,
    catalogue: Sequence[Mapping[str, object]],
) -> tuple[pl.DataFrame, pl.DataFrame] | None:
    """The racks and the things of one table; none where its racks were not pulled."""
    stands = write.stands
    assert stands
    links = {ours: reference for reference in write.references.values() for ours in reference.by.values()}
    to_rack = links[stands.rack]
    if to_rack.via not in newest:
        return None

    def frame_of(name: str) -> pl.DataFrame:
        return workspace.frames.together([newest[name]]).collect()

    held = frame_of(to_rack.via)
    racks = held.select(
        pl.int_range(pl.len()).alias("rack"), _known(held, stands.size, pl.Float64).alias("units"),
        _known(held, stands.carries, pl.Float64).alias("carries"), "system", _known(held, "name", pl.String),
        _known(held, "site", pl.String), *[_key(theirs).alias(f"_{theirs}") for theirs in to_rack.by],
    )  # fmt: skip
    records = frame_of(table)
    records = records.filter(pl.col(stands.rack).is_not_null() & pl.col(stands.at).is_not_null())
    by = [f"_{theirs}" for theirs in to_rack.by]
    placed = records.with_columns(_key(ours).alias(f"_{theirs}") for theirs, ours in to_rack.by.items())
    placed = placed.join(racks.select(pl.col("rack").alias("_rack"), *by).unique(by), on=by, maintain_order="left")
    bodies = {"height": pl.Float64, "full_depth": pl.Boolean, "weight": pl.Float64, "power": pl.Float64}
    for what, (via, name) in {w: next(iter(m.items())) for w, m in stands.bodies.items() if m}.items():
        link = next(reference for reference in write.references.values() if reference.via == via)
        if via in newest:
            placed = _with(placed, frame_of(via), link.by, what, name, bodies[what])
    for what in bodies.keys() - {*placed.columns}:
        placed = placed.with_columns(pl.lit(None, dtype=bodies[what]).alias(what))
    placed = _with_catalogue(placed, catalogue)
    things = placed.select(
        pl.lit(0, dtype=pl.Int64).alias("thing"), pl.col("_rack").alias("rack"),
        pl.lit(None, dtype=pl.String).alias("device"),
        pl.coalesce("name", "record_id").alias("label"), pl.col(stands.at).cast(pl.Float64).alias("at"),
        pl.col("height").fill_null(1.0).clip(lower_bound=1.0), _known(placed, stands.face, pl.String).alias("face"),
        "full_depth", "weight", "power", *[_known(placed, name, pl.String) for name in _ABOUT],
    )  # fmt: skip
    return racks.drop(by), things


def _known(frame: pl.DataFrame, name: str | None, dtype: pl.DataType | type[pl.DataType]) -> pl.Expr:
    """A column that a frame may lack."""
    if name is None or name not in frame.columns:
        return pl.lit(None, dtype=dtype).alias(name or "nothing")
    return pl.col(name).cast(dtype)


def _key(name: str) -> pl.Expr:
    """A field as natural keys compare it."""
    return pl.col(name).cast(pl.String).str.strip_chars().str.to_lowercase()


def _with(
    placed: pl.DataFrame, other: pl.DataFrame, by: Mapping[str, str], what: str, name: str, dtype: type[pl.DataType]
) -> pl.DataFrame:
    """``placed`` with what the records of another table, which it refers to, say of it."""
    if name not in other.columns or not {*by} <= {*other.columns}:
        return placed.with_columns(pl.lit(None, dtype=dtype).alias(what))
    keys = [f"_{theirs}" for theirs in by]
    told = other.select(pl.col(name).cast(dtype).alias(what), *[_key(theirs).alias(f"_{theirs}") for theirs in by])
    asked = placed.drop(what, strict=False).with_columns(_key(ours).alias(f"_{theirs}") for theirs, ours in by.items())
    return asked.join(told.unique(keys), on=keys, how="left", maintain_order="left")


def _with_catalogue(placed: pl.DataFrame, catalogue: Sequence[Mapping[str, object]]) -> pl.DataFrame:
    """``placed`` with what the workspace's own models say where the system says nothing."""
    if not catalogue or not {"maker", "model"} <= {*placed.columns}:
        return placed
    fields = {"units": "height", "full_depth": "full_depth", "weight": "weight", "power": "power"}
    dtypes = {"units": pl.Float64, "full_depth": pl.Boolean, "weight": pl.Float64, "power": pl.Float64}
    told = pl.DataFrame(
        [[model[name] for name in ("maker", "name", *fields)] for model in catalogue],
        schema={"_maker": pl.String, "_model": pl.String, **dtypes}, orient="row",
    )  # fmt: skip
    told = told.rename({name: f"{ours}_ours" for name, ours in fields.items()})
    told = told.with_columns(_key("_maker").alias("_maker"), _key("_model").alias("_model")).unique(
        ["_maker", "_model"]
    )
    asked = placed.with_columns(_key("maker").alias("_maker"), _key("model").alias("_model"))
    joined = asked.join(told, on=["_maker", "_model"], how="left", maintain_order="left")
    return joined.with_columns(pl.coalesce(ours, f"{ours}_ours").alias(ours) for ours in fields.values())
