"""From differences to a change: ordered steps, references before what refers to them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from concordex.change.steps import Change, Step, Values

Key = tuple[str, ...]


@dataclass(frozen=True, kw_only=True)
class Link:
    """A member that refers to another table: that table's key field, and our field that gives it."""

    via: str
    by: Mapping[str, str]


@dataclass(frozen=True, kw_only=True)
class Form:
    """How one table may be written, as far as preparing needs to know."""

    keys: Sequence[Sequence[str]]
    required: Sequence[str] = ()
    unique: Sequence[str] = ()
    links: Sequence[Link] = ()
    can_create: bool = True
    can_update: bool = True
    #: Acts that others take back.
    takes_back: Mapping[str, str] = field(default_factory=dict)
    can_delete: bool = False


@dataclass(kw_only=True)
class Known:
    """The natural keys that a target's table holds, each with the record's id."""

    keys: dict[Key, str] = field(default_factory=dict)
    unique: dict[str, dict[str, str]] = field(default_factory=dict)


@dataclass(frozen=True, kw_only=True)
class Wish:
    """A record that should be there: our fields, and whose they are."""

    entry: str
    source: str | None
    values: Values
    against: str | None = None


def natural(values: Values, names: Sequence[str]) -> Key | None:
    """The natural key that ``values`` hold under ``names``, as it is compared; None if one is missing."""
    found = [values.get(name) for name in names]
    return None if any(value in (None, "", []) for value in found) else tuple(plain(value) for value in found)


def plain(value: Any) -> str:
    """A value as natural keys compare it."""
    return str(value[0] if isinstance(value, list) else value).strip().lower()


def prepare(
    kind: str,
    system: str,
    table: str,
    wishes: Sequence[Wish],
    updates: Sequence[Step],
    forms: Mapping[str, Form],
    known: Mapping[str, Known],
) -> Change:
    """The change that makes ``wishes`` come true and ``updates`` happen.

    What cannot be sent is in it as well, as a step that is held and says why.
    """
    creates = [_create(wish, table, forms[table]) for wish in wishes]
    creates = _held_by_names(creates, forms[table], known[table]) if creates else []
    needing = [step for step in (*creates, *updates) if step.state == "ready"]
    before = list(_references(needing, table, forms, known))
    held = [step for step in (*creates, *updates) if step.state == "held"]
    ready = [*before, *needing]
    steps = [replace(step, number=at) for at, step in enumerate([*ready, *held], start=1)]
    return Change(kind=kind, system=system, steps=tuple(steps))


def _create(wish: Wish, table: str, form: Form) -> Step:
    shall = {name: value for name, value in wish.values.items() if value not in (None, [])}
    key = next(({n: shall[n] for n in names} for names in form.keys if natural(shall, names)), {})
    label = str(shall.get("name") or shall.get("serial") or wish.entry)
    step = Step(
        number=0,
        table=table,
        action="create",
        label=label,
        key=key,
        shall=shall,
        entry=wish.entry,
        source=wish.source,
    )
    if not key:  # it could not be looked up after an answer that never came, and might be made twice
        names = " or ".join(" and ".join(names) for names in form.keys)
        return replace(step, action="report", state="held", reason=wish.against or f"it has no {names} to be found by")
    missing = [name for name in form.required if shall.get(name) is None]
    reason = wish.against or (f"it has no {', no '.join(missing)}" if missing else None)
    if not form.can_create:
        reason = "the dialect does not say how to create one"
    return replace(step, action="report", state="held", reason=reason) if reason else step


def _held_by_names(creates: Sequence[Step], form: Form, known: Known) -> list[Step]:
    """Hold back what would take a name that is taken, there or by another step."""
    wanted: dict[tuple[str, str], int] = {}
    for step in creates:
        for name in form.unique:
            if step.state == "ready" and step.shall.get(name) is not None:
                at = (name, plain(step.shall[name]))
                wanted[at] = wanted.get(at, 0) + 1
    return [_held_by_name(step, form, known, wanted) for step in creates]


def _held_by_name(step: Step, form: Form, known: Known, wanted: Mapping[tuple[str, str], int]) -> Step:
    if step.state != "ready":
        return step
    for name in form.unique:
        value = plain(step.shall.get(name, ""))
        holder = known.unique.get(name, {}).get(value)
        rivals = wanted.get((name, value), 0) - 1
        if holder is not None:
            return _hold(step, f"the {name} is taken there by record {holder}")
        if rivals > 0:
            return _hold(step, f"{rivals} other new device{'s' * (rivals > 1)} would have the same {name}")
    for names in form.keys:
        key = natural(step.shall, names)
        if key is not None and key in known.keys:
            return _hold(step, f"record {known.keys[key]} there has the same {' and '.join(names)}")
    return step


def _hold(step: Step, reason: str) -> Step:
    return replace(step, action="report", state="held", reason=reason)


def _references(
    steps: Sequence[Step], table: str, forms: Mapping[str, Form], known: Mapping[str, Known]
) -> Iterator[Step]:
    """Creations of what ``steps`` refer to and the target lacks; deeper references first."""
    made: dict[tuple[str, Key], Step] = {}
    for step in steps:
        values = step.shall if step.action == "create" else {**step.key, **step.shall}
        _need(values, table, forms, known, made)
    yield from made.values()


def _need(
    values: Values,
    table: str,
    forms: Mapping[str, Form],
    known: Mapping[str, Known],
    made: dict[tuple[str, Key], Step],
) -> None:
    for link in forms[table].links:
        needed = {theirs: values.get(ours) for theirs, ours in link.by.items()}
        key = natural(needed, list(needed))
        if key is None or key in known[link.via].keys or (link.via, key) in made:
            continue
        _need(needed, link.via, forms, known, made)
        label = " ".join(str(value) for value in needed.values())
        made[link.via, key] = Step(number=0, table=link.via, action="create", label=label, key=needed, shall=needed)
