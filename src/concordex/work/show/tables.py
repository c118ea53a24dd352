"""Looking at tables: chosen, ordered, counted; from snapshots, from the concordance, or live."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly
from concordex.model.fields import ALIASES, ORIGINAL, Type
from concordex.query.bind import Binder
from concordex.query.frames import extra_value, to_polars
from concordex.query.funnel import Stage, funnel
from concordex.query.predicate import types_in
from concordex.words import suggestion
from concordex.work.concordance import stored
from concordex.work.show.no_match import why_nothing
from concordex.work.show.references import with_names

if TYPE_CHECKING:
    from concordex.store.catalogue import Snapshot
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True, kw_only=True)
class ShowOptions:
    """What of a table is wanted."""

    where: str | None = None
    systems: Sequence[str] = ()
    columns: Sequence[str] = ()
    sort: Sequence[str] = ()
    count_by: Sequence[str] = ()
    limit: int | None = None
    live: bool = False
    as_of: datetime | None = None
    changes: datetime | None = None
    funnel: bool = False


@dataclass(kw_only=True)
class Selection:
    """What was found, and what a reader must know to trust it."""

    frame: pl.DataFrame
    notes: list[str] = field(default_factory=list)
    stages: list[Stage] = field(default_factory=list)


def select(workspace: BaseWorkspace, table: str, choice: ShowOptions) -> Selection:
    """The records of ``table`` that are wanted.

    ``entries``, ``findings`` and ``records`` come from the concordance; anything else from the
    newest snapshots, or with ``live`` from the systems themselves.
    """
    if choice.live:
        from concordex.work.show.live import fetch

        query = workspace.query(choice.where) if choice.where else None
        wanted = [*choice.columns, *choice.count_by, *(name.removeprefix("-") for name in choice.sort)]
        lazy, notes, stages = fetch(
            workspace, table, choice.systems, query, columns=wanted if choice.columns or choice.count_by else (),
            funnel=choice.funnel,
        )  # fmt: skip
    elif choice.changes:
        from concordex.work.show.changes import changes

        name = "devices" if table == "records" else table
        (lazy, notes), stages = changes(workspace, name, choice.systems, choice.changes), []
    else:
        lazy, notes = source(workspace, table, choice.systems, choice.as_of)
        stages = []
    before = lazy.collect_schema().names()
    lazy = with_names(workspace, table, lazy)
    shape = Shape(lazy, on_request=set(lazy.collect_schema().names()) - set(before))
    matching = lazy
    if choice.where:
        closed: dict[str, Sequence[str]] | None = {} if table in ("findings", "gone", "weights") else None
        binder = Binder(
            workspace.query(choice.where), shape.types, workspace.now(), extra=shape.has_original, closed=closed
        )
        binder.check()
        if choice.funnel and not choice.live:
            stages = funnel(lazy, binder)
        matching = lazy.filter(to_polars(binder.query.node, binder))
    frame = _counted(matching, shape, choice) if choice.count_by else _chosen(matching, shape, choice)
    if choice.where and not frame.height and choice.limit != 0:
        notes = [*notes, *why_nothing(lazy, binder, table)]
    return Selection(frame=frame, notes=notes, stages=stages)


def source(
    workspace: BaseWorkspace, table: str, systems: Sequence[str] = (), as_of: datetime | None = None
) -> tuple[pl.LazyFrame, list[str]]:
    """A table as a lazy frame, and notes on what it rests; of snapshots, those of the moment ``as_of``."""
    if table == "gone":
        return stored.gone(workspace), stored.notes(workspace)
    if table in ("entries", "findings", "weights"):
        if as_of:
            raise CalledWrongly(f"{table} are of the newest reconciliation only", advice="show records --as-of …")
        return _made(workspace, table), stored.notes(workspace)
    name = "devices" if table == "records" else table
    everything = workspace.memory.newest(until=as_of)
    snapshots = [s for s in everything if s.table == name and s.system in (systems or [s.system])]
    if systems:
        workspace.systems(systems)
    if not snapshots:
        known = {s.table for s in everything} | {"records", "entries", "findings", "weights"}
        if as_of and not everything:
            raise CalledWrongly(f"nothing was pulled by {as_of:%Y-%m-%d %H:%M} UTC", advice="concordex pulls")
        if table in known:
            raise CalledWrongly(f"no snapshot of {table} of {', '.join(systems)}", advice="concordex pull")
        raise CalledWrongly(f"there is no table {table!r}", advice=suggestion(table, known))
    lazy = workspace.frames.together(snapshots)
    if as_of:
        return lazy, [f"{s.system}/{s.table} as pulled {s.taken:%Y-%m-%d %H:%M} UTC" for s in snapshots]
    if table == "records":
        lazy = stored.with_entries(workspace, lazy)
    return lazy, _doubts(workspace, snapshots)


def _made(workspace: BaseWorkspace, table: str) -> pl.LazyFrame:
    """What reconciling made."""
    if table != "weights":
        return stored.read(workspace, table)
    from concordex.work.concordance.explain import weighing

    return weighing(workspace).means().lazy()


def _doubts(workspace: BaseWorkspace, snapshots: Sequence[Snapshot]) -> list[str]:
    """What is shown but not the latest word, or not the whole."""
    notes = []
    for snapshot in snapshots:
        if not snapshot.whole:
            notes.append(f"{snapshot.system}/{snapshot.table} is {snapshot.outcome}: {snapshot.fault}")
        newer = [s for s in workspace.memory.latest_of(snapshot.system) if s.table == snapshot.table]
        if newer and newer[0].id != snapshot.id:
            notes.append(
                f"{snapshot.system}/{snapshot.table} is of {snapshot.taken:%Y-%m-%d %H:%M} UTC: "
                f"pull {newer[0].pull} was {newer[0].outcome}"
            )
    return notes


class Shape:
    """The columns of a lazy frame and their types."""

    def __init__(self, lazy: pl.LazyFrame, on_request: Collection[str] = ()) -> None:
        schema = lazy.collect_schema()
        self.on_request = on_request  # columns that are shown only where they are named
        self.types: dict[str, Type] = types_in(schema)
        self.has_original = ORIGINAL in schema

    def column(self, name: str) -> pl.Expr:
        """The column called ``name``; a dotted name reaches into the system's own record."""
        known = ALIASES.get(name, name)
        if known in self.types:
            return pl.col(known).alias(name)
        if self.has_original and name == ORIGINAL:
            return pl.col(ORIGINAL)
        if self.has_original and "." in name:
            return extra_value(name.removeprefix("extra.")).alias(name)
        raise CalledWrongly(f"there is no column {name!r}", advice=suggestion(name, self.types))


