"""From objects as they are to objects as they shall be: the steps, in the order in which they can be done."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any

from concordex.change.about import About
from concordex.change.depend import in_order
from concordex.change.differ import Difference, differ
from concordex.change.objects import Key, Kinds, Object, alike
from concordex.change.reasons import Why, because
from concordex.change.steps import Change, Step, numbered


def plan(
    system: str, wanted: Sequence[Object], actual: Sequence[Object], kinds: Kinds, *, going: Collection[Key] = ()
) -> tuple[Change, list[Difference]]:
    """The change that makes ``wanted`` so, and what only the system has; of that, ``going`` go, last.

    Creations and updates come after what they need, deletions before it.  Raises :class:`InACircle`.
    """
    found = differ(actual, wanted, kinds)
    by_key = {one.key: one for one in found}
    made = [one for one in found if one.what != "removed"]
    extra = [one for one in found if one.what == "removed"]
    steps = [_step(by_key[key], kinds) for key in _keys(in_order([_now(one) for one in made], kinds))]
    gone = in_order([one.one for one in extra if one.key in going], kinds)[::-1]
    steps += [_step(by_key[key], kinds) for key in _keys(gone)]
    return Change(kind="config", system=system, steps=numbered(steps), about=About(objects=True)), extra


def _now(found: Difference) -> Object:
    """The object as it shall be, by the key that it has among both sides."""
    now = found.one
    return now if now.key == found.key else Object(kind=now.kind, name=now.name, nth=found.key[2], body=now.body)


def _keys(objects: Sequence[Object]) -> list[tuple[str, str, int]]:
    return [one.key for one in objects]


def _step(found: Difference, kinds: Kinds) -> Step:
    kind, (_, name, nth) = kinds[found.key[0]], found.key
    key: dict[str, Any] = {"name": name} | ({"nth": nth} if nth > 1 else {})
    common: dict[str, Any] = {
        "number": 0, "table": kind.table, "label": name + (f" (no. {nth})" if nth > 1 else ""), "key": key,
        "source": found.now.source if found.now else None,
        "record_id": found.before.record_id if found.before else None,
    }  # fmt: skip
    if found.before is None:
        return Step(operation="create", desired=found.one.body, **common, **_held(kind.can_create, "create"))
    if found.now is None:
        return Step(operation="delete", before=found.one.body, **common, **_held(kind.can_delete, "delete"))
    was, now = found.before.body, found.now.body
    members = [n for n in {**was, **now} if not alike(was.get(n), now.get(n))]
    return Step(
        operation="update", before={n: was.get(n) for n in members}, desired={n: now.get(n) for n in members}, **common,
        **_held(kind.can_update, "update"),
    )  # fmt: skip


def _held(able: bool, what: str) -> dict[str, Any]:
    return {} if able else {"state": "held", "why": because(Why.CANNOT, what=what)}
