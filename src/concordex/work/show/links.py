"""Links: the cables between devices, what is behind each port of one, and the way from one to another."""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.errors import CalledWrongly
from concordex.query.named import bearing
from concordex.query.predicate import predicate_of
from concordex.words import suggestion
from concordex.work.concordance import stored
from concordex.work.fleet.linked import LinkedDevices, hosts, linked
from concordex.work.show.tables import Selection

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

_BESIDE = ("site", "kind")


def links(workspace: BaseWorkspace, where: str | None = None) -> Selection:
    """One row for each cable, whichever of its ends tell of it."""
    of = _linked(workspace)
    frame = _named(of)
    if where is not None:
        frame = frame.filter(predicate_of(frame, workspace.query(where), workspace.now()))
    return Selection(frame=frame.drop("near_device", "far_device"), notes=list(of.notes))


def behind(workspace: BaseWorkspace, device: str) -> Selection:
    """What is behind each port of a device: its neighbours with their ports, and the hosts that are attached to it."""
    of = _linked(workspace)
    mine = _meant(workspace, of, device)
    laid, nodes = _named(of), of.nodes.filter(pl.col("device") == mine)
    sides = []
    for here, there in (("near", "far"), ("far", "near")):
        sides.append(laid.filter(pl.col(f"{here}_device") == mine).select(
            pl.col(f"{here}_port").alias("port"), pl.col(there).alias("neighbour"),
            pl.col(f"{there}_port").alias("its_port"), pl.col(f"{there}.kind").alias("kind"),
            pl.col(f"{there}.site").alias("site"), pl.lit(None, dtype=pl.List(pl.String)).alias("ips"),
            pl.lit(None, dtype=pl.String).alias("user"), "speed", "duplex", "status", "since", "told",
        ))  # fmt: skip
    ids = nodes.select("system", pl.col("id").alias("parent"))
    attached = hosts(workspace).join(ids, on=["system", "parent"], how="semi", maintain_order="left").select(
        "port", pl.coalesce("name", pl.col("macs").list.first()).alias("neighbour"),
        pl.lit(None, dtype=pl.String).alias("its_port"), pl.lit("host").alias("kind"),
        pl.lit(None, dtype=pl.String).alias("site"), "ips", "user", pl.lit(None, dtype=pl.Float64).alias("speed"),
        pl.lit(None, dtype=pl.String).alias("duplex"), pl.lit(None, dtype=pl.String).alias("status"),
        pl.col("first_seen").alias("since"), pl.lit("one").alias("told"),
    )  # fmt: skip
    frame = pl.concat([*sides, attached]).with_columns(_padded("port").alias("_order"))
    notes = list(of.notes) if frame.height else [*of.notes, f"nothing is told of what is behind the ports of {device}"]
    return Selection(frame=frame.sort("_order", "neighbour", nulls_last=True).drop("_order"), notes=notes)


def way(workspace: BaseWorkspace, here: str, there: str) -> Selection:
    """A shortest way from one device to another over links that are not down, a row for each link on it."""
    of = _linked(workspace)
    first, last = _meant(workspace, of, here), _meant(workspace, of, there)
    laid = of.cables()
    found = of.graph(laid).way(first, last)
    if found is None:
        raise CalledWrongly(
            f"no link that is up leads from {here} to {there}",
            advice=f"concordex links {here}; concordex findings --kind site_hanging",
        )
    named, rows = _named(of), list[dict[str, Any]]()
    for hop, ((before, _), (_, numbers)) in enumerate(pairwise(found), start=1):
        row = named.row(numbers[0], named=True)
        ends = ("near", "far") if row["near_device"] == before else ("far", "near")
        rows.append({
            "hop": hop, **{
                name: row[column] for name, column in (
                    ("from", ends[0]), ("port", f"{ends[0]}_port"), ("to", ends[1]), ("its_port", f"{ends[1]}_port"),
                    ("kind", f"{ends[1]}.kind"), ("site", f"{ends[1]}.site"), ("speed", "speed"), ("told", "told"),
                )
            }, "links": len(numbers),
        })  # fmt: skip
    notes = list(of.notes) if rows else [*of.notes, f"{here} and {there} are one device"]
    return Selection(frame=pl.DataFrame(rows, infer_schema_length=None), notes=notes)


def _linked(workspace: BaseWorkspace) -> LinkedDevices:
    of = linked(workspace, stored.entry_of_if_any(workspace))
    if of.ends.is_empty():
        raise CalledWrongly("no links were pulled", advice="concordex pull; a dialect reads them into a table links")
    return of


def _named(of: LinkedDevices) -> pl.DataFrame:
    """The cables with names in the place of ids, and the site and kind of both ends beside them."""
    laid = of.cables()
    for end in ("near", "far"):
        known = of.nodes.select(
            "system", pl.col("id").alias(end), pl.col("name").alias("_name"),
            *[pl.col(name).alias(f"{end}.{name}") for name in _BESIDE],
        )  # fmt: skip
        laid = laid.join(known.unique(["system", end]), on=["system", end], how="left", maintain_order="left")
        laid = laid.with_columns(pl.coalesce("_name", end).alias(end)).drop("_name")
    return laid.select(
        "system", "near", "near_port", "near.site", "near.kind", "far", "far_port", "far.site", "far.kind", "speed",
        "duplex", "status", "told", pl.col("first_seen").alias("since"), "near_device", "far_device",
    )  # fmt: skip


def _meant(workspace: BaseWorkspace, of: LinkedDevices, word: str) -> str:
    """The device that a word means, among those of systems that tell of links."""
    systems = of.nodes["system"].unique()
    snapshots = [s for s in workspace.memory.newest("devices") if s.file and s.system in systems]
    lazy = stored.with_entries(workspace, workspace.frames.together(snapshots))
    tests = bearing(word, lazy.collect_schema().names(), also=("entry",))
    met = lazy.filter(pl.any_horizontal(*tests.values())).select("system", pl.col("record_id").alias("id")).collect()
    devices = met.join(of.nodes, on=["system", "id"], maintain_order="left").unique("device", maintain_order=True)
    if devices.is_empty():
        raise CalledWrongly(
            f"no device with links is known as {word!r}",
            advice=suggestion(word, of.nodes["name"].drop_nulls().to_list()),
        )
    if devices.height > 1:
        which = ", ".join(devices["device"].head(5))
        raise CalledWrongly(f"{word!r} means {devices.height} devices", advice=f"say which: {which}")
    return str(devices["device"][0])


def _padded(name: str) -> pl.Expr:
    """Texts so that they sort as people count: port 2 before port 10."""
    return pl.col(name).str.replace_all(r"(\d+)", "0000000$1").str.replace_all(r"0*(\d{8})", "$1")
