"""What is wrong with the installation, the workspace and its store, and what would mend it.  No system is asked."""

from __future__ import annotations

import os
import secrets
import shutil
import sqlite3
import stat
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Literal

from concordex.errors import ConcordexError
from concordex.trust import doubts, open_to_others

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

Result = Literal["ok", "doubtful", "wrong"]
#: What is needed for more than the ordinary, and for what.
_MORE = {
    "http-message-signatures": ("signatures", "signed requests (RFC 9421)"),
    "keyring": ("keyring", "secrets in a keyring"), "psycopg": ("postgresql", "databases of PostgreSQL"),
    "s3fs": ("s3", "snapshots in an object store"),
    "xlsxwriter": ("xlsx", "spreadsheets"), "matplotlib": ("figures", "racks and links, drawn"),
}  # fmt: skip
#: Less room than this is wrong; and as many times the newest snapshots take should be free.
_LEAST_FREE, _TIMES = 200_000_000, 3
#: A moment that lies further ahead than this was written by a clock that is another now.
_AHEAD = timedelta(minutes=2)
#: Releases of Python that are tested.
_OLDEST = (3, 11)


@dataclass(frozen=True, kw_only=True)
class Examined:
    """One thing that was looked at: of which part, how it is, what was seen, and the command that mends it."""

    part: str
    what: str
    result: Result
    seen: str
    mend: str = ""


def examine(workspace: BaseWorkspace | None) -> list[Examined]:
    """All that can be looked at: the installation alone where there is no workspace."""
    found = list(_installation())
    if workspace is None:
        return [*found, Examined(
            part="workspace", what="folder", result="doubtful", seen="there is none here or above",
            mend="concordex init DIR",
        )]  # fmt: skip
    for look in (_workspace, _secrets, _store, _disk, _time, _left, _jobs):
        found += _tried(look, workspace)
    return found


def _tried(look: Callable[[BaseWorkspace], Iterator[Examined]], workspace: BaseWorkspace) -> Iterator[Examined]:
    """What one look finds; what keeps it from looking is a finding as well."""
    try:
        yield from look(workspace)
    except ConcordexError as error:
        part = look.__name__.strip("_")
        yield Examined(part=part, what="all of it", result="wrong", seen=str(error), mend=error.advice)


def _installation() -> Iterator[Examined]:
    from concordex.version import __version__

    running = sys.version_info[:2]
    yield Examined(
        part="installation", what="release", result="ok" if running >= _OLDEST else "wrong",
        seen=f"concordex {__version__}, Python {'.'.join(map(str, sys.version_info[:3]))}",
    )  # fmt: skip
    lacking = [package for package in _MORE if not _is_there(package)]
    for package in lacking:
        extra, why = _MORE[package]
        yield Examined(
            part="installation", what=package, result="ok", seen=f"not installed: needed for {why}",
            mend=f"pip install 'concordex[{extra}]'",
        )  # fmt: skip


def _is_there(package: str) -> bool:
    try:
        version(package)
    except PackageNotFoundError:
        return False
    return True


def _workspace(workspace: BaseWorkspace) -> Iterator[Examined]:
    config = workspace.config
    paused = [name for name, system in config.systems.items() if system.paused]
    told = f"{len(config.systems)} systems, {len(config.jobs)} jobs"
    told += f"; paused: {', '.join(paused)}" if paused else ""
    yield Examined(part="workspace", what="concordex.yaml", result="ok", seen=told)
    for name in config.systems:
        try:
            workspace.dialect(name)
        except ConcordexError as error:
            yield Examined(
                part="workspace", what=f"dialect of {name}", result="wrong", seen=str(error), mend=error.advice
            )
    if who := open_to_others(workspace.root):
        yield Examined(
            part="workspace", what="who may write", result="doubtful", seen=who,
            mend=f"chmod go-w {workspace.root.resolve()}, or: concordex trust",
        )  # fmt: skip


