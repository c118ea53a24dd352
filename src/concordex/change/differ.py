"""Two collections of objects, and how they differ by meaning: not by text, nor by numbers that only count places."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import count
from typing import Any, Literal

from concordex.change.objects import Key, Kind, Kinds, Object, alike, place_of
from concordex.model.members import pruned, value_at

#: One difference within an object: the path, what stood there, what stands there; None for nothing.
Delta = tuple[str, Any, Any]


@dataclass(frozen=True, kw_only=True)
class Difference:
    """One object that one side has otherwise than the other, or that only one has."""

    what: Literal["added", "removed", "changed", "moved"]
    key: Key
    before: Object | None
    now: Object | None
    deltas: Sequence[Delta] = ()

    @property
    def either(self) -> Object:
        """The object as it is now, or was."""
        present = self.now or self.before
        assert present
        return present


def differ(earlier: Iterable[Object], now: Iterable[Object], kinds: Kinds) -> list[Difference]:
    """All differences from ``earlier`` to ``now``, in the order of kinds and names."""
    before, after = paired(list(earlier), list(now), kinds)
    moved = _moved(before, after, kinds)
    diffs = []
    for key in sorted(before.keys() | after.keys()):
        old, new = before.get(key), after.get(key)
        if old is None or new is None:
            diffs.append(Difference(what="removed" if new is None else "added", key=key, before=old, now=new))
            continue
        place = kinds[key[0]].place
        aside = [*([place] if place else []), *kinds[key[0]].secrets]
        deltas = deltas_of(pruned(old.body, aside), pruned(new.body, aside), sets=kinds[key[0]].sets)
        if place and key in moved:
            deltas = [*deltas, (place, value_at(old.body, place), value_at(new.body, place))]
        if deltas:
            only = [path for path, _, _ in deltas] == [place]
            diffs.append(Difference(what="moved" if only else "changed", key=key, before=old, now=new, deltas=deltas))
    return diffs


def paired(
    earlier: Sequence[Object], now: Sequence[Object], kinds: Kinds
) -> tuple[dict[Key, Object], dict[Key, Object]]:
    """Both sides by key; of several of one name, those that are equal are the same, whatever their order."""
    before, after = {old_one.key: old_one for old_one in earlier}, {old_one.key: old_one for old_one in now}
    shared = {(kind, name) for kind, name, nth in (*before, *after) if nth > 1}
    for kind, name in sorted(shared):
        old = [before.pop(key) for key in sorted(before) if key[:2] == (kind, name)]
        new = [after.pop(key) for key in sorted(after) if key[:2] == (kind, name)]
        pairs: list[tuple[Object | None, Object | None]] = []
        for first in list(old):
            aside = kinds[kind].secrets
            meant = pruned(first.body, aside)
            twin = next((second for second in new if pruned(second.body, aside) == meant), None)
            if twin:
                pairs.append((first, twin))
                old.remove(first)
                new.remove(twin)
        least = min(len(old), len(new))
        pairs += [*zip(old, new, strict=False)]
        pairs += [(old_one, None) for old_one in old[least:]] + [(None, old_one) for old_one in new[least:]]
        taken = {old_one.nth for old_one, _ in pairs if old_one}
        free = (nth for nth in count(1) if nth not in taken)
        for old_one, new_one in pairs:
            nth = old_one.nth if old_one else next(free)
            if old_one:
                before[kind, name, nth] = old_one
            if new_one is not None:
                after[kind, name, nth] = new_one
    return before, after


def deltas_of(before: Any, now: Any, path: str = "", sets: Collection[str] = ()) -> list[Delta]:
    """Member by member what is otherwise; of a list what left it and what came.

    Of a list of mappings, which is not among ``sets``, item by item where it is as long as it was.
    """
    if alike(before, now):
        return []
    if isinstance(before, Mapping) and isinstance(now, Mapping):
        deltas = []
        for name in sorted({*before, *now}, key=str):
            deltas += deltas_of(before.get(name), now.get(name), f"{path}.{name}" if path else str(name), sets)
        return deltas
    if isinstance(before, list) and isinstance(now, list):
        return _deltas_of_lists(before, now, path, whole=path in sets)
    return [(path, before, now)]


def _deltas_of_lists(before: list[Any], now: list[Any], path: str, *, whole: bool) -> list[Delta]:
    deep = not whole and any(isinstance(item, Mapping | list) for item in (*before, *now))
    if deep and len(before) == len(now):
        pairs = enumerate(zip(before, now, strict=True))
        return [delta for at, (a, b) in pairs for delta in deltas_of(a, b, f"{path}[{at}]")]
    gone, came = [item for item in before if item not in now], [item for item in now if item not in before]
    if not gone and not came:
        return [(path, before, now)]  # the same in another order, or in another number
    return [(f"{path}[]", item, None) for item in gone] + [(f"{path}[]", None, item) for item in came]


def _moved(before: Mapping[Key, Object], after: Mapping[Key, Object], kinds: Kinds) -> set[Key]:
    """Of objects with a place, those that stand in another order to the rest than they did.

    As few as can be: all but a longest run that kept its order (Schensted 1961).
    """
    moved: set[Key] = set()
    groups: dict[tuple[str, str], list[Key]] = {}
    for key in before.keys() & after.keys():
        kind = kinds[key[0]]
        if kind.place:
            groups.setdefault((key[0], _inside(before[key], kind)), []).append(key)
    for keys in groups.values():
        kind = kinds[keys[0][0]]
        now = {key: at for at, key in enumerate(sorted(keys, key=lambda k: (place_of(after[k], kind), k)))}
        then = sorted(keys, key=lambda key: (place_of(before[key], kind), key))
        moved |= set(then) - {then[at] for at in _longest_rising([now[key] for key in then])}
    return moved


def _inside(obj: Object, kind: Kind) -> str:
    return str(value_at(obj.body, kind.within)) if kind.within else ""


def _longest_rising(numbers: Sequence[int]) -> list[int]:
    """The places of a longest rising run in ``numbers``, all different."""
    ends: list[int] = []
    last: list[int] = []
    before: list[int] = []
    for at, number in enumerate(numbers):
        n = bisect_left(ends, number)
        ends[n : n + 1], last[n : n + 1] = [number], [at]
        before.append(last[n - 1] if n else -1)
    run, at = [], last[-1] if last else -1
    while at >= 0:
        run.append(at)
        at = before[at]
    return run[::-1]
