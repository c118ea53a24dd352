"""How steps stand before they are sent: what is there already, what others altered, what may have arrived."""

from __future__ import annotations

import operator
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

from concordex.change.compare import shown
from concordex.change.steps import Cause, Outcome, Step
from concordex.change.whole import moved as moved_since
from concordex.change.whole import named

if TYPE_CHECKING:
    from concordex.work.targets.target import Target

_ALREADY = frozenset({Cause.ALREADY})

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
    spared: dict[int, str] = field(default_factory=dict)


def of_creations(actual: Target, steps: Sequence[Step]) -> Precheck:
    """Which records are still to be made."""
    found = Precheck()
    for step in steps:
        there = actual.bearers(step)
        away = step.state in AWAY
        if not there:
            (found.doubtful if away else found.ready).append(step)
        elif Cause.STAGED in step.causes:
            found.settled.append(Outcome(step, "written", None, there[0]))
        elif away or step.entry is None:
            only = there[0] if len(there) == 1 else None
            found.settled.append(Outcome(step, "written", "it was there already", only, _ALREADY))
        else:
            found.settled.append(
                Outcome(step, "held", f"record {there[0]} has appeared there since the preview", there[0])
            )
    return found


def of_the_rest(actual: Target, steps: Sequence[Step], *, force: bool, field_by_field: bool = False) -> Precheck:
    """Which updates, deletions and actions still rest on what was shown; what somebody changed is not overwritten.

    ``field_by_field`` lets an update write the fields that nobody has altered, as an undo does.
    """
    found = Precheck()
    steps = [actual.located(step) for step in steps]
    records = actual.records(steps[0].table, [s.record_id for s in steps if s.record_id]) if steps else {}
    left = [step.record_id for step in steps if step.left and step.record_id]
    wholes = actual.whole(steps[0].table, left) if left else {}
    for step in steps:
        record = records.get(step.record_id or "")
        same = operator.eq if step.operation == "action" else actual.same  # an action is done to exactly what was seen
        moved = [n for n in step.before if record and n in record and not same(record[n], step.before[n])]
        done = is_done(actual, step)
        if done is not None and Cause.STAGED in step.causes:
            found.settled.append(Outcome(step, "written"))
        elif done is not None and (step.operation in ("update", "delete") or step.state in AWAY):
            found.settled.append(Outcome(step, "written", done, causes=_ALREADY))
        elif record is None:
            found.settled.append(Outcome(step, "held", "the record is gone since the preview"))
        elif step.left and not force and (more := moved_since(step.left, wholes.get(step.record_id or "", {}))):
            found.settled.append(Outcome(step, "held", f"it was altered or added to since we left it: {named(more)}"))
        elif moved and not force and field_by_field and (rest := _without(step, moved)) and record:
            found.spared[step.number] = _left(record, moved)
            (found.doubtful if step.state in AWAY else found.ready).append(rest)
        elif moved and not force:
            found.altered.append((step, moved))
        else:
            (found.doubtful if step.state in AWAY else found.ready).append(step)
    return found


def in_words(actual: Target, step: Step, names: Sequence[str], since: Mapping[str, str] | None = None) -> str:
    """What others altered of a record since the preview: what it is now, ``since`` when that is known, and was."""
    record, since = actual.records(step.table, [step.record_id or ""]).get(step.record_id or "", {}), since or {}
    told = (f"{n} is now {shown(record.get(n))} (was {shown(step.before[n])}{since.get(n, '')})" for n in names)
    return f"changed there since the preview: {', '.join(told)}"


def _without(step: Step, names: Sequence[str]) -> Step | None:
    """An update without some fields; nothing where no other is left."""
    rest = {name: value for name, value in step.desired.items() if name not in names}
    return replace(step, desired=rest) if step.operation == "update" and rest else None


def _left(record: Mapping[str, Any], names: Sequence[str]) -> str:
    return ", ".join(f"{name} is {shown(record.get(name))} now, and is left" for name in names)


def is_done(actual: Target, step: Step) -> str | None:
    """In words, that what a step does shows in what was read; nothing where it does not, or cannot."""
    step = actual.located(step)
    record = actual.records(step.table, [step.record_id or ""]).get(step.record_id or "")
    if step.operation == "delete":
        return "it was gone already" if record is None else None
    if step.operation == "action":
        return "it was done already" if actual.can_show(step) and actual.shows(step) is None else None
    if record is None or not all(actual.same(record.get(name), value) for name, value in step.desired.items()):
        return None
    return "it was so already"