def _secrets(workspace: BaseWorkspace) -> Iterator[Examined]:
    """Whether secrets are where they are said to be: none is read, and no command is run."""
    lacking = 0
    named = workspace.secrets.named()
    for wanted in named:
        scheme, _, rest = wanted.reference.partition(":")
        file = workspace.root / Path(rest).expanduser()
        fault = ""
        if why := doubts(workspace.root, wanted):
            fault = f"may not be used: {why}"
        elif scheme == "env" and rest not in os.environ:
            fault = "is not set here"
        elif scheme == "file" and not os.access(file, os.R_OK):
            fault = "cannot be read"
        elif scheme == "file" and stat.S_IMODE(file.stat().st_mode) & 0o077:
            fault = "may be read by others"
        if fault:
            lacking += 1
            mend = (
                {"env": f"export {rest}=…", "file": f"chmod 600 {file}"}.get(scheme, "")
                if "used" not in fault
                else "concordex trust"
            )
            result: Result = "doubtful" if "others" in fault else "wrong"
            yield Examined(
                part="secrets", what=f"{wanted.reference} for {wanted.name}", result=result, seen=fault, mend=mend
            )
    if named and not lacking:
        yield Examined(
            part="secrets", what="where they are kept", result="ok", seen=f"{len(named)} are where they should be"
        )


def _store(workspace: BaseWorkspace) -> Iterator[Examined]:
    if workspace.server is not None or workspace.config.store.snapshots is not None:
        yield from _shared(workspace)
    path = workspace.catalogue_file
    if workspace.server is not None:
        return
    if not path.is_file():
        yield Examined(
            part="store", what="catalogue", result="ok", seen="nothing has been pulled yet", mend="concordex pull"
        )
        return
    mode = stat.S_IMODE(workspace.store.stat().st_mode)
    if mode & 0o077:
        yield Examined(
            part="store", what="who may read", result="doubtful", seen=f"{workspace.store} has the mode {mode:o}",
            mend=f"chmod 700 {workspace.store.resolve()}",
        )  # fmt: skip
    if not workspace.can_write:
        yield Examined(
            part="store", what="who may write", result="wrong", seen=f"you may not write to {workspace.store}"
        )
    connection = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True)
    try:
        ((verdict,),) = connection.execute("PRAGMA quick_check(1)")
    except sqlite3.Error as error:
        verdict = str(error)
    finally:
        connection.close()
    if verdict != "ok":
        yield Examined(part="store", what="catalogue", result="wrong", seen=verdict, mend="concordex mend")
        return
    named = workspace.memory.named_files()
    gone = _gone(workspace, named)
    yield Examined(
        part="store", what="catalogue", result="ok", seen=f"it holds together; {len(named)} snapshots are kept"
    )
    if gone:
        seen = f"{len(gone)} snapshots are gone, such as {gone[0]}"
        yield Examined(part="store", what="snapshots", result="wrong", seen=seen, mend="concordex mend")


def _shared(workspace: BaseWorkspace) -> Iterator[Examined]:
    """A catalogue and snapshots that other machines use as well: whether they are there, and take what is written."""
    if workspace.server is not None:
        catalogue = workspace.catalogue
        named, place = catalogue.named_files(), workspace.server.place
        there = datetime.fromisoformat(catalogue.database.moment())
        apart = abs(there - datetime.now(UTC))
        yield Examined(part="store", what="catalogue", result="ok", seen=f"{place}; {len(named)} snapshots are kept")
        if apart > _AHEAD:
            seen = f"this machine's clock and the database's are {apart.total_seconds():.0f} s apart"
            yield Examined(
                part="time", what="clocks", result="wrong", seen=seen, mend="set the one right that is wrong"
            )
    shelf = workspace.frames.shelf
    if shelf is None:
        return
    probe = f"probe-{secrets.token_hex(8)}"  # of others too the first process may look at this moment
    with TemporaryDirectory() as scratch:
        file, back = Path(scratch) / "sent", Path(scratch) / "came"
        file.write_bytes(os.urandom(64))
        shelf.put(file, probe)
        shelf.get(probe, back)
        shelf.remove(probe)
        same = file.read_bytes() == back.read_bytes()
    yield Examined(
        part="store", what="snapshots", result="ok" if same else "wrong",
        seen=f"{shelf.place}: what was written came back" + ("" if same else " as something else"),
    )  # fmt: skip
    gone = _gone(workspace, workspace.memory.named_files()) if workspace.has_catalogue else []
    if gone:
        seen = f"{len(gone)} snapshots are gone, such as {gone[0]}"
        yield Examined(part="store", what="snapshots", result="wrong", seen=seen, mend="concordex mend")


