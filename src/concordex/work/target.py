"""A system that is written to, as it stands now: its tables, and which record a natural key names."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import orjson
import polars as pl

from concordex.change.compare import same, verdict
from concordex.change.prepare import Form, Key, Known, Link, natural, plain
from concordex.change.steps import Step
from concordex.errors import CalledWrongly, WireError
from concordex.model.fields import ORIGINAL
from concordex.wire import dialect as d
from concordex.wire.paths import at
from concordex.wire.read import Look
from concordex.wire.session import Session
from concordex.wire.tables import order, read_tables
from concordex.wire.writes import body_of
from concordex.words import suggestion


def form_of(table: d.Table) -> Form:
    """What preparing a change needs to know of how ``table`` is written."""
    write = table.write
    if write is None:
        return Form(keys=[["name"]], can_create=False, can_update=False)
    back = {name: act.taken_back for name, act in write.acts.items() if act.taken_back}
    links = [Link(via=ref.via, by=ref.by) for ref in write.references.values()]
    return Form(
        keys=write.keys, required=write.required, unique=write.unique, links=links,
        can_create=write.create is not None, can_update=write.update is not None,
        can_delete=write.delete is not None, takes_back=back,
    )  # fmt: skip


def known_in(frame: pl.DataFrame, form: Form) -> Known:
    """The natural keys that a table's records have."""
    names = sorted({name for key in form.keys for name in key} | set(form.unique))
    known = Known(unique={name: {} for name in form.unique})
    for row in frame.select("record_id", *names).iter_rows(named=True):
        for key in form.keys:
            if (found := natural(row, key)) is not None:
                known.keys.setdefault(found, row["record_id"])
        for name in form.unique:
            if row[name] is not None:
                known.unique[name].setdefault(plain(row[name]), row["record_id"])
    return known


def writable(dialect: d.Dialect, table: str, name: str) -> d.Write:
    """How ``table`` is written, or an error that says that it cannot be."""
    found = dialect.tables.get(table)
    if found is None:
        raise CalledWrongly(f"{name} has no table {table}", advice=suggestion(table, dialect.tables))
    if found.write is None:
        able = [other for other, one in dialect.tables.items() if one.write]
        raise CalledWrongly(
            f"{name} cannot be written: the dialect {dialect.name} says nothing of writing {table}",
            advice=f"it writes: {', '.join(able)}" if able else "docs/dialects.md, under Writing",
        )
    return found.write


