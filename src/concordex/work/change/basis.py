"""What a change is prepared on: a table of a system as the last whole pulls found it."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.change.prepare import Form, NaturalKeys, natural, normalised
from concordex.errors import CalledWrongly, QueryError
from concordex.insight.racks import Mounted, clashes
from concordex.model.fields import Type
from concordex.query.named import bearing
from concordex.query.predicate import predicate_of
from concordex.store import snapshots as store
from concordex.wire import dialect as d
from concordex.words import suggestion
from concordex.work.targets.records import form_of, known_in, tables_for, without_bin, writable

if TYPE_CHECKING:
    from concordex.store.catalogue import Snapshot
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True)
class Basis:
    """One table of one system, with all that it refers to."""

    system: str
    table: str
    dialect: d.Dialect
    write: d.Write
    frames: Mapping[str, pl.DataFrame]
    forms: Mapping[str, Form]
    #: Records by their natural keys, by table, once they are asked for.
    keyed: dict[str, dict[tuple[str, ...], Mapping[str, Any]]] = field(default_factory=dict)
    #: The keys of records that the workspace leaves out, and records that are in the system's bin, by table.
    hidden: Mapping[str, pl.DataFrame] = field(default_factory=dict)
    binned: Mapping[str, pl.DataFrame] = field(default_factory=dict)

    @cached_property
    def known(self) -> dict[str, NaturalKeys]:
        """The natural keys that each table holds."""
        known = {name: known_in(self.frames[name], self.forms[name]) for name in self.frames}
        for why, frames in (("left out here", self.hidden), ("in its bin", self.binned)):
            for name, frame in frames.items():
                aside = known_in(frame, self.forms[name])
                known[name].keys = {**aside.keys, **known[name].keys}
                known[name].unique = {n: {**aside.unique[n], **mine} for n, mine in known[name].unique.items()}
                known[name].aside |= dict.fromkeys(frame["record_id"], why)
        return known

    @property
    def frame(self) -> pl.DataFrame:
        """The table's own records."""
        return self.frames[self.table]

    @property
    def fields(self) -> dict[str, Type]:
        """Our fields that can be written, the referring ones among them, and their types."""
        spec = self.dialect.tables[self.table]
        names = [*self.write.fields, *(ours for ref in self.write.references.values() for ours in ref.by.values())]
        return {name: spec.type_of(name) for name in dict.fromkeys(names)}

    def standing(self, record: Mapping[str, Any]) -> Mounted | None:
        """Where a record stands in a rack; nothing where it does not, or where that is not known."""
        stands = self.write.stands
        if stands is None or record.get(stands.rack) is None or record.get(stands.at) is None:
            return None
        key = self._referred(stands.rack, record)
        if key is None:
            return None
        face = record.get(stands.face) if stands.face else None
        label = str(record.get("name") or record.get("record_id") or "another")
        return Mounted(
            label=label, rack=key, at=float(record[stands.at]), height=float(self._of(stands.height, record) or 1),
            face=face, full_depth=self._of(stands.full_depth, record),
        )  # fmt: skip

    def _of(self, by_table: Mapping[str, str], record: Mapping[str, Any]) -> Any:
        """What the records of another table, which a record refers to, say of it."""
        for table, name in by_table.items():
            link = next(reference for reference in self.forms[self.table].links if reference.via == table)
            key = natural({t: record.get(o) for t, o in link.by.items()}, list(link.by))
            return (self._by_key(table).get(key or ()) or {}).get(name)
        return None

    def _referred(self, ours: str, record: Mapping[str, Any]) -> tuple[str, ...] | None:
        link = next(reference for reference in self.forms[self.table].links if ours in reference.by.values())
        return natural({theirs: record.get(mine) for theirs, mine in link.by.items()}, list(link.by))

    def _by_key(self, table: str) -> dict[tuple[str, ...], Mapping[str, Any]]:
        if table not in self.keyed:
            self.keyed[table] = {
                key: row
                for row in self.frames[table].iter_rows(named=True)
                for names in self.forms[table].keys
                if (key := natural(row, names)) is not None
            }
        return self.keyed[table]

    def misplaced(self, records: Sequence[tuple[str | None, Mapping[str, Any]]]) -> list[str | None]:
        """For each record as it shall be, with the id of the one that is there, why it cannot stand where it shall.

        What stays where it is, is not judged, and in the way of others.
        """
        stands = self.write.stands
        ids = [record_id for record_id, _ in records if record_id]
        there = {row["record_id"]: row for row in self.frame.filter(pl.col("record_id").is_in(ids)).to_dicts()}
        placed, moving = list[tuple[int, Mounted]](), set[str]()
        for at, (record_id, record) in enumerate(records):
            where, before = self.standing(record), self.standing(there.get(record_id or "", {}))
            if record_id and (where is None or before is None or not where.is_where(before)):
                moving.add(record_id)
            if where is not None and (before is None or not where.is_where(before)):
                placed.append((at, where))
        if stands is None or not placed:
            return [None] * len(records)
        rest = [where for row in self.frame.iter_rows(named=True)
                if row["record_id"] not in moving and (where := self.standing(row)) is not None]  # fmt: skip
        link = next(record for record in self.forms[self.table].links if stands.rack in record.by.values())
        sizes = {key: float(row[stands.size]) for key, row in self._by_key(link.via).items() if row.get(stands.size)}
        reasons: list[str | None] = [None] * len(records)
        for (at, _), why in zip(placed, clashes([where for _, where in placed], rest, sizes), strict=True):
            reasons[at] = why
        return reasons

    @property
    def unread(self) -> Collection[str]:
        """Fields that no reading shows as they were sent: secrets, and one-time codes."""
        return self.forms[self.table].unread

    def image(self, row: Mapping[str, Any]) -> dict[str, Any]:
        """What can be written of a record, as it is."""
        return {name: row.get(name) for name in self.fields if name in row and name not in self.unread}

    def key(self, row: Mapping[str, Any]) -> dict[str, Any]:
        """The surest natural key of a record, and what its references are found by."""
        form = self.forms[self.table]
        own = next(({n: row.get(n) for n in names} for names in form.keys if natural(row, names)), {})
        return own | {ours: row.get(ours) for link in form.links for ours in link.by.values() if ours in row}


