"""A whole workspace in one file, made while others work, and brought back where every byte is as it was.

A tar archive (IEEE Std 1003.1, pax) with a list of its files and their SHA-256 as its last member, and no secrets.
"""

from __future__ import annotations

import hashlib
import io
import os
import sqlite3
import tarfile
import tempfile
from collections.abc import Iterator
from contextlib import closing, suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath
from typing import IO, TYPE_CHECKING, Any

import orjson

from concordex.errors import CalledWrongly, StoreError
from concordex.version import __version__
from concordex.work.workspace.base import STORE
from concordex.work.workspace.copied import copy_catalogue

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: The list of all files, which stands at the end: without it an archive is cut off.
_LIST = "concordex-backup.json"
_CATALOGUE = f"{STORE}/catalogue.sqlite"
#: Of the store what another process holds or made for a while: it means nothing elsewhere.
_NOT = {"locks", "catalogue.sqlite", "catalogue.sqlite-wal", "catalogue.sqlite-shm"}
_PIECE, _TRIES = 1 << 20, 5


@dataclass(frozen=True, kw_only=True)
class BackedUp:
    """What an archive holds: how many files and bytes, when it was made, what was left out."""

    file: Path
    files: int
    bytes: int
    made: datetime
    left_out: tuple[str, ...] = ()


def back_up(workspace: BaseWorkspace, file: Path) -> BackedUp:
    """Write a workspace into a new file, all of it or nothing; raises StoreError where that cannot be.

    The catalogue is copied as it stands at one moment, and every file that it names then: one that is removed
    meanwhile, as by its age, makes it begin anew.
    """
    workspace.allowed.require("see")
    if file.exists():
        raise CalledWrongly(f"{file} is there already", advice="another name, or remove it")
    workspace.store.mkdir(mode=0o700, exist_ok=True)
    for tries in range(_TRIES):
        part = file.with_name(f".{file.name}.part")
        try:
            made = _written(workspace, part, last=tries == _TRIES - 1)
            part.replace(file)
        except _GoneMeanwhile:
            continue
        except (OSError, sqlite3.Error) as error:
            raise StoreError(f"{file} cannot be written", why=str(error), advice="nothing is left of it") from error
        finally:
            part.unlink(missing_ok=True)
        break
    return BackedUp(file=file, files=made["files"], bytes=file.stat().st_size, made=made["made"], left_out=made["out"])


class _GoneMeanwhile(Exception):
    """A file that the copied catalogue names is no longer there."""


def _written(workspace: BaseWorkspace, part: Path, *, last: bool) -> dict[str, Any]:
    moment, known, root = datetime.now(UTC), list[dict[str, Any]](), workspace.root.resolve()
    secret = {
        (root / Path(one.reference[5:]).expanduser()).resolve()
        for one in workspace.secrets.named()
        if one.reference.startswith("file:")
    }
    left: list[str] = []
    with tempfile.TemporaryDirectory(prefix=".backup-", dir=workspace.store) as scratch:
        copied = Path(scratch) / "catalogue.sqlite"
        named = _copy_of_catalogue(workspace, copied)
        if workspace.frames.shelf is not None:
            for name in workspace.catalogue.all_files():
                with suppress(FileNotFoundError):  # one that is missed is missed below
                    workspace.frames.file(name)
        descriptor = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)  # data of devices: for nobody else
        with os.fdopen(descriptor, "wb") as out, tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as tar:
            if named is not None:
                known.append(_add(tar, copied, _CATALOGUE))
            for path, name in _files(workspace, root, Path(scratch), secret, left):
                with suppress(FileNotFoundError):  # one that the catalogue names is missed below
                    known.append(_add(tar, path, name))
            missing = sorted((named or set()) - {one["name"] for one in known})
            if missing and not last:
                raise _GoneMeanwhile
            left += [f"{name}: it is gone, though the catalogue names it" for name in missing]
            about = {"format": 1, "made": moment.isoformat(), "release": __version__, "root": str(root), "files": known}
            told = orjson.dumps(about)
            entry = tarfile.TarInfo(_LIST)
            entry.size, entry.mtime, entry.mode = len(told), int(moment.timestamp()), 0o600
            tar.addfile(entry, io.BytesIO(told))
            tar.close()
            out.flush()
            os.fsync(out.fileno())
    return {"files": len(known), "made": moment, "out": tuple(left)}


def _copy_of_catalogue(workspace: BaseWorkspace, into: Path) -> set[str] | None:
    """Copy the catalogue as it stands at one moment; the files that it names there, or None where there is none."""
    if not workspace.has_catalogue:
        return None
    copy_catalogue(workspace, into)
    with closing(sqlite3.connect(into)) as copy:
        rows = copy.execute("SELECT file FROM snapshots WHERE file IS NOT NULL").fetchall()
    return {f"{STORE}/{row[0]}" for row in rows}


