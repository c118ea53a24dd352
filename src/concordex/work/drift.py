"""Drift: how live objects have moved away from the files that they were saved in."""

from __future__ import annotations

import subprocess
from collections.abc import Sequence
from dataclasses import dataclass, replace
from fnmatch import fnmatchcase
from pathlib import Path
from typing import TYPE_CHECKING

from concordex.change.differ import Difference, differ
from concordex.change.objects import Kinds, Object
from concordex.errors import CalledWrongly
from concordex.work.config import MayMove
from concordex.work.objectfiles import read_objects
from concordex.work.objects import Held, chosen_kinds, live

if TYPE_CHECKING:
    from concordex.work.workspace import Workspace


@dataclass(frozen=True, kw_only=True)
class Drift:
    """How one system has moved away from its baseline."""

    system: str
    folder: Path
    kinds: Kinds
    baseline: list[Object]
    held: Held
    found: list[Difference]
    ignored: int  # differences that may be


def folders(workspace: Workspace, systems: Sequence[str], root: Path) -> dict[str, Path]:
    """The baseline's folder of each system: those named, or all that have one."""
    if not root.is_dir():
        raise CalledWrongly(f"there is no folder {root}", advice=f"concordex config save SYSTEM --into {root}")
    names = workspace.systems(systems)
    found = {name: root / name for name in names if (root / name).is_dir()}
    for name in systems:
        if name not in found:
            raise CalledWrongly(
                f"{root} has no baseline of {name}", advice=f"concordex config save {name} --into {root}"
            )
    if not found:
        raise CalledWrongly(f"{root} has no baseline of any system here", advice="it holds a folder for each system")
    return found


def drift(workspace: Workspace, system: str, folder: Path) -> Drift:
    """Compare what ``folder`` says with what the system has now, for the kinds that the folder speaks of."""
    kinds = chosen_kinds(workspace, system, [])
    baseline = read_objects(folder, kinds)
    kinds = {name: kind for name, kind in kinds.items() if name in {one.kind for one in baseline}}
    held = live(workspace, system, list(kinds))
    every = differ(baseline, held.of(kinds), kinds)
    rules = [rule for rule in workspace.config.drift.ignore if rule.system in (None, system)]
    found = [left for one in every if (left := _but(one, rules)) is not None]
    return Drift(
        system=system, folder=folder, kinds=kinds, baseline=baseline, held=held, found=found,
        ignored=len(every) - len(found),
    )  # fmt: skip


def _but(one: Difference, rules: Sequence[MayMove]) -> Difference | None:
    """A difference without what may move; nothing where that is all of it."""
    mine = [
        rule for rule in rules if rule.kind in (None, one.key[0]) and fnmatchcase(one.key[1].lower(), rule.name.lower())
    ]
    if any(rule.member is None for rule in mine):
        return None
    if one.what not in ("changed", "moved"):
        return one
    members = [rule.member for rule in mine if rule.member]
    left = [delta for delta in one.deltas if not any(_below(delta[0], member) for member in members)]
    return replace(one, deltas=left) if left else None


def _below(path: str, member: str) -> bool:
    return path == member or path.startswith((f"{member}.", f"{member}["))


def last_commit(path: Path) -> str | None:
    """The last commit that touched a file, as its short id, date, author and subject; none outside a repository."""
    command = ["git", "-C", str(path.parent), "log", "-1", "--format=%h %as %an: %s", "--", path.name]
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=20, check=False)
    except (OSError, subprocess.TimeoutExpired):
        return None
    return done.stdout.strip() or None if done.returncode == 0 else None
