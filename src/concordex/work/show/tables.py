"""Looking at tables: chosen, ordered, counted; from snapshots, from the concordance, or live."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly
from concordex.query.frames import to_polars
from concordex.query.funnel import Stage, funnel
from concordex.query.tree import clauses_of
from concordex.words import suggestion
from concordex.work.concordance import stored
from concordex.work.show.changes import changes
from concordex.work.show.columns import Columns, chosen
from concordex.work.show.no_match import why_nothing
from concordex.work.show.over_time import over_time
from concordex.work.show.references import meant_by, with_names
from concordex.work.show.show_options import ShowOptions
from concordex.work.show.span import in_span
from concordex.work.show.summary import summed

if TYPE_CHECKING:
    from concordex.store.catalogue import Snapshot
    from concordex.work.workspace.base import BaseWorkspace


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
    where = in_span(workspace, table, choice.systems, choice.where, (choice.since, choice.until))
    choice = replace(choice, where=where)
    if choice.over:
        frame, notes = over_time(workspace, table, choice)
        return Selection(frame=frame, notes=notes)
    stages: list[Stage] = []
    if choice.live:
        from concordex.work.show.live import fetch
        from concordex.work.show.live import stages as stages_of

        query = workspace.query(choice.where) if choice.where else None
        wanted = [meant_by(name) for name in choice.named]
        lazy, notes, answers = fetch(
            workspace, table, choice.systems, query, columns=wanted if choice.is_part else (),
            funnel=choice.funnel,
        )  # fmt: skip
    elif choice.changes:
        name = "devices" if table == "records" else table
        lazy, notes = changes(workspace, name, choice.systems, choice.changes)
    else:
        lazy, notes = source(workspace, table, choice.systems, choice.as_of)
    referring = with_names(workspace, table, lazy, _asked(workspace, choice), choice.as_of)
    lazy = referring.lazy
    columns = Columns(lazy, on_request=referring.on_request)
    matching = lazy
    if choice.where:
        of_devices = table not in ("findings", "gone", "weights")
        binder = columns.binder(workspace.query(choice.where), workspace.now(), closed=of_devices)
        if choice.funnel:
            stages = stages_of(lazy, binder, answers) if choice.live else funnel(lazy, binder)
        matching = lazy.filter(to_polars(binder.query.node, binder))
    if choice.count_by or choice.of:
        frame, more = summed(matching, columns, choice)
        notes = [*notes, *more]
    else:
        frame = chosen(matching, columns, choice)
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
        return _made(workspace, table, as_of)
    name = "devices" if table == "records" else table
    everything = workspace.memory.newest(until=as_of)
    snapshots = [s for s in everything if s.table == name and s.system in (systems or [s.system])]
    if systems:
        workspace.systems(systems)
    if not snapshots:
        known = {s.table for s in everything} | {"records", "entries", "findings", "weights"}
        if as_of and not everything:
            raise CalledWrongly(f"nothing was pulled by {as_of:%Y-%m-%d %H:%M} UTC", advice="concordex pulls")
        if not everything:
            raise CalledWrongly("nothing has been pulled yet", advice="concordex pull")
        if table in known:
            raise CalledWrongly(f"no snapshot of {table} of {', '.join(systems)}", advice="concordex pull")
        raise CalledWrongly(f"there is no table {table!r}", advice=suggestion(table, known))
    lazy = workspace.frames.together(snapshots)
    if as_of:
        return lazy, stored.as_pulled(snapshots)
    if table == "records":
        lazy = stored.with_entries(workspace, lazy)
    return lazy, _doubts(workspace, snapshots)


def _made(workspace: BaseWorkspace, table: str, as_of: datetime | None) -> tuple[pl.LazyFrame, list[str]]:
    """What reconciling made, or would have made of what was pulled by a moment."""
    if as_of:
        if table != "entries":
            raise CalledWrongly(f"{table} are of the newest reconciliation only", advice="show entries --as-of …")
        from concordex.work.concordance.as_of import entries_as_of  # matching takes a while to import

        return entries_as_of(workspace, as_of)
    if table != "weights":
        return stored.read(workspace, table), stored.notes(workspace)
    from concordex.work.concordance.explain import weighing

    return weighing(workspace).means().lazy(), stored.notes(workspace)


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


def _asked(workspace: BaseWorkspace, choice: ShowOptions) -> set[str] | None:
    """The columns that a choice is about; None for all."""
    if not choice.is_part:
        return None
    clauses = clauses_of(workspace.query(choice.where).node) if choice.where else ()
    return {*choice.named, *(clause.field.text.lower() for clause in clauses)}
