"""Choosing the part of a change that is to be run."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.change.choose import chosen, needed_by_objects, needed_by_records
from concordex.change.steps import Change, Step
from concordex.errors import CalledWrongly
from concordex.model.fields import FIELDS, Type
from concordex.query.predicate import predicate
from concordex.words import suggestion
from concordex.work.change.basis import forms_of
from concordex.work.targets.kinds import kinds_of

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

_ACTIONS = ("create", "update", "delete", "action")


def choose(
    workspace: BaseWorkspace,
    change: Change,
    actions: Sequence[str],
    table: str | None,
    where: str | None,
    first: int | None,
) -> list[Step]:
    """The open steps that are meant, and those that they need: what they refer to, or what refers to them and goes.

    A filter looks at what a record is to be, and at its key.
    """
    for action in actions:
        if action not in _ACTIONS:
            raise CalledWrongly(f"--only {action}: is not an action", advice=suggestion(action, _ACTIONS))
    tables = {step.table for step in change.steps}
    if table is not None and table not in tables:
        raise CalledWrongly(f"--table {table}: the change has no such steps", advice=suggestion(table, tables))
    if change.about.objects:
        needs = needed_by_objects(change, kinds_of(workspace.dialect(change.system)))
    else:
        needs = needed_by_records(change, forms_of(workspace, change.system))
    among = None if where is None else _matching(workspace, change, where)
    return chosen(change, needs, actions=actions, table=table, among=among, first=first)


def _matching(workspace: BaseWorkspace, change: Change, where: str) -> set[int]:
    rows = [{**step.before, **step.key, **step.desired} for step in change.writes]
    holds = matching(workspace, rows, where)
    return {step.number for step, held in zip(change.writes, holds, strict=True) if held}


def matching(workspace: BaseWorkspace, rows: Sequence[Mapping[str, Any]], where: str) -> list[bool]:
    """For which of ``rows``, our fields and their values, the filter holds."""
    types = dict(FIELDS)
    for name in {name for row in rows for name in row}:
        types.setdefault(name, Type.TEXT)
    schema = {name: kind.dtype for name, kind in types.items()}
    frame = pl.DataFrame([{n: _fit(row.get(n), schema[n]) for n in schema} for row in rows], schema=schema)
    holds = predicate(workspace.query(where), types, workspace.now())
    return frame.select(holds.alias("holds"))["holds"].to_list()


def _fit(value: object, kind: pl.DataType) -> object:
    if isinstance(kind, pl.List):
        return value if isinstance(value, list) else None if value is None else [str(value)]
    if kind == pl.String and value is not None:
        return ", ".join(map(str, value)) if isinstance(value, list) else str(value)
    return None if isinstance(kind, pl.Datetime) else value
