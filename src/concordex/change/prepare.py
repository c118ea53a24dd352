"""From differences to a change: ordered steps, references before what refers to them."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache, cached_property
from typing import Any

from concordex.change.reasons import Reasons, Why, because
from concordex.change.steps import Change, Step, Values, numbered
from concordex.model.folded import folded

Key = tuple[str, ...]


@dataclass(frozen=True, kw_only=True)
class ReferenceMember:
    """A member that refers to another table: that table's key field, and our field that gives it."""

    via: str
    by: Mapping[str, str]


@dataclass(frozen=True, kw_only=True)
class Form:
    """How one table may be written, as far as preparing needs to know."""

    keys: Sequence[Sequence[str]]
    required: Sequence[str] = ()
    unique: Sequence[str] = ()
    links: Sequence[ReferenceMember] = ()
    can_create: bool = True
    can_update: bool = True
    #: Acts that others take back.
    takes_back: Mapping[str, str] = field(default_factory=dict)
    can_delete: bool = False
    #: The fields that an update can write; None: whatever a record has.
    writes: Collection[str] | None = None
    #: Fields of a new record that are made from others where nothing is said.
    makes: Mapping[str, str] = field(default_factory=dict)
    #: What fields of a new record are where nothing is said.
    always: Mapping[str, str] = field(default_factory=dict)
    #: Fields that no reading shows as they were sent: secrets, and one-time codes.
    unread: Collection[str] = ()

    @cached_property
    def referring(self) -> list[str]:
        """Our fields by which records refer to others."""
        return [ours for link in self.links for ours in link.by.values()]

    @cached_property
    def own(self) -> list[set[str]]:
        """For each of ``links`` our fields that speak of it: a site alone says nothing of a rack in it."""
        return [
            set(link.by.values())
            - {ours for other in self.links if len(other.by) < len(link.by) for ours in other.by.values()}
            for link in self.links
        ]


@dataclass(kw_only=True)
class NaturalKeys:
    """The natural keys that a target's table holds, each with the record's id; ``several`` where more have it."""

    keys: dict[Key, str] = field(default_factory=dict)
    several: dict[Key, list[str]] = field(default_factory=dict)
    #: Records that do not count and whose keys are taken all the same, each with why.
    aside: dict[str, str] = field(default_factory=dict)
    unique: dict[str, dict[str, str]] = field(default_factory=dict)


@dataclass(frozen=True, kw_only=True)
class Wish:
    """A record that should be there: our fields, and whose they are."""

    entry: str
    source: str | None
    values: Values
    against: Reasons = ()


def natural(values: Values, names: Sequence[str]) -> Key | None:
    """The natural key that ``values`` hold under ``names``, as it is compared; None if one is missing.

    The names belong to it: what is one record's name may be another one's serial.
    """
    ordered = _ordered(tuple(names))
    key = list(ordered)
    for name in ordered:  # many times for each of many records
        part = part_of_key(values.get(name))
        if part is None:
            return None
        key.append(part)
    return tuple(key)


def part_of_key(value: Any) -> str | None:
    """A field's value as it stands in a natural key; None where it says nothing."""
    return None if value is None or value in ("", []) else normalised(value)


@cache
def _ordered(names: tuple[str, ...]) -> tuple[str, ...]:
    return tuple(sorted(names))


def normalised(value: Any) -> str:
    """A value as natural keys compare it."""
    if type(value) is not str:
        value = str(value[0] if isinstance(value, list) else value)
    text: str = value
    return folded(text)


def prepare(
    kind: str,
    system: str,
    table: str,
    wishes: Iterable[Wish],
    updates: Sequence[Step],
    forms: Mapping[str, Form],
    known: Mapping[str, NaturalKeys],
) -> Change:
    """The change that makes ``wishes`` come true and ``updates`` happen.

    What cannot be sent is in it as well, as a step that is held and says why.
    """
    creates = [_create(wish, table, forms[table]) for wish in wishes]
    creates = _held_by_names(creates, forms[table], known[table]) if creates else []
    lacks: dict[tuple[Any, ...], Reasons] = {}
    every = [_held_by_references(step, table, forms, known, lacks) for step in (*creates, *updates)]
    needing = [step for step in every if step.state == "ready"]
    before = list(_references(needing, table, forms, known))
    held = [step for step in every if step.state == "held"]
    ready = [*before, *needing]
    return Change(kind=kind, system=system, steps=numbered([*ready, *held]))


def _create(wish: Wish, table: str, form: Form) -> Step:
    desired = completed({name: value for name, value in wish.values.items() if value not in (None, [])}, form)
    key = next(({n: desired[n] for n in names} for names in form.keys if natural(desired, names)), {})
    label = str(desired.get("name") or desired.get("serial") or wish.entry)
    step = Step(
        number=0,
        table=table,
        operation="create",
        label=label,
        key=key,
        desired=desired,
        entry=wish.entry,
        source=wish.source,
    )
    if not key:  # it could not be looked up after an answer that never came, and might be made twice
        return _hold(step, wish.against or because(Why.NO_KEY, keys=[list(names) for names in form.keys]))
    missing = [name for name in form.required if desired.get(name) is None]
    why = wish.against or (because(Why.REQUIRED, fields=missing) if missing else ())
    if not form.can_create:
        why = because(Why.CANNOT, what="create")
    return _hold(step, why) if why else step


