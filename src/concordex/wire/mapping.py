"""A system's records as typed columns, by what the dialect says of each field."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import orjson
import polars as pl

from concordex.model.fields import KINDS, ORIGINAL
from concordex.model.values import column
from concordex.wire.dialect import FieldMap, Table
from concordex.wire.paths import at


class Mapper:
    """Turns lists of a table's records into frames; counts the values that could not be read."""

    def __init__(self, table: Table) -> None:
        self.table = table
        self.lost: dict[str, int] = {}

    def frame(self, records: Sequence[Mapping[str, Any]]) -> pl.DataFrame:
        """One row for each record: the mapped fields, and the system's own record as JSON text."""
        columns = {name: self._column(name, spec, records) for name, spec in self.table.fields.items()}
        columns[ORIGINAL] = pl.Series([orjson.dumps(record).decode() for record in records], dtype=pl.String)
        return pl.DataFrame(columns)

    def _column(self, name: str, spec: FieldMap, records: Sequence[Mapping[str, Any]]) -> pl.Series:
        kind = self.table.type_of(name)
        said = [spec.always] * len(records) if spec.always is not None else _said(spec.from_, records)
        series, lost = column(said, kind, spec.conversion(kind))
        if lost:
            self.lost[name] = self.lost.get(name, 0) + lost
        return _translated(series, spec) if spec.values is not None or name == "kind" else series


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


def _translated(series: pl.Series, spec: FieldMap) -> pl.Series:
    """Their words as ours; a word that is not listed stays, or becomes `otherwise`."""
    table = {theirs.lower(): ours for theirs, ours in (spec.values or {}).items()}
    words = pl.col(series.name)
    lowered = words.str.to_lowercase()
    known = lowered.replace_strict(list(table), list(table.values()), default=None, return_dtype=pl.String)
    rest = pl.when(words.is_not_null()).then(pl.lit(spec.otherwise)) if spec.otherwise is not None else words
    return series.to_frame().select(pl.when(lowered.is_in(list(table))).then(known).otherwise(rest)).to_series()


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
