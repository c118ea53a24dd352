"""Why a filter finds nothing: which of its words no record says, and what is nearest to them."""

from __future__ import annotations

from collections.abc import Iterator

import polars as pl

from concordex.match.finding import KINDS
from concordex.model.fields import Type
from concordex.query.bind import Binder, Bound
from concordex.query.frames import to_polars
from concordex.query.tree import Clause
from concordex.words import nearest

#: How many different values of a field are compared with a word that none of them is.
_VALUES = 5_000


def why_nothing(lazy: pl.LazyFrame, binder: Binder, table: str) -> list[str]:
    """Of how many records none was found, and for each clause that no record meets, what there is instead."""
    clauses = [node for node in binder.query.conjuncts if isinstance(node, Clause)]
    counts = lazy.select(
        pl.len().alias("all"), *(to_polars(node, binder).sum().alias(f"{at}") for at, node in enumerate(clauses))
    ).collect()
    met = counts.row(0, named=True)
    notes = [f"0 of {met['all']:,}"]
    for at, node in enumerate(clauses):
        if not met[f"{at}"] and met["all"]:
            notes.append(_unmet(lazy, binder.query.written(node), binder.bind(node), node, table))
    if len(notes) == 1 and len(clauses) > 1 and met["all"]:
        notes.append("each clause finds some, and no record meets them all: --funnel shows where they end")
    return notes


def _unmet(lazy: pl.LazyFrame, written: str, bound: Bound, node: Clause, table: str) -> str:
    if bound.type not in (Type.TEXT, Type.TEXTS) or bound.operator not in ("=", "in") or bound.extra is not None:
        return f"no record of {table} meets {written}"
    values = list(_values(lazy, bound))
    for word in node.values:
        near = nearest(word.text.lower(), values)
        if near and word.text not in KINDS:  # which is no slip, though there may be no finding of it
            return f'no record of {table} has the {bound.column} {word.text}; did you mean "{near}"?'
    words = ", ".join(word.text for word in node.values)
    return f"no record of {table} has the {bound.column} {words}" + ("" if values else ": none has any")


def _values(lazy: pl.LazyFrame, bound: Bound) -> Iterator[str]:
    column = lazy.select(pl.col(bound.column).alias("said"))
    if bound.type.is_list:
        column = column.explode("said")
    yield from column.drop_nulls().unique().sort("said").limit(_VALUES).collect()["said"]
