"""Files that are written whole: whoever reads one finds what was there or what is new, and never a part of it."""

from __future__ import annotations

import os
import secrets
import stat
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from tempfile import NamedTemporaryFile

from concordex.errors import StoreError

#: What only its owner may read and write.
PRIVATE = 0o600

#: Seconds after which a file that nobody writes to is one that nobody will finish.
_ABANDONED = 3_600
#: And after which it is so, whoever bears the number of its process: the first of a container has that of the last.
_LONG_ABANDONED = 86_400


@contextmanager
def landing(path: Path, *, private: bool = False, lasting: bool = True) -> Iterator[Path]:
    """A new file beside ``path`` for the block to fill; when that ends well it is on the disk, and takes its place.

    It is ``private``, or has the mode of the file that was there, or that of the person's other files.  A link stays
    one; what is no file, such as a device or a pipe, is written to and stays what it is.  What is not ``lasting`` is
    not waited for until it is on the disk: something else tells whether it is whole.  Raises StoreError where it cannot
    be written; what was there is untouched then.
    """
    try:
        if path.exists() and not path.is_file() and not path.is_dir():
            with _passed_on(path) as making:
                yield making
            return
        target = path.resolve()
        # not longer than names may be; and another than what a killed process left that bore the same number
        making = target.with_name(f".{os.getpid()}-{secrets.token_hex(4)}.new")
        os.close(os.open(making, os.O_WRONLY | os.O_CREAT | os.O_EXCL, PRIVATE if private else 0o666))
        try:
            if not private and target.exists():
                making.chmod(stat.S_IMODE(target.stat().st_mode))
            yield making
            if lasting:
                to_disk(making)
            making.replace(target)
            if lasting:
                to_disk(target.parent)
        finally:
            making.unlink(missing_ok=True)
    except OSError as error:
        raise _unwritable(path, error) from error


@contextmanager
def _passed_on(target: Path) -> Iterator[Path]:
    """A file for the block to fill, whose content is then written to what is no file."""
    with NamedTemporaryFile() as making:
        yield Path(making.name)
        content = Path(making.name).read_bytes()
    with target.open("wb") as out:
        out.write(content)


def make_folder(folder: Path) -> None:
    """Make a folder, and those above it, where they are not there."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise _unwritable(folder, error) from error


def write_text(path: Path, text: str, *, private: bool = False, lasting: bool = True) -> None:
    """Write ``text`` as UTF-8, whole or not at all."""
    with landing(path, private=private, lasting=lasting) as making:
        making.write_bytes(text.encode())


def sweep(folder: Path) -> None:
    """Remove what killed processes had begun below a folder; not what may be written by another machine now."""
    for here, _, names in os.walk(folder):
        for name in names:
            if name.startswith(".") and name.endswith(".new") and "-" in name:
                path = Path(here, name)
                with suppress(OSError, ValueError):
                    age, process = time.time() - path.stat().st_mtime, int(name[1:].partition("-")[0])
                    if age > _LONG_ABANDONED or (age > _ABANDONED and not is_alive(process)):
                        path.unlink()


def is_alive(process: int) -> bool:
    """Whether a process of this machine runs."""
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        pass
    return True


def to_disk(path: Path) -> None:
    """Wait until the disk has a file, or what a folder says of its files."""
    number = os.open(path, os.O_RDONLY)
    try:
        os.fsync(number)
    finally:
        os.close(number)


def _unwritable(path: Path, error: OSError) -> StoreError:
    advice = "may this user write there, and is there room?"
    return StoreError(f"{path} cannot be written", why=error.strerror or str(error), advice=advice)
