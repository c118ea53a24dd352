"""Asking the systems now, with as much of the filter as each can apply itself; nothing is kept."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly
from concordex.model.fields import ORIGINAL, type_of
from concordex.parallel import all_of, completed
from concordex.query.bind import Binder
from concordex.query.funnel import Stage, funnel
from concordex.query.pushdown import Reached
from concordex.query.tree import And, Filter
from concordex.store.snapshots import join
from concordex.wire.reading.read import count
from concordex.wire.reading.table_read import TableRead
from concordex.wire.reading.tables import read_tables
from concordex.words import suggestion
from concordex.work.pull.pushdown import narrowed, reachable

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

Live = tuple[pl.LazyFrame, list[str], list[Stage]]


def fetch(
    workspace: BaseWorkspace,
    table: str,
    systems: Sequence[str],
    query: Filter | None,
    *,
    columns: Sequence[str] = (),
    funnel: bool = False,
) -> Live:
    """The records that the systems hold now; with ``funnel``, also how the count narrowed."""
    asked = workspace.active(workspace.systems(systems))
    names = [name for name in asked if table in workspace.dialect(name).tables]
    if not names:
        known = {t for name in workspace.systems(systems) for t in workspace.dialect(name).tables}
        raise CalledWrongly(f"there is no table {table!r}", advice=suggestion(table, known))
    now = workspace.now()
    answers = completed(_fetch_all(workspace, names, table, query, columns, now, funnel))
    frames = [
        look.frame.lazy().with_columns(pl.lit(name).alias("system"))
        for name, (look, _, _) in zip(names, answers, strict=True)
    ]
    joined, notes, stages = join(frames), [], []
    for name, (look, reached, total) in zip(names, answers, strict=True):
        if not look.whole:
            notes.append(f"{name}/{table} is {look.outcome}: {look.why}")
        if funnel and query:
            stages += _stages(
                name, joined.filter(pl.col("system") == name), query, reached, (total, look.distinct), now
            )
    return joined, notes, stages


async def _fetch_all(
    workspace: BaseWorkspace,
    names: Sequence[str],
    table: str,
    query: Filter | None,
    columns: Sequence[str],
    now: datetime,
    funnel: bool,
) -> list[tuple[TableRead, Reached, int | None]]:
    workspace.secrets.fetch(names)

    async def fetch(name: str) -> tuple[TableRead, Reached, int | None]:
        dialect = workspace.dialect(name)
        reached = reachable(query, dialect.tables[table], now)
        async with workspace.session(name) as session:
            narrow = narrowed(reached, dialect.tables[table], query, now, columns)
            looks = dict([read async for read in read_tables(session, [table], {table: narrow})])
            look = looks[table]
            total = await count(session, table) if funnel and reached.nodes else look.announced
        return look, reached, total

    return await all_of(fetch(name) for name in names)


def _stages(
    name: str,
    frame: pl.LazyFrame,
    query: Filter,
    reached: Reached,
    counts: tuple[int | None, int],
    now: datetime,
) -> list[Stage]:
    """The whole, then what the system applied (as one stage), then what was applied here."""
    total, came = counts
    stages = [Stage(clause=f"(all of {name})", left=total, by=name)]
    if reached.nodes:
        clause = " and ".join(query.written(node) for node in reached.nodes)
        stages.append(Stage(clause=clause, left=came, by=name))
    rest = tuple(node for node in query.conjuncts if node not in reached.nodes)
    if rest:
        types = {n: type_of(t, n) for n, t in frame.collect_schema().items() if n != ORIGINAL}
        stages += funnel(frame, Binder(Filter(query.text, And(rest)), types, now))[1:]
    return stages
