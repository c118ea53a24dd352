"""A few records of a long table are asked for by themselves; the whole list is read where one of them does not come.

A record that comes is there, whatever else the answer lacks.  That one is gone, or bears another key by now, only
the whole list shows.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import datetime

import orjson
import polars as pl

from concordex.model.fields import ORIGINAL
from concordex.query.tree import And, Clause, Filter, Word
from concordex.wire import dialect as d
from concordex.wire.reading.completeness import TableOutcome
from concordex.wire.reading.pages import Narrow
from concordex.wire.reading.table_read import TableRead
from concordex.work.pull.pushdown import narrowed, reachable

#: Of more records than so many, or than this share of a table, the whole list is read: a page of it brings many.
_MOST, _SHARE = 20, 0.05


@dataclass(frozen=True)
class KeyedRead:
    """Some records of a table, and how the system is asked for little more than these.

    ``members`` are those of each record by its id, as it was pulled.
    """

    members: Mapping[str, frozenset[str]]
    narrow: Narrow

    def complete_in(self, look: TableRead) -> bool:
        """Whether all of them came with all of their members, and nothing went wrong on the way.

        What looks records up may know less of them than the list: that would be written back, or kept.
        """
        if look.outcome is TableOutcome.PARTIAL:
            return False
        came = _members(self.of(look))
        return all(record_id in came and members <= came[record_id] for record_id, members in self.members.items())

    def of(self, look: TableRead) -> pl.DataFrame:
        """These records alone."""
        return look.frame.filter(pl.col("record_id").is_in(list(self.members)))


def lookup(table: d.Table, ids: Collection[str], pulled: pl.LazyFrame, now: datetime) -> KeyedRead | None:
    """How the records of those ``ids`` are asked for by what they were when they were ``pulled``.

    Nothing where the system cannot be asked for them alone, and where the whole list is as quick.
    """
    if len(ids) > _MOST or len(ids) > max(1, _SHARE * pulled.select(pl.len()).collect().item()):
        return None
    rows = pulled.filter(pl.col("record_id").is_in(list(ids))).collect()
    if rows.height < len(ids):
        return None
    names = ["record_id", *(name for key in (table.write.keys if table.write else ()) for name in key)]
    asked = [clause for name in dict.fromkeys(names) if (clause := _clause(rows, name))]
    key = next((clause for clause in asked if reachable(_filter(clause), table, now).nodes), None)
    above = [clause for name, spec in table.fields.items() if spec.of_parent and (clause := _clause(rows, name))]
    if key is None and not above:
        return None
    query = _filter(*([key] if key else []), *above)
    narrow = narrowed(reachable(query, table, now), table, query, now)
    return KeyedRead(_members(rows), narrow) if narrow.fewer or narrow.parents else None


def _members(rows: pl.DataFrame) -> dict[str, frozenset[str]]:
    """The members of the system's own records, by their ids; of what was pulled without them, the id alone counts."""
    own = rows.select("record_id", ORIGINAL if ORIGINAL in rows.columns else pl.lit("{}").alias(ORIGINAL))
    return {record_id: frozenset(orjson.loads(text or "{}")) for record_id, text in own.iter_rows()}


def _clause(rows: pl.DataFrame, name: str) -> Clause | None:
    """That a field is what it is in all of ``rows``; nothing where one has no such text."""
    if rows.schema.get(name) != pl.String or rows[name].null_count():
        return None
    values = [Word(text=value, start=0, end=0, quoted=True) for value in rows[name].unique(maintain_order=True)]
    return Clause(
        field=Word(text=name, start=0, end=0), operator="in" if len(values) > 1 else "=", values=tuple(values)
    )


def _filter(*clauses: Clause) -> Filter:
    return Filter("", clauses[0] if len(clauses) == 1 else And(clauses))


def lookups(
    dialect: d.Dialect, ids: Mapping[str, Collection[str]], pulled: Mapping[str, pl.LazyFrame], now: datetime
) -> dict[str, KeyedRead]:
    """Of each table in ``ids`` how those records are asked for, where that is better than reading the whole list."""
    reads = {name: lookup(dialect.tables[name], ids[name], pulled[name], now) for name in ids if name in pulled}
    return {name: read for name, read in reads.items() if read is not None}
