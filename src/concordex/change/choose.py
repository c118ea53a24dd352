"""Which steps of a change to run: a part of it, with all that this part needs."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from concordex.change.prepare import Form, Key, natural
from concordex.change.steps import Change, Step


def chosen(
    change: Change,
    forms: Mapping[str, Form],
    *,
    actions: Collection[str] = (),
    table: str | None = None,
    among: Collection[int] | None = None,
    first: int | None = None,
) -> list[Step]:
    """The open steps of those ``actions``, of one ``table``, ``among`` some numbers, the ``first`` so many of them.

    Creations that these refer to come with them, and are not counted.
    """
    made = {
        (step.table, key): step
        for step in change.writes
        if step.action == "create"
        for names in forms[step.table].keys
        if (key := natural(step.shall, names)) is not None
    }
    needed = {step.number for step in change.writes for step in _needed(step, forms, made)}
    mine = [
        step
        for step in change.writes
        if (not actions or step.action in actions)
        and (table is None or step.table == table)
        and (among is None or step.number in among)
    ]
    if first is not None:
        own = [step for step in mine if step.number not in needed] or mine
        mine = own[:first]
    numbers = {step.number for step in mine}
    for step in mine:
        numbers |= {other.number for other in _needed(step, forms, made)}
    return [step for step in change.writes if step.number in numbers]


def _needed(step: Step, forms: Mapping[str, Form], made: Mapping[tuple[str, Key], Step]) -> list[Step]:
    """The creations that a step refers to, and those that they refer to."""
    found: list[Step] = []
    for link in forms[step.table].links:
        values = {**step.key, **step.shall}
        key = natural({theirs: values.get(ours) for theirs, ours in link.by.items()}, list(link.by))
        other = made.get((link.via, key)) if key else None
        if other is not None and step.action in ("create", "update"):
            found += [*_needed(other, forms, made), other]
    return found