def _held_by_names(creates: Sequence[Step], form: Form, known: NaturalKeys) -> list[Step]:
    """Hold back what would take a name that is taken, there or by another step."""
    wanted: dict[tuple[str, str], int] = {}
    for step in creates:
        for name in form.unique:
            if step.state == "ready" and step.desired.get(name) is not None:
                at = (name, normalised(step.desired[name]))
                wanted[at] = wanted.get(at, 0) + 1
    return [_held_by_name(step, form, known, wanted) for step in creates]


def _held_by_name(step: Step, form: Form, known: NaturalKeys, wanted: Mapping[tuple[str, str], int]) -> Step:
    if step.state != "ready":
        return step
    for name in form.unique:
        value = normalised(step.desired.get(name, ""))
        holder = known.unique.get(name, {}).get(value)
        rivals = wanted.get((name, value), 0) - 1
        if holder is not None:
            return _hold(step, because(Why.NAME_TAKEN, field=name, record=holder, aside=known.aside.get(holder)))
        if rivals > 0:
            return _hold(step, because(Why.NAME_WANTED, field=name, others=rivals))
    for names in form.keys:
        key = natural(step.desired, names)
        if key is not None and key in known.keys:
            holder = known.keys[key]
            aside = known.aside.get(holder)
            return _hold(step, because(Why.KEY_TAKEN, fields=list(names), record=holder, aside=aside))
    return step


def _hold(step: Step, why: Reasons) -> Step:
    return step.having(operation="report", state="held", why=why)


def completed(values: Values, form: Form) -> dict[str, Any]:
    """A new record's values, with those that are made from others: in small letters and hyphens."""
    made = {
        name: re.sub(r"[^a-z0-9]+", "-", str(values[source]).lower()).strip("-")
        for name, source in form.makes.items()
        if values.get(name) is None and values.get(source) is not None
    }
    constant = {name: value for name, value in form.always.items() if values.get(name) is None}
    return {**values, **made, **constant}


def _held_by_references(
    step: Step,
    table: str,
    forms: Mapping[str, Form],
    known: Mapping[str, NaturalKeys],
    lacks: dict[tuple[Any, ...], Reasons],
) -> Step:
    """Hold back what refers to a record that is not there, and of which too little is known to make it."""
    if step.state != "ready":
        return step
    values = step.desired if step.operation == "create" else {**step.key, **step.desired}
    said = said_of(values, forms[table].referring)
    if said not in lacks:  # a thousand devices have one site
        lacks[said] = lacking_reference(values, table, forms, known)
    return _hold(step, lacks[said]) if lacks[said] else step


def said_of(values: Values, names: Collection[str]) -> tuple[Any, ...]:
    """What ``values`` say under some names, to be known again."""
    return (*names, *(tuple(v) if isinstance(v := values.get(name), list) else v for name in names))


def lacking_reference(
    values: Values, table: str, forms: Mapping[str, Form], known: Mapping[str, NaturalKeys]
) -> Reasons:
    """Why a record that ``values`` refer to is not there and cannot be created; nothing where it can."""
    for link in forms[table].links:
        needed = {theirs: values.get(ours) for theirs, ours in link.by.items()}
        key = natural(needed, list(needed))
        if key is None or key in known[link.via].keys:
            continue
        form, label = forms[link.via], " ".join(str(value) for value in needed.values())
        missing = [name for name in form.required if completed(needed, form).get(name) is None]
        if not form.can_create:
            return because(Why.NOT_IN, label=label, table=link.via)
        if missing:
            return because(Why.UNKNOWN_TO_MAKE, label=label, table=link.via, fields=missing)
        if deeper := lacking_reference(needed, link.via, forms, known):
            return deeper
    return ()


def _references(
    steps: Sequence[Step], table: str, forms: Mapping[str, Form], known: Mapping[str, NaturalKeys]
) -> Iterator[Step]:
    """Creations of what ``steps`` refer to and the target lacks; deeper references first."""
    made: dict[tuple[str, Key], Step] = {}
    seen = set[tuple[Any, ...]]()
    for step in steps:
        values = step.desired if step.operation == "create" else {**step.key, **step.desired}
        said = said_of(values, forms[table].referring)
        if said not in seen:
            seen.add(said)
            _need(values, table, forms, known, made)
    yield from made.values()


def _need(
    values: Values,
    table: str,
    forms: Mapping[str, Form],
    known: Mapping[str, NaturalKeys],
    made: dict[tuple[str, Key], Step],
) -> None:
    for link in forms[table].links:
        needed = {theirs: values.get(ours) for theirs, ours in link.by.items()}
        key = natural(needed, list(needed))
        if key is None or key in known[link.via].keys or (link.via, key) in made:
            continue
        _need(needed, link.via, forms, known, made)
        label = " ".join(str(value) for value in needed.values())
        desired = completed(needed, forms[link.via])
        made[link.via, key] = Step(
            number=0, table=link.via, operation="create", label=label, key=needed, desired=desired
        )
