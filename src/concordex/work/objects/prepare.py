"""Preparing changes of configuration objects: loaded back, or removed; and what cannot be meant."""

from __future__ import annotations

import math
import shlex
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from concordex.change.depend import InACircle, dangling, users
from concordex.change.differ import Difference
from concordex.change.objects import Kinds, Object, mentioned, own_name, settled, unbound
from concordex.change.plan import plan
from concordex.change.steps import Change
from concordex.errors import CalledWrongly, Stopped
from concordex.model.members import paths, value_at
from concordex.words import suggestion
from concordex.work.objects.files import place
from concordex.work.objects.install import installed_on
from concordex.work.objects.live import Held
from concordex.work.objects.secrets import badly_said
from concordex.work.targets.kinds import kinds_of

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
    mine, going = {obj.kind for obj in (*wanted, *may_go)}, {obj.key for obj in may_go}
    actual = [unbound(obj, kinds[obj.kind]) for obj in held.of(mine)] if free else held.of(mine)
    alone = {obj.key: obj.body for obj in actual if kinds[obj.kind].single}  # what is not said of it stays
    wanted = [replace(obj, body=settled({**alone.get(obj.key, {}), **obj.body}, kinds[obj.kind])) for obj in wanted]
    mistakes = [*_unfit(workspace, system, wanted, actual, kinds), *_lost(wanted, held, kinds)]
    if mistakes:
        raise CalledWrongly("\n".join(mistakes))
    try:
        change, extra = plan(system, wanted, actual, kinds, going=going)
    except InACircle as circle:
        raise CalledWrongly(f"these need each other, so that none can be made first: {circle}") from circle
    if faults := badly_said(change, wanted, kinds, workspace.dialect(system)):
        raise CalledWrongly("\n".join(faults))
    if unclear := _unclear(change, wanted, held, kinds):
        raise CalledWrongly(
            "\n".join(unclear), advice="rename one of them there first, so that a name means one object"
        )
    named = {obj.key for obj in wanted}
    stay = [*(obj for obj in held.objects if obj.key not in named), *wanted]
    refuse_used(workspace, system, [difference.either for difference in extra if difference.key in going], stay, held)
    return _sized(change, held), extra


def _sized(change: Change, held: Held, **more: bool) -> Change:
    """With how many objects of each kind there are, by which guards judge how much a change alters."""
    sizes = {table: len(held.of([table])) for table in sorted({step.table for step in change.steps})}
    return change.described(sizes=sizes, **more)


def _unfit(
    workspace: BaseWorkspace, system: str, wanted: Sequence[Object], actual: Sequence[Object], kinds: Kinds
) -> list[str]:
    """Names and members that cannot be meant."""
    faults = []
    for kind in dict.fromkeys(obj.kind for obj in wanted):
        spec = kinds[kind]
        fields = workspace.dialect(system).tables[kind].fields.values()
        known = {path.partition(".")[0] for field in fields for path in field.from_} - {spec.id}
        learned = {name for obj in actual if obj.kind == kind for name in obj.body}  # of none there, nothing is known
        known |= learned
        for obj in wanted:
            if obj.kind != kind:
                continue
            try:
                own_name(obj.name, obj.body, spec)
            except ValueError as error:
                faults.append(f"{place(obj, 'name')}: {error}")
            faults += [
                f"{place(obj, 'object')}: {path} is not a number that JSON can express"
                for path in _no_numbers(obj.body)
            ]
            faults += _unfit_values(obj, workspace.dialect(system).tables[kind].write)
            if obj.source and not spec.single and value_at(obj.body, spec.name) is not None:
                where = place(obj, "object", *spec.name.split("."))
                faults.append(f"{where}: the name stands above, beside `kind`; among its members it would rename it")
            faults += [
                f"{place(obj, 'object', name)}: {kind} have no member {name!r}; {suggestion(name, known)}"
                for name in obj.body
                if obj.source and learned and name not in known
            ]
    return faults


def _no_numbers(body: object, path: str = "") -> list[str]:
    """Where a body holds what is no number, such as .inf (RFC 8259, section 6): it would be sent as null."""
    if isinstance(body, dict):
        return [bad for name, item in body.items() for bad in _no_numbers(item, f"{path}.{name}".lstrip("."))]
    if isinstance(body, list):
        return [bad for at, item in enumerate(body) for bad in _no_numbers(item, f"{path}[{at}]")]
    return [path] if isinstance(body, float) and not math.isfinite(body) else []


