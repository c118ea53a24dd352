"""The change that takes a change back: last step first, from what was there before."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from concordex.change.about import About
from concordex.change.prepare import Form
from concordex.change.reasons import Reasons, Why, because, resting
from concordex.change.steps import Change, Step, numbered
from concordex.model.masks import masks_in
from concordex.model.members import pruned, put, stands, value_at


def undo(change: Change, forms: Mapping[str, Form]) -> Change:
    """What brings back what ``change`` found: what it made is deleted, altered back, or made again.

    Only what was sent is taken back.  Each step rests on what was read back after it, so that a run
    refuses what somebody has altered since.  Where nobody knows what came of a step, or which record is ours, it is
    held, and told.
    """
    done = [s for s in reversed(change.steps) if s.sent and s.state in _DONE]
    steps = [part for s in done if s.operation != "report" for part in _undone(s, forms[s.table], change.number)]
    return Change(
        kind="undo",
        system=change.system,
        steps=numbered(steps),
        about=About(undoes=change.number, objects=change.about.objects),
    )


#: States of steps that left here and had an effect, or may have had one.
_DONE = ("sent", "unknown", "written", "confirmed", "differs", "doubled")


def _undone(step: Step, form: Form, number: int | None) -> list[Step]:
    """What takes a step back, and what of it nobody can: what a secret was, no reading ever showed."""
    back = _back(step, form, number)
    gone = step.operation == "delete"
    unread = [path for path in sorted(form.unread) if gone or stands(step.desired, path.split("."))]
    covered = {name for name, value in back.desired.items() if next(masks_in(value, name), None)}
    unread += sorted(covered - {path.partition(".")[0] for path in unread})
    if back.state == "held" or not unread or back.operation not in ("update", "create"):
        return [back]
    kept, before = pruned(back.desired, unread), pruned(back.before, unread)
    for path in unread:  # within what goes back as one, it stays as this change made it
        if "." in path and value_at(step.desired, path) is not None and path.partition(".")[0] in kept:
            kept = put(kept, path, value_at(step.desired, path))
    lost = replace(
        back, operation="report", state="held", desired={}, before={}, again={},
        why=because(Why.UNDO_UNREAD, fields=unread, gone=gone),
    )  # fmt: skip
    return [*([replace(back, desired=kept, before=before)] if kept else []), lost]


def _back(step: Step, form: Form, number: int | None) -> Step:
    plain = Step(
        number=0, table=step.table, operation="report", label=step.label, key=step.key, record_id=step.record_id,
        state="held", at=step.at,
    )  # fmt: skip
    if doubt := _doubt(step, number):
        return replace(plain, why=doubt)
    if step.operation == "create" and form.can_delete:
        made = {**step.desired, **step.became}
        return replace(plain, operation="delete", state="ready", before=made, left=step.whole.get("prints", {}))
    if step.operation == "update":
        return _altered_back(step, plain, form)
    if step.operation == "delete" and form.can_create:
        there = {name: value for name, value in step.before.items() if value not in (None, [])}
        again = step.whole.get("before", {})
        return replace(plain, operation="create", state="ready", desired=there, record_id=None, again=again)
    if step.action is not None and step.action in form.takes_back:
        back = {**step.desired, **step.before}
        action = form.takes_back[step.action]
        return replace(plain, operation="action", action=action, state="ready", before=dict(step.became), desired=back)
    would = _WOULD.get(step.operation)
    return replace(plain, why=because(Why.CANNOT, what=would) if would else because(Why.UNDO_NEVER, action=step.action))


def _doubt(step: Step, number: int | None) -> Reasons:
    """Why nobody knows what is to be taken back."""
    if step.state in ("sent", "unknown"):
        return because(Why.UNDO_UNKNOWN, change=number)
    return resting(Why.UNDO_DOUBLED, step.why) if step.state == "doubled" else ()


def _altered_back(step: Step, plain: Step, form: Form) -> Step:
    """An update as it was, with what was emptied beside it, as far as that can be written.

    What became something else beside it may be somebody's edit: it is named when the undo is read back, and left.
    """
    earlier, now = {name: step.before.get(name) for name in step.desired}, {**step.desired, **step.became}
    for name, (before, after) in step.whole.get("fields", {}).items():
        if after in (None, "", [], {}) and (form.writes is None or name in form.writes) and name not in form.unread:
            earlier[name], now[name] = before, after
    again = {path: before for path, (before, _) in step.whole.get("beside", {}).items()}
    return replace(plain, operation="update", state="ready", before=now, desired=earlier, again=again)


#: What would take a step back.
_WOULD = {"create": "delete", "delete": "create"}
