"""Differences between objects as people read them."""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from concordex.cli import draw
from concordex.cli.emit import Format
from concordex.cli.rows import emit_rows
from concordex.cli.screenful import on_screen

if TYPE_CHECKING:
    from concordex.change.differ import Difference

#: How many objects a person is shown.
_MOST = 100
#: As wide as the words before objects.
_INDENT = " " * len("changed  ")
_STYLES = {"added": "", "removed": "red", "changed": "bold", "moved": ""}


def draw_differences(
    diffs: Sequence[Difference], form: Format | None, output: Path | None, *, system: str | None = None,
    remarks: Mapping[Any, Sequence[str]] | None = None,
) -> None:  # fmt: skip
    """Each object that differs, with its members; where a person watches, not too many.

    ``remarks`` adds lines to some, by their keys.
    """
    if not on_screen(form, output):
        emit_differences([(system, diffs)], form, output)
        return
    cut = draw.is_terminal(sys.stdout) and len(diffs) > _MOST
    for diff in diffs[:_MOST] if cut else diffs:
        label = (
            diff.either.label
            if diff.key[2] == diff.either.nth
            else f"{diff.either.kind}/{diff.either.name} (no. {diff.key[2]})"
        )
        where = f"{system}/" if system else ""
        draw.styled(f"{diff.what:<{len(_INDENT)}}{where}{label}", _STYLES[diff.what])
        if diff.what in ("added", "removed"):
            draw.below(draw.members(diff.either.body), _INDENT)
        for path, before, now in diff.deltas:
            _draw_delta(path, before, now)
        for line in (remarks or {}).get(diff.key, ()):
            draw.styled(f"{_INDENT}{line}", "dim")
    if cut:
        draw.note(f"… and {len(diffs) - _MOST:,} more; in a pipe, or with --format csv, there are all")


def emit_differences(
    parts: Sequence[tuple[str | None, Sequence[Difference]]], form: Format | None, output: Path | None
) -> None:
    """The differences of one or several systems as one list of rows, a member each."""

    emit_rows(
        [row for system, diffs in parts for diff in diffs for row in _rows(diff, system)],
        form,
        output,
    )


def _draw_delta(path: str, before: Any, now: Any) -> None:
    if path.endswith("[]"):
        sign, value = ("-", before) if now is None else ("+", now)
        draw.below(f"{path[:-2]}: {sign} {_shown(value)}", _INDENT)
    else:
        draw.below(f"{path}: {_shown(before)} -> {_shown(now)}", _INDENT)


def _shown(value: Any) -> str:
    return "(nothing)" if value is None else draw.cell(value) or "''"


def _rows(diff: Difference, system: str | None) -> list[dict[str, Any]]:
    common = {
        "system": system,
        "kind": diff.key[0],
        "name": diff.key[1],
        "number": diff.key[2],
        "what": diff.what,
    }
    common = {name: value for name, value in common.items() if name != "system" or system}
    if not diff.deltas:  # all of it
        before, now = (dict(side.body) if side else None for side in (diff.before, diff.now))
        return [{**common, "member": None, "before": _text(before), "now": _text(now)}]
    return [
        {
            **common,
            "member": path,
            "before": _text(before),
            "now": _text(now),
        }
        for path, before, now in diff.deltas
    ]


def _text(value: Any) -> str | None:
    """A value for a program: what has parts as JSON."""
    if isinstance(value, list | dict):
        import json

        return json.dumps(value, ensure_ascii=False)
    return None if value is None else draw.cell(value)
