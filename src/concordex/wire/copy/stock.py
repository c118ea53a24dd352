"""The records of one list, as the system sent them and as its dialect reads them; and what was written since."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

import orjson
import polars as pl

from concordex.model.fields import ORIGINAL
from concordex.wire import dialect as d
from concordex.wire.copy.placing import placed, way_to
from concordex.wire.dialect.paths import Path
from concordex.wire.reading.mapping import Mapper, follow
from concordex.wire.reading.records import DecodedRecords

Record = dict[str, Any]
#: Gives the rows of another table.
Rows = Callable[[str], pl.DataFrame]


class Stock:
    """The records of one list by their ids; several ``tables`` of a dialect may be read from it.

    The first of them is the one by which its records are known.
    """

    def __init__(self, tables: Mapping[str, d.Table], pulled: pl.DataFrame, parents: Sequence[str | None]) -> None:
        """``pulled`` are the rows of the first table, with the system's own records; each hangs from its parent."""
        self.tables = dict(tables)
        self.name, self.table = next(iter(self.tables.items()))
        ids = pulled["record_id"].to_list()
        self._texts: dict[str, str] = dict(zip(ids, pulled[ORIGINAL].to_list(), strict=True))
        self._parents = dict(zip(ids, parents, strict=True))
        self._children: dict[str | None, dict[str, None]] = {}
        for record_id, parent in self._parents.items():
            self._children.setdefault(parent, {})[record_id] = None
        whole = {*self.table.fields, ORIGINAL} <= set(pulled.columns)
        self._rows = {self.name: pulled.select(*self.table.fields, ORIGINAL)} if whole else {}
        self._stale: dict[str, set[str]] = {self.name: set()} if whole else {}
        self._found: dict[tuple[str, ...], _Index] = {}
        self._next = 0
        #: Moves with every record that is written.
        self.stamp = 0

    def __len__(self) -> int:
        return len(self._texts)

    def __contains__(self, record_id: object) -> bool:
        return record_id in self._texts

    def of(self, parent: str | None) -> Sequence[str]:
        """The ids of what hangs from a record; of all that hangs from none."""
        return list(self._children.get(parent, ()))

    @property
    def ids(self) -> Sequence[str]:
        """All ids."""
        return list(self._texts)

    def record(self, record_id: str) -> Record:
        """A record, as the system would send it."""
        return dict(orjson.loads(self._texts[record_id]))

    def text(self, record_id: str) -> str | None:
        """The same as JSON text; None where there is none."""
        return self._texts.get(record_id)

    def parent(self, record_id: str) -> str | None:
        """What it hangs from."""
        return self._parents.get(record_id)

    def put(self, record_id: str, record: Mapping[str, Any] | str, parent: str | None = None) -> None:
        """Add a record, or alter it."""
        text = record if isinstance(record, str) else orjson.dumps(record, default=str).decode()
        self._texts[record_id] = text
        self._parents[record_id] = parent
        self._children.setdefault(parent, {})[record_id] = None
        self._touched(record_id)

    def remove(self, record_id: str) -> None:
        """Take a record away."""
        del self._texts[record_id]
        self._children[self._parents.pop(record_id)].pop(record_id)
        self._touched(record_id)

    def _touched(self, record_id: str) -> None:
        self.stamp += 1
        for stale in self._stale.values():
            stale.add(record_id)
        for index in self._found.values():
            index.stale.add(record_id)

    def raw_id(self, record_id: str) -> Any:
        """A record's id as the system writes it."""
        said = (path.first(self.record(record_id)) for path in self._id_paths)
        return next((value for value in said if value not in (None, "")), record_id)

    @property
    def _id_paths(self) -> Sequence[Path]:
        return self.table.fields["record_id"].from_

    def new_id(self) -> Any:
        """An id that no record has, of the sort that they have."""
        sample = next(iter(self._texts), None)
        raw = self.raw_id(sample) if sample is not None else 0
        numbers = isinstance(raw, int) or str(raw).isdecimal()
        if not self._next:
            self._next = max((int(tail) for n in self._texts if (tail := n.rpartition("/")[2]).isdecimal()), default=0)
        while True:
            self._next += 1
            made: Any = self._next if isinstance(raw, int) else str(self._next) if numbers else f"new-{self._next}"
            if str(made) not in self._texts:
                return made

    def with_id(self, record: Mapping[str, Any], raw: Any) -> Record:
        """A record with its id in its place."""
        return dict(placed(record, way_to(self._id_paths[0]), raw))

    def known_as(self, raw: Any, parent: str | None) -> str:
        """The id by which we know a record that the system knows as ``raw``."""
        below = self.table.fields["record_id"].below_parent
        return f"{parent}/{raw}" if below else str(raw)

    def rows(self, name: str, others: Rows) -> pl.DataFrame:
        """The records as fields of ours, by one of the tables that are read from here; as they are now."""
        table, stale = self.tables[name], self._stale.setdefault(name, set(self._texts))
        kept = self._rows.get(name)
        if stale or kept is None:
            made = self.mapped(name, [n for n in stale if n in self._texts], others)
            if kept is not None:
                rest = kept.filter(~pl.col("record_id").is_in(list(stale)))
                made = pl.concat([rest, made.select(rest.columns)], how="vertical_relaxed")
            self._rows[name] = made
            self._stale[name] = set()
        return self._rows[name].select(*table.fields)

    def mapped(
        self, name: str, ids: Iterable[str], others: Rows, instead: Mapping[str, Mapping[str, Any]] | None = None
    ) -> pl.DataFrame:
        """Some records as the dialect reads them, each with what it hangs from; ``instead`` of them other ones."""
        table, mapper = self.tables[name], Mapper(self.tables[name])
        columns, moment = mapper.empty(), datetime.now(UTC)
        above: dict[str, dict[str, Any]] = {}
        if table.read.each:
            parents = others(table.read.each.of)
            above = {row["record_id"]: row for row in parents.iter_rows(named=True)}
        by_parent: dict[str | None, list[str]] = {}
        for record_id in ids:
            by_parent.setdefault(self._parents.get(record_id), []).append(record_id)
        for parent, own in by_parent.items():
            records = [(instead or {}).get(n) or self.record(n) for n in own]
            texts = [orjson.dumps(record, default=str) for record in records]
            mapper.add(columns, DecodedRecords(records), texts, above.get(parent or ""), moment)
        frame = mapper.frame([mapper.taken(columns)])
        takes: dict[str, set[str]] = {}
        for spec in table.fields.values():
            if spec.via:
                takes.setdefault(spec.via, set()).add(spec.take)
        meant = {via: others(via).select("record_id", *(names - {"record_id"})) for via, names in takes.items()}
        return follow(frame, table, meant)

    def named(self, names: Iterable[str], values: Mapping[str, Any], known: Callable[[str], Mapping[str, Any]]) -> str:
        """The id of the record for which ``names`` have these values; ``known`` says what a record says of them.

        Empty where there is none.
        """
        key = tuple(sorted(names))
        index = self._found.setdefault(key, _Index(self._texts))
        index.renew(self._texts, lambda n: tuple(str(known(n).get(name)) for name in key))
        return index.ids.get(tuple(str(values[name]) for name in key), "")


