"""Taking changes back, and putting them aside."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from concordex.change.objects import Object
from concordex.change.steps import Change
from concordex.change.undo import undo
from concordex.errors import CalledWrongly, Stopped
from concordex.work.change.basis import forms_of
from concordex.work.objects.kinds import chosen_kinds
from concordex.work.objects.live import live
from concordex.work.objects.prepare import refuse_used

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


def prepare_undo(workspace: BaseWorkspace, number: int) -> Change:
    """The change that takes change ``number`` back."""
    change = workspace.journal.change(number)
    _at_rest(workspace, number)
    _not_staged(change)
    earlier = [row["id"] for row in workspace.journal.changes()
               if row["about"].get("undoes") == number and row["state"] not in ("dropped", "draft")]  # fmt: skip
    if earlier:
        raise CalledWrongly(
            f"change {number} was taken back by change {earlier[0]}",
            advice=f"concordex change show {earlier[0]}; to go on with it: concordex change run {earlier[0]}",
        )
    forms = forms_of(workspace, change.system)
    made = undo(change, forms)
    if made.about.objects:
        _refuse_used(workspace, made)
    return made.described(command=f"change undo {number}")


def _refuse_used(workspace: BaseWorkspace, made: Change) -> None:
    """Raise Stopped where others use meanwhile what the change had made, or devices have it; and say who."""

    back = {(step.table, step.record_id): step for step in made.writes}
    if not any(step.operation == "delete" for step in back.values()):
        return
    held = live(workspace, made.system, list(chosen_kinds(workspace, made.system, [])))
    gone, left = list[Object](), list[Object]()
    for obj in held.objects:
        step = back.get((obj.kind, obj.record_id))
        if step and step.operation == "delete":
            gone.append(obj)
        else:  # as the change leaves it
            left.append(replace(obj, body={**obj.body, **step.desired}) if step and step.operation == "update" else obj)
    refuse_used(workspace, made.system, gone, left, held)


def drop(workspace: BaseWorkspace, number: int) -> None:
    """Put a change aside for good."""
    change = workspace.journal.change(number)
    _at_rest(workspace, number)
    _not_staged(change)
    if change.state == "done":
        raise CalledWrongly(f"change {number} is done", advice=f"to take it back: concordex change undo {number}")
    workspace.journal.drop(number, change.state)


def _not_staged(change: Change) -> None:
    if change.state == "staged":
        raise CalledWrongly(
            f"change {change.number} is staged, and in effect nowhere",
            advice=f"to take it back: concordex config unstage {change.system}",
        )


def _at_rest(workspace: BaseWorkspace, number: int) -> None:
    if workspace.change(number).state == "running":
        raise Stopped(f"change {number} is being run by another process", advice="wait until it has ended")
