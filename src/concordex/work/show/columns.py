"""The columns of a table that is looked at."""

from __future__ import annotations

from collections.abc import Collection
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly
from concordex.model.fields import ALIASES, KINDS, ORIGINAL, Type
from concordex.query.bind import Binder, beside_it
from concordex.query.frames import extra_value
from concordex.query.predicate import types_in
from concordex.words import suggestion

if TYPE_CHECKING:
    from datetime import datetime

    from concordex.query.tree import Filter
    from concordex.work.show.show_options import ShowOptions


class Columns:
    """The columns of a lazy frame and their types."""

    def __init__(self, lazy: pl.LazyFrame, on_request: Collection[str] = ()) -> None:
        schema = lazy.collect_schema()
        self.on_request = on_request  # columns that are shown only where they are named
        self.types: dict[str, Type] = types_in(schema)
        self.has_original = ORIGINAL in schema

    def type_of(self, name: str) -> Type:
        """The type of the column called ``name``; what stands in the system's own record is text."""
        return self.types.get(ALIASES.get(name, name), Type.TEXT)

    def column(self, name: str) -> pl.Expr:
        """The column called ``name``; a dotted name reaches into the system's own record."""
        known = ALIASES.get(name, name)
        if known in self.types:
            return pl.col(known).alias(name)
        if self.has_original and name == ORIGINAL:
            return pl.col(ORIGINAL)
        beside = beside_it(name, self.types)
        if self.has_original and "." in name and not beside:
            return extra_value(name.removeprefix("extra.")).alias(name)
        raise CalledWrongly(f"there is no column {name!r}", advice=suggestion(name, beside or self.types))

    def binder(self, query: Filter, now: datetime, *, closed: bool = True) -> Binder:
        """A filter on these columns, at a moment; QueryError where it cannot be meant.

        ``closed`` says that kinds are those of devices, and no other word can be one.
        """
        kinds = {name: KINDS for name in self.types if name == "kind" or name.endswith(".kind")}
        binder = Binder(query, self.types, now, extra=self.has_original, closed=kinds if closed else {})
        binder.check()
        return binder


def chosen(lazy: pl.LazyFrame, columns: Columns, choice: ShowOptions) -> pl.DataFrame:
    """The columns and rows that are wanted, in the order that is."""
    keys = [(name.removeprefix("-"), name.startswith("-")) for name in choice.sort]
    sorters = [columns.column(name) for name, _ in keys]
    twice = next((name for name in choice.columns if list(choice.columns).count(name) > 1), None)
    if twice:
        raise CalledWrongly(f"the column {twice!r} is named twice")
    usual = [name for name in columns.types if name not in columns.on_request]
    wanted = [columns.column(name) for name in choice.columns or usual]
    if sorters:
        lazy = lazy.sort(sorters, descending=[down for _, down in keys], nulls_last=True, maintain_order=True)
    if choice.limit is not None:
        lazy = lazy.limit(choice.limit)
    return lazy.select(wanted).collect(engine="streaming")
