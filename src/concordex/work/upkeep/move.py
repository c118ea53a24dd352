"""A store carried to another place, while nobody writes: nothing is lost, and what was begun can be gone on with."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any

from concordex.documents import check, parse_yaml, yaml_text
from concordex.errors import CalledWrongly, Stopped, StoreError
from concordex.progress import Counted
from concordex.store.carry import carry
from concordex.store.catalogue import Catalogue
from concordex.store.database import Database
from concordex.store.snapshots import Frames, digest_of
from concordex.work.pull import in_progress
from concordex.work.workspace.config import FILE, check_whole
from concordex.work.workspace.copied import copy_catalogue
from concordex.work.workspace.handwritten import alter
from concordex.work.workspace.store_settings import Store

if TYPE_CHECKING:
    from concordex.store.shelf import Shelf
    from concordex.work.workspace.base import BaseWorkspace


_WHAT = "a store is moved"


@dataclass(frozen=True, kw_only=True)
class Moved:
    """What was carried: files and their bytes, how many of them were there already, and rows of the catalogue."""

    files: int
    bytes: int
    there_before: int
    rows: int
    to: str


def move(workspace: BaseWorkspace, settings: dict[str, Any], progress: Counted | None = None) -> Moved:
    """Carry the catalogue and all files that it names to where ``settings`` say, and let ``concordex.yaml`` say so.

    ``settings`` are those of ``store:``; none of them means below the workspace's own folder.  Nothing is taken away
    where it was: a file of SQLite is set aside, and a schema gets another name.  Raises Stopped where something runs.
    """
    wanted = check(settings, Store, "store")
    if wanted == workspace.config.store:
        raise CalledWrongly("the store is there already", advice="concordex store show")
    there = type(workspace)(workspace.root)
    there.__dict__["config"] = workspace.config.model_copy(update={"store": wanted})
    refuse_while_busy(workspace, _WHAT)
    try:
        return _carried(workspace, there, settings, progress or (lambda *_: None))
    finally:
        there.close()


def _carried(here: BaseWorkspace, there: BaseWorkspace, settings: dict[str, Any], progress: Counted) -> Moved:
    same_files = here.config.store.snapshots == there.config.store.snapshots
    same_rows = here.config.store.catalogue == there.config.store.catalogue and (
        here.config.store.db_schema == there.config.store.db_schema
    )
    carried = _Files(here, there.frames.shelf, progress)
    if not same_files:
        carried.bring()  # most of them, while others may still read and write
    database, rows = here.catalogue.database, 0
    copy = here.store / f"catalogue.sqlite.moved-{datetime.now(UTC):%Y%m%dT%H%M%S}"
    with database.steady(alone=True):
        refuse_while_busy(here, _WHAT)
        if not same_files:
            carried.bring()
        if not same_rows:
            with _new(there) as target:
                rows = sum(table.rows for table in carry(database, target).values())
            if here.server is None:
                copy_catalogue(here, copy)
            database.retire()
        _say(here, settings)
    if not same_rows and here.server is None:
        here.close()
        for end in ("", "-wal", "-shm"):
            here.catalogue_file.with_name(here.catalogue_file.name + end).unlink(missing_ok=True)
    place = there.server.place if there.server else str(there.store)
    shelf = there.frames.shelf
    return Moved(
        files=len(carried.done), bytes=carried.bytes, there_before=carried.there_before, rows=rows,
        to=f"{place}, snapshots in {shelf.place}" if shelf else place,
    )  # fmt: skip


@contextmanager
def _new(there: BaseWorkspace) -> Iterator[Database]:
    """The catalogue that is carried to; of SQLite a new file, which takes its place at the end."""
    if there.server is not None:
        yield there.catalogue.database
        return
    from concordex.landing import landing
    from concordex.store.sqlite import SqliteDatabase

    if there.catalogue_file.exists():
        raise StoreError(f"{there.catalogue_file} is there already", advice="set it aside: it may be of another time")
    with landing(there.catalogue_file, private=True) as making:
        database = Catalogue(partial(SqliteDatabase, making), write=True).database
        yield database
        database.run("PRAGMA journal_mode=DELETE")  # one file, which can be put into place as a whole
        database.close()


class _Files:
    """The files that a catalogue names, brought to where they are to be; what is there is only looked at."""

    def __init__(self, here: BaseWorkspace, shelf: Shelf | None, progress: Counted) -> None:
        self._here, self._shelf, self._progress = here, shelf, progress
        self.done: set[str] = set()
        self.bytes = self.there_before = 0

    def bring(self) -> None:
        catalogue, frames = self._here.catalogue, self._here.frames
        names = sorted({*catalogue.all_files(), *catalogue.named_files()} - self.done)
        with TemporaryDirectory(prefix=".move-", dir=self._here.store) as scratch:
            for number, name in enumerate(names, 1):
                if (fault := frames.damage(name)) is not None:
                    raise StoreError(f"{name} is {fault}", advice="concordex mend, and then once more: what came stays")
                self._bring(frames, name, Path(scratch) / "back")
                self._progress(number, len(names))
                self.done.add(name)

    def _bring(self, frames: Frames, name: str, back: Path) -> None:
        file = frames.file(name)  # of what was shared, a copy here
        size, digest = file.stat().st_size, digest_of(file)
        self.bytes += size
        if self._shelf is None:
            return
        if self._shelf.size(name) == size and self._is_there(name, digest, back):
            self.there_before += 1
            return
        self._shelf.put(file, name)
        if not self._is_there(name, digest, back):
            raise StoreError(
                f"{name} did not arrive in {self._shelf.place} as it was", advice="once more; what came stays"
            )

    def _is_there(self, name: str, digest: str, back: Path) -> bool:
        assert self._shelf is not None
        self._shelf.get(name, back)
        return digest_of(back) == digest


def refuse_while_busy(workspace: BaseWorkspace, what: str) -> None:
    """Raise Stopped where something runs in the workspace; ``what`` is done while nothing does."""
    in_progress.settle(workspace)
    busy = [f"pull {row['id']}" for row in workspace.catalogue.running()]
    busy += [f"change {row['id']}" for row in workspace.changes() if row["state"] == "running"]
    busy += [f"run {run.id} of {run.job}" for run in workspace.catalogue.runs.running()
             if workspace.locks.is_held_for(f"{run.job} {run.part}".rstrip())]  # fmt: skip
    busy += ["concordex work"] if workspace.locks.is_held_for("") else []
    if busy:
        raise Stopped(f"{', '.join(busy)} runs: {what} while nothing does", advice="end it, or wait for it")


def _say(workspace: BaseWorkspace, settings: dict[str, Any]) -> None:
    """Let ``concordex.yaml`` say where the store is."""

    def put(document: Any) -> None:
        document.pop("store", None)
        if settings:
            document["store"] = settings
        check_whole(workspace.root, parse_yaml(yaml_text(document), FILE))

    alter(workspace, workspace.root / FILE, put)
