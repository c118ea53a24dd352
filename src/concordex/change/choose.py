"""Which steps of a change to run: a part of it, with all that this part needs."""

from __future__ import annotations

from collections import deque
from collections.abc import Collection, Mapping, Sequence

from concordex.change.objects import Kinds, Object, mentioned
from concordex.change.prepare import Form, natural
from concordex.change.steps import Change, Step

#: By a step's number, the steps of the same change that it cannot be done without.
Needs = Mapping[int, Sequence[Step]]


def chosen(
    change: Change,
    needs: Needs,
    *,
    actions: Collection[str] = (),
    table: str | None = None,
    among: Collection[int] | None = None,
    first: int | None = None,
) -> list[Step]:
    """The open steps of those ``actions``, of one ``table``, ``among`` some numbers, the ``first`` so many of them.

    Steps that these need come with them, and are not counted.
    """
    needed = {step.number for steps in needs.values() for step in steps}
    mine = [
        step
        for step in change.writes
        if (not actions or step.operation in actions)
        and (table is None or step.table == table)
        and (among is None or step.number in among)
    ]
    if first is not None:
        own = [step for step in mine if step.number not in needed] or mine
        mine = own[:first]
    numbers = {step.number for step in mine}
    left = deque(numbers)
    while left:
        more = {step.number for step in needs.get(left.popleft(), ())} - numbers
        numbers |= more
        left += more
    return [step for step in change.writes if step.number in numbers]


def needed_by_records(change: Change, forms: Mapping[str, Form]) -> Needs:
    """The creations that each creation or update refers to, by natural keys."""
    made = {
        (step.table, key): step
        for step in change.writes
        if step.operation == "create"
        for names in forms[step.table].keys
        if (key := natural(step.desired, names)) is not None
    }
    needed: dict[int, list[Step]] = {}
    for step in change.writes:
        if step.operation not in ("create", "update"):
            continue
        values = {**step.key, **step.desired}
        for link in forms[step.table].links:
            key = natural({theirs: values.get(ours) for theirs, ours in link.by.items()}, list(link.by))
            other = made.get((link.via, key)) if key else None
            if other is not None:
                needed.setdefault(step.number, []).append(other)
    return needed


def needed_by_objects(change: Change, kinds: Kinds) -> Needs:
    """The creations that each creation or update refers to, by names; of a deletion, those of what refers to it."""
    by_name: dict[tuple[str, str, str], list[Step]] = {}
    for step in change.writes:
        by_name.setdefault((step.operation, step.table, str(step.key["name"])), []).append(step)
    needed: dict[int, list[Step]] = {}
    for step in change.writes:
        if step.table not in kinds or step.operation == "action":
            continue
        gone = step.operation == "delete"
        obj = Object(kind=step.table, name=str(step.key["name"]), body=step.before if gone else step.desired)
        for _, table, name in mentioned(obj, kinds):
            for other in by_name.get(("delete" if gone else "create", table, name), ()):
                first, then = (other, step) if gone else (step, other)
                needed.setdefault(first.number, []).append(then)
    return needed
