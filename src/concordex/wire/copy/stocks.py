"""The stocks of a copy: what each table holds, and how a record is found by what a request says of it."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from typing import Any

import orjson
import polars as pl

from concordex.wire import dialect as d
from concordex.wire.copy.declined import Cause, Declined, untold
from concordex.wire.copy.route import Values
from concordex.wire.copy.stock import Stock, parents_of
from concordex.wire.dialect.order import order
from concordex.wire.dialect.paths import Path


class Stocks:
    """What is held of a system, by table; tables that are one list of it are one stock."""

    def __init__(self, dialect: d.Dialect, pulled: Mapping[str, pl.DataFrame]) -> None:
        """``pulled`` are the rows of its tables, with the system's own records."""
        self.dialect = dialect
        self.by_table: dict[str, Stock] = {}
        self.missing: list[str] = []
        self._by_id: dict[str, tuple[int, dict[str, Mapping[str, Any]]]] = {}
        same: dict[bytes, list[str]] = {}
        for name in order(self.dialect, list(self.dialect.tables)):
            table = self.dialect.tables[name]
            if name not in pulled:
                self.missing.append(name)
                continue
            same.setdefault(list_of(table), []).append(name)
        for names in same.values():
            tables = {name: self.dialect.tables[name] for name in names}
            first, frame = tables[names[0]], pulled[names[0]]
            above = pulled.get(first.read.each.of) if first.read.each else None
            stock = Stock(tables, frame, list(parents_of(first, frame, above)))
            self.by_table.update(dict.fromkeys(names, stock))

    def __contains__(self, name: object) -> bool:
        return name in self.by_table

    def rows(self, name: str) -> pl.DataFrame:
        """A table as it is now, as fields of ours."""
        return self.of(name).rows(name, self.rows)

    def of(self, name: str) -> Stock:
        """The stock of a table; refused where nothing of it was pulled."""
        if name not in self.by_table:
            raise untold(f"what {name} holds: it was not pulled")
        return self.by_table[name]

    def parent(self, table: d.Table, values: Values) -> str:
        """The record that a list hangs from, by what stands in its address."""
        assert table.read.each
        other = table.read.each.of
        found = self._by_fields(other, values)
        if not found:
            raise Declined(Cause.ABSENT, f"there is no such record among {other}")
        return found

    def row(self, name: str, record_id: str) -> Mapping[str, Any]:
        """A record as fields of ours."""
        stamp = self.stamp
        made, rows = self._by_id.get(name, (-1, {}))
        if made != stamp:
            rows = {row["record_id"]: row for row in self.rows(name).iter_rows(named=True)}
            self._by_id[name] = stamp, rows
        return rows.get(record_id, {})

    def hanging(self, name: str, values: Values) -> str:
        """The record that the address of a call for each record names: by its members, and what it hangs from."""
        stock, table = self.of(name), self.dialect.tables[name]
        if "_record" in values:
            return str(values["_record"])

        def known(record_id: str) -> Mapping[str, Any]:
            record, above = stock.record(record_id), Values()
            if table.read.each and (parent := stock.parent(record_id)):
                above = dict(self.row(table.read.each.of, parent))
            own = {n: Path(n).first(record) for n in values}
            return above | {n: value for n, value in own.items() if value is not None}

        found = stock.named(values, values, known)
        if not found:
            raise Declined(Cause.ABSENT, f"there is no such record of {name}")
        return found

    def written(self, name: str, values: Values) -> str:
        """The record that the address of a write names, by our fields."""
        return self._by_fields(name, values)

    def _by_fields(self, name: str, values: Values) -> str:
        names = [n for n in values if n in self.dialect.tables[name].fields]
        if names == ["record_id"]:
            record_id = str(values["record_id"])
            return record_id if record_id in self.of(name) else ""
        return self.of(name).named(names, values, partial(self.row, name)) if names else ""

    @property
    def stamp(self) -> int:
        """Moves with every record that is written."""
        return sum(stock.stamp for stock in self.by_table.values())


def list_of(table: d.Table) -> bytes:
    """What tells the list of a table from others."""
    return list_key(table.read, table.read.each)


def list_key(listed: d.Listed, each: d.Each | None = None) -> bytes:
    """What tells one list of a system from another."""
    call = {"method", "path", "query", "rpc", "params", "json_body", "records"}
    return orjson.dumps([listed.model_dump(mode="json", include=call), each and each.of], default=str)