def _chosen(lazy: pl.LazyFrame, shape: Shape, choice: ShowOptions) -> pl.DataFrame:
    keys = [(name.removeprefix("-"), name.startswith("-")) for name in choice.sort]
    sorters = [shape.column(name) for name, _ in keys]
    twice = next((name for name in choice.columns if list(choice.columns).count(name) > 1), None)
    if twice:
        raise CalledWrongly(f"the column {twice!r} is named twice")
    usual = [name for name in shape.types if name not in shape.on_request]
    columns = [shape.column(name) for name in choice.columns or usual]
    if sorters:
        lazy = lazy.sort(sorters, descending=[down for _, down in keys], nulls_last=True, maintain_order=True)
    if choice.limit is not None:
        lazy = lazy.limit(choice.limit)
    return lazy.select(columns).collect(engine="streaming")


def _counted(lazy: pl.LazyFrame, shape: Shape, choice: ShowOptions) -> pl.DataFrame:
    columns = [shape.column(name) for name in choice.count_by]
    lists = [name for name in choice.count_by if shape.types.get(ALIASES.get(name, name), Type.TEXT).is_list]
    counted = lazy.select(columns)
    for name in lists:
        counted = counted.explode(name)
    counted = counted.group_by(choice.count_by).len("count")
    if not choice.sort:
        counted = counted.sort(["count", *choice.count_by], descending=[True, *(False for _ in choice.count_by)])
        return (counted.limit(choice.limit) if choice.limit is not None else counted).collect()
    return _chosen(counted, Shape(counted), ShowOptions(sort=choice.sort, limit=choice.limit))