def _unfit_values(obj: Object, write: d.Write | None) -> list[str]:
    """Values of members that the dialect knows and that they cannot hold: choices, lengths, numbers."""
    faults = []
    for spec in write.fields.values() if write else ():
        value = value_at(obj.body, spec.to)
        if value in (None, "", []):
            continue
        where, words = place(obj, "object", *spec.to.split(".")), [str(item) for item in as_list(value)]
        theirs = [(spec.values or {}).get(choice, choice) for choice in spec.choices]
        strange = [word for word in words if theirs and word.lower() not in map(str.lower, theirs)]
        if strange:
            faults.append(f"{where}: {strange[0]!r} is none of the choices; {suggestion(strange[0], theirs)}")
        elif spec.longest and any(len(word) > spec.longest for word in words):
            faults.append(f"{where}: is longer than {spec.longest} characters")
        elif spec.number and not isinstance(value, int | float):
            faults.append(f"{where}: {value!r} is not a number")
    return faults


def as_list(value: object) -> list[object]:
    """A value, or the values of a list."""
    return value if isinstance(value, list) else [value]


def odd_members(wanted: Sequence[Object], held: Held) -> list[str]:
    """Members deep in objects that no other object of the kind has: perhaps only written wrongly."""
    notes = []
    for kind in dict.fromkeys(obj.kind for obj in wanted):
        known = {path for obj in held.of([kind]) for path in paths(obj.body)}
        for obj in wanted:
            odd = [path for path in dict.fromkeys(paths(obj.body)) if obj.kind == kind and path not in known]
            for path in odd:
                above, _, name = path.rpartition(".")
                beside = [other.rpartition(".")[2] for other in known if other.rpartition(".")[0] == above]
                if above and beside:
                    notes.append(f"{obj.label}: no other of the {kind} has {path}; {suggestion(name, beside)}")
    return notes


def _lost(wanted: Sequence[Object], held: Held, kinds: Kinds) -> list[str]:
    """References to what is not there and is not made."""
    faults = []
    for obj, member, table, name in dangling(wanted, kinds, lambda table, name: held.bearing(table, name) > 0):
        names = [obj.name for obj in held.of([table])] or list(held.others.get(table, ()))
        where = place(obj, "object", *member.split("."))
        faults.append(f"{where}: {member} names {name!r}, which is not in {table}; {suggestion(name, names)}")
    return faults


def _unclear(change: Change, wanted: Sequence[Object], held: Held, kinds: Kinds) -> list[str]:
    """References that would be written, and that several records of that name could be meant by."""
    sources = {(obj.kind, obj.name): obj for obj in wanted}
    faults = []
    for step in change.writes:
        name = str(step.key["name"])
        for member, table, meant in mentioned(Object(kind=step.table, name=name, body=step.desired), kinds):
            count = held.bearing(table, meant)
            if count > 1:
                where = place(sources[step.table, name], "object", *member.split("."))
                faults.append(f"{where}: {member} names {meant!r}, which {count} of the {table} bear")
    return faults


def refuse_used(
    workspace: BaseWorkspace, system: str, gone: Sequence[Object], left: Sequence[Object], held: Held
) -> None:
    """Raise Stopped where somebody who stays refers to what goes, or a device still has it; and say who."""
    kinds = kinds_of(workspace.dialect(system))
    out = {obj.key for obj in gone}
    uses = users([(obj.kind, obj.name) for obj in gone], [obj for obj in left if obj.key not in out], kinds)
    faults = [f"{kind}/{name} is used by {obj.label} ({member})" for obj, member, (kind, name) in uses]
    on = {obj.label: installed_on(workspace.dialect(system), held, obj) for obj in gone}
    faults += [f"{label} is installed on {', '.join(devices)}" for label, devices in on.items() if devices]
    if not faults:
        return
    more = f"\nand {len(faults) - _TOLD:,} more" if len(faults) > _TOLD else ""
    advice = ["remove or alter those first, or together with it"] if uses else []
    advice += [
        f"take it off: concordex config install {shlex.quote(f'{system}/{label}')} --off"
        for label, devices in on.items()
        if devices
    ]
    raise Stopped("\n".join(faults[:_TOLD]) + more, advice="\n".join(advice[:_TOLD]))


def prepare_removal(workspace: BaseWorkspace, system: str, gone: Sequence[Object], held: Held) -> Change:
    """The change that removes objects, users before what they use."""
    kinds = kinds_of(workspace.dialect(system))
    refuse_used(workspace, system, gone, held.objects, held)
    try:
        change, _ = plan(system, [], gone, kinds, going={obj.key for obj in gone})
    except InACircle as circle:
        raise CalledWrongly(f"these need each other: {circle}") from circle
    return _sized(change, held, irreversible=True)
