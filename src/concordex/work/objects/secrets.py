"""Secrets among the members of objects: told by where they are kept, never covered by a mask, never lost unseen."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from concordex.change.objects import Key, Kinds, Object
from concordex.change.steps import Change
from concordex.model.masks import masks_in
from concordex.model.members import pruned, stands, value_at
from concordex.work.objects.files import place
from concordex.work.workspace.secret_sources import SAY_WHERE, is_reference

if TYPE_CHECKING:
    from concordex.change.steps import Step
    from concordex.wire import dialect as d


def badly_said(change: Change, wanted: Sequence[Object], kinds: Kinds, dialect: d.Dialect) -> list[str]:
    """Secrets that stand in objects themselves; masks that would be written; secrets that would be lost."""
    sources: dict[Key, Object] = {obj.key: obj for obj in wanted}
    faults = [
        f"{place(obj, 'object', *path.split('.'))}: {path} is a secret: {SAY_WHERE}"
        for obj in wanted
        for path in _secret(dialect, obj.kind)
        if value_at(obj.body, path) not in (None, "") and not is_reference(str(value_at(obj.body, path)))
    ]
    for step in change.writes:
        obj = sources.get((step.table, str(step.key["name"]), step.key.get("nth", 1)))
        if obj is None:
            continue
        faults += [
            f"{place(obj, 'object', *path.partition('[')[0].split('.'))}: {path} is a mask, which stands for a secret"
            f" that was not shown: put it there, or leave the member out"
            for path in masks_in(pruned(step.desired, kinds[step.table].secrets))
        ]
        faults += [
            f"{place(obj, 'object', *path.split('.'))}: {path.rpartition('.')[0]} is written anew, and would lose"
            f" {path}, which is never shown: say where it is kept (env:NAME, file:PATH, …)"
            for path in _lost(step, kinds[step.table].secrets, dialect.tables[step.table].write)
        ]
    return faults


def _lost(step: Step, secrets: Sequence[str], write: d.Write | None) -> list[str]:
    """The secrets within members that an update writes anew without them."""
    how = write.update if write else None
    if step.operation != "update" or how is None or how.whole or how.form_of != "members":
        return []
    nested = [path for path in secrets if "." in path and isinstance(step.desired.get(path.partition(".")[0]), dict)]
    return [path for path in nested if not stands(step.desired, path.split("."))]


def _secret(dialect: d.Dialect, kind: str) -> list[str]:
    """The members of a kind that are secrets, of all that no reading shows."""
    write = dialect.tables[kind].write
    return [str(spec.to) for spec in write.fields.values() if spec.secret] if write else []


def made_without(change: Change, dialect: d.Dialect) -> list[str]:
    """Which secrets new objects are made without, since no reading shows those of others."""
    return [
        f"{step.table}/{step.label} is made without {path}, which is never shown; a file, or --set {path}=env:NAME,"
        " says where it is kept"
        for step in change.writes
        if step.operation == "create"
        for path in _secret(dialect, step.table)
        if not stands(step.desired, path.split("."))
    ]
