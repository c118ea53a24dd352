"""What is wrong with racks and links, as findings."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.insight.cabling import untrue
from concordex.insight.occupancy import Misplaced, misplaced, rooms
from concordex.match.finding import KINDS, NOTHING
from concordex.words import plural
from concordex.work.fleet.linked import LinkedDevices, linked
from concordex.work.fleet.mounted import Racked, racked

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: So many links, and devices, that a site hangs on are named.
_NAMED = 3
#: Kinds of finding that are made here.
FLEET = tuple(kind for kind in KINDS if kind.startswith(("rack_", "link_", "site_")))
_COLUMNS = {name: dtype for name, dtype in NOTHING.schema.items() if name not in ("severity", "advice")}


def faults(workspace: BaseWorkspace, members: pl.DataFrame) -> pl.DataFrame:
    """Findings on racks and links, by the newest pulls; ``members`` say which records are of one device."""
    rows = [*_of_racks(racked(workspace, members)), *_of_links(linked(workspace, members))]
    frame = pl.DataFrame(rows, schema=_COLUMNS, orient="row", infer_schema_length=None)
    words = (
        {kind: severity for kind, (severity, _) in KINDS.items()},
        {kind: advice for kind, (_, advice) in KINDS.items()},
    )
    severity, advice = (pl.col("kind").replace_strict(told, return_dtype=pl.String) for told in words)
    return frame.with_columns(severity.alias("severity"), advice.alias("advice")).select(NOTHING.columns)


def _row(kind: str, system: str, seen: str, **facts: str | None) -> dict[str, object]:
    told: dict[str, object] = dict.fromkeys(_COLUMNS)
    return told | {"kind": kind, "systems": [system], "seen": seen} | facts


def _of_racks(of: Racked) -> list[dict[str, object]]:
    things = {row["thing"]: row for row in of.things.to_dicts()}
    racks = {row["rack"]: row for row in of.racks.to_dicts()}
    rows = []
    for fault in misplaced(of.things, of.racks):
        if fault.thing is None:
            rows.append(_overloaded(of, racks[fault.rack or 0]))
            continue
        thing, other = things[fault.thing], things.get(fault.other if fault.other is not None else -1)
        rows.append(_row(
            f"rack_{fault.kind}", thing["system"], _seen(fault, thing, other, racks), entry=thing["entry"],
            name=thing["label"], about=f"{(other or thing)['system']}/{(other or thing)['record_id']}",
        ))  # fmt: skip
    return rows


def _overloaded(of: Racked, rack: dict[str, object]) -> dict[str, object]:
    mine = rooms(of.things, of.racks.filter(pl.col("rack") == rack["rack"])).row(0, named=True)
    seen = f"{_called(rack)} carries {mine['carries']:g} kg, and what stands in it weighs {mine['weight']:g} kg"
    return _row("rack_heavy", str(rack["system"]), seen, about=f"{rack['system']}/{_called(rack)}")


def _called(rack: dict[str, object]) -> str:
    """A rack's name, with its site where that is not told by it."""
    name, site = str(rack["name"]), str(rack["site"] or "")
    return name if site.lower() in name.lower() else f"{site} {name}"


def _seen(
    fault: Misplaced, thing: dict[str, object], other: dict[str, object] | None, racks: dict[object, dict[str, object]]
) -> str:
    rack = racks[thing["rack"]]
    where = f"{_called(rack)}, unit {fault.unit}"
    if fault.kind == "outside":
        return f"{where}: the rack has {rack['units']:g} units" if rack["units"] else f"{where}: there is no such unit"
    assert other
    if fault.kind == "taken":
        return f"{where}: {thing['label']} and {other['label']} stand in one place"
    if fault.kind == "behind":
        deep = thing if thing["full_depth"] else other
        both = f"{thing['label']} and {other['label']} stand back to back"
        return f"{where}: {both}, and {deep['label']} is as deep as the rack"
    same = thing["label"] if thing["label"] == other["label"] else f"{thing['label']} and {other['label']}"
    elsewhere = f" of {_called(racks[other['rack']])}" if other["rack"] != thing["rack"] else ""
    return f"{same}: one device in unit {thing['at']:g} of {_called(rack)} and in unit {other['at']:g}{elsewhere}"


def _of_links(of: LinkedDevices) -> list[dict[str, object]]:
    ends = of.nodes.select("system", pl.col("id").alias("near"), "name", "entry").unique(["system", "near"])
    wrong = untrue(of.ends, of.nodes, list(of.known)).join(
        ends, on=["system", "near"], how="left", maintain_order="left"
    )
    rows = [
        _row(f"link_{row['kind']}", row["system"], row["seen"], entry=row["entry"], name=row["name"] or row["near"],
             about=f"{row['system']}/{row['record_id']}")
        for row in wrong.iter_rows(named=True)
    ]  # fmt: skip
    return rows + _hanging(of)


def _hanging(of: LinkedDevices) -> list[dict[str, object]]:
    """Sites that one device or one link cuts off: known only where no link may be lacking."""
    if not {*of.ends["system"].unique()} <= {*of.laid}:
        return []
    laid, sited = of.cables(), of.nodes.filter(pl.col("site").is_not_null()).unique("device", maintain_order=True)
    if laid.is_empty():
        return []
    sites, names = dict(sited.select("device", "site").iter_rows()), dict(of.nodes.select("device", "name").iter_rows())
    counts, systems = Counter(sites.values()), dict(sited.select("site", "system").iter_rows())
    rows = []
    for hanging in of.graph(laid).hanging(sites):
        links = [_link(laid.row(number, named=True), names) for number in hanging.links[:_NAMED]]
        devices = [str(names.get(device) or device) for device in hanging.devices[:_NAMED]]
        on = [f"one link, {link}" for link in links] + [f"one device, {device}" for device in devices]
        more = len(hanging.links) - len(links) + len(hanging.devices) - len(devices)
        system = systems[hanging.site]
        count = plural(hanging.there, "device")
        if hanging.there < counts[hanging.site]:
            count = f"{hanging.there:,} of {plural(counts[hanging.site], 'device')}"
        left = f"; and on {more:,} more on the way" if more else ""
        seen = f"{count} of {hanging.site} hang on {'; on '.join(on)}{left}"
        rows.append(_row("site_hanging", system, seen, name=hanging.site, about=f"{system}/site {hanging.site}"))
    return rows


def _link(cable: dict[str, object], names: Mapping[Any, object]) -> str:
    ends = []
    for end in ("near", "far"):
        name = names.get(cable[f"{end}_device"]) or cable[end]
        ends.append(" ".join(str(word) for word in (name, cable[f"{end}_port"]) if word))
    return " to ".join(ends)
