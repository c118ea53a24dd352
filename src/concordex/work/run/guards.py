"""What stops a run before its first request: its size, its hour, a system that is only to be read."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from concordex.change.steps import Change, Step
from concordex.errors import Stopped

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace
    from concordex.work.workspace.system_settings import Window

_KINDS = {
    "create": "creations",
    "update": "updates",
    "delete": "deletions",
    "retire": "retirements",
    "action": "actions",
}

#: So many records are never too large a share: where there are three roles, two may be altered.
_FEW = 5


def check_guards(
    workspace: BaseWorkspace, change: Change, steps: Sequence[Step] | None = None, *, any_time: bool = False
) -> None:
    """Raise Stopped when ``steps`` of a change (all that are open, if none are named) may not be run now."""
    steps = change.writes if steps is None else steps
    system, guards = workspace.config.systems.get(change.system), workspace.config.guards
    if system is not None and system.read_only:
        raise Stopped(
            f"{change.system} is read-only: nothing is written to it",
            advice=f"the change is kept; take read_only: out of systems: {change.system}: in concordex.yaml",
        )
    if not any_time:
        check_window(workspace, change.system, "the change is kept; run it then, or with --any-time")
    if _takes_back(workspace, change, steps):
        return
    allowed = {name: getattr(guards, name) for name in _KINDS.values()}
    for action, what in _KINDS.items():
        count = sum(_kind(step) == action for step in steps)
        if count > allowed[what]:
            raise Stopped(
                f"the change has {count:,} {what}, and the workspace allows {allowed[what]:,}",
                advice=f"run a part of it (--first, --where), or raise guards: {what}: in concordex.yaml",
            )
    for table in dict.fromkeys(step.table for step in steps):
        size = _size(workspace, change, table)
        altered = sum(step.table == table and step.operation in ("update", "delete") for step in steps)
        if altered > _FEW and size and altered / size > guards.share:
            raise Stopped(
                f"the change alters {altered / size:.0%} of {change.system}/{table} ({altered:,} of {size:,}),"
                f" and the workspace allows {guards.share:.0%}",
                advice="run a part of it (--first, --where), or raise guards: share: in concordex.yaml",
            )


def _takes_back(workspace: BaseWorkspace, change: Change, steps: Sequence[Step]) -> bool:
    """Whether ``steps`` only take back what the guards have let through before."""
    undone = change.about.undoes
    if change.kind != "undo" or undone not in {row["id"] for row in workspace.record_of_changes.changes()}:
        return False
    before = workspace.record_of_changes.change(int(undone or 0))
    done = {(step.table, step.label) for step in before.steps if step.sent}
    return before.system == change.system and all((step.table, step.label) in done for step in steps)


def _size(workspace: BaseWorkspace, change: Change, table: str) -> int:
    """How much a table holds: as it was read for the change, or else as it was pulled last; 0 if nobody knows."""
    known = change.about.sizes
    if table in known:
        return int(known[table])
    held = workspace.memory.newest(table, system=change.system)
    return held[0].distinct if held else 0


def _kind(step: Step) -> str:
    return "retire" if step.action == "retire" and step.operation == "update" else step.operation


def check_window(workspace: BaseWorkspace, system: str, advice: str) -> None:
    """Raise Stopped where a system may not be written to at this hour."""
    known, now = workspace.config.systems.get(system), workspace.now()
    windows: Sequence[Window] = (known.windows if known else []) or workspace.config.guards.windows
    if windows and not any(window.holds(now) for window in windows):
        hours = "; ".join(window.in_words for window in windows)
        raise Stopped(
            f"{system} is written to only in its maintenance windows: {hours}",
            why=f"it is {now:%A %H:%M} UTC",
            advice=advice,
        )
