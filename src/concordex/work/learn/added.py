"""Dialects that somebody else made, taken into a workspace: looked at first, bounded, and never over what is there."""

from __future__ import annotations

import re
import shutil
import tarfile
import zipfile
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING

from concordex.errors import CalledWrongly, DocumentError
from concordex.landing import landing, make_folder
from concordex.wire.dialect import load
from concordex.wire.dialect.packages import packaged

if TYPE_CHECKING:
    from concordex.wire.dialect import Dialect

#: How large a dialect and a recording may be, in bytes, and how many files there may be: nobody writes more by hand.
_DIALECT, _RECORDING, _MANY = 1_000_000, 64_000_000, 200
#: What is taken of a folder or an archive: dialects, and recordings with what they should give.
_WANTED = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]*\.(yaml|har|expected\.ndjson|openapi\.json)")


@dataclass(frozen=True)
class Offered:
    """What is to be taken: dialects by their names, and every file by its name below ``dialects/``."""

    dialects: Mapping[str, Dialect]
    files: Mapping[str, bytes]


def offered(folder: Path, source: Path) -> Offered:
    """What a file, a folder, an archive or an installed package holds, for ``folder``; nothing is written.

    Raises CalledWrongly where something is there already, or would stand in the way of a shipped dialect, and
    DocumentError where a dialect is faulty.
    """
    files = _files(source if source.exists() else _of_package(str(source)) or source)
    names = [Path(name).stem for name in files if name.endswith(".yaml")]
    if not names:
        raise CalledWrongly(f"{source} holds no dialect (.yaml)")
    for name in names:
        there = folder / f"{name}.yaml"
        if there.is_file() and there.read_bytes() != files[f"{name}.yaml"]:
            raise CalledWrongly(f"{there} is there already, and is another one", advice="rename one of them")
        if name in load.shipped():
            raise CalledWrongly(
                f"{name} is the name of a dialect that ships with the program", advice="give the file another name"
            )
    return Offered(_read(folder, files, names, source), files)


def _of_package(name: str) -> Path | None:
    """The folder of an installed package that brings dialects; it is not run."""
    plain = re.sub(r"[-_.]+", "-", name).lower()  # as packages are compared (PyPA, name normalization)
    brought = (one for one in packaged().values() if re.sub(r"[-_.]+", "-", one.package).lower() == plain)
    return next((one.file.parent for one in brought), None)


def _files(source: Path) -> dict[str, bytes]:
    files: dict[str, bytes] = {}
    for name, content in _members(source):
        own = name if name.endswith((".yaml", ".openapi.json")) else f"tests/{name}"
        if name.endswith(".yaml") and len(content) > _DIALECT:
            raise CalledWrongly(f"{name} in {source} is larger than {_DIALECT:,} bytes: it is not taken")
        if own in files:
            raise CalledWrongly(f"{source} holds two files that are called {name}")
        files[own] = content
        if len(files) > _MANY:
            raise CalledWrongly(f"{source} holds more than {_MANY} files: it is not taken")
    return files


def _read(folder: Path, files: Mapping[str, bytes], names: list[str], source: Path) -> dict[str, Dialect]:
    """The dialects, read where nothing but them and what they may extend stands."""
    with TemporaryDirectory() as made:
        place = Path(made)
        for pattern in ("*.yaml", "*.openapi.json") if folder.is_dir() else ():
            for file in folder.glob(pattern):
                shutil.copyfile(file, place / file.name)
        for name, content in files.items():
            if name.endswith((".yaml", ".openapi.json")):
                (place / name).write_bytes(content)
        try:
            return {name: load.find(name, place) for name in names}
        except DocumentError as error:
            raise CalledWrongly(f"a dialect in {source} is faulty", why=str(error).replace(f"{place}/", "")) from error


def take(folder: Path, offer: Offered) -> list[Path]:
    """Write what was offered below ``folder``; the files that were written."""
    written = []
    for name, content in offer.files.items():
        path = folder / name
        make_folder(path.parent)
        with landing(path) as making:
            making.write_bytes(content)
        written.append(path)
    return written


def _members(source: Path) -> Iterator[tuple[str, bytes]]:
    """The wanted files of a source, by their bare names."""
    try:
        if source.is_dir():
            yield from _of_folder(source)
        elif not source.is_file():
            raise CalledWrongly(
                f"there is no {source}",
                advice="a file, a folder, an archive (.zip, .whl, .tar.gz), or an installed package",
            )
        elif zipfile.is_zipfile(source):
            yield from _of_zip(source)
        elif tarfile.is_tarfile(source):
            yield from _of_tar(source)
        else:
            yield source.name, _bounded(source.name, source.stat().st_size, source.read_bytes)
    except (zipfile.BadZipFile, tarfile.TarError, OSError, EOFError) as error:
        raise CalledWrongly(f"{source} cannot be read", why=str(error)) from error


def _of_folder(source: Path) -> Iterator[tuple[str, bytes]]:
    for file in sorted(source.rglob("*")):
        if file.is_file() and not file.is_symlink() and _WANTED.fullmatch(file.name):
            yield file.name, _bounded(file.name, file.stat().st_size, file.read_bytes)


def _of_zip(source: Path) -> Iterator[tuple[str, bytes]]:
    with zipfile.ZipFile(source) as archive:
        for entry in archive.infolist():
            name = entry.filename.rpartition("/")[2]
            if not entry.is_dir() and _WANTED.fullmatch(name):
                yield name, _bounded(name, entry.file_size, partial(archive.read, entry))


def _of_tar(source: Path) -> Iterator[tuple[str, bytes]]:
    """Regular files alone: no link leads anywhere."""
    with tarfile.open(source) as archive:
        for member in archive:
            name = member.name.rpartition("/")[2]
            file = archive.extractfile(member) if member.isreg() and _WANTED.fullmatch(name) else None
            if file is not None:
                yield name, _bounded(name, member.size, file.read)


def _bounded(name: str, size: int, read: Callable[[], bytes]) -> bytes:
    if size > _RECORDING:
        raise CalledWrongly(f"{name} is larger than {_RECORDING:,} bytes: it is not taken")
    return read()
