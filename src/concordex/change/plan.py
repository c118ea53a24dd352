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
from concordex.model.members import pruned


def plan(
    system: str, wanted: Sequence[Object], actual: Sequence[Object], kinds: Kinds, *, going: Collection[Key] = ()
) -> tuple[Change, list[Difference]]:
    """The change that makes ``wanted`` so, and what only the system has; of that, ``going`` go, last.

    Creations and updates come after what they need, deletions before it.  Raises :class:`InACircle`.
    """
    differences = differ(actual, wanted, kinds)
    by_key = {difference.key: difference for difference in differences}
    made = [difference for difference in differences if difference.what != "removed"]
    extra = [difference for difference in differences if difference.what == "removed"]
    steps = [_step(by_key[key], kinds) for key in _keys(in_order([_now(difference) for difference in made], kinds))]
    gone = in_order([difference.either for difference in extra if difference.key in going], kinds)[::-1]
    steps += [_step(by_key[key], kinds) for key in _keys(gone)]
    return Change(kind="config", system=system, steps=numbered(steps), about=About(objects=True)), extra


def _now(diff: Difference) -> Object:
    """The object as it shall be, by the key that it has among both sides."""
    now = diff.either
    return now if now.key == diff.key else Object(kind=now.kind, name=now.name, nth=diff.key[2], body=now.body)


def _keys(objects: Sequence[Object]) -> list[tuple[str, str, int]]:
    return [obj.key for obj in objects]


def _step(difference: Difference, kinds: Kinds) -> Step:
    kind, (_, name, nth) = kinds[difference.key[0]], difference.key
    key: dict[str, Any] = {"name": name} | ({"nth": nth} if nth > 1 else {})
    common: dict[str, Any] = {
        "number": 0, "table": kind.table, "label": name + (f" (no. {nth})" if nth > 1 else ""), "key": key,
        "source": difference.now.source if difference.now else None,
        "record_id": difference.before.record_id if difference.before else None,
    }  # fmt: skip
    if difference.before is None:
        return Step(operation="create", desired=difference.either.body, **common, **_held(kind.can_create, "create"))
    if difference.now is None:
        return Step(operation="delete", before=difference.either.body, **common, **_held(kind.can_delete, "delete"))
    before, now = pruned(difference.before.body, kind.secrets), difference.now.body
    shown = pruned(now, kind.secrets)
    members = [n for n in {**before, **shown} if not alike(before.get(n), shown.get(n))]
    return Step(
        operation="update", before={n: before.get(n) for n in members}, desired={n: now.get(n) for n in members},
        **common, **_held(kind.can_update, "update"),
    )  # fmt: skip


def _held(able: bool, what: str) -> dict[str, Any]:
    return {} if able else {"state": "held", "why": because(Why.CANNOT, what=what)}
