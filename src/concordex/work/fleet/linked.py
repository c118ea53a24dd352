"""Which devices are linked, as the newest pulls tell it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.insight.cabling import DOWN, ENDS, NODES, cables
from concordex.insight.topology import Graph

if TYPE_CHECKING:
    from concordex.store.catalogue import Snapshot
    from concordex.work.workspace.base import BaseWorkspace

LINKS, DEVICES, HOSTS = "links", "devices", "hosts"


@dataclass(frozen=True, kw_only=True)
class LinkedDevices:
    """Links as their ends tell them, and the devices that they mean.

    ends   as in :data:`concordex.insight.cabling.ENDS`
    nodes  as in :data:`concordex.insight.cabling.NODES`
    known  the systems whose devices are known whole
    laid   the systems whose links are known whole
    notes  what a reader must know to trust them
    """

    ends: pl.DataFrame
    nodes: pl.DataFrame
    known: Sequence[str] = ()
    laid: Sequence[str] = ()
    notes: Sequence[str] = field(default_factory=list)

    def cables(self) -> pl.DataFrame:
        """One row for each cable, with ``near_device`` and ``far_device``, by which a device is one in all systems."""
        laid = cables(self.ends)
        for end in ("near", "far"):
            known = self.nodes.select("system", pl.col("id").alias(end), pl.col("device").alias(f"{end}_device"))
            laid = laid.join(known.unique(["system", end]), on=["system", end], how="left", maintain_order="left")
            own = pl.format("{}/{}", "system", pl.col(end))
            laid = laid.with_columns(pl.coalesce(f"{end}_device", own).alias(f"{end}_device"))
        return laid

    def graph(self, cables: pl.DataFrame) -> Graph:
        """The graph of those ``cables`` that are not down, each called by its row."""
        up = cables.with_row_index("row").filter(
            pl.col("status").str.to_lowercase().is_in(DOWN).fill_null(value=False).not_(), pl.col("far").is_not_null()
        )
        return Graph.of(up.select("near_device", "far_device", "row").iter_rows())


def linked(workspace: BaseWorkspace, members: pl.DataFrame | None = None) -> LinkedDevices:
    """What the newest links and devices say; by ``members`` (``system``, ``record_id``, ``entry``) their entries."""
    links = _newest(workspace, LINKS)
    systems = {snapshot.system for snapshot in links}
    devices = [snapshot for snapshot in _newest(workspace, DEVICES) if snapshot.system in systems]
    nodes = _as(workspace, devices, {"id": pl.String, **NODES}, {"id": "record_id"})
    if members is not None:
        known = members.select("system", pl.col("record_id").alias("id"), "entry")
        nodes = nodes.drop("entry").join(known, on=["system", "id"], how="left", maintain_order="left")
    nodes = nodes.with_columns(pl.coalesce("entry", pl.format("{}/{}", "system", "id")).alias("device"))
    doubts = [f"{s.system}/{s.table} is {s.outcome}: {s.fault}" for s in (*links, *devices) if not s.whole]
    whole = [snapshot.system for snapshot in devices if snapshot.whole]
    return LinkedDevices(
        ends=_as(workspace, links, ENDS), nodes=nodes.select(*NODES), known=whole,
        laid=[snapshot.system for snapshot in links if snapshot.whole], notes=doubts,
    )  # fmt: skip


def hosts(workspace: BaseWorkspace) -> pl.DataFrame:
    """What is attached to ports: ``system``, the ``parent`` by id, ``port``, and what is known of each."""
    wanted: dict[str, Any] = {
        "system": pl.String, "parent": pl.String, "port": pl.String, "name": pl.String, "macs": pl.List(pl.String),
        "ips": pl.List(pl.String), "user": pl.String, "first_seen": pl.Datetime("us", "UTC"),
        "last_seen": pl.Datetime("us", "UTC"),
    }  # fmt: skip
    return _as(workspace, _newest(workspace, HOSTS), wanted)


def _newest(workspace: BaseWorkspace, table: str) -> list[Snapshot]:
    return [s for s in workspace.memory.newest(table) if s.file and s.system in workspace.config.systems]


def _as(
    workspace: BaseWorkspace,
    snapshots: Sequence[Snapshot],
    wanted: dict[str, Any],
    called: dict[str, str] | None = None,
) -> pl.DataFrame:
    """Snapshots of one table with just the columns that are wanted; what they lack is missing."""
    called = called or {}
    if not snapshots:
        return pl.DataFrame(schema=wanted)
    lazy = workspace.frames.together(snapshots)
    known = lazy.collect_schema()
    columns = [
        pl.col(there).cast(dtype).alias(name) if (there := called.get(name, name)) in known
        else pl.lit(None, dtype=dtype).alias(name)
        for name, dtype in wanted.items()
    ]  # fmt: skip
    return lazy.select(columns).collect()
