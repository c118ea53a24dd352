"""A change as people review it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from concordex.change.differ import deltas_of
from concordex.cli import draw
from concordex.cli.emit import Format
from concordex.cli.reasons import why, words
from concordex.cli.rows import emit_rows

if TYPE_CHECKING:
    from concordex.change.steps import Change, Step
    from concordex.cli.emit import Format

#: Words say what happens; weight says what matters, and red is for what is removed or refused.
STYLES = {
    "delete": "red", "refused": "bold red", "differs": "bold", "doubled": "bold", "unknown": "bold", "held": "bold",
    "report": "dim",
}  # fmt: skip
_MOST = 8
#: Signs of a value that are shown, unless all are asked for.
_LONG = 72


def summary(change: Change) -> str:
    """``47 create, 113 update, 17 held`` in words."""
    counts: dict[str, int] = {}
    for step in change.steps:
        word = step.state if step.state in ("held", "refused", "differs", "unknown", "doubled") else _does(step)
        counts[word] = counts.get(word, 0) + 1
    return ", ".join(f"{count:,} {word}" for word, count in counts.items()) or "nothing"


def _does(step: Step) -> str:
    """What a step does, in a word: of an action, its name."""
    return step.action or step.operation if step.operation == "action" else step.operation


def draw_change(change: Change, form: Format | None, *, every: bool = False) -> None:
    """The steps of a change: as a table a few of each sort, in another format all of them."""

    if form not in (None, Format.TABLE):
        emit_rows([_row(step) for step in change.steps], form, None)
        return
    rows, first = [], () if change.about.objects else _TOLD
    once, short = change.about.once, False
    for alike in _sorts(change.steps):
        shown = alike if every else [_shortened(step) for step in alike[:_MOST]]
        short = short or any(step is not whole for step, whole in zip(shown, alike, strict=False))
        rows += [[s.number, s.table, _does(s), s.label, _told(s, first, once), s.state] for s in shown]
        if len(alike) > len(shown):
            left = len(alike) - len(shown)
            rows.append(["", alike[0].table, _does(alike[0]), f"… and {left:,} more", "", alike[0].state])
    draw.table(["step", "table", "action", "record", "what", "state"], rows, right=["step"], styles=STYLES)
    if short:
        draw.note("long values are shortened in their middles; --all shows all of each")


def _shortened(step: Step) -> Step:
    """A step with its long values shortened in their middles, but where that would hide what changes."""
    desired = {name: _short(value) for name, value in step.desired.items()}
    before = {name: _short(value) for name, value in step.before.items()}
    same = [name for name in desired if name in before and desired[name] == before[name]]
    desired |= {name: step.desired[name] for name in same}
    before |= {name: step.before[name] for name in same}
    return (
        step
        if (desired, before) == (dict(step.desired), dict(step.before))
        else replace(step, desired=desired, before=before)
    )


def _short(value: Any) -> Any:
    plain = isinstance(value, str) or (isinstance(value, list) and not any(isinstance(v, dict | list) for v in value))
    text = draw.cell(value) if plain else ""
    return f"{text[: _LONG // 2]} … {text[-_LONG // 2 :]}" if len(text) > _LONG else value


def draw_diff(change: Change) -> None:
    """Each step as lines: + what shall be, - what was."""
    for step in change.steps:
        name = f" {step.record_id}" if step.record_id else ""
        draw.line(f"{step.action or step.operation} {step.table}{name}: {step.label} ({step.state})")
        for field in dict.fromkeys([*step.before, *step.desired]):
            before, desired = draw.cell(step.before.get(field)), draw.cell(step.desired.get(field))
            if field in step.before and (before or step.operation == "delete"):
                draw.line(f"    - {field}: {before}")
            if field in step.desired:
                draw.line(f"    + {field}: {desired or '(empty)'}")
        if step.why:
            draw.line(f"    {why(step)}")


def _sorts(steps: Sequence[Step]) -> list[list[Step]]:
    sorts: dict[tuple[str | None, ...], list[Step]] = {}
    for step in steps:
        sorts.setdefault((step.table, step.operation, step.state, step.action), []).append(step)
    return list(sorts.values())


def _told(step: Step, first: Sequence[str], once: Sequence[str] = ()) -> str:
    """What a step does, in one line; that there is a one-time code is told, and not the code."""
    if step.why:
        return words(step.why)
    if step.operation == "update":
        return "; ".join(
            _moved(name, step.before[name], new) if name in step.before else f"{name}: {draw.cell(new) or '(empty)'}"
            for name, new in step.desired.items()  # of what is never shown, nothing stood there as far as we know
        )
    if step.operation == "action":
        cells = [draw.cell(value).replace(", ", "; ") for name, value in step.desired.items() if name != "target"]
        return ", ".join(cells)
    values = step.before if step.operation == "delete" else step.desired
    filled = {name: values[name] for name in (*first, *values) if values.get(name) is not None and name != "name"}
    filled |= {name: "***" for name in once if name in filled}
    return draw.members(filled, most=None if step.operation == "create" else draw.MEMBERS)


def _moved(name: str, before: Any, now: Any) -> str:
    """A field from what it was to what it shall be; of what has parts, only the parts that move."""
    if isinstance(before, dict | list) and isinstance(now, dict | list):
        deltas = deltas_of(before, now, name, sets=[name])
        if [path for path, _, _ in deltas] != [name]:
            return "; ".join(_moved(path, old, new) for path, old, new in deltas)
    if name.endswith("[]"):
        return f"{name[:-2]}: {'+' if before is None else '-'} {draw.cell(now if before is None else before)}"
    return f"{name}: {draw.cell(before) or '(empty)'} -> {draw.cell(now) or '(empty)'}"


#: Of a record, what a reviewer looks for first; of a new one the rest follows, since all of it is sent.
_TOLD = ("kind", "maker", "model", "serial", "site")


def _row(step: Step) -> dict[str, Any]:
    return {
        "step": step.number, "table": step.table, "action": step.operation, "state": step.state, "label": step.label,
        "record_id": step.record_id, "entry": step.entry, "source": step.source, "key": dict(step.key),
        "before": dict(step.before), "desired": dict(step.desired), "reason": why(step),
    }  # fmt: skip
