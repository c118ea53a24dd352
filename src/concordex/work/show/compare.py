"""Two systems, or two moments, side by side."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly
from concordex.match.sides import COMPARED, STATES, side_by_side
from concordex.model.fields import FIELDS
from concordex.query.predicate import predicate_of
from concordex.words import suggestion
from concordex.work.concordance import stored
from concordex.work.show.columns import Columns

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True, kw_only=True)
class Comparison:
    """What is only here, only there, different and equal; ``counts`` is of devices."""

    frame: pl.DataFrame
    counts: dict[str, int]
    notes: list[str]


def of_systems(
    workspace: BaseWorkspace, here: str, there: str, *, where: str | None = None, fields: Sequence[str] = ()
) -> Comparison:
    """What two systems say of each device, by entry; of two records of one system the one seen last speaks."""
    workspace.systems([here, there])
    if here == there:
        raise CalledWrongly(f"{here} is compared with itself", advice="name two systems, or two moments")
    return stored.settled(workspace, lambda: _of_systems(workspace, here, there, where, fields))


def _of_systems(
    workspace: BaseWorkspace, here: str, there: str, where: str | None, fields: Sequence[str]
) -> Comparison:
    members = stored.read(workspace, "members").filter(pl.col("system").is_in([here, there])).collect()
    entries = stored.read(workspace, "entries").filter(_holds(workspace, where, "entries")).select("entry").collect()
    members = members.join(entries, on="entry", how="semi").sort("entry", "last_seen", "record_id", nulls_last=False)
    sides = [
        members.filter(pl.col("system") == name).unique("entry", keep="last", maintain_order=True)
        for name in (here, there)
    ]
    for name, side in zip((here, there), sides, strict=True):
        if side.is_empty() and where is None:
            raise CalledWrongly(
                f"no record of {name} has been reconciled", advice=f"concordex pull {name}, concordex reconcile"
            )
    return _told(side_by_side(sides[0], sides[1], ["entry"], _known(fields)), stored.notes(workspace))


def of_moments(
    workspace: BaseWorkspace,
    here: datetime,
    there: datetime,
    *,
    systems: Sequence[str] = (),
    where: str | None = None,
    fields: Sequence[str] = (),
) -> Comparison:
    """What all systems, or some, said at one moment and at another, record by record."""
    sides, notes = list[pl.DataFrame](), list[str]()
    for moment in (here, there):
        snapshots = [s for s in workspace.memory.newest("devices", until=moment) if s.system in (systems or [s.system])]
        if not snapshots:
            raise CalledWrongly(f"nothing was pulled by {moment:%Y-%m-%d %H:%M} UTC", advice="concordex pulls")
        lazy = workspace.frames.together(snapshots)
        columns = Columns(lazy)
        names = [name for name in ("system", "record_id", *COMPARED) if name in columns.types]
        sides.append(lazy.filter(_holds(workspace, where, lazy)).select(names).collect())
        notes += [
            f"{s.system} of {s.taken:%Y-%m-%d %H:%M} UTC is {s.outcome}: what is absent from it may be there"
            for s in snapshots if not s.whole
        ]  # fmt: skip
    return _told(side_by_side(sides[0], sides[1], ["system", "record_id"], _known(fields)), notes)


def _told(frame: pl.DataFrame, notes: list[str]) -> Comparison:
    keys = [name for name in ("entry", "system", "record_id") if name in frame.columns]
    counted = dict(frame.select("state", *keys).unique().group_by("state").len().iter_rows())
    return Comparison(frame=frame, counts={state: counted.get(state, 0) for state in STATES}, notes=notes)


def _known(fields: Sequence[str]) -> Sequence[str]:
    for name in fields:
        if name not in FIELDS:
            raise CalledWrongly(f"there is no field {name!r}", advice=suggestion(name, FIELDS))
    return fields or COMPARED


def _holds(workspace: BaseWorkspace, where: str | None, table: str | pl.LazyFrame) -> pl.Expr:
    if where is None:
        return pl.lit(value=True)
    frame = stored.read(workspace, table) if isinstance(table, str) else table
    return predicate_of(frame, workspace.query(where), workspace.now())