def _files(
    workspace: BaseWorkspace, root: Path, scratch: Path, secret: set[Path], left: list[str]
) -> Iterator[tuple[Path, str]]:
    """The files of a workspace, each with its name in the archive; and which are left out."""
    for folder, folders, files in os.walk(root):
        here = Path(folder)
        is_top, in_store = here == root, here == root / STORE
        folders[:] = sorted(
            name
            for name in folders
            if not (here / name).is_symlink() and here / name != scratch
            and not (is_top and name.startswith(".") and name != STORE)
            and not (in_store and (name in _NOT or name.startswith(".")))
        )  # fmt: skip
        for name in sorted(files):
            path = here / name
            if in_store and name in _NOT:
                continue
            if path.resolve() in secret:
                left.append(f"{path.relative_to(root)}: a secret")
            elif path.is_symlink() or not path.is_file():
                left.append(f"{path.relative_to(root)}: a link, or no ordinary file")
            else:
                yield path, path.relative_to(root).as_posix()


def _add(tar: tarfile.TarFile, path: Path, name: str) -> dict[str, Any]:
    """Add a file as it is while it is read; its name, size and digest."""
    with path.open("rb") as file:
        status = os.fstat(file.fileno())
        entry = tarfile.TarInfo(name)
        entry.size, entry.mtime, entry.mode = status.st_size, int(status.st_mtime), status.st_mode & 0o777
        told = _Digested(file, status.st_size)
        tar.addfile(entry, told)
    return {"name": name, "size": status.st_size, "sha256": told.digest.hexdigest()}


class _Digested:
    """A file that is read once, and digested meanwhile; one that shrinks meanwhile is an error, as it should be."""

    def __init__(self, file: IO[bytes], size: int) -> None:
        self._file, self._left, self.digest = file, size, hashlib.sha256()

    def read(self, size: int = -1) -> bytes:
        """The next piece."""
        piece = self._file.read(min(size, self._left) if size >= 0 else self._left)
        self._left -= len(piece)
        self.digest.update(piece)
        return piece


def check_backup(file: Path) -> BackedUp:
    """Read an archive to its end and hold every file in it against its digest; raises StoreError where one differs."""
    return _read(file, None)


def restore(file: Path, folder: Path) -> BackedUp:
    """Bring a workspace back into a new folder, all of it or nothing."""
    if folder.exists() and any(folder.iterdir()):
        raise CalledWrongly(f"{folder} is there already, and is not empty", advice="name a new folder")
    folder.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(prefix=f".{folder.name}-", dir=folder.parent) as scratch:
        whole = Path(scratch) / "workspace"
        whole.mkdir(mode=0o700)
        told = _read(file, whole)
        if not (whole / "concordex.yaml").is_file():
            raise StoreError(f"{file} holds no workspace: there is no concordex.yaml in it")
        if folder.exists():
            folder.rmdir()
        whole.rename(folder)
    return told


def _read(file: Path, into: Path | None) -> BackedUp:
    found: dict[str, tuple[int, str]] = {}
    about: dict[str, Any] | None = None
    try:
        with tarfile.open(file, "r:") as tar:
            for entry in tar:
                if entry.name == _LIST:
                    held = tar.extractfile(entry)
                    about = orjson.loads(held.read() if held else b"")
                    continue
                _refuse(file, entry)
                held = tar.extractfile(entry)
                assert held is not None
                found[entry.name] = _taken(held, into / entry.name if into else None, entry.mode)
    except (tarfile.TarError, OSError, ValueError, EOFError) as error:
        raise StoreError(f"{file} cannot be read as a backup", why=str(error), advice="nothing was written") from error
    if not isinstance(about, dict) or about.get("format") != 1:
        raise StoreError(f"{file} is no backup of ours, or it is cut off", advice="nothing was written")
    listed = {one["name"]: (one["size"], one["sha256"]) for one in about["files"]}
    bad = sorted({name for name in {*listed, *found} if listed.get(name) != found.get(name)})
    if bad:
        raise StoreError(
            f"{file}: {bad[0]} is not as it was written", why=f"{len(bad)} files", advice="nothing was written"
        )
    made = datetime.fromisoformat(about["made"])
    return BackedUp(file=file, files=len(found), bytes=file.stat().st_size, made=made)


def _refuse(file: Path, entry: tarfile.TarInfo) -> None:
    """Whatever would be written elsewhere than below the folder, or as something else than a file."""
    parts = PurePosixPath(entry.name)
    if not entry.isreg() or parts.is_absolute() or ".." in parts.parts or "\0" in entry.name:
        raise StoreError(f"{file}: {entry.name!r} is no file of a workspace", advice="nothing was written")


def _taken(held: IO[bytes], path: Path | None, mode: int) -> tuple[int, str]:
    digest, size = hashlib.sha256(), 0
    if path is not None:
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    with open(os.devnull, "wb") if path is None else path.open("xb") as out:  # noqa: PTH123
        while piece := held.read(_PIECE):
            digest.update(piece)
            size += len(piece)
            out.write(piece)
    if path is not None:
        path.chmod(mode & 0o777)
    return size, digest.hexdigest()
