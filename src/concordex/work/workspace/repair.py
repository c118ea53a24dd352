"""What a disk has lost: files that are not as they were written are set aside, and a catalogue is made anew."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime
from typing import TYPE_CHECKING, Any

from concordex.store.catalogue import Snapshot
from concordex.store.salvage import fault_in, renew
from concordex.store.snapshots import beside, facts_of

if TYPE_CHECKING:
    from pathlib import Path

    from concordex.work.workspace.base import BaseWorkspace

#: What a snapshot is called that a new catalogue knows only by its own word.
_BY_ITS_WORD = "it was found without its catalogue: pull again"


@dataclass(frozen=True)
class Mended:
    """One thing that was not as it should be, and what has been done about it."""

    what: str
    fault: str
    done: str


def mend(workspace: BaseWorkspace) -> list[Mended]:
    """Look at all that is kept, and set right what is not as it was written; what was done, if anything."""
    repairs = _catalogue(workspace)
    catalogue = workspace.catalogue
    repairs += _found(workspace)
    kept = [s for of in catalogue.tables() for s in catalogue.kept(*of)]
    repairs += set_aside(workspace, kept)
    row = catalogue.reconciliation()
    for name in catalogue.files_in(str(row["folder"])) if row else ():
        if fault := workspace.frames.damage(name):
            repairs.append(Mended(name, fault, "concordex reconcile rebuilds it"))
    return repairs


def newest(workspace: BaseWorkspace, table: str) -> tuple[list[Snapshot], list[str]]:
    """The snapshots of a table to go by, as far as their files are whole; and what is told of those that are not.

    A damaged one gives way to the one before it; where there is none, it is left for whoever reads it to refuse.
    """
    notes: list[str] = []
    while True:
        snapshots = workspace.catalogue.newest(table)
        workspace.frames.vet([s.file for s in snapshots if s.file])
        bad = [s for s in snapshots if _fault(workspace, s) and _earlier(workspace, s)]
        if not bad:
            return snapshots, notes
        for snapshot, repair in zip(bad, set_aside(workspace, bad), strict=True):
            notes.append(
                f"{snapshot.system}/{table} of {snapshot.taken:%Y-%m-%d %H:%M} is {repair.fault}: {repair.done}"
            )


def set_aside(workspace: BaseWorkspace, snapshots: Iterable[Snapshot]) -> list[Mended]:
    """Keep away from use what is not as it was written; its file stays, under another name."""
    repairs = []
    for snapshot in snapshots:
        fault = _fault(workspace, snapshot)
        if fault is None or snapshot.file is None or snapshot.id is None:
            continue
        earlier = _earlier(workspace, snapshot)
        workspace.frames.set_aside(snapshot.file)
        workspace.catalogue.forget_file(snapshot.id)
        workspace.catalogue.remark(snapshot.pull, snapshot.system, snapshot.table, f"its file was found {fault}")
        instead = f"the one of {earlier.taken:%Y-%m-%d %H:%M} stands for it" if earlier else "there is none before it"
        repairs.append(Mended(snapshot.file, fault, f"{instead}; concordex pull {snapshot.system} makes a new one"))
    return repairs


def _fault(workspace: BaseWorkspace, snapshot: Snapshot) -> str | None:
    """What is wrong with its file, or with the keys of what was left out of it."""
    if snapshot.file is None:
        return None
    keys = beside(snapshot.file)
    frames = workspace.frames
    return frames.damage(snapshot.file) or (frames.damage(keys) if frames.known(keys) else None)


def _earlier(workspace: BaseWorkspace, snapshot: Snapshot) -> Snapshot | None:
    """The latest one before it that is as it was written."""
    kept = workspace.catalogue.kept(snapshot.system, snapshot.table)
    before = [s for s in kept if s.id != snapshot.id and s.taken <= snapshot.taken and s.outcome != "partial"]
    return next((s for s in reversed(before) if not _fault(workspace, s)), None)


def _catalogue(workspace: BaseWorkspace) -> list[Mended]:
    if workspace.server is not None:  # its server mends it
        return []
    path = workspace.catalogue_file
    fault = fault_in(path)
    if fault is None or (fault in ("gone", "empty") and not _snapshots(workspace)):
        return []
    aside, saved = renew(path)
    rows = ", ".join(f"{count:,} of {table}" for table, count in saved.items() if count)
    done = f"made anew with {rows or 'nothing of it'}"
    return [Mended(path.name, fault, f"{done}; the old one is {aside.name}" if aside else done)]


def _found(workspace: BaseWorkspace) -> list[Mended]:
    """Snapshots that no row of the catalogue names, and that say themselves what they are."""
    catalogue, repairs = workspace.catalogue, list[Mended]()
    if workspace.frames.shelf is not None:  # another machine may be about to name it
        return repairs
    named = catalogue.named_files()
    for path in _snapshots(workspace):
        name = str(path.relative_to(workspace.store))
        if name in named:
            continue
        snapshot = _of(facts_of(path) or {}, name)
        if snapshot is None:
            repairs.append(Mended(name, "not in the catalogue", "left alone: it does not say what it is"))
            continue
        catalogue.register(snapshot)
        workspace.frames.vouch(name)
        repairs.append(Mended(name, "not in the catalogue", "added again, as not proved"))
    return repairs


def _snapshots(workspace: BaseWorkspace) -> list[Path]:
    every = sorted(workspace.store.glob("snapshots/*/*/*.parquet"))
    return [path for path in every if not path.name.endswith(".keys.parquet")]


def _of(facts: dict[str, Any], name: str) -> Snapshot | None:
    """A snapshot by its own word: not proved, since nothing shows any more that it is as it was written."""
    try:
        snapshot = Snapshot(**facts | {"taken": datetime.fromisoformat(str(facts["taken"])), "file": name})
    except (KeyError, TypeError, ValueError):
        return None
    outcome = "unproven" if snapshot.outcome == "whole" else snapshot.outcome
    return replace(snapshot, outcome=outcome, fault=snapshot.fault or _BY_ITS_WORD)
