"""How steps stand before they are sent: what is there already, what others altered, what may have arrived."""

from __future__ import annotations

import operator
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

from concordex.change.reasons import Reasons, Why, because, has
from concordex.change.steps import Outcome, Step
from concordex.change.whole import moved as moved_since

if TYPE_CHECKING:
    from concordex.work.targets.target import Target

#: The states of a step that has left here and may have had an effect.
AWAY = ("sent", "unknown", "written")


@dataclass
class Precheck:
    """Steps that are ``ready`` to be sent, those that are ``settled``, and those that may have arrived, or may yet."""

    ready: list[Step] = field(default_factory=list)
    settled: list[Outcome] = field(default_factory=list)
    doubtful: list[Step] = field(default_factory=list)
    #: Steps that are held because others altered what they rest on, and the fields that were.
    altered: list[tuple[Step, list[str]]] = field(default_factory=list)
    #: Of steps that bring back a part of what they should, by number: what is left as others made it.
    spared: dict[int, Reasons] = field(default_factory=dict)


def of_creations(actual: Target, steps: Sequence[Step]) -> Precheck:
    """Which records are still to be made."""
    checked = Precheck()
    for step in steps:
        there = actual.bearers(step)
        away = step.state in AWAY
        only = there[0] if len(there) == 1 else None  # of several nobody knows which is ours
        if not there:
            (checked.doubtful if away else checked.ready).append(step)
        elif has(step.why, Why.STAGED):
            checked.settled.append(Outcome(step, "written", (), only))
        elif away or step.entry is None:
            checked.settled.append(Outcome(step, "written", because(Why.THERE_ALREADY), only))
        else:
            checked.settled.append(Outcome(step, "held", because(Why.APPEARED, record=there[0]), there[0]))
    return checked


def of_the_rest(actual: Target, steps: Sequence[Step], *, force: bool, field_by_field: bool = False) -> Precheck:
    """Which updates, deletions and actions still rest on what was shown; what somebody changed is not overwritten.

    ``field_by_field`` lets an update write the fields that nobody has altered, as an undo does.
    """
    checked = Precheck()
    steps = [actual.located(step) for step in steps]
    records = actual.records(steps[0].table, [s.record_id for s in steps if s.record_id]) if steps else {}
    left = [step.record_id for step in steps if step.left and step.record_id]
    wholes = actual.whole(steps[0].table, left) if left else {}
    for step in steps:
        record = records.get(step.record_id or "")
        same = operator.eq if step.operation == "action" else actual.same  # an action is done to exactly what was seen
        moved = [n for n in step.before if record and n in record and not same(record[n], step.before[n])]
        done = is_done(actual, step)
        if done and has(step.why, Why.STAGED):
            checked.settled.append(Outcome(step, "written"))
        elif done and (step.operation in ("update", "delete") or step.state in AWAY):
            checked.settled.append(Outcome(step, "written", done))
        elif record is None:
            checked.settled.append(Outcome(step, "held", because(Why.GONE)))
        elif step.left and not force and (more := moved_since(step.left, wholes.get(step.record_id or "", {}))):
            checked.settled.append(Outcome(step, "held", because(Why.ADDED_TO, members=list(more))))
        elif moved and not force and field_by_field and (rest := _without(step, moved)) and record:
            checked.spared[step.number] = because(Why.LEFT, fields={name: record[name] for name in moved})
            (checked.doubtful if step.state in AWAY else checked.ready).append(rest)
        elif moved and not force:
            checked.altered.append((step, moved))
        else:
            (checked.doubtful if step.state in AWAY else checked.ready).append(step)
    return checked


def changed(
    actual: Target, step: Step, names: Sequence[str], since: Mapping[str, Mapping[str, str]] | None = None
) -> Reasons:
    """What others altered of a record since the preview: what it is now, ``since`` when that is known, and was."""
    record, since = actual.records(step.table, [step.record_id or ""]).get(step.record_id or "", {}), since or {}
    fields = {n: {"now": record.get(n), "before": step.before[n], **since.get(n, {})} for n in names}
    return because(Why.CHANGED, fields=fields)


def _without(step: Step, names: Sequence[str]) -> Step | None:
    """An update without some fields; nothing where no other is left."""
    rest = {name: value for name, value in step.desired.items() if name not in names}
    return replace(step, desired=rest) if step.operation == "update" and rest else None


def is_done(actual: Target, step: Step) -> Reasons:
    """That what a step does shows in what was read; nothing where it does not, or cannot."""
    step = actual.located(step)
    record = actual.records(step.table, [step.record_id or ""]).get(step.record_id or "")
    if step.operation == "delete":
        return because(Why.GONE_ALREADY) if record is None else ()
    if step.operation == "action":
        return because(Why.DONE_ALREADY) if actual.can_show(step) and not actual.shows(step) else ()
    if record is None or actual.unread(step):
        return ()
    if not all(actual.same(record.get(name), value) for name, value in step.desired.items()):
        return ()
    return because(Why.SO_ALREADY)
