"""Racks: how full they are, where something fits, and what stands in one of them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.errors import CalledWrongly
from concordex.insight.occupancy import Misplaced, gaps, misplaced, rooms
from concordex.query.predicate import predicate_of
from concordex.words import suggestion
from concordex.work.concordance import stored
from concordex.work.fleet.mounted import Racked, racked
from concordex.work.show.tables import Selection

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

_TOLD = ("rack", "site", "system", "units", "used", "free", "largest", "things", "weight", "carries", "power", "wrong")


@dataclass(frozen=True, kw_only=True)
class Elevation:
    """One rack as it is seen from its front and its rear: what stands where, the lowest first.

    Each of ``things`` has ``label``, ``kind``, ``entry``, ``at``, ``height``, ``face``, ``full_depth``, ``weight``,
    ``power``, and ``wrong``: in what way it cannot stand so, if any.
    """

    rack: dict[str, Any]
    things: Sequence[dict[str, Any]]
    notes: Sequence[str] = field(default_factory=list)


def racks(
    workspace: BaseWorkspace, where: str | None = None, *, fits: int | None = None, face: str | None = None
) -> Selection:
    """Each rack with its room: the units ``used`` and ``free`` on both faces, the ``largest`` run of free ones; and
    how many things stand ``wrong``.

    With ``fits``, the runs of at least so many free units in its place, the tightest first: free on both faces, or for
    something on one ``face`` that is not deep.
    """
    of = _racked(workspace)
    every = _rooms(of)
    chosen = _chosen(workspace, every, where)
    if fits is None:
        return Selection(frame=chosen.select(_TOLD).sort("site", "rack", nulls_last=True), notes=list(of.notes))
    numbers = chosen.select(pl.col("number").alias("rack"))
    runs = gaps(of.things, of.racks, face).join(numbers, on="rack", how="semi")
    runs = runs.with_columns((pl.col("to") - pl.col("from") + 1).alias("free")).filter(pl.col("free") >= fits)
    named = runs.join(
        chosen.select(pl.col("number").alias("rack"), pl.col("rack").alias("name"), "site", "system"), on="rack"
    )
    frame = named.sort("free", "site", "name", "from", nulls_last=True)
    unknown = every.filter(pl.col("units").is_null()).height
    notes = [*of.notes, *([f"of {unknown} racks nobody knows how many units they have"] if unknown else [])]
    return Selection(
        frame=frame.select(pl.col("name").alias("rack"), "site", "system", "from", "to", "free"), notes=notes
    )


def elevations(workspace: BaseWorkspace, name: str | None = None, where: str | None = None) -> list[Elevation]:
    """The racks of that name, or for which a filter holds, as they are seen from both sides."""
    of = _racked(workspace)
    chosen = _chosen(workspace, _rooms(of), where)
    if name is not None:
        mine = chosen.filter(pl.col("rack").str.strip_chars().str.to_lowercase() == name.strip().lower())
        if mine.is_empty():
            known = chosen["rack"].drop_nulls().to_list()
            raise CalledWrongly(f"there is no rack {name!r}", advice=suggestion(name, known))
        chosen = mine
    wrong: dict[int, list[str]] = {}
    for fault in _faults(of):
        for thing in (fault.thing, fault.other):
            if thing is not None:
                wrong.setdefault(thing, []).append(str(fault.kind))
    things: dict[int, list[dict[str, Any]]] = {}
    for row in of.things.sort("at", "face", "label").to_dicts():
        things.setdefault(row["rack"], []).append(row | {"wrong": list(dict.fromkeys(wrong.get(row["thing"], [])))})
    order = chosen.sort("site", "rack", nulls_last=True).to_dicts()
    return [Elevation(rack=rack, things=things.get(rack["number"], []), notes=of.notes) for rack in order]


def _racked(workspace: BaseWorkspace) -> Racked:
    of = racked(workspace, stored.entry_of_if_any(workspace))
    if of.racks.is_empty():
        raise CalledWrongly(
            "no racks were pulled", advice="concordex pull; a dialect says under stands: how records stand in racks"
        )
    return of


def _rooms(of: Racked) -> pl.DataFrame:
    """Each rack with its room and its ``number``, by which things know it."""
    wrong: Counter[int] = Counter()
    rack_of = dict(of.things.select("thing", "rack").iter_rows())
    for fault in _faults(of):
        wrong[rack_of[fault.thing] if fault.thing is not None else fault.rack or 0] += 1
    counted = pl.DataFrame(list(wrong.items()), schema={"rack": pl.Int64, "wrong": pl.Int64}, orient="row")
    made = rooms(of.things, of.racks).join(counted, on="rack", how="left", maintain_order="left")
    return made.with_columns(pl.col("wrong").fill_null(0), pl.col("rack").alias("number"), pl.col("name").alias("rack"))


def _faults(of: Racked) -> list[Misplaced]:
    return list(misplaced(of.things, of.racks))


def _chosen(workspace: BaseWorkspace, every: pl.DataFrame, where: str | None) -> pl.DataFrame:
    if where is None:
        return every
    asked = every.select(*_TOLD, "number")
    return every.filter(asked.select(predicate_of(asked, workspace.query(where), workspace.now())).to_series())
