"""Configuration objects as a target: found and written by name."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any

import orjson
import polars as pl

from concordex.change.objects import Key, Object, alike, mentioned, objects_of, own_name
from concordex.change.reasons import Reasons, Why, because
from concordex.change.steps import Step
from concordex.change.whole import Flat
from concordex.errors import CalledWrongly, WireError
from concordex.model.fields import ORIGINAL
from concordex.model.members import flat, pruned, put, value_at
from concordex.progress import Advance
from concordex.wire import dialect as d
from concordex.wire.dialect.order import order
from concordex.wire.http.session import Session
from concordex.wire.reading.tables import read_tables
from concordex.work.targets.api_target import ApiTarget
from concordex.work.targets.kinds import kinds_of


def tables_of(dialect: d.Dialect, kinds: Iterable[str]) -> list[str]:
    """The tables that must be read to know objects of ``kinds`` by name, however far they refer."""
    wanted: list[str] = []
    left = list(kinds)
    while left:
        name = left.pop(0)
        if name not in wanted:
            wanted.append(name)
            spec = dialect.tables[name].config
            left += spec.references.values() if spec else []
    return order(dialect, wanted)


def from_frames(dialect: d.Dialect, frames: Mapping[str, pl.DataFrame], wanted: Iterable[str]) -> list[Object]:
    """The objects of the kinds ``wanted`` in tables as they were read."""
    kinds = kinds_of(dialect)
    records = {
        name: [(rid, orjson.loads(raw)) for rid, raw in frame.select("record_id", ORIGINAL).iter_rows()]
        for name, frame in frames.items()
        if name in kinds
    }
    others = {
        name: {rid: label for rid, label in frame.select("record_id", "name").iter_rows() if label}
        for name, frame in frames.items()
        if name not in kinds and "name" in frame.columns
    }
    wanted = set(wanted)
    return [obj for obj in objects_of(records, kinds, others) if obj.kind in wanted]


def bearers(frame: pl.DataFrame, member: str, value: str) -> list[str]:
    """The names of the records whose ``member``, a text or a list of them, says ``value``."""
    column = pl.col(member)
    says = column.list.contains(value) if isinstance(frame.schema[member], pl.List) else column == value
    return frame.filter(says)["name"].drop_nulls().to_list()


class ObjectTarget(ApiTarget):
    """The live objects of a target, found and written by name."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.kinds = kinds_of(session.dialect)
        self.objects: dict[str, dict[str, Object]] = {}
        self._found: dict[Key, str] = {}
        self._ids: dict[tuple[str, str], Any] = {}
        self._twins: set[tuple[str, str]] = set()

    def needed(self, tables: Iterable[str]) -> list[str]:
        """What is read so that ``tables`` can be known by name."""
        return tables_of(self.session.dialect, tables)

    async def read(self, tables: Iterable[str], progress: Advance | None = None) -> None:
        """Read ``tables`` and all that they refer to; refused when one does not come whole."""
        async for name, look in read_tables(self.session, self.needed(tables), progress=progress):
            if not look.whole:
                raise WireError(
                    f"the table {name} could not be read whole", where=self.session.endpoint.name,
                    why=f"{look.outcome}: {look.why}", advice="objects are compared and written only as wholes",
                )  # fmt: skip
            self.looks[name] = look
        self._take_all()

    def _take_all(self) -> None:
        kinds = self.kinds
        frames = {name: look.frame for name, look in self.looks.items()}
        every = from_frames(self.session.dialect, frames, kinds)
        self.objects = {name: {str(o.record_id): o for o in every if o.kind == name} for name in frames}
        self._found = {obj.key: rid for mine in self.objects.values() for rid, obj in mine.items()}
        self._ids, self._twins = {}, set()
        for name, frame in frames.items():
            path = kinds[name].id if name in kinds else self.session.dialect.tables[name].fields["record_id"].from_[0]
            labels = {rid: obj.name for rid, obj in self.objects[name].items()} if name in kinds else {}
            columns = ["record_id", ORIGINAL, *(["name"] if "name" in frame.columns else [])]
            for row in frame.select(columns).iter_rows(named=True):
                label = labels.get(row["record_id"]) or row.get("name")
                if label and (name, label) in self._ids:
                    self._twins.add((name, label))
                elif label:
                    self._ids[name, label] = value_at(orjson.loads(row[ORIGINAL]), path)

    def find(self, table: str, values: Mapping[str, Any]) -> str | None:
        """The id of the object of that name."""
        return self._found.get((table, values["name"], values.get("nth", 1)))

    def bearers(self, step: Step) -> list[str]:
        """The ids of all objects of that name; of a kind that shares names, of the one that is meant."""
        if self.kinds[step.table].shares:
            there = self.find(step.table, step.key)
            return [there] if there else []
        ids: list[str] = []
        while there := self._found.get((step.table, step.key["name"], len(ids) + 1)):
            ids.append(there)
        return ids

    def natural_key(self, step: Step) -> Hashable:
        """The name of an object, and which of those that share it."""
        return step.key["name"], step.key.get("nth", 1)

    def body(self, write: d.Write, step: Step) -> dict[str, Any]:
        """An object's members, or those that are written, with ids where names stand."""
        kind = self.kinds[step.table]
        body: dict[str, Any] = dict(step.desired)
        if step.operation == "create":
            body = put(body, kind.name, own_name(str(step.key["name"]), step.desired, kind))
        for member, table in kind.references.items():
            value = value_at(body, member)
            if value not in (None, "", []):
                ids = [self._id(member, table, named) for named in (value if isinstance(value, list) else [value])]
                body = put(body, member, ids if isinstance(value, list) else ids[0])
        return body

    def _id(self, member: str, table: str, name: Any) -> Any:
        number = self._ids.get((table, str(name)))
        if (table, str(name)) in self._twins:
            raise CalledWrongly(f"{member} names {name!r}, which several of the {table} bear")
        if number is None:
            raise CalledWrongly(f"{member} names {name!r}, which is not in {table}")
        return number

    def layers(self, steps: Sequence[Step]) -> list[list[Step]]:
        """Objects of one kind that need each other do not go at once."""
        kinds = self.kinds
        layers: list[list[Step]] = [[]]
        here, needed = set[tuple[str, str]](), set[tuple[str, str]]()
        for step in steps:
            name = (step.table, str(step.key["name"]))
            body = step.before if step.operation == "delete" else step.desired
            refers = {
                (table, other) for _, table, other in mentioned(Object(kind=step.table, name=name[1], body=body), kinds)
            }
            if name in needed if step.operation == "delete" else refers & here:
                layers.append([])
                here, needed = set(), set()
            layers[-1].append(step)
            here.add(name)
            needed |= refers
        return layers

    def aim(self, step: Step) -> dict[str, Any]:
        """The id of the target, where an act is done on one."""
        write = self.session.dialect.tables[step.table].write
        member = write.actions[step.action or ""].each if write else None
        if member is None:
            return {}
        table = self.kinds[step.table].references[member]
        return {"target": self._id(member, table, step.desired["target"])}

    def moved(self, step: Step, record: Mapping[str, Any]) -> dict[str, Any]:
        """What of an object, as the system has just given it by itself, is not what ``step`` rests on."""
        kind = self.kinds[step.table]
        record = pruned(record, kind.secrets)
        shown = {name for name in step.before if value_at(record, name) is not None} - kind.references.keys()
        return {name: value_at(record, name) for name in shown if not alike(value_at(record, name), step.before[name])}

    def whole(self, table: str, ids: Sequence[str]) -> dict[str, Flat]:
        """The objects of those ids, member by member, with names for ids."""
        return {rid: flat(body) for rid, body in self.records(table, ids).items()}

    def written_paths(self, step: Step) -> set[str]:
        """The members that an update writes."""
        return set(step.desired)

    def can_show(self, step: Step) -> bool:
        """Whether the target of an act names the object once it is done."""
        write = self.session.dialect.tables[step.table].write
        action = write.actions[step.action or ""] if write else None
        return action is not None and action.each is not None and action.shows is not None

    def shows(self, step: Step) -> Reasons:
        """Why the target of an act does not name the object as it should; nothing where it does."""
        write = self.session.dialect.tables[step.table].write
        action = write.actions[step.action or ""] if write else None
        if write is None or action is None or action.each is None or action.shows is None:
            return ()
        table = self.kinds[step.table].references[action.each]
        named = step.desired["target"] in bearers(self.looks[table].frame, action.shows, str(step.key["name"]))
        off = any(other.taken_back == step.action for other in write.actions.values())
        return () if named is not off else because(Why.NOT_NAMED, target=step.desired["target"])

    def located(self, step: Step) -> Step:
        """A step with the id that its object has now: made again, it has another."""
        if step.record_id in self.objects[step.table]:
            return step
        return replace(step, record_id=self.find(step.table, step.key) or step.record_id)

    def same(self, there: Any, ours: Any) -> bool:
        """Whether a member is exactly what it should be."""
        return alike(there, ours)

    def verdict(self, step: Step, record: Mapping[str, Any]) -> Reasons:
        """What an object did not take."""
        wrong = {
            name: {"now": record.get(name), "desired": value}
            for name, value in pruned(step.desired, self.unread(step)).items()
            if not alike(record.get(name), value)
        }
        return because(Why.DIFFERS, fields=wrong) if wrong else ()

    def made(self, step: Step, number: Any) -> None:
        """Remember an object that we have just made."""
        name, nth = str(step.key["name"]), step.key.get("nth", 1)
        obj = Object(kind=step.table, name=name, nth=nth, body=step.desired, record_id=str(number))
        self.objects.setdefault(step.table, {})[str(number)] = obj
        self._found[obj.key] = str(number)
        self._ids[step.table, name] = number

    def gone(self, table: str, record_ids: Iterable[str]) -> None:
        """Forget objects that we have just deleted."""
        for rid in record_ids:
            obj = self.objects[table].pop(rid, None)
            if obj:
                self._ids.pop((table, obj.name), None)
                self._found.pop(obj.key, None)

    def forget(self, steps: Iterable[Step]) -> None:
        """Do not refer to objects that are not there after all."""
        for step in steps:
            name, nth = str(step.key["name"]), step.key.get("nth", 1)
            rid = self._found.pop((step.table, name, nth), None)
            self._ids.pop((step.table, name), None)
            self.objects.get(step.table, {}).pop(rid or "", None)

    def learn(self, later: ObjectTarget, table: str) -> None:
        """Take over what a later reading of ``table`` found, beside what we have made meanwhile."""
        self.objects[table] = {**self.objects.get(table, {}), **later.objects[table]}
        self._found |= {key: rid for key, rid in later._found.items() if key[0] == table}
        self._ids |= {key: number for key, number in later._ids.items() if key[0] == table}

    def records(self, table: str, ids: Sequence[str]) -> dict[str, dict[str, Any]]:
        """The members of the objects of those ids."""
        mine = self.objects[table]
        return {rid: dict(mine[rid].body) for rid in ids if rid in mine}
