"""Asking the systems now, with as much of the filter as each can apply itself; nothing is kept."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly
from concordex.parallel import all_of, completed
from concordex.query.bind import Binder
from concordex.query.funnel import Stage, funnel
from concordex.query.tree import And, Filter, Node, clauses_of
from concordex.store.snapshots import join
from concordex.wire.reading.read import count
from concordex.wire.reading.table_read import TableRead
from concordex.wire.reading.tables import read_tables
from concordex.words import suggestion
from concordex.work.pull.pushdown import narrowed, reachable
from concordex.work.show.handed import handed
from concordex.work.show.references import meant_by

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True)
class Answered:
    """What a system answered: the parts of the filter that it ``applied``, of how many, and what came of it."""

    system: str
    applied: Sequence[Node]
    total: int | None
    read: TableRead


def fetch(
    workspace: BaseWorkspace,
    table: str,
    systems: Sequence[str],
    query: Filter | None,
    *,
    columns: Sequence[str] = (),
    funnel: bool = False,
) -> tuple[pl.LazyFrame, list[str], list[Answered]]:
    """The records that the systems hold now, as far as they can apply ``query``, and what each of them answered.

    With ``funnel`` they are asked as well how many they hold in all.
    """
    asked = workspace.active(workspace.systems(systems))
    names = [name for name in asked if table in workspace.dialect(name).tables]
    if not names:
        known = {t for name in workspace.systems(systems) for t in workspace.dialect(name).tables}
        raise CalledWrongly(f"there is no table {table!r}", advice=suggestion(table, known))
    answers = completed(_fetch_all(workspace, names, table, query, columns, workspace.now(), funnel))
    frames = [answer.read.frame.lazy().with_columns(pl.lit(answer.system).alias("system")) for answer in answers]
    notes = [
        f"{answer.system}/{table} is {answer.read.outcome}: {answer.read.why}"
        for answer in answers
        if not answer.read.whole
    ]
    return join(frames), notes, answers


async def _fetch_all(
    workspace: BaseWorkspace,
    names: Sequence[str],
    table: str,
    query: Filter | None,
    columns: Sequence[str],
    now: datetime,
    funnel: bool,
) -> list[Answered]:
    workspace.secrets.fetch(names)
    needed = [meant_by(clause.field.text.lower()) for clause in clauses_of(query.node)] if query and columns else []

    async def fetch(name: str) -> Answered:
        spec = workspace.dialect(name).tables[table]
        said = handed(workspace, name, table, query)
        reached = reachable(said.query, spec, now, said.exact)
        async with workspace.session(name) as session:
            narrow = narrowed(reached, spec, said.query, now, [*columns, *needed])
            reads = dict([read async for read in read_tables(session, [table], {table: narrow})])
            read = reads[table]
            total = await count(session, table) if funnel and reached.nodes else read.announced
        return Answered(name, [said.written.get(node, node) for node in reached.nodes], total, read)

    return await all_of(fetch(name) for name in names)


def stages(frame: pl.LazyFrame, binder: Binder, answers: Sequence[Answered]) -> list[Stage]:
    """Of each system the whole, then what it applied (as one stage), then what was applied here."""
    told, query = [], binder.query
    for answer in answers:
        told.append(Stage(clause=f"(all of {answer.system})", left=answer.total, by=answer.system))
        if answer.applied:
            clause = " and ".join(query.written(node) for node in answer.applied)
            told.append(Stage(clause=clause, left=answer.read.distinct, by=answer.system))
        rest = tuple(node for node in query.conjuncts if node not in answer.applied)
        if rest:
            own = binder.of(Filter(query.text, And(rest)))
            told += funnel(frame.filter(pl.col("system") == answer.system), own)[1:]
    return told
