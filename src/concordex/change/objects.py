"""Configuration objects: what a system's records configure, without what moves by itself, and by name."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from concordex.model.members import pruned, put, value_at

Body = Mapping[str, Any]
#: What tells one object from all others of its system: kind, name, and which of those that share both.
Key = tuple[str, str, int]


@dataclass(frozen=True, kw_only=True)
class Kind:
    """One kind of object; members are dotted paths into a record.

    name        the member that names it
    single      what it is called where there is one alone, which no member names
    within      the member, one of ``references``, that says in which other object it stands; a name counts there
    volatile    members that move by themselves, or mean nothing elsewhere: ids, times, counters
    secrets     members that no file holds and nobody compares: a file says where they are kept, and systems show masks
    references  members that hold the id, or ids, of objects of another kind, by that kind's table
    sets        lists whose order means nothing
    place       the member that says where it stands among those within the same object, a number
    shares      whether the system takes several objects of one name
    by, at      the members that say who touched it last, and when
    bound       members that bind it to people or devices, and stay behind when it moves to another system
    can_create  whether the system takes new ones; so ``can_update`` and ``can_delete``
    """

    table: str
    name: str = "name"
    id: str = "id"
    single: str | None = None
    within: str | None = None
    volatile: Sequence[str] = ()
    secrets: Sequence[str] = ()
    references: Mapping[str, str] = field(default_factory=dict)
    sets: Sequence[str] = ()
    place: str | None = None
    shares: bool = False
    bound: Sequence[str] = ()
    by: str | None = None
    at: str | None = None
    can_create: bool = False
    can_update: bool = False
    can_delete: bool = False


Kinds = Mapping[str, Kind]


@dataclass(frozen=True, kw_only=True)
class Object:
    """One object: its ``body`` without its name, secrets and what is volatile, with names where ids were.

    ``name`` is whole: with the name of what it stands in, as ``quay/let the crew in``.
    """

    kind: str
    name: str
    body: Body
    nth: int = 1
    record_id: str | None = None
    source: str | None = None  # the file that it was read from
    by: str | None = None
    at: str | None = None

    @property
    def key(self) -> Key:
        """What tells it from all others."""
        return self.kind, self.name, self.nth

    @property
    def label(self) -> str:
        """Kind and name as people read them."""
        return f"{self.kind}/{self.name}" + (f" (no. {self.nth})" if self.nth > 1 else "")


def own_name(name: str, body: Body, kind: Kind) -> str:
    """The last part of a whole name; ValueError where it does not begin with the name of what it stands in."""
    parent = value_at(body, kind.within)
    if parent is None:
        return name
    if not name.startswith(f"{parent}/") or name == f"{parent}/":
        raise ValueError(f"it stands in {parent!r} ({kind.within}), so its name should be {parent}/…, not {name!r}")
    return name.removeprefix(f"{parent}/")


def bonds(obj: Object, kind: Kind) -> list[str]:
    """The members that bind an object to people or devices, of those that it has."""
    return [member for member in kind.bound if value_at(obj.body, member) not in (None, "", [])]


def unbound(obj: Object, kind: Kind) -> Object:
    """An object without what binds it to people and devices."""
    return replace(obj, body=pruned(obj.body, kind.bound))


#: Stands for the id of an object that is not there.
LOST = "?"


class Names:
    """What records are called: by id, kind by kind, each with the name of what it stands in."""

    def __init__(self, records: Mapping[str, Sequence[tuple[str, Body]]], kinds: Kinds) -> None:
        self._kinds = kinds
        self._bodies = {
            kind: {str(value_at(body, kinds[kind].id)): body for _, body in mine} for kind, mine in records.items()
        }
        self._named: dict[tuple[str, str], str] = {}

    def of(self, kind: str, number: str, above: tuple[str, ...] = ()) -> str | None:
        """The whole name of a record; none where there is no such record."""
        if (kind, number) in self._named or number not in self._bodies.get(kind, {}):
            return self._named.get((kind, number))
        spec, body = self._kinds[kind], self._bodies[kind][number]
        own, parent = spec.single or str(value_at(body, spec.name) or number), value_at(body, spec.within)
        table = spec.references.get(spec.within or "")
        if parent is not None and table and table not in above:
            own = f"{self.of(table, str(parent), (*above, kind)) or parent}/{own}"
        self._named[kind, number] = own
        return own


def objects_of(
    records: Mapping[str, Sequence[tuple[str, Body]]], kinds: Kinds, others: Mapping[str, Mapping[str, str]]
) -> list[Object]:
    """Objects from the records of each kind's table, each with its record's id.

    ``others`` are the names, by id, of records that are no objects and are referred to, table by table.
    """
    names = Names(records, kinds)

    def called(table: str, number: Any) -> str:
        return names.of(table, str(number)) or others.get(table, {}).get(str(number)) or f"{LOST}{number}"

    made: dict[Key, Object] = {}
    for kind, mine in records.items():
        spec = kinds[kind]
        for rid, record in mine:
            named = [] if spec.single else [spec.id, spec.name]
            body = pruned(record, [*named, *spec.volatile, *spec.secrets])
            for member, table in spec.references.items():
                value = value_at(body, member)
                if value not in (None, "", []):
                    listed = [called(table, obj) for obj in value] if isinstance(value, list) else called(table, value)
                    body = put(body, member, listed)
            name = names.of(kind, str(value_at(record, spec.id))) or rid
            obj = Object(
                kind=kind, name=name, body=settled(body, spec), record_id=rid, by=_said(record, spec.by),
                at=_said(record, spec.at),
            )  # fmt: skip
            while obj.key in made:
                obj = replace(obj, nth=obj.nth + 1)
            made[obj.key] = obj
    return list(made.values())


def place_of(obj: Object, kind: Kind) -> float:
    """The number that says where an object stands; 0 where none does."""
    value = value_at(obj.body, kind.place)
    return float(value) if isinstance(value, int | float) else 0.0


def in_sequence(objects: Iterable[Object], kinds: Kinds) -> list[Object]:
    """By kind and name; what has a place, by what it stands in and its place there."""

    def rank(obj: Object) -> tuple[str, str, float, str, int]:
        kind = kinds[obj.kind]
        parent = str(value_at(obj.body, kind.within)) if kind.place and kind.within else ""
        return obj.kind, parent, place_of(obj, kind), obj.name, obj.nth

    return sorted(objects, key=rank)


def _said(record: Body, member: str | None) -> str | None:
    value = value_at(record, member)
    return None if value is None else str(value)


def settled(body: Body, kind: Kind) -> dict[str, Any]:
    """A body in the one form in which equal ones are equal: members by name, sets sorted."""
    made: Any = body
    for member in kind.sets:
        value = value_at(made, member)
        if value not in (None, "") or member in made:  # XML writes a list of one as that one, and of none as nothing
            listed = value if isinstance(value, list) else [] if value in (None, "") else [value]
            made = put(made, member, sorted(map(_sorted, listed), key=repr))  # by members in one order
    return dict(_sorted(made))


def _sorted(value: Any) -> Any:
    if isinstance(value, Mapping):
        return {str(name): _sorted(value[name]) for name in sorted(value, key=str)}
    return [_sorted(item) for item in value] if isinstance(value, list) else value


def alike(one: Any, other: Any) -> bool:
    """Whether two values mean the same: an empty list says no more than none, as XML cannot tell them apart."""
    return bool(one == other) or (one in (None, []) and other in (None, []))


def mentioned(obj: Object, kinds: Kinds) -> Iterator[tuple[str, str, str]]:
    """What an object refers to: the member, the table, and the name of each."""
    for member, table in kinds[obj.kind].references.items():
        value = value_at(obj.body, member)
        for name in value if isinstance(value, list) else [value]:
            if name not in (None, ""):
                yield member, table, str(name)
