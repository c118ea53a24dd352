"""A rehearsal: a copy of one system's newest snapshot, served, with a workspace in which it can be used."""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, nullcontext
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from filelock import FileLock, Timeout

from concordex.errors import CalledWrongly
from concordex.landing import make_folder, write_text
from concordex.plain_yaml import plain_yaml
from concordex.wire.copy.copy import Copy
from concordex.wire.copy.gate import made_up
from concordex.work.rehearse.serving import Served

if TYPE_CHECKING:
    import polars as pl

    from concordex.store.catalogue import Snapshot
    from concordex.work.workspace.base import BaseWorkspace


@dataclass
class Copied:
    """A copy of a system, and what is needed to use it.

    ``tables`` are its tables and how many records each holds, ``taken`` when the oldest and the newest of them were
    pulled, ``doubtful`` those that are not proved to be whole, ``missing`` those that were not pulled.
    """

    system: str
    copy: Copy
    credentials: Mapping[str, str]
    tables: Mapping[str, int]
    taken: tuple[datetime, datetime]
    doubtful: list[str] = field(default_factory=list)
    missing: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class ServedCopy:
    """A copy that can be reached at ``url``, and the ``workspace`` that knows it alone."""

    made: Copied
    url: str
    workspace: Path


def copied(workspace: BaseWorkspace, system: str) -> Copied:
    """A copy of the newest snapshot of a system; raises CalledWrongly where there is none."""
    name, address = workspace.target(system)
    if address is not None:
        raise CalledWrongly(f"{system} is a device, of which no snapshot is kept")
    settings, dialect = workspace.config.systems[name], workspace.dialect(name)
    if not settings.url:
        what = "a database" if settings.database else "a folder of files"
        raise CalledWrongly(f"{name} is {what}: there is nothing to serve")
    newest = {shot.table: shot for shot in workspace.memory.newest(system=name) if shot.table in dialect.tables}
    frames = {table: _rows(workspace, shot) for table, shot in newest.items() if shot.file}
    if not frames:
        raise CalledWrongly(f"nothing of {name} has been pulled yet", advice=f"concordex pull {name}")
    plain = {part: text for part, text in settings.credentials.items() if part in dialect.credentials}
    shown = {part: text for part, text in plain.items() if not dialect.credentials[part].secret}
    ours, known = made_up(dialect, shown)
    copy = Copy(dialect, frames, known)
    taken = [newest[table].taken for table in frames]
    return Copied(
        name, copy, ours, {table: frame.height for table, frame in frames.items()}, (min(taken), max(taken)),
        [table for table in frames if not newest[table].whole], copy.stocks.missing,
    )  # fmt: skip


def _rows(workspace: BaseWorkspace, shot: Snapshot) -> pl.DataFrame:
    assert shot.file
    return workspace.frames.scan(shot.file).collect()


@contextmanager
def rehearsing(
    workspace: BaseWorkspace, system: str, port: int = 0, folder: Path | None = None
) -> Iterator[ServedCopy]:
    """A copy that is served while the block runs, and a workspace that knows nothing but it.

    The workspace is made in ``folder``, which must not be there yet, or below the store, and goes with the block.
    """
    made = copied(workspace, system)
    place = folder or workspace.store / "rehearsals" / made.system
    if folder is not None and folder.exists():
        raise CalledWrongly(f"{folder} is there already", advice="name a folder that is not there yet")
    make_folder(place.parent)
    # a folder that is not there yet is nobody else's
    alone = _alone(place, made.system) if folder is None else nullcontext()
    with alone, Served(made.copy, port) as served:
        shutil.rmtree(place, ignore_errors=True)  # of one that was killed
        try:
            settle(workspace, place, {made.system: (made, served.url)})
            yield ServedCopy(made, served.url, place)
        finally:
            shutil.rmtree(place, ignore_errors=True)


@contextmanager
def _alone(place: Path, system: str) -> Iterator[None]:
    """Nobody else serves a copy from this folder meanwhile."""
    lock = FileLock(place.with_name(f".{place.name}.lock"), timeout=0)
    try:
        lock.acquire()
    except Timeout as error:
        raise CalledWrongly(
            f"a copy of {system} is served from {place} already", advice="another one: --into NEW-FOLDER"
        ) from error
    try:
        yield
    finally:
        lock.release()  # its file stays: whoever holds a lock on one that is gone would be alone beside the next


def settle(workspace: BaseWorkspace, place: Path, copies: Mapping[str, tuple[Copied, str]]) -> None:
    """A workspace whose systems are copies, each at its address, under the names of the real ones."""
    systems: dict[str, Any] = {}
    make_folder(place)
    place.chmod(0o700)
    for name, (made, url) in copies.items():
        credentials = {}
        for part, text in made.credentials.items():
            credentials[part] = text
            if workspace.dialect(name).credentials[part].secret:
                write_text(place / f"{name}-{part}.secret", text, private=True)
                credentials[part] = f"file:{name}-{part}.secret"
        own = workspace.config.systems[name]
        told: dict[str, Any] = {"dialect": own.dialect, "url": url, "credentials": credentials}
        told |= {"role": own.role} if own.role else {}
        systems[name] = told | ({"trust": dict(own.trust)} if own.trust else {})
    write_text(place / "concordex.yaml", plain_yaml({"format": 1, "systems": systems}))
    for shared in ("dialects", "groups", "models"):
        if (workspace.root / shared).is_dir():
            shutil.copytree(workspace.root / shared, place / shared, dirs_exist_ok=True)
