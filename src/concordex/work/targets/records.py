"""A system that is written to, as it stands now: its tables, and which record a natural key names."""

from __future__ import annotations

import re
from collections.abc import Hashable, Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from types import MappingProxyType
from typing import Any

import orjson
import polars as pl

from concordex.change.compare import same, verdict
from concordex.change.prepare import Form, Key, NaturalKeys, ReferenceMember, natural, normalised, part_of_key
from concordex.change.reasons import Reasons, Why, because
from concordex.change.steps import Step
from concordex.change.whole import Flat
from concordex.errors import CalledWrongly, ConcordexError, WireError
from concordex.model.fields import ORIGINAL
from concordex.model.members import flat
from concordex.query.predicate import predicate_of
from concordex.wire import dialect as d
from concordex.wire.dialect.order import order
from concordex.wire.dialect.paths import Path
from concordex.wire.http.session import Session
from concordex.wire.reading.mapping import Mapper
from concordex.wire.reading.records import DecodedRecords
from concordex.wire.reading.table_read import TableRead
from concordex.wire.reading.tables import read_tables
from concordex.wire.writing.records import body_of
from concordex.words import suggestion
from concordex.work.targets.api_target import ApiTarget
from concordex.work.targets.lookup import KeyedRead


def form_of(table: d.Table) -> Form:
    """What preparing a change needs to know of how ``table`` is written."""
    write = table.write
    if write is None:
        return Form(keys=[["name"]], can_create=False, can_update=False)
    back = {name: action.taken_back for name, action in write.actions.items() if action.taken_back}
    named = {name for ref in write.references.values() for name in ref.by.values()}
    links = [ReferenceMember(via=ref.via, by=ref.by) for ref in write.references.values()]
    return Form(
        keys=write.keys, required=write.required, unique=write.unique, links=links,
        can_create=write.create is not None, can_update=write.update is not None,
        can_delete=write.delete is not None, takes_back=back,
        makes={name: spec.made_from for name, spec in write.fields.items() if spec.made_from},
        always={name: spec.always for name, spec in write.fields.items() if spec.always},
        writes=None if table.config else {*write.fields, *named}, unread=table.unread,
    )  # fmt: skip


def known_in(frame: pl.DataFrame, form: Form) -> NaturalKeys:
    """The natural keys that a table's records have."""
    names = sorted({name for key in form.keys for name in key} | set(form.unique))
    known = NaturalKeys(unique={name: {} for name in form.unique})
    ids = frame["record_id"].to_list()
    texts = {name: [part_of_key(value) for value in frame[name].to_list()] for name in names}
    for key in form.keys:
        ordered = sorted(key)
        for record_id, *parts in zip(ids, *(texts[name] for name in ordered), strict=True):
            if None in parts:
                continue
            natural_key = (*ordered, *parts)
            first = known.keys.setdefault(natural_key, record_id)
            if first != record_id:
                known.several.setdefault(natural_key, [first]).append(record_id)
    for name in form.unique:
        for record_id, value in zip(ids, frame[name].to_list(), strict=True):
            if value is not None:
                known.unique[name].setdefault(normalised(value), record_id)
    return known


def writable(dialect: d.Dialect, table: str, name: str) -> d.Write:
    """How ``table`` is written, or an error that says that it cannot be."""
    spec = dialect.tables.get(table)
    if spec is None:
        raise CalledWrongly(f"{name} has no table {table}", advice=suggestion(table, dialect.tables))
    if spec.write is None:
        able = [other for other, other_spec in dialect.tables.items() if other_spec.write]
        raise CalledWrongly(
            f"{name} cannot be written: the dialect {dialect.name} does not describe writing {table}",
            advice=f"it writes: {', '.join(able)}" if able else "docs/dialects.md, under Writing",
        )
    return spec.write


def without_bin(frame: pl.DataFrame, table: d.Table) -> tuple[pl.DataFrame, pl.DataFrame]:
    """The records that count, and those that are only in the system's bin."""
    rule = table.write.delete.binned if table.write and table.write.delete else None
    if rule is None:
        return frame, frame.clear()
    binned = frame.select(predicate_of(frame, rule.query, datetime.now(UTC)).fill_null(False)).to_series()
    return frame.filter(~binned), frame.filter(binned)


