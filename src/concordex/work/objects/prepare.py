"""Preparing changes of configuration objects: loaded back, or removed; and what cannot be meant."""

from __future__ import annotations

import math
import shlex
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from concordex.change.depend import InACircle, dangling, users
from concordex.change.differ import Difference
from concordex.change.objects import Kinds, Object, get, members, mentioned, own_name, settled, unbound
from concordex.change.plan import plan
from concordex.change.steps import Change
from concordex.errors import CalledWrongly, Stopped
from concordex.words import suggestion
from concordex.work.objects.files import place
from concordex.work.objects.install import installed_on
from concordex.work.objects.live import Held
from concordex.work.targets.objects import kinds_of

if TYPE_CHECKING:
    from concordex.wire import dialect as d
    from concordex.work.workspace.base import BaseWorkspace


#: How many users of what would go are told.
_TOLD = 20


def prepare_objects(
    workspace: BaseWorkspace,
    system: str,
    wanted: Sequence[Object],
    held: Held,
    *,
    may_go: Sequence[Object] = (),
    free: bool = False,
) -> tuple[Change, list[Difference]]:
    """The change that makes ``wanted`` so in a system; and what of these kinds only the system has.

    Of that, objects that are among ``may_go`` are deleted.  With ``free``, what binds objects to people and
    devices stays there as it is.

    Refused with every mistake at once: members that the kind does not have, names that do not fit, references
    to nothing, objects that need each other in a circle, and objects that would go and are still used.
    """
    kinds = kinds_of(workspace.dialect(system))
    mine, going = {one.kind for one in (*wanted, *may_go)}, {one.key for one in may_go}
    actual = [unbound(one, kinds[one.kind]) for one in held.of(mine)] if free else held.of(mine)
    alone = {one.key: one.body for one in actual if kinds[one.kind].single}  # what is not said of it stays
    wanted = [replace(one, body=settled({**alone.get(one.key, {}), **one.body}, kinds[one.kind])) for one in wanted]
    mistakes = [*_unfit(workspace, system, wanted, actual, kinds), *_lost(wanted, held, kinds)]
    if mistakes:
        raise CalledWrongly("\n".join(mistakes))
    try:
        change, extra = plan(system, wanted, actual, kinds, going=going)
    except InACircle as circle:
        raise CalledWrongly(f"these need each other, so that none can be made first: {circle}") from circle
    if unclear := _unclear(change, wanted, held, kinds):
        raise CalledWrongly(
            "\n".join(unclear), advice="rename one of them there first, so that a name means one object"
        )
    said = {one.key for one in wanted}
    stay = [*(one for one in held.objects if one.key not in said), *wanted]
    refuse_used(workspace, system, [found.one for found in extra if found.key in going], stay, held)
    return _sized(change, held), extra


def _sized(change: Change, held: Held, **more: bool) -> Change:
    """With how many objects of each kind there are, by which guards judge how much a change alters."""
    sizes = {table: len(held.of([table])) for table in sorted({step.table for step in change.steps})}
    return change.said(sizes=sizes, **more)


def _unfit(
    workspace: BaseWorkspace, system: str, wanted: Sequence[Object], actual: Sequence[Object], kinds: Kinds
) -> list[str]:
    """Names and members that cannot be meant."""
    told = []
    for kind in dict.fromkeys(one.kind for one in wanted):
        spec = kinds[kind]
        fields = workspace.dialect(system).tables[kind].fields.values()
        known = {path.partition(".")[0] for field in fields for path in field.from_} - {spec.id}
        learned = {name for one in actual if one.kind == kind for name in one.body}  # of none there, nothing is known
        known |= learned
        for one in wanted:
            if one.kind != kind:
                continue
            try:
                own_name(one.name, one.body, spec)
            except ValueError as error:
                told.append(f"{place(one, 'name')}: {error}")
            told += [
                f"{place(one, 'object')}: {path} is no number that JSON could say" for path in _no_numbers(one.body)
            ]
            told += _unfit_values(one, workspace.dialect(system).tables[kind].write)
            if one.source and not spec.single and get(one.body, spec.name) is not None:
                where = place(one, "object", *spec.name.split("."))
                told.append(f"{where}: the name stands above, beside `kind`; among its members it would rename it")
            told += [
                f"{place(one, 'object', name)}: {kind} have no member {name!r}; {suggestion(name, known)}"
                for name in one.body
                if one.source and learned and name not in known
            ]
    return told


def _no_numbers(body: object, path: str = "") -> list[str]:
    """Where a body holds what is no number, such as .inf (RFC 8259, section 6): it would be sent as null."""
    if isinstance(body, dict):
        return [bad for name, one in body.items() for bad in _no_numbers(one, f"{path}.{name}".lstrip("."))]
    if isinstance(body, list):
        return [bad for at, one in enumerate(body) for bad in _no_numbers(one, f"{path}[{at}]")]
    return [path] if isinstance(body, float) and not math.isfinite(body) else []


