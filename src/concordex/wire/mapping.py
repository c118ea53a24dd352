"""A system's records as typed columns, by what the dialect says of each field."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import orjson
import polars as pl

from concordex.model.fields import KINDS, ORIGINAL
from concordex.model.values import as_texts, converted, list_column, said_something
from concordex.wire.dialect import FieldMap, Table
from concordex.wire.paths import at

Columns = dict[str, list[Any]]


class Mapper:
    """Turns a table's records into frames; counts the values that could not be read.

    ``columns`` takes records apart, as cheaply as Python can; ``frame`` makes typed columns of
    what was taken, outside Python, and may run in another thread meanwhile.
    """

    def __init__(self, table: Table) -> None:
        self.table = table
        self.lost: dict[str, int] = {}

    def empty(self) -> Columns:
        """Columns to which records can be added."""
        return {name: [] for name in (*self.table.fields, ORIGINAL)}

    def add(
        self,
        columns: Columns,
        records: Sequence[Mapping[str, Any]],
        texts: Sequence[str] | None = None,
        parent: Mapping[str, Any] | None = None,
    ) -> None:
        """Add what ``records`` say of each field, and the records themselves as JSON ``texts``."""
        for name, spec in self.table.fields.items():
            if spec.always is not None:
                columns[name] += [spec.always] * len(records)
            elif spec.of_parent and parent is not None:
                columns[name] += [parent.get(spec.of_parent)] * len(records)
            else:
                said = _said(spec.from_, records)
                if spec.below_parent and parent is not None:
                    said = [None if value is None else f"{parent['record_id']}/{value}" for value in said]
                columns[name] += said
        columns[ORIGINAL] += texts if texts is not None else [orjson.dumps(record).decode() for record in records]

    def frame(self, columns: Columns) -> pl.DataFrame:
        """One row for each record: the fields, and the system's own record."""
        said: dict[str, pl.Series] = {}
        for name, spec in self.table.fields.items():
            kind = self.table.type_of(name)
            if kind.is_list and any(isinstance(value, list) for value in columns[name]):
                said[name], lost = list_column(columns[name], spec.conversion(kind))
                self._lose(name, lost)
            else:
                said[name] = as_texts(columns[name])
        return self._converted(said).with_columns(pl.Series(ORIGINAL, columns[ORIGINAL], dtype=pl.String))

    def _converted(self, said: Mapping[str, pl.Series]) -> pl.DataFrame:
        """All columns at once, so that they are worked on side by side; and what got lost on the way."""
        fields = []
        for name, spec in self.table.fields.items():
            if isinstance(said[name].dtype, pl.List):
                fields.append(pl.col(name))
                continue
            kind = self.table.type_of(name)
            value = converted(name, kind, spec.conversion(kind))
            fields.append(_translated(value, spec).alias(name) if spec.values is not None else value)
        done = pl.LazyFrame(dict(said)).select(fields).collect()
        for name, spec in self.table.fields.items():
            if spec.values is None and done[name].null_count() > said[name].null_count():
                wanted = said_something(name, spec.conversion(self.table.type_of(name)))
                self._lose(name, said[name].alias(name).to_frame().select(wanted.sum()).item() - done[name].count())
        return done

    def _lose(self, name: str, count: int) -> None:
        if count:
            self.lost[name] = self.lost.get(name, 0) + count


def _said(paths: Sequence[str], records: Sequence[Mapping[str, Any]]) -> Sequence[Any]:
    if not paths:
        return [None] * len(records)
    said = at(paths[0]).column(records)
    for path in paths[1:]:
        said = [
            theirs if theirs not in (None, "", []) else more
            for theirs, more in zip(said, at(path).column(records), strict=True)
        ]
    return said


def _translated(words: pl.Expr, spec: FieldMap) -> pl.Expr:
    """Their words as ours; a word that is not listed stays, or becomes `otherwise`."""
    table = {theirs.lower(): ours for theirs, ours in (spec.values or {}).items()}
    lowered = words.str.to_lowercase()
    known = lowered.replace_strict(list(table), list(table.values()), default=None, return_dtype=pl.String)
    rest = pl.when(words.is_not_null()).then(pl.lit(spec.otherwise)) if spec.otherwise is not None else words
    return pl.when(lowered.is_in(list(table))).then(known).otherwise(rest)


def follow(frame: pl.DataFrame, table: Table, others: Mapping[str, pl.DataFrame]) -> pl.DataFrame:
    """``frame`` with each id of a record elsewhere replaced by the value that is meant."""
    for name, spec in table.fields.items():
        if spec.via is None:
            continue
        other = others[spec.via].select(pl.col("record_id").alias(name), pl.col(spec.take).alias("_meant"))
        frame = (
            frame.join(other.unique(name), on=name, how="left", maintain_order="left")
            .with_columns(pl.col("_meant").alias(name))
            .drop("_meant")
        )
    return frame


def odd_kinds(frame: pl.DataFrame) -> list[str]:
    """Kinds in ``frame`` that are not among ours: the dialect's `values` should translate them."""
    if "kind" not in frame.columns:
        return []
    return sorted(set(frame["kind"].drop_nulls().unique()) - set(KINDS))
