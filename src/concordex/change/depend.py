"""What objects need, who uses them, and in which order they can be made."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Mapping, Sequence
from graphlib import CycleError, TopologicalSorter

from concordex.change.objects import LOST, Kind, Kinds, Object, mentioned, place_of
from concordex.model.members import value_at

#: A kind and a name: what references go by.
Name = tuple[str, str]


class InACircle(Exception):
    """Objects that need each other, so that none can be made first; ``names`` in their order."""

    def __init__(self, names: Sequence[Name]) -> None:
        super().__init__(" -> ".join(f"{kind}/{name}" for kind, name in names))
        self.names = names


def by_name(objects: Iterable[Object]) -> dict[Name, list[Object]]:
    """Objects by kind and name."""
    named: dict[Name, list[Object]] = {}
    for obj in objects:
        named.setdefault((obj.kind, obj.name), []).append(obj)
    return named


def needs(obj: Object, kinds: Kinds) -> list[Name]:
    """The objects that must be there before ``obj``."""
    return [(table, name) for _, table, name in mentioned(obj, kinds) if table in kinds]


def in_order(objects: Sequence[Object], kinds: Kinds) -> list[Object]:
    """Each after what it needs; otherwise by kind, then by their place or name.  Raises :class:`InACircle`."""
    known = by_name(objects)
    rank = {kind: at for at, kind in enumerate(kinds)}
    graph: TopologicalSorter[Name] = TopologicalSorter()
    for name, bearers in known.items():
        graph.add(name, *(need for obj in bearers for need in needs(obj, kinds) if need in known and need != name))
    try:
        graph.prepare()
    except CycleError as error:
        raise InACircle(error.args[1][::-1]) from error
    ordered: list[Object] = []
    places = {name: place_of(bearers[0], kinds[name[0]]) for name, bearers in known.items()}
    while graph.is_active():
        ready = sorted(graph.get_ready(), key=lambda name: (rank.get(name[0], 0), places[name], name))
        for name in ready:
            ordered += sorted(known[name], key=lambda obj: obj.nth)
        graph.done(*ready)
    depth = {obj.key: at for at, obj in enumerate(ordered)}
    return _by_kind(ordered, depth, kinds)


def _by_kind(ordered: Sequence[Object], depth: Mapping[tuple[str, str, int], int], kinds: Kinds) -> list[Object]:
    """Kinds as whole runs where no kind needs another back, so that they go in few requests."""
    between = {(need, obj.kind) for obj in ordered for need, _ in needs(obj, kinds)}
    graph: TopologicalSorter[str] = TopologicalSorter(
        {kind: () for kind in kinds if any(o.kind == kind for o in ordered)}
    )
    for need, kind in between:
        if need != kind:
            graph.add(kind, need)
    try:
        order = {kind: at for at, kind in enumerate(graph.static_order())}
    except CycleError:  # kinds that need each other: only the objects' own order holds
        return list(ordered)
    return sorted(ordered, key=lambda obj: (order[obj.kind], depth[obj.key]))


def closure(
    chosen: Iterable[Object], every: Iterable[Object], kinds: Kinds
) -> tuple[list[Object], list[tuple[Object, Name]]]:
    """``chosen`` with all that they need from ``every``, however far; and what is needed and not there."""
    known = by_name(every)
    taken: dict[tuple[str, str, int], Object] = {}
    lost: list[tuple[Object, Name]] = []
    left = deque(chosen)
    while left:
        obj = left.popleft()
        if obj.key in taken:
            continue
        taken[obj.key] = obj
        for need in needs(obj, kinds):
            if need in known:
                left += known[need]
            else:
                lost.append((obj, need))
    return list(taken.values()), lost


def kinds_inside(kind: str, kinds: Kinds) -> list[str]:
    """``kind``, and the kinds whose objects may stand in its objects, however deep."""
    inside = [kind]
    for above in inside:
        inside += [name for name, spec in kinds.items() if _holder(spec) == above and name not in inside]
    return inside


def contents(chosen: Iterable[Object], every: Iterable[Object], kinds: Kinds) -> list[Object]:
    """``chosen``, and what stands in them, however deep: each after what it stands in."""
    inside: dict[Name, list[Object]] = {}
    for obj in every:
        parent = value_at(obj.body, kinds[obj.kind].within)
        if parent is not None:
            inside.setdefault((_holder(kinds[obj.kind]) or "", str(parent)), []).append(obj)
    taken = {obj.key: obj for obj in chosen}
    left = deque(taken.values())
    while left:
        obj = left.popleft()
        for below in inside.get((obj.kind, obj.name), ()):
            if below.key not in taken:
                taken[below.key] = below
                left.append(below)
    return list(taken.values())


def _holder(kind: Kind) -> str | None:
    """The kind in whose objects those of ``kind`` stand."""
    return kind.references.get(kind.within or "")


def users(names: Iterable[Name], every: Iterable[Object], kinds: Kinds) -> list[tuple[Object, str, Name]]:
    """Who refers to one of ``names``: the object, at which member, and to which."""
    wanted = set(names)
    return [
        (obj, member, (table, name))
        for obj in every
        for member, table, name in mentioned(obj, kinds)
        if (table, name) in wanted
    ]


def dangling(
    objects: Iterable[Object], kinds: Kinds, there: Callable[[str, str], bool]
) -> list[tuple[Object, str, str, str]]:
    """References to what is not there: the object, the member, the table and the name."""
    known = by_name(objects := list(objects))
    return [
        (obj, member, table, name)
        for obj in objects
        for member, table, name in mentioned(obj, kinds)
        if name.startswith(LOST) or ((table, name) not in known and not there(table, name))
    ]
