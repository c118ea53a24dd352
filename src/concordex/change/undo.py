"""The change that takes a change back: last step first, from what was there before."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from concordex.change.prepare import Form
from concordex.change.steps import Change, Step


def undo(change: Change, forms: Mapping[str, Form]) -> Change:
    """What brings back what ``change`` found: what it made is deleted, altered back, or made again.

    Only what was sent is taken back.  Each step rests on what was read back after it, so that a run
    refuses what somebody has altered since.
    """
    done = [s for s in reversed(change.steps) if s.sent and s.state in ("written", "confirmed", "differs")]
    steps = [_undone(step, forms[step.table]) for step in done if step.action != "report"]
    numbered = tuple(replace(step, number=at) for at, step in enumerate(steps, start=1))
    sort = {"objects": True} if change.about.get("objects") else {}
    return Change(
        kind="undo",
        system=change.system,
        steps=numbered,
        about={"undoes": change.number, **sort},
    )


def _undone(step: Step, form: Form) -> Step:
    plain = Step(
        number=0, table=step.table, action="report", label=step.label, key=step.key, record_id=step.record_id,
        state="held", at=step.at,
    )  # fmt: skip
    if step.action == "create" and form.can_delete:
        return replace(plain, action="delete", state="ready", was={**step.shall, **step.became})
    if step.action == "update":
        now = {**step.shall, **step.became}
        return replace(plain, action="update", state="ready", was=now, shall={n: step.was.get(n) for n in step.shall})
    if step.action == "delete" and form.can_create:
        there = {name: value for name, value in step.was.items() if value not in (None, [])}
        return replace(plain, action="create", state="ready", shall=there, record_id=None)
    if step.act is not None and step.act in form.takes_back:
        back = {**step.shall, **step.was}
        return replace(
            plain, action="act", act=form.takes_back[step.act], state="ready", was=dict(step.became), shall=back
        )
    return replace(plain, reason=_WHY.get(step.action, f"what {step.act} did cannot be taken back"))


_WHY = {
    "create": "the dialect does not say how to delete one",
    "delete": "the dialect does not say how to create one",
}