def _gone(workspace: BaseWorkspace, named: set[str]) -> list[str]:
    """Files that the catalogue names and that are not there."""
    shelf = workspace.frames.shelf
    there = set(shelf.names("snapshots")) if shelf is not None else set[str]()
    return sorted(
        name for name in named if name not in there and not (shelf is None and (workspace.store / name).is_file())
    )


def _disk(workspace: BaseWorkspace) -> Iterator[Examined]:
    place = workspace.store if workspace.store.is_dir() else workspace.root
    free = shutil.disk_usage(place).free
    newest = 0
    if workspace.has_catalogue:
        files = [workspace.store / shot.file for shot in workspace.memory.newest() if shot.file]
        newest = sum(file.stat().st_size for file in files if file.is_file())
    least = max(_LEAST_FREE, _TIMES * newest)
    seen = f"{free / 1e9:.1f} GB free; the newest snapshots take {newest / 1e6:.0f} MB"
    result: Result = "ok" if free > least else "doubtful" if free > _LEAST_FREE else "wrong"
    mend = "" if result == "ok" else "keep: {snapshots: 30d} in concordex.yaml removes old ones"
    yield Examined(part="disk", what="room", result=result, seen=seen, mend=mend)


def _time(workspace: BaseWorkspace) -> Iterator[Examined]:
    """A clock that was set back makes what is newest look old: what is to come has been already."""
    now = datetime.now(UTC)
    if not workspace.has_catalogue:
        return
    latest = max((shot.taken for shot in workspace.memory.newest()), default=now)
    if latest > now + _AHEAD:
        seen = f"it is {now:%Y-%m-%d %H:%M} UTC, and something was pulled at {latest:%Y-%m-%d %H:%M}"
        yield Examined(
            part="time", what="clock", result="wrong", seen=seen, mend="set the clock right; nothing is lost"
        )
    else:
        yield Examined(
            part="time", what="clock", result="ok", seen=f"{now:%Y-%m-%d %H:%M} UTC, after all that was pulled"
        )


def _left(workspace: BaseWorkspace) -> Iterator[Examined]:
    """What a process has left behind that was killed."""
    if not workspace.has_catalogue:
        return
    for row in workspace.changes():
        doubt = sum(count for state, count in row["steps"].items() if state in ("sent", "unknown"))
        if doubt and row["state"] != "running":
            yield Examined(
                part="changes", what=f"change {row['id']} of {row['system']}", result="wrong",
                seen=f"of {doubt} steps nobody knows what became of them", mend=f"concordex change resume {row['id']}",
            )  # fmt: skip


def _jobs(workspace: BaseWorkspace) -> Iterator[Examined]:
    from concordex.work.jobs.due import parts_of

    timed = [part for part in parts_of(workspace) if part.rhythm is not None and not part.paused]
    if not workspace.config.jobs:
        return
    known = workspace.has_catalogue and workspace.can_write
    runs = workspace.catalogue.runs if known else None  # to read from one of an earlier release, it must grow
    works = workspace.locks.is_held_for("")
    if timed:
        yield Examined(
            part="jobs", what="who runs them", result="ok" if works else "doubtful",
            seen="concordex work runs here" if works else f"{len(timed)} come by themselves, and no `work` runs here",
            mend="" if works else "concordex work; or job export, where another scheduler runs them",
        )  # fmt: skip
    for name in workspace.config.jobs if runs else ():
        assert runs is not None
        last = next(iter(runs.newest(1, job=name)), None)
        if last is not None and last.outcome == "failed":
            seen = f"its last run failed at {last.begun:%Y-%m-%d %H:%M}: {last.why}"
            yield Examined(part="jobs", what=name, result="wrong", seen=seen, mend=f"concordex job history {last.id}")
    stuck = [one for one in workspace.catalogue.notices.waiting() if one.fault] if runs else []
    for place in dict.fromkeys(one.place for one in stuck):
        fault = next(one.fault for one in stuck if one.place == place)
        yield Examined(part="telling", what=place, result="wrong", seen=fault, mend=f"concordex tell try {place}")
