"""For which records of a table a filter holds: the one way from a filter to a frame."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import datetime

import polars as pl

from concordex.model.fields import ORIGINAL, Type, type_of
from concordex.query.bind import Binder
from concordex.query.frames import to_polars
from concordex.query.tree import Filter


def predicate(
    query: Filter,
    types: Mapping[str, Type],
    now: datetime,
    *,
    extra: bool = False,
    closed: Mapping[str, Collection[str]] | None = None,
) -> pl.Expr:
    """The records of a table with columns of these ``types`` for which ``query`` holds; see :class:`Binder`.

    ``extra`` says whether dotted names reach into the system's own record.  QueryError where a clause cannot be meant.
    """
    binder = Binder(query, types, now, extra=extra, closed=closed)
    binder.check()
    return to_polars(query.node, binder)


def predicate_of(table: pl.DataFrame | pl.LazyFrame, query: Filter, now: datetime) -> pl.Expr:
    """The same of a frame, by its own columns."""
    schema = table.collect_schema()
    return predicate(query, types_in(schema), now, extra=ORIGINAL in schema)


def types_in(schema: Mapping[str, pl.DataType]) -> dict[str, Type]:
    """What the columns of a frame are to a filter; the system's own record is none of them."""
    return {name: type_of(kind, name) for name, kind in schema.items() if name != ORIGINAL}
