"""Drift: how live objects have moved away from the files that they were saved in."""

from __future__ import annotations

import subprocess
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from fnmatch import fnmatchcase
from pathlib import Path
from typing import TYPE_CHECKING

from concordex.change.differ import Difference, differ
from concordex.change.objects import Kinds, Object
from concordex.change.steps import Change, Step, numbered
from concordex.errors import CalledWrongly, ConcordexError
from concordex.progress import Advance
from concordex.work.objects.baselines import SavedKind, begin, covered, half_saved, keep, saved_kinds
from concordex.work.objects.files import Saved, read_objects, save
from concordex.work.objects.kinds import chosen_kinds
from concordex.work.objects.live import Held, live_of
from concordex.work.objects.prepare import prepare_objects
from concordex.work.workspace.rules import MayMove

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True, kw_only=True)
class Drift:
    """How one system has moved away from its baseline.

    ``live`` are its objects of which the baseline speaks; ``ignored`` counts differences that may be.
    """

    system: str
    folder: Path
    kinds: Kinds
    baseline: list[Object]
    held: Held
    live: list[Object]
    differences: list[Difference]
    ignored: int


@dataclass(frozen=True)
class _Baseline:
    """What one folder says."""

    folder: Path
    objects: list[Object]
    saved: Mapping[str, SavedKind]
    kinds: Kinds
    every: Kinds


def drifts(
    workspace: BaseWorkspace, there: Mapping[str, Path], progress: Advance | None = None
) -> dict[str, Drift | ConcordexError]:
    """Each system or device beside its baseline, many at once; or why one could not be read.

    Files that cannot be read are an error at once: nobody is asked then.
    """
    baselines = {name: _baseline(workspace, name, folder, progress) for name, folder in there.items()}
    held_by = live_of(workspace, {name: list(baseline.every) for name, baseline in baselines.items()}, progress)
    return {
        name: held if isinstance(held, ConcordexError) else _drift(workspace, name, baselines[name], held)
        for name, held in held_by.items()
    }


def _baseline(workspace: BaseWorkspace, system: str, folder: Path, progress: Advance | None) -> _Baseline:
    every = chosen_kinds(workspace, system, [])
    count: Advance | None = (lambda _, done, of: progress(f"{system}: files", done, of)) if progress else None
    objects, saved = read_objects(folder, every, count), saved_kinds(folder)
    if half := half_saved(folder, saved):
        raise CalledWrongly(half, advice=f"concordex config save {system} --into {folder.parent}")
    mine = {*saved, *(obj.kind for obj in objects)}
    return _Baseline(folder, objects, saved, {name: kind for name, kind in every.items() if name in mine}, every)


def _drift(workspace: BaseWorkspace, system: str, base: _Baseline, held: Held) -> Drift:
    live = covered(workspace, held, base.saved, base.objects)
    every = differ(base.objects, live, base.kinds)
    rules = [rule for rule in workspace.config.drift.ignore if rule.system in (None, system, system.partition(":")[0])]
    left_over = [left for diff in every if (left := _but(diff, rules)) is not None]
    return Drift(
        system=system, folder=base.folder, kinds=base.kinds, baseline=base.objects, held=held, live=live,
        differences=left_over, ignored=len(every) - len(left_over),
    )  # fmt: skip


def _but(diff: Difference, rules: Sequence[MayMove]) -> Difference | None:
    """A difference without what may move; nothing where that is all of it."""
    mine = [
        rule
        for rule in rules
        if rule.kind in (None, diff.key[0]) and fnmatchcase(diff.key[1].lower(), rule.name.lower())
    ]
    if any(rule.member is None for rule in mine):
        return None
    if diff.what not in ("changed", "moved"):
        return diff
    members = [rule.member for rule in mine if rule.member]
    left = [delta for delta in diff.deltas if not any(_below(delta[0], member) for member in members)]
    return replace(diff, deltas=left) if left else None


def _below(path: str, member: str) -> bool:
    return path == member or path.startswith((f"{member}.", f"{member}["))


def accept(drift: Drift) -> Saved:
    """Write what is live into the baseline."""
    kinds = list(drift.kinds)
    done = save(drift.live, drift.folder, drift.kinds, kinds, before=lambda: begin(drift.folder, kinds))
    names = {kind: [obj.label for obj in drift.live if obj.kind == kind] for kind in kinds}
    keep(drift.folder, names)
    return done


def restore(workspace: BaseWorkspace, drift: Drift) -> Change:
    """The change that puts the baseline back, where it drifted and nowhere else."""
    moved = {_live_or_file(diff): {_first(path) for path, _, _ in diff.deltas} for diff in drift.differences}
    whole = {kind for kind, diff in saved_kinds(drift.folder).items() if diff.whole}
    added = [diff.now for diff in drift.differences if diff.what == "added" and diff.now and diff.now.kind in whole]
    change, _ = prepare_objects(workspace, drift.system, drift.baseline, drift.held, may_go=added)
    known = [(step, (step.table, step.record_id or step.source)) for step in change.steps]
    return replace(change, steps=numbered(_only(step, moved[which]) for step, which in known if which in moved))


def _live_or_file(diff: Difference) -> tuple[str, str | None]:
    """What tells an object that drifted, whichever of several of its name it is: its record, or else its file."""
    return diff.key[0], diff.now.record_id if diff.now else diff.either.source


def _first(path: str) -> str:
    return path.partition(".")[0].partition("[")[0]


def _only(step: Step, members: set[str]) -> Step:
    """Of an update the members that drifted; what may move stays as it is."""
    if step.operation != "update":
        return step
    before, desired = ({n: v for n, v in part.items() if n in members} for part in (step.before, step.desired))
    return replace(step, before=before, desired=desired)


#: So many files are named to git; of more, it is asked for all of their folder.
_NAMED = 200
#: Begins a line that is about a commit.
_COMMIT = "\x01"


def last_commits(folder: Path, paths: Collection[Path]) -> dict[Path, str]:
    """The last commit that touched each of some files below ``folder``: short id, date, author and subject.

    Nothing of files that no commit has, nor outside a repository.
    """
    if not paths:
        return {}
    mine = [str(path.relative_to(folder)) for path in paths] if len(paths) <= _NAMED else ["."]
    command = [
        "git", "-c", "core.quotePath=false", "-C", str(folder), "--literal-pathspecs", "log", "--relative",
        "--name-only", f"--format={_COMMIT}%h %as %an: %s", "--", *mine,
    ]  # fmt: skip
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=60, check=False)
    except (OSError, subprocess.TimeoutExpired):
        return {}
    commits: dict[Path, str] = {}
    commit = ""
    for line in done.stdout.splitlines() if done.returncode == 0 else ():
        if line.startswith(_COMMIT):
            commit = line[1:]
        elif line:
            commits.setdefault(folder / line, commit)
    return commits
