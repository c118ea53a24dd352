"""Objects on their way to the devices that they are assigned to: installed, taken off, and where they are."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from concordex.change.about import About
from concordex.change.objects import Kind, Object
from concordex.change.steps import Change, Step
from concordex.errors import CalledWrongly
from concordex.model.members import value_at
from concordex.wire import dialect as d
from concordex.work.objects.live import Held, pulled
from concordex.work.targets.kinds import kinds_of
from concordex.work.targets.objects import bearers

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


def installed_on(dialect: d.Dialect, held: Held, obj: Object, action: str = "install") -> list[str]:
    """The devices that show an object as installed, as far as the dialect says what shows it."""
    write = dialect.tables[obj.kind].write
    how = write.actions.get(action) if write else None
    if how is None or how.each is None or how.shows is None:
        return []
    table = kinds_of(dialect)[obj.kind].references[how.each]
    return bearers(held.frames[table], how.shows, obj.name) if table in held.frames else []


def prepare_installation(
    workspace: BaseWorkspace, system: str, chosen: Sequence[Object], on: Sequence[str], held: Held, *, off: bool = False
) -> Change:
    """The change that installs each object on each of its targets, or on those named, each for itself.

    With ``off`` it is taken off those that have it, whether they are still its targets or not.
    """
    action = "uninstall" if off else "install"
    wanted = [(obj, target) for obj in chosen for target in _targets(workspace.dialect(system), held, obj, on, action)]
    steps = [
        Step(
            number=at, table=obj.kind, operation="action", action=action, label=f"{obj.name} on {target}",
            key={"name": obj.name}, desired={"target": target}, record_id=obj.record_id,
        )
        for at, (obj, target) in enumerate(wanted, start=1)
    ]  # fmt: skip
    return Change(kind="install", system=system, steps=tuple(steps), about=About(objects=True))


def _targets(dialect: d.Dialect, held: Held, obj: Object, on: Sequence[str], action: str) -> list[str]:
    """The devices on which an act is done: all that it may be done on, or those named."""
    write = dialect.tables[obj.kind].write
    how = write.actions.get(action) if write else None
    if how is None or how.each is None:
        raise CalledWrongly(f"{obj.kind} are not installed anywhere, as far as the dialect {dialect.name} says")
    off = action == "uninstall" and how.shows is not None
    may = (
        installed_on(dialect, held, obj, action) if off else [str(name) for name in value_at(obj.body, how.each) or []]
    )
    table = kinds_of(dialect)[obj.kind].references[how.each]
    twins = [name for name in may if held.bearing(table, name) > 1 and (not on or name in on)]
    if twins:
        raise CalledWrongly(
            f"{held.bearing(table, twins[0])} of the {table} bear the name {twins[0]!r}: which is meant?"
        )
    strange = [name for name in on if name not in may]
    if strange and off:
        raise CalledWrongly(f"{obj.label} is not installed on {strange[0]}", advice=f"it is on: {_listed(may)}")
    if strange:
        raise CalledWrongly(
            f"{strange[0]} is not a target of {obj.label}: assign it first ({how.each})",
            advice=f"its targets: {_listed(may)}",
        )
    return [name for name in may if not on or name in on]


def _listed(names: Sequence[str]) -> str:
    return ", ".join(names) or "none"


def onward(workspace: BaseWorkspace, change: Change) -> list[str]:
    """What a change has altered that devices have only once it is installed on them: SYSTEM/KIND/NAME."""
    dialect = workspace.dialect(change.system)
    kinds, members = kinds_of(dialect), dict[tuple[str, str], str]()
    gone = {(step.table, str(step.key.get("name"))) for step in change.steps if step.operation == "delete"}
    for step in change.steps:
        if step.state != "confirmed" or step.operation in ("action", "report"):
            continue
        table, name = _holder(step, kinds[step.table])
        write = dialect.tables[table].write
        how = write.actions.get("install") if write else None
        if how and how.each and (table, name) not in gone:
            members[table, name] = how.each
    if not members:
        return []
    held = pulled(workspace, change.system, list({table for table, _ in members}), workspace.now())  # just read back
    there = {(obj.kind, obj.name): obj for obj in held.objects}
    return [
        f"{change.system}/{table}/{name}"
        for (table, name), each in members.items()
        if (obj := there.get((table, name))) and value_at(obj.body, each)
    ]


def _holder(step: Step, kind: Kind) -> tuple[str, str]:
    """The kind and name of what the object of a step stands in, or of itself where it stands alone."""
    name = str(step.key.get("name"))
    if not kind.within:
        return kind.table, name
    parent = step.desired.get(kind.within) or step.before.get(kind.within) or name.partition("/")[0]
    return kind.references[kind.within], str(parent)