def forms_of(workspace: BaseWorkspace, system: str) -> dict[str, Form]:
    """How the tables of a system, or of a database or file, are written."""
    if system in workspace.config.targets:
        into = workspace.config.targets[system]
        return {into.where_to: Form(keys=[[into.key]], can_delete=True)}
    return {name: form_of(spec) for name, spec in workspace.dialect(system).tables.items()}


def base_of(workspace: BaseWorkspace, system: str, table: str) -> Basis:
    """The base for changes of ``table``; refused where some of it was never pulled whole."""
    workspace.systems([system])
    dialect = workspace.dialect(system)
    write = writable(dialect, table, system)
    tables = tables_for(dialect, [table])
    newest = {s.table: s for s in workspace.memory.newest(system=system)}
    _all_whole(system, tables, newest)
    forms = {name: form_of(dialect.tables[name]) for name in tables}
    frames = {name: workspace.frames.scan(str(newest[name].file)).collect() for name in tables}
    files = {name: store.beside(str(newest[name].file)) for name in tables}
    hidden = {n: workspace.frames.scan(file).collect() for n, file in files.items() if workspace.frames.known(file)}
    binned = {}
    for name in tables:
        live, gone = without_bin(frames[name], dialect.tables[name])
        if gone.height:
            frames[name], binned[name] = live, gone
    return Basis(system, table, dialect, write, frames, forms, hidden=hidden, binned=binned)


def _all_whole(system: str, tables: Sequence[str], newest: Mapping[str, Snapshot]) -> None:
    """Raise CalledWrongly unless all ``tables`` have a whole snapshot to prepare a change on."""
    for name in tables:
        snapshot = newest.get(name)
        if snapshot is None or not snapshot.whole:
            what = "has not been pulled" if snapshot is None else f"is {snapshot.outcome} ({snapshot.fault})"
            raise CalledWrongly(
                f"{system}/{name} {what}: nothing is prepared on that",
                advice=f"if it is known to be all: systems: {system}: trust: {{{name}: unproven}}, in concordex.yaml"
                if snapshot and snapshot.outcome == "unproven"
                else f"concordex pull {system}",
            )


def selected(workspace: BaseWorkspace, base: Basis, selection: str) -> pl.DataFrame:
    """The records that a filter finds, or the one that a name, serial, MAC, address, tag or id means."""
    try:
        query = workspace.query(selection)
    except QueryError as error:
        record = _named(base, selection)
        if record is not None:
            return record
        if any(sign in selection for sign in "=<>(") or " " in selection.strip():
            raise
        names: list[str] = base.frame["name"].drop_nulls().to_list() if "name" in base.frame.columns else []
        raise CalledWrongly(
            f"{base.system} has no record in {base.table} called {selection!r}, and it is not a filter",
            advice=suggestion(selection, names) if names else "docs/filters.md",
        ) from error
    return base.frame.filter(predicate_of(base.frame, query, workspace.now()))


def _named(base: Basis, key: str) -> pl.DataFrame | None:
    """The record that bears ``key`` in a natural key of one field, or is named by it; refused if several do."""
    keys = [names[0] for names in base.forms[base.table].keys if len(names) == 1]
    tests: list[tuple[str, pl.Series | pl.Expr]] = [(name, _is(base.frame[name], key)) for name in keys]
    tests += bearing(key, base.frame.columns).items()
    for name, test in tests:
        bearers = base.frame.filter(test)
        if bearers.height > 1:
            raise CalledWrongly(
                f"{bearers.height} records in {base.system}/{base.table} have the {name} {key!r}:"
                f" {', '.join(bearers['record_id'])}",
                advice=f"say which, with a filter such as '{name} = {key} and site = …'",
            )
        if bearers.height:
            return bearers
    return None


def _is(column: pl.Series, key: str) -> pl.Series:
    """Which values are ``key``, or have it among them, as natural keys compare them."""
    values = column.to_list() if column.dtype == pl.List else [[value] for value in column]
    wanted = normalised(key)
    return pl.Series([any(v and normalised(v) == wanted for v in listed or ()) for listed in values], dtype=pl.Boolean)
