"""What objects need, who uses them, and in which order they can be made."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Mapping, Sequence
from graphlib import CycleError, TopologicalSorter

from concordex.change.objects import LOST, Kind, Kinds, Object, get, mentioned, place_of

#: A kind and a name: what references go by.
Name = tuple[str, str]


class InACircle(Exception):
    """Objects that need each other, so that none can be made first; ``names`` in their order."""

    def __init__(self, names: Sequence[Name]) -> None:
        super().__init__(" -> ".join(f"{kind}/{name}" for kind, name in names))
        self.names = names


def by_name(objects: Iterable[Object]) -> dict[Name, list[Object]]:
    """Objects by kind and name."""
    found: dict[Name, list[Object]] = {}
    for one in objects:
        found.setdefault((one.kind, one.name), []).append(one)
    return found


def needs(one: Object, kinds: Kinds) -> list[Name]:
    """The objects that must be there before ``one``."""
    return [(table, name) for _, table, name in mentioned(one, kinds) if table in kinds]


def in_order(objects: Sequence[Object], kinds: Kinds) -> list[Object]:
    """Each after what it needs; otherwise by kind, then by their place or name.  Raises :class:`InACircle`."""
    known = by_name(objects)
    rank = {kind: at for at, kind in enumerate(kinds)}
    graph: TopologicalSorter[Name] = TopologicalSorter()
    for name, found in known.items():
        graph.add(name, *(need for one in found for need in needs(one, kinds) if need in known and need != name))
    try:
        graph.prepare()
    except CycleError as error:
        raise InACircle(error.args[1][::-1]) from error
    ordered: list[Object] = []
    places = {name: place_of(found[0], kinds[name[0]]) for name, found in known.items()}
    while graph.is_active():
        ready = sorted(graph.get_ready(), key=lambda name: (rank.get(name[0], 0), places[name], name))
        for name in ready:
            ordered += sorted(known[name], key=lambda one: one.nth)
        graph.done(*ready)
    depth = {one.key: at for at, one in enumerate(ordered)}
    return _by_kind(ordered, depth, kinds)


def _by_kind(ordered: Sequence[Object], depth: Mapping[tuple[str, str, int], int], kinds: Kinds) -> list[Object]:
    """Kinds as whole runs where no kind needs another back, so that they go in few requests."""
    between = {(need, one.kind) for one in ordered for need, _ in needs(one, kinds)}
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
    return sorted(ordered, key=lambda one: (order[one.kind], depth[one.key]))


def closure(
    chosen: Iterable[Object], every: Iterable[Object], kinds: Kinds
) -> tuple[list[Object], list[tuple[Object, Name]]]:
    """``chosen`` with all that they need from ``every``, however far; and what is needed and not there."""
    known = by_name(every)
    taken: dict[tuple[str, str, int], Object] = {}
    lost: list[tuple[Object, Name]] = []
    left = deque(chosen)
    while left:
        one = left.popleft()
        if one.key in taken:
            continue
        taken[one.key] = one
        for need in needs(one, kinds):
            if need in known:
                left += known[need]
            else:
                lost.append((one, need))
    return list(taken.values()), lost


def kinds_inside(kind: str, kinds: Kinds) -> list[str]:
    """``kind``, and the kinds whose objects may stand in its objects, however deep."""
    found = [kind]
    for above in found:
        found += [name for name, one in kinds.items() if _holder(one) == above and name not in found]
    return found


def contents(chosen: Iterable[Object], every: Iterable[Object], kinds: Kinds) -> list[Object]:
    """``chosen``, and what stands in them, however deep: each after what it stands in."""
    inside: dict[Name, list[Object]] = {}
    for one in every:
        parent = get(one.body, kinds[one.kind].within)
        if parent is not None:
            inside.setdefault((_holder(kinds[one.kind]) or "", str(parent)), []).append(one)
    taken = {one.key: one for one in chosen}
    left = deque(taken.values())
    while left:
        one = left.popleft()
        for below in inside.get((one.kind, one.name), ()):
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
        (one, member, (table, name))
        for one in every
        for member, table, name in mentioned(one, kinds)
        if (table, name) in wanted
    ]


def dangling(
    objects: Iterable[Object], kinds: Kinds, there: Callable[[str, str], bool]
) -> list[tuple[Object, str, str, str]]:
    """References to what is not there: the object, the member, the table and the name."""
    known = by_name(objects := list(objects))
    return [
        (one, member, table, name)
        for one in objects
        for member, table, name in mentioned(one, kinds)
        if name.startswith(LOST) or ((table, name) not in known and not there(table, name))
    ]