class _Index:
    """Ids by what their records say of some names."""

    def __init__(self, ids: Iterable[str]) -> None:
        self.ids: dict[tuple[str, ...], str] = {}
        self.stale = set(ids)
        self._keys: dict[str, tuple[str, ...]] = {}

    def renew(self, there: Mapping[str, Any], key_of: Callable[[str], tuple[str, ...]]) -> None:
        for record_id in self.stale:
            old = self._keys.pop(record_id, None)
            if old is not None and self.ids.get(old) == record_id:
                del self.ids[old]
            if record_id in there:
                self._keys[record_id] = key_of(record_id)
                self.ids[self._keys[record_id]] = record_id
        self.stale = set()


def parents_of(table: d.Table, pulled: pl.DataFrame, above: pl.DataFrame | None) -> Iterator[str | None]:
    """What each record hangs from, as far as that can be seen in its row; ``above`` are the rows of the parents."""
    if table.read.each is None:
        yield from [None] * pulled.height
        return
    spec = table.fields["record_id"]
    if spec.below_parent:
        for record_id, text in zip(pulled["record_id"], pulled[ORIGINAL], strict=True):
            own = next((v for path in spec.from_ if (v := path.first(orjson.loads(text))) not in (None, "")), "")
            yield record_id.removesuffix(f"/{own}")
        return
    known = {ours: field.of_parent for ours, field in table.fields.items() if field.of_parent}
    if above is None or not known:
        yield from [""] * pulled.height  # it hangs from something, and nothing says from what
        return
    direct = next((ours for ours, theirs in known.items() if theirs == "record_id"), None)
    if direct is not None:
        yield from pulled[direct].to_list()
        return
    names = [(ours, theirs) for ours, theirs in known.items() if theirs in above.columns]
    seen: dict[tuple[str, ...], list[str]] = {}
    for row in above.iter_rows(named=True):
        seen.setdefault(tuple(str(row[theirs]) for _, theirs in names), []).append(row["record_id"])
    for row in pulled.iter_rows(named=True):
        found = seen.get(tuple(str(row[ours]) for ours, _ in names), [])
        yield found[0] if len(found) == 1 else ""