@dataclass
class Actual:
    """The live tables of a target, read whole, and kept up to date with what we make."""

    session: Session
    looks: dict[str, Look] = field(default_factory=dict)
    _known: dict[str, Known] = field(default_factory=dict)
    _raw: dict[str, dict[Key, Any]] = field(default_factory=dict)
    _forms: dict[str, Form] = field(default_factory=dict)
    _numbers: dict[tuple[str, ...], Any] = field(default_factory=dict)

    async def read(self, tables: Iterable[str]) -> None:
        """Read ``tables`` and what they refer to; refused when one does not come whole."""
        async for name, look in read_tables(self.session, list(tables)):
            if not look.whole:
                raise WireError(
                    f"the table {name} could not be read whole", where=self.session.endpoint.name,
                    why=f"{look.outcome}: {look.why}", advice="nothing is written on a base that is not known",
                )  # fmt: skip
            self._take(name, look)

    def _take(self, name: str, look: Look) -> None:
        table = self.session.dialect.tables[name]
        form = form_of(table)
        self.looks[name] = look
        self._known[name] = known_in(look.frame, form)
        if name in self.referred:
            path = at(table.fields["record_id"].from_[0])
            self._raw[name] = {
                key: path.first(orjson.loads(row[ORIGINAL]))
                for row in look.frame.iter_rows(named=True)
                for names in form.keys
                if (key := natural(row, names)) is not None
            }

    @property
    def referred(self) -> set[str]:
        """The tables that others refer to."""
        tables = self.session.dialect.tables.values()
        return {ref.via for table in tables if table.write for ref in table.write.references.values()}

    def _form(self, table: str) -> Form:
        if table not in self._forms:
            self._forms[table] = form_of(self.session.dialect.tables[table])
        return self._forms[table]

    def find(self, table: str, values: Mapping[str, Any]) -> str | None:
        """The id of the record that the surest natural key in ``values`` names."""
        for names in self._form(table).keys:
            key = natural(values, names)
            if key is not None:
                return self._known[table].keys.get(key)
        return None

    def number(self, table: str, key: Mapping[str, Any]) -> Any:
        """The id, as the system writes it, for a member that refers to that record."""
        said = (table, *map(str, key.values()))
        found = self._numbers.get(said)
        if found is None:  # asked for again and again: a thousand devices have one site
            names = self._form(table).keys[0]
            found = self._numbers[said] = self._raw[table].get(natural(key, names) or ())
        if found is None:
            label = " ".join(str(value) for value in key.values())
            raise CalledWrongly(f"{self.session.endpoint.name} has no record in {table} for {label}")
        return found

    def needed(self, tables: Iterable[str]) -> list[str]:
        """What is read so that ``tables`` can be written."""
        return tables_for(self.session.dialect, tables)

    def body(self, write: d.Write, step: Step) -> dict[str, Any]:
        """What is sent for a step; of an update the members that are written."""
        if step.action == "create":
            return body_of(step.shall, write, self.number)
        emptied = {name for name, value in step.shall.items() if value in (None, [])}
        return body_of({**step.key, **step.shall}, _only(write, set(step.shall)), self.number, emptied)

    def layers(self, steps: Sequence[Step]) -> list[list[Step]]:
        """Steps of one table and action in lists of which each must end before the next begins."""
        return [list(steps)]

    def aim(self, step: Step) -> dict[str, Any]:
        """What else an act needs: what it is done with, and on what."""
        return dict(step.shall)

    def shows(self, step: Step) -> str | None:
        """Why an act does not show in what was read back: a field of its record; nothing where it does, or need not."""
        write = self.session.dialect.tables[step.table].write
        act = write.acts[step.act or ""] if write else None
        wanted = step.shall.get(act.shows) if act and act.shows else None
        if act is None or act.shows is None or wanted is None:
            return None
        record = self.records(step.table, [step.record_id or ""]).get(step.record_id or "", {})
        there = [str(one) for one in record.get(act.shows) or []]
        gone = [line for line in wanted if line not in there and not _taken_away(line, there)]
        return f"{act.shows} lack {'; '.join(gone[:3])}" if gone else None

    def located(self, step: Step) -> Step:
        """A step with the id that its record has now."""
        return step

    def same(self, there: Any, ours: Any) -> bool:
        """Whether a member of a record holds what it should."""
        return same(there, ours)

    def verdict(self, step: Step, record: Mapping[str, Any]) -> tuple[list[str], list[str]]:
        """What a record did not take of a step, and what the system wrote in its own way, in words."""
        return verdict(step.shall, step.was, record)

    def made(self, step: Step, number: Any) -> None:
        """Remember a record that we have just made."""
        table = step.table
        for names in self._form(table).keys:
            key = natural(step.shall, names)
            if key is not None:
                self._known[table].keys[key] = str(number)
                self._raw.setdefault(table, {})[key] = number

    def gone(self, table: str, record_ids: Iterable[str]) -> None:
        """Forget records that we have just deleted."""
        out = set(record_ids)
        self._numbers.clear()
        known = self._known[table]
        for key in [key for key, record_id in known.keys.items() if record_id in out]:
            del known.keys[key]
            self._raw.get(table, {}).pop(key, None)

    def learn(self, later: Actual, table: str) -> None:
        """Take over what a later reading of ``table`` found, beside what we have made meanwhile."""
        self._numbers.clear()
        self._known[table].keys |= later._known[table].keys
        self._raw.setdefault(table, {}).update(later._raw.get(table, {}))

    def records(self, table: str, ids: Sequence[str]) -> dict[str, dict[str, Any]]:
        """The records of those ids as they were last read."""
        frame = self.looks[table].frame.filter(pl.col("record_id").is_in(list(ids)))
        return {row["record_id"]: row for row in frame.iter_rows(named=True)}


def _taken_away(line: str, there: Sequence[str]) -> bool:
    """Whether a line only says what shall not be there, and it is not."""
    return line.startswith("no ") and line.removeprefix("no ") not in there


def _only(write: d.Write, names: set[str]) -> d.Write:
    """The part of ``write`` that touches the fields ``names``."""
    fields = {name: spec for name, spec in write.fields.items() if name in names}
    references = {name: ref for name, ref in write.references.items() if names & set(ref.by.values())}
    return write.model_copy(update={"fields": fields, "references": references})


def tables_for(dialect: d.Dialect, tables: Iterable[str]) -> list[str]:
    """``tables`` with all that they refer to when written, references first."""
    wanted: list[str] = []
    for name in tables:
        write = dialect.tables[name].write
        wanted += [ref.via for ref in write.references.values()] if write else []
        wanted.append(name)
    return order(dialect, list(dict.fromkeys(wanted)))
