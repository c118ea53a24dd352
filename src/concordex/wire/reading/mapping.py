"""A system's records as typed columns, by what the dialect says of each field."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from datetime import UTC, datetime
from threading import Lock
from typing import Any

import polars as pl

from concordex.model.fields import ORIGINAL, Type
from concordex.model.scalars import before
from concordex.model.values import CONVERSIONS, as_texts, converted, list_column, said_something, text
from concordex.wire.dialect import FieldMap, Table
from concordex.wire.dialect.paths import Path
from concordex.wire.reading.records import Records

Columns = dict[str, list[Any]]


class Mapper:
    """Turns a table's records into frames; counts the values that could not be read.

    ``add`` takes records apart, as cheaply as Python can, ``taken`` puts away what was taken while it
    is at hand, and ``frame`` makes typed columns of it all, outside Python.
    """

    def __init__(self, table: Table) -> None:
        self.table = table
        self.lost: dict[str, int] = {}
        self._losing = Lock()

    def empty(self) -> Columns:
        """Columns to which records can be added."""
        return {name: [] for name in (*self.table.fields, ORIGINAL)}

    def add(
        self,
        columns: Columns,
        records: Records,
        texts: Sequence[bytes],
        parent: Mapping[str, Any] | None = None,
        taken: datetime | None = None,
    ) -> None:
        """Add what ``records``, which came at a moment, say of each field, and they themselves as JSON ``texts``."""
        for name, spec in self.table.fields.items():
            if spec.always is not None:
                columns[name] += [spec.always] * len(records)
            elif spec.of_parent and parent is not None:
                columns[name] += [parent.get(spec.of_parent)] * len(records)
            else:
                values = _said(spec.from_, records)
                if spec.below_parent and parent is not None:
                    values = [None if value is None else f"{parent['record_id']}/{value}" for value in values]
                if spec.read_as == "ago":
                    values = [before(value, taken or datetime.now(UTC)) for value in values]
                columns[name] += values
        columns[ORIGINAL] += texts

    def taken(self, columns: Columns) -> pl.DataFrame:
        """One row for each record: what was said of each field, still as text, and the system's own record."""
        texts: dict[str, pl.Series] = {}
        for name, spec in self.table.fields.items():
            kind = self.table.type_of(name)
            if kind.is_list and list in set(map(type, columns[name])):
                texts[name], lost = list_column(columns[name], spec.conversion(kind))
                self._lose(name, lost)
            else:
                texts[name] = as_texts(columns[name])
        texts[ORIGINAL] = pl.Series(columns[ORIGINAL], dtype=pl.Binary).cast(pl.String)
        return pl.DataFrame(texts)

    def frame(self, taken: Sequence[pl.DataFrame]) -> pl.DataFrame:
        """All that was taken as typed columns: in one go, since that is worked on side by side."""
        listed = {name for name in self.table.fields if any(isinstance(t.schema[name], pl.List) for t in taken)}
        alike = [self._with_lists(part, listed) for part in taken]
        texts = pl.concat(alike, rechunk=False)
        fields = [pl.col(name) if name in listed else self._field(name) for name in self.table.fields]
        done = texts.lazy().select(*fields, ORIGINAL).collect()
        for name, spec in self.table.fields.items():
            if spec.values is None and name not in listed:
                self._count_lost(name, texts[name], done[name])
        return done

    def _field(self, name: str) -> pl.Expr:
        spec, kind = self.table.fields[name], self.table.type_of(name)
        if name == "record_id" and spec.read_as is None and spec.values is None:
            return pl.col(name)  # an id is kept exactly as it was sent
        if spec.values is not None and kind not in (Type.TEXT, Type.VERSION):
            ours = _translated(text(pl.col(name)), spec)  # their words for numbers, flags and times
            return CONVERSIONS[spec.conversion(kind)](ours).cast(kind.dtype).alias(name)
        value = converted(name, kind, spec.conversion(kind))
        return _translated(value, spec).alias(name) if spec.values is not None else value

    def _with_lists(self, part: pl.DataFrame, listed: Collection[str]) -> pl.DataFrame:
        """``part`` with lists where other parts have them, and it has only single values."""
        single = [name for name in listed if not isinstance(part.schema[name], pl.List)]
        done = part.with_columns(self._field(name) for name in single)
        for name in single:
            self._count_lost(name, part[name], done[name])
        return done

    def _count_lost(self, name: str, texts: pl.Series, done: pl.Series) -> None:
        if done.null_count() > texts.null_count():
            wanted = said_something(name, self.table.fields[name].conversion(self.table.type_of(name)))
            self._lose(name, texts.alias(name).to_frame().select(wanted.sum()).item() - done.count())

    def _lose(self, name: str, count: int) -> None:
        if count:
            with self._losing:  # of a long table, typed columns are made in another thread
                self.lost[name] = self.lost.get(name, 0) + count


def _said(paths: Sequence[Path], records: Records) -> Sequence[Any]:
    if not paths:
        return [None] * len(records)
    values = records.column(paths[0])
    for path in paths[1:]:
        values = [
            theirs if theirs not in (None, "", []) else more
            for theirs, more in zip(values, records.column(path), strict=True)
        ]
    return values


def _translated(words: pl.Expr, spec: FieldMap) -> pl.Expr:
    """Their words as ours; a word that is not listed stays, or becomes `otherwise`."""
    table = {theirs.lower(): ours for theirs, ours in (spec.values or {}).items()}
    lowered = words.str.to_lowercase()
    known = lowered.replace_strict(list(table), list(table.values()), default=None, return_dtype=pl.String)
    rest = pl.when(words.is_not_null()).then(pl.lit(spec.otherwise)) if spec.otherwise is not None else words
    return pl.when(lowered.is_in(list(table))).then(known).otherwise(rest)


def follow(
    frame: pl.DataFrame, table: Table, others: Mapping[str, pl.DataFrame], nowhere: dict[str, int] | None = None
) -> pl.DataFrame:
    """``frame`` with each id of a record elsewhere replaced by the value that is meant.

    ``nowhere`` takes of each field how many ids led to no record.
    """
    for name, spec in table.fields.items():
        if spec.via is None:
            continue
        there, meant = pl.lit(True).alias("_there"), pl.col(spec.take).alias("_meant")
        other = others[spec.via].select(pl.col("record_id").alias(name), meant, there)
        joined = frame.join(other.unique(name), on=name, how="left", maintain_order="left")
        if nowhere is not None:
            lost = joined.select((pl.col(name).is_not_null() & pl.col("_there").is_null()).sum()).item()
            nowhere[name] = nowhere.get(name, 0) + lost
        frame = joined.with_columns(pl.col("_meant").alias(name)).drop("_meant", "_there")
    return frame
