"""A change run against a copy of its system first: the same steps, order and checks, and nothing real is touched."""

from __future__ import annotations

import os
import shutil
from collections.abc import Collection, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from concordex.change.run_options import RunOptions
from concordex.change.steps import Change
from concordex.errors import CalledWrongly
from concordex.landing import is_alive
from concordex.progress import Counted
from concordex.wire.copy.route import Noted
from concordex.work.rehearse.rehearsal import Copied, copied, settle
from concordex.work.rehearse.serving import Served
from concordex.work.run.run import run
from concordex.work.workspace.base import STORE, BaseWorkspace
from concordex.work.workspace.copied import copy_catalogue
from concordex.work.workspace.secrets import Secrets
from concordex.work.workspace.system_settings import Tls

#: Seconds between two looks at what a copy has done at once.
_AT_ONCE = 0.01


@dataclass(frozen=True)
class Rehearsed:
    """What a rehearsal showed: the change as it stood afterwards, and what could not be rehearsed."""

    change: Change
    copy: Copied
    left_out: list[str] = field(default_factory=list)

    @property
    def noted(self) -> Noted:
        """What the copy was asked, and what it did not know."""
        return self.copy.copy.noted


def rehearse_change(
    workspace: BaseWorkspace,
    number: int,
    progress: Counted | None = None,
    *,
    only: Collection[int] | None = None,
    how: RunOptions | None = None,
) -> Rehearsed:
    """Run what is open of a change against a copy of its system's newest snapshot.

    It runs in a workspace of its own, which knows the copy alone: neither the system, nor this journal, nor any device
    is touched.  Raises CalledWrongly where there is nothing to rehearse against.
    """
    change = workspace.change(number)
    if change.system in workspace.config.targets:
        raise CalledWrongly(
            f"{change.system} is a database or a file, of which there is no copy",
            advice="its writes are one transaction; the preview shows them",
        )
    if workspace.is_device(change.system):
        raise CalledWrongly(f"the steps go to devices ({change.system}), of which no snapshots are kept")
    made = copied(workspace, change.system)
    with Served(made.copy) as served, _scratch(workspace, number) as place:
        settle(workspace, place, {made.system: (made, served.url)})
        _take_along(workspace, place, made.system)
        there = _there(workspace, place, made, served.url)
        left_out = [
            f"whether what is made in {name} becomes ready: a copy has no devices" for name in _awaited(change, made)
        ]
        try:
            if change.about.asks:
                there.journal.note(number, asks={})
                left_out.append("what devices are asked for just before their steps: the codes are those of the draft")
            done = run(there, number, progress, only=only, how=how, any_time=True)
        finally:
            there.close()
    for text, count in made.copy.noted.untold.items():
        left_out.append(f"its dialect does not tell {text}" + (f" ({count:,} times)" if count > 1 else ""))
    return Rehearsed(done, made, left_out)


@contextmanager
def _scratch(workspace: BaseWorkspace, number: int) -> Iterator[Path]:
    folder = workspace.store / "rehearsals"
    for left in folder.glob("change-*-*"):  # of one that was killed
        if not is_alive(int(left.name.rpartition("-")[2])):
            shutil.rmtree(left, ignore_errors=True)
    place = folder / f"change-{number}-{os.getpid()}"
    shutil.rmtree(place, ignore_errors=True)  # of one that was killed and bore the number that this process has now
    try:
        yield place
    finally:
        shutil.rmtree(place, ignore_errors=True)


def _take_along(workspace: BaseWorkspace, place: Path, system: str) -> None:
    """The catalogue with its journal, and the system's newest snapshots: what a run looks at."""
    store = place / STORE
    store.mkdir(mode=0o700)
    copy_catalogue(workspace, store / "catalogue.sqlite")
    for shot in workspace.memory.newest(system=system):
        if shot.file:
            to = store / shot.file
            to.parent.mkdir(parents=True, exist_ok=True)
            try:
                to.hardlink_to(workspace.frames.file(shot.file))  # what is kept is never written to again
            except OSError:
                shutil.copyfile(workspace.frames.file(shot.file), to)


def _there(workspace: BaseWorkspace, place: Path, made: Copied, url: str) -> BaseWorkspace:
    """The workspace of the copy, with the rules of this one; nothing is waited for there."""
    there = BaseWorkspace(place)
    own = there.config.systems[made.system]
    real = workspace.config.systems[made.system]
    system = real.model_copy(
        update={
            "url": url, "credentials": own.credentials, "tls": Tls(), "proxy": None, "paused": False, "windows": [],
            "rate": None,
        }
    )  # fmt: skip
    there.config = workspace.config.model_copy(update={"systems": {made.system: system}, "devices": {}, "targets": {}})
    there.secrets = _Nobodys(place, there.config)
    dialect = workspace.dialect(made.system)
    tables = {}
    for name, table in dialect.tables.items():
        tables[name] = table
        if table.write and table.write.ready:
            tables[name] = table.model_copy(update={"write": table.write.model_copy(update={"ready": None})})
    tasks = {name: task.model_copy(update={"every": _AT_ONCE}) for name, task in dialect.tasks.items()}
    limits = dialect.limits.model_copy(update={"rate": None})
    there.speaks(made.system, dialect.model_copy(update={"tables": tables, "tasks": tasks, "limits": limits}))
    return there


def _awaited(change: Change, made: Copied) -> list[str]:
    """The tables in which records are made that are waited for until they are ready."""
    tables = made.copy.dialect.tables
    names = dict.fromkeys(step.table for step in change.writes if step.operation == "create")
    return [name for name in names if (write := tables[name].write) and write.ready]


class _Nobodys(Secrets):
    """Secrets of a rehearsal: what a row names is not fetched, and something else is sent in its place."""

    def of_row(self, reference: str, name: str) -> str:
        """Nobody's."""
        del reference, name
        return "rehearsal"
