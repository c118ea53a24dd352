"""The order in which a dialect's tables are read: each after those that it refers to."""

from __future__ import annotations

from collections.abc import Sequence
from graphlib import CycleError, TopologicalSorter

from concordex.errors import CalledWrongly
from concordex.wire.dialect import Dialect, Table


def order(dialect: Dialect, tables: Sequence[str]) -> list[str]:
    """``tables`` and those that they refer to, each after what it refers to."""
    needed: dict[str, list[str]] = {}
    waiting = list(tables)
    for name in waiting:  # which grows: what has nothing to wait for keeps the order in which it was asked for
        if name not in needed:
            needed[name] = refers_to(dialect.tables[name])
            waiting += needed[name]
    try:
        return list(TopologicalSorter(needed).static_order())
    except CycleError as error:
        circle = " -> ".join(reversed(error.args[1]))
        raise CalledWrongly(f"the tables {circle} of dialect {dialect.name} refer in a circle") from error


def refers_to(table: Table) -> list[str]:
    """The tables that must be read before this one."""
    named = [spec.via for spec in table.fields.values() if spec.via]
    return [*([table.read.each.of] if table.read.each else []), *named]
