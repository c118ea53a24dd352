"""The rows of a change's steps, some thousand at a time: a night's change has more than a million."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from concordex.store.database import Database

#: How many are read, or written, at a time.
PIECE = 20_000


def step_rows(database: Database, change: int, columns: str) -> Iterator[tuple[Any, ...]]:
    """``columns`` of each step, in the order of their numbers.

    Each piece is a query of its own, so that one may be asked again: they are of one moment only within a
    transaction, or where nobody else writes.
    """
    sql = f"SELECT number, {columns} FROM steps WHERE change = ? AND number > ? ORDER BY number LIMIT {PIECE}"  # noqa: S608
    last = -1
    while piece := database.tuples(sql, (change, last)):
        last = piece[-1][0]
        for row in piece:
            yield row[1:]
        if len(piece) < PIECE:
            return
