"""What of a filter a system can be asked for, where people see names and the system knows ids."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly
from concordex.model.fields import ALIASES
from concordex.query.bind import Binder
from concordex.query.frames import to_polars
from concordex.query.predicate import types_in
from concordex.query.tree import And, Clause, Filter, Node, Word, clauses_of
from concordex.work.show.references import about, known_to

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: For more records than these a system is not asked by their ids.
_MOST = 50


@dataclass(frozen=True, kw_only=True)
class Handed:
    """The parts of a filter that are asked of fields as a system has them.

    ``written`` says which part of the filter each of them stands for; ``exact`` names the fields whose values are the
    system's own ids, letter by letter.
    """

    query: Filter | None = None
    written: Mapping[Node, Node] = field(default_factory=dict)
    exact: frozenset[str] = frozenset()


def handed(workspace: BaseWorkspace, system: str, table: str, query: Filter | None) -> Handed:
    """``query`` as far as a system can be asked for it; the rest is left to us.

    A part about what a field refers to becomes one about ids: those of the records, as they were pulled, for which it
    holds.  It is left out where records that refer to something unknown could meet it as well.
    """
    if query is None:
        return Handed()
    fields = workspace.dialect(system).tables[table].fields
    refers = {name: known for name, known in known_to(workspace, system, table).items() if f"{name}_id" not in fields}
    parts: list[Node] = []
    written: dict[Node, Node] = {}
    exact: set[str] = set()
    for node in query.conjuncts:
        meant = {_reference(clause, refers) for clause in clauses_of(node)}
        if meant == {None}:
            parts.append(node)
            continue
        name = meant.pop() if len(meant) == 1 else None
        told = _by_ids(workspace, Filter(query.text, node), name, refers[name], table) if name is not None else None
        if told is not None:
            clause, known = told
            parts.append(clause)
            written[clause] = node
            exact |= {clause.field.text} if known else set()
    asked = Filter(query.text, And(tuple(parts))) if parts else None
    return Handed(query=asked, written=written, exact=frozenset(exact))


def _reference(clause: Clause, refers: Mapping[str, pl.DataFrame]) -> str | None:
    """The field that refers to what a clause is about."""
    text = ALIASES.get(clause.field.text.lower(), clause.field.text.lower())
    return next(
        (name for name in refers if text in (name, f"{name}_id") or text.partition(".")[0] == about(name) != text), None
    )


def _by_ids(
    workspace: BaseWorkspace, query: Filter, name: str, known: pl.DataFrame, table: str
) -> tuple[Clause, bool] | None:
    """One clause about ids that no record is lost by, and whether all of its ids are known; None if there is none."""
    node = query.node
    columns = {name: pl.coalesce("_name", "_id"), f"{name}_id": pl.col("_id")}
    if table not in ("devices", "records"):
        columns |= {f"{about(name)}.{column.removeprefix('_')}": pl.col(column) for column in known.columns[1:]}
    seen = known.select(**columns)
    itself = [clause for clause in clauses_of(node) if clause.field.text.lower() in (name, f"{name}_id")]
    if itself and not (isinstance(node, Clause) and node.operator in ("=", "in") and not node.counted):
        return None  # ids that nobody knows could meet it
    binder = Binder(query, types_in(seen.schema), workspace.now(), extra=False, closed={})
    nobody = seen.clear(1)
    try:
        test = to_polars(node, binder).fill_null(value=False)
        ids: Sequence[str] = seen.filter(test)[f"{name}_id"].to_list()
        if nobody.filter(test).height:
            return None  # what refers to nothing that is known could meet it
    except CalledWrongly:
        return None  # told where the filter is applied
    unknown: list[str] = []
    for clause in itself:
        called = {str(text).lower() for column in (name, f"{name}_id") for text in seen[column].drop_nulls()}
        unknown += [word.text for word in clause.values if word.text.lower() not in called]
    if not 0 < len(ids) + len(unknown) <= _MOST:
        return None
    start, end = next(clauses_of(node)).span
    words = tuple(Word(text=text, start=start, end=end, quoted=True) for text in dict.fromkeys([*ids, *unknown]))
    return Clause(field=Word(text=name, start=start, end=end), operator="in", values=words, span=(start, end)), (
        not unknown
    )