class RecordTarget(ApiTarget):
    """The records of a system's tables, found by their natural keys.

    few    tables of which only some records matter, and how these are asked for
    alone  tables of which only these were read; what was to be among them and is not was sought in the whole list
    """

    def __init__(self, session: Session, few: Mapping[str, KeyedRead] = MappingProxyType({})) -> None:
        super().__init__(session)
        self.few, self.alone = few, set[str]()
        self.live: dict[str, pl.DataFrame] = {}
        self._bin: dict[str, NaturalKeys] = {}
        self._known: dict[str, NaturalKeys] = {}
        self._raw: dict[str, dict[Key, Any]] = {}
        self._forms: dict[str, Form] = {}
        self._numbers: dict[tuple[str, ...], Any] = {}

    def again(self) -> RecordTarget:
        """The same, to be read anew."""
        return RecordTarget(self.session, self.few)

    async def read(self, tables: Iterable[str]) -> None:
        """Read ``tables`` and what they refer to; refused when one does not come whole."""
        names = list(tables)
        done = await self._look_up(names, {name: self.few[name] for name in names if name in self.few})
        await self._read([name for name in names if name not in done])

    async def _look_up(self, names: Sequence[str], sought: Mapping[str, KeyedRead]) -> set[str]:
        """Read ``names``, of those ``sought`` only what matters; the tables that are done with."""
        if not sought:
            return set()
        done, narrow = set[str](), {name: wanted.narrow for name, wanted in sought.items()}

        def passed_over(name: str, error: ConcordexError) -> None:  # the whole list may be had all the same
            if name not in sought:
                raise error

        async for name, look in read_tables(self.session, names, narrow, spare=passed_over):
            if name not in sought:
                self._take_whole(name, look)
            elif sought[name].complete_in(look):
                self._take(name, replace(look, held=sought[name].of(look)))
                self.alone.add(name)
            else:
                continue
            done.add(name)
        return done

    async def _read(self, names: Sequence[str]) -> None:
        if names:
            async for name, look in read_tables(self.session, names):
                self._take_whole(name, look)
                self.alone.discard(name)

    def _take_whole(self, name: str, look: TableRead) -> None:
        if not look.whole:
            raise WireError(
                f"the table {name} could not be read whole", where=self.session.endpoint.name,
                why=f"{look.outcome}: {look.why}", advice="nothing is written when its basis is unknown",
            )  # fmt: skip
        self._take(name, look)

    def _take(self, name: str, look: TableRead) -> None:
        table = self.session.dialect.tables[name]
        form = form_of(table)
        self.looks[name] = look
        self.live[name], binned = without_bin(look.frame, table)
        self._known[name] = known_in(self.live[name], form)
        self._bin[name] = known_in(binned, form)
        if name in self.referred:
            path = table.fields["record_id"].from_[0]
            self._raw[name] = {
                key: path.first(orjson.loads(row[ORIGINAL]))
                for row in self.live[name].iter_rows(named=True)
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

    def bearers(self, step: Step) -> list[str]:
        """The ids of all records that bear the key of ``step``."""
        for names in self._form(step.table).keys:
            key = natural(step.key, names)
            if key is not None:
                known = self._known[step.table]
                return known.several.get(key) or [known.keys[key]] if key in known.keys else []
        return []

    def natural_key(self, step: Step) -> Hashable:
        """The first of the table's natural keys that a step has."""
        keys = (natural(step.key, names) for names in self._form(step.table).keys)
        return next((key for key in keys if key is not None), None)

    def in_bin(self, step: Step) -> str | None:
        """The id of the record of that key in the system's bin."""
        if step.table not in self._bin:
            return None
        known = self._bin[step.table].keys
        ids = (known.get(natural(step.key, names) or ()) for names in self._form(step.table).keys)
        return next((record_id for record_id in ids if record_id), None)

    def number(self, table: str, key: Mapping[str, Any]) -> Any:
        """The id, as the system writes it, for a member that refers to that record."""
        asked = (table, *key, *map(str, key.values()))
        record_id = self._numbers.get(asked)
        if record_id is None:  # asked for again and again: a thousand devices have one site
            there = natural(key, list(key)) or ()
            several = self._known[table].several.get(there, ())
            record_id = self._numbers[asked] = None if several else self._raw[table].get(there)
            if record_id is None:
                has = f"{len(several)} records" if several else "no record"
                which = f": {', '.join(several)}" if several else ""
                label = " ".join(str(value) for value in key.values())
                raise CalledWrongly(f"{self.session.endpoint.name} has {has} in {table} for {label}{which}")
        return record_id

    def needed(self, tables: Iterable[str]) -> list[str]:
        """What is read so that ``tables`` can be written."""
        return tables_for(self.session.dialect, tables)

    def body(self, write: d.Write, step: Step) -> dict[str, Any]:
        """What is sent for a step; of an update the members that are written."""
        if step.operation == "create":
            return body_of(step.desired, write, self.number)
        emptied = {name for name, value in step.desired.items() if value in (None, [])}
        return body_of({**step.key, **step.desired}, _only(write, set(step.desired)), self.number, emptied)

    def layers(self, steps: Sequence[Step]) -> list[list[Step]]:
        """Steps of one table and action in lists of which each must end before the next begins."""
        return [list(steps)]

    def aim(self, step: Step) -> dict[str, Any]:
        """What else an act needs: what it is done with, and on what."""
        return dict(step.desired)

    def moved(self, step: Step, record: Mapping[str, Any]) -> dict[str, Any]:
        """What of a record, as the system has just given it by itself, is not what ``step`` rests on.

        A field of which that answer says nothing is not compared.
        """
        table = self.session.dialect.tables[step.table]
        mapper = Mapper(table)
        columns = mapper.empty()
        alone = DecodedRecords([record])
        mapper.add(columns, alone, alone.texts())
        now = mapper.frame([mapper.taken(columns)]).row(0, named=True)
        asked = {name for name, spec in table.fields.items() if not spec.via and not spec.of_parent}
        shown = {n for n in asked & step.before.keys() if any(path.shown(record) for path in table.fields[n].from_)}
        return {name: now[name] for name in shown if not self.same(now[name], step.before[name])}

    def whole(self, table: str, ids: Sequence[str]) -> dict[str, Flat]:
        """The system's own records of those ids, member by member, without what it alters itself."""
        spec = self.session.dialect.tables[table]
        volatile = {*(spec.write.volatile if spec.write else ()), *spec.fields["record_id"].from_}
        frame = self.live[table].filter(pl.col("record_id").is_in(list(ids)))
        return {
            row["record_id"]: flat(orjson.loads(row[ORIGINAL] or "{}"), volatile)
            for row in frame.select("record_id", ORIGINAL).iter_rows(named=True)
        }

    def written_paths(self, step: Step) -> set[str]:
        """The members of the system's own record that an update writes, or that say what it writes."""
        table = self.session.dialect.tables[step.table]
        write = table.write
        if write is None:
            return set()
        refs = [ref for ref in write.references.values() if step.desired.keys() & set(ref.by.values())]
        names = {*step.desired, *(name for ref in refs for name in ref.by.values())}
        ours: set[str] = {write.fields[name].to for name in names if name in write.fields} | {ref.to for ref in refs}
        read = {name: [_plain_path(path) for path in spec.from_] for name, spec in table.fields.items()}
        ours |= {path for name in names for path in read.get(name, ())}
        others = {path for name, paths in read.items() if name not in names for path in paths}
        for path in [path for name in names for path in read.get(name, ()) if "." in path]:
            above = path.rpartition(".")[0]  # a record that is referred to moves with all that it says of itself
            if not any(other == above or other.startswith(f"{above}.") for other in others):
                ours.add(above)
        return ours

    def can_show(self, step: Step) -> bool:
        """Whether it can be seen in what is read that an act was done."""
        write = self.session.dialect.tables[step.table].write
        action = write.actions[step.action or ""] if write else None
        return action is not None and action.shows is not None and step.desired.get(action.shows) is not None

    def shows(self, step: Step) -> Reasons:
        """Why an act does not show in what was read back: a field of its record; nothing where it does, or need not."""
        write = self.session.dialect.tables[step.table].write
        action = write.actions[step.action or ""] if write else None
        wanted = step.desired.get(action.shows) if action and action.shows else None
        if action is None or action.shows is None or wanted is None:
            return ()
        record = self.records(step.table, [step.record_id or ""]).get(step.record_id or "", {})
        there = [str(shown) for shown in record.get(action.shows) or []]
        gone = [line for line in wanted if line not in there and not _taken_away(line, there)]
        return because(Why.LACKS, field=action.shows, lines=gone[:3]) if gone else ()

    def located(self, step: Step) -> Step:
        """A step with the id that its record has now."""
        return step

    def same(self, there: Any, ours: Any) -> bool:
        """Whether a member of a record holds what it should."""
        return same(there, ours)

    def verdict(self, step: Step, record: Mapping[str, Any]) -> Reasons:
        """What a record did not take of a step, and what the system wrote in its own way."""
        desired = step.desired
        if unread := self.unread(step):
            desired = {name: value for name, value in desired.items() if name not in unread}
        return verdict(desired, step.before, record)

    def made(self, step: Step, number: Any) -> None:
        """Remember a record that we have just made."""
        table = step.table
        for names in self._form(table).keys:
            key = natural(step.desired, names)
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
            known.several.pop(key, None)
            self._raw.get(table, {}).pop(key, None)

    def forget(self, steps: Iterable[Step]) -> None:
        """Do not refer to records that are not there after all."""
        for step in steps:
            for names in self._form(step.table).keys:
                if (key := natural(step.desired, names)) is not None:
                    self._known[step.table].keys.pop(key, None)
                    self._raw.get(step.table, {}).pop(key, None)
        self._numbers.clear()

    def learn(self, later: RecordTarget, table: str) -> None:
        """Take over what a later reading of ``table`` found, beside what we have made meanwhile."""
        self._numbers.clear()
        self._known[table].keys |= later._known[table].keys
        self._known[table].several |= later._known[table].several
        self._raw.setdefault(table, {}).update(later._raw.get(table, {}))

    def records(self, table: str, ids: Sequence[str]) -> dict[str, dict[str, Any]]:
        """The records of those ids as they were last read."""
        frame = self.live[table].filter(pl.col("record_id").is_in(list(ids)))
        return {row["record_id"]: row for row in frame.iter_rows(named=True)}


def _plain_path(path: Path) -> str:
    """A path as members are called in a flat record; of JSONPath the member in which it begins."""
    return (
        ".".join(path.steps)
        if path.steps is not None
        else re.split(r"[.\[\]'\"]+", path.removeprefix("$").strip(".['\""))[0]
    )


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
