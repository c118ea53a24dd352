"""A span of time as part of a filter, so that systems are asked for no more than it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from concordex.errors import CalledWrongly

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


def tests_of(field: str, since: datetime | None, until: datetime | None) -> list[str]:
    """The tests of a field of times for being in a span: its end does not belong to it."""
    bounds = ((">=", since), ("<", until))
    return [f'{field} {sign} "{moment.isoformat()}"' for sign, moment in bounds if moment is not None]


def in_span(
    workspace: BaseWorkspace, table: str, systems: Sequence[str], where: str | None, span: Sequence[datetime | None]
) -> str | None:
    """A filter on a table, less what is not of the span of time: by the field that its dialects call its time."""
    if not any(span):
        return where
    fields = {
        spec.health.at
        for system in workspace.systems(systems)
        if (spec := workspace.dialect(system).tables.get(table)) is not None and spec.health and spec.health.at
    }
    if len(fields) != 1:
        what = f"several times: {', '.join(sorted(fields))}" if fields else "no time by its dialect (health: at)"
        raise CalledWrongly(f"{table} has {what}", advice="say the field in the filter: --where 'FIELD newer than 2h'")
    tests = tests_of(fields.pop(), *span)
    return " and ".join([*([f"({where})"] if where else []), *tests])