def _unfit_values(one: Object, write: d.Write | None) -> list[str]:
    """Values of members that the dialect knows and that they cannot hold: choices, lengths, numbers."""
    told = []
    for spec in write.fields.values() if write else ():
        value = get(one.body, spec.to)
        if value in (None, "", []):
            continue
        where, words = place(one, "object", *spec.to.split(".")), [str(item) for item in as_list(value)]
        theirs = [(spec.values or {}).get(choice, choice) for choice in spec.choices]
        strange = [word for word in words if theirs and word.lower() not in map(str.lower, theirs)]
        if strange:
            told.append(f"{where}: {strange[0]!r} is none of the choices; {suggestion(strange[0], theirs)}")
        elif spec.longest and any(len(word) > spec.longest for word in words):
            told.append(f"{where}: is longer than {spec.longest} signs")
        elif spec.number and not isinstance(value, int | float):
            told.append(f"{where}: {value!r} is no number")
    return told


def as_list(value: object) -> list[object]:
    """A value, or the values of a list."""
    return value if isinstance(value, list) else [value]


def odd_members(wanted: Sequence[Object], held: Held) -> list[str]:
    """Members deep in objects that no other object of the kind has: perhaps only written wrongly."""
    notes = []
    for kind in dict.fromkeys(one.kind for one in wanted):
        known = {path for one in held.of([kind]) for path in members(one.body)}
        for one in wanted:
            odd = [path for path in dict.fromkeys(members(one.body)) if one.kind == kind and path not in known]
            for path in odd:
                above, _, name = path.rpartition(".")
                beside = [other.rpartition(".")[2] for other in known if other.rpartition(".")[0] == above]
                if above and beside:
                    notes.append(f"{one.label}: no other of the {kind} has {path}; {suggestion(name, beside)}")
    return notes


def _lost(wanted: Sequence[Object], held: Held, kinds: Kinds) -> list[str]:
    """References to what is not there and is not made."""
    told = []
    for one, member, table, name in dangling(wanted, kinds, lambda table, name: held.bearing(table, name) > 0):
        names = [one.name for one in held.of([table])] or list(held.others.get(table, ()))
        where = place(one, "object", *member.split("."))
        told.append(f"{where}: {member} names {name!r}, which is not in {table}; {suggestion(name, names)}")
    return told


def _unclear(change: Change, wanted: Sequence[Object], held: Held, kinds: Kinds) -> list[str]:
    """References that would be written, and that several records of that name could be meant by."""
    sources = {(one.kind, one.name): one for one in wanted}
    told = []
    for step in change.writes:
        name = str(step.key["name"])
        for member, table, said in mentioned(Object(kind=step.table, name=name, body=step.desired), kinds):
            count = held.bearing(table, said)
            if count > 1:
                where = place(sources[step.table, name], "object", *member.split("."))
                told.append(f"{where}: {member} names {said!r}, which {count} of the {table} bear")
    return told


def refuse_used(
    workspace: BaseWorkspace, system: str, gone: Sequence[Object], left: Sequence[Object], held: Held
) -> None:
    """Raise Stopped where somebody who stays refers to what goes, or a device still has it; and say who."""
    kinds = kinds_of(workspace.dialect(system))
    out = {one.key for one in gone}
    found = users([(one.kind, one.name) for one in gone], [one for one in left if one.key not in out], kinds)
    told = [f"{kind}/{name} is used by {one.label} ({member})" for one, member, (kind, name) in found]
    on = {one.label: installed_on(workspace.dialect(system), held, one) for one in gone}
    told += [f"{label} is installed on {', '.join(devices)}" for label, devices in on.items() if devices]
    if not told:
        return
    more = f"\nand {len(told) - _TOLD:,} more" if len(told) > _TOLD else ""
    advice = ["remove or alter those first, or together with it"] if found else []
    advice += [
        f"take it off: concordex config install {shlex.quote(f'{system}/{label}')} --off"
        for label, devices in on.items()
        if devices
    ]
    raise Stopped("\n".join(told[:_TOLD]) + more, advice="\n".join(advice[:_TOLD]))


def prepare_removal(workspace: BaseWorkspace, system: str, gone: Sequence[Object], held: Held) -> Change:
    """The change that removes objects, users before what they use."""
    kinds = kinds_of(workspace.dialect(system))
    refuse_used(workspace, system, gone, held.objects, held)
    try:
        change, _ = plan(system, [], gone, kinds, going={one.key for one in gone})
    except InACircle as circle:
        raise CalledWrongly(f"these need each other: {circle}") from circle
    return _sized(change, held, irreversible=True)
