"""Files that several machines share: a folder that all see, or an object store, spoken to by fsspec.

Every machine has its own copy of what it uses, below its workspace; what it takes from the shelf is held against the
digest that the catalogue has.  What is put there is looked at afterwards, and named in the catalogue only then.
"""

from __future__ import annotations

import os
import secrets
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property, partial
from pathlib import Path
from typing import Any, Protocol

from concordex.errors import StoreError
from concordex.landing import landing, make_folder, sweep, to_disk

#: Tries for what may pass, such as 503, and the seconds before the second.
_TRIES, _WAIT = 6, 0.3
#: What an object store that is busy or away makes of a call, beside errors of the system.
_PASSING = ("ClientError", "BotoCoreError", "ClientConnectorError", "HTTPClientError", "ServerTimeoutError")
_REFUSED = ("403", "AccessDenied", "Forbidden", "InvalidAccessKeyId", "SignatureDoesNotMatch", "NoSuchBucket")


@dataclass(frozen=True, kw_only=True)
class ShelfPlace:
    """Where a shelf is, and as whom to go there."""

    at: str
    endpoint: str | None = None
    key_id: str | None = None
    key: str | None = None
    ca: str | None = None


class Shelf(Protocol):
    """What is done with files that are shared; names are those that they have below the store."""

    place: str

    def put(self, file: Path, name: str) -> None:
        """Bring a file there, whole or not at all."""

    def get(self, name: str, to: Path) -> None:
        """Bring a file here; raises FileNotFoundError where it is not there."""

    def copy(self, name: str, to: str) -> None:
        """Have a file there under another name as well."""

    def remove(self, name: str) -> None:
        """Take away a file, or a folder of files; what is not there is gone already."""

    def size(self, name: str) -> int | None:
        """How many bytes a file has; None where it is not there."""

    def names(self, folder: str) -> Iterator[str]:
        """The files below a folder."""


def shelf(place: ShelfPlace) -> Shelf:
    """The shelf at a place."""
    if not place.at.startswith("s3://"):
        return _Shelf(place.at, _folder, Path(place.at).resolve().as_posix())
    return _Shelf(place.at, partial(_object_store, place), place.at.removeprefix("s3://").rstrip("/"))


def _folder() -> Any:
    from fsspec.implementations.local import LocalFileSystem

    return LocalFileSystem(auto_mkdir=True)


def _object_store(place: ShelfPlace) -> Any:
    try:
        from s3fs import S3FileSystem
    except ImportError as error:
        advice = "pip install 'concordex[s3]'"
        raise StoreError("snapshots in an object store need a further package", advice=advice) from error
    client = {"endpoint_url": place.endpoint, "verify": place.ca} if place.ca else {"endpoint_url": place.endpoint}
    opened = S3FileSystem(
        key=place.key_id, secret=place.key, client_kwargs=client, use_listings_cache=False, skip_instance_cache=True,
        config_kwargs={"retries": {"max_attempts": 1}, "connect_timeout": 10, "read_timeout": 60},
    )  # fmt: skip
    opened.retries = 1  # what may pass is tried again in one place, below
    return opened


class _Shelf:
    def __init__(self, place: str, opened: Callable[[], Any], root: str) -> None:
        self.place, self._opened, self._root = place, opened, root

    @cached_property
    def _system(self) -> Any:
        """What speaks to it; its library is slow to come, and what is here already needs none."""
        return self._opened()

    def put(self, file: Path, name: str) -> None:
        size = file.stat().st_size

        def bring() -> None:
            if self._is_folder:
                self._land(file, name)
            else:
                self._system.put_file(str(file), self._at(name))
            if (found := self.size(name)) != size:
                raise OSError(f"of {size} bytes {found or 0} arrived")

        self._tried(name, bring, there=False)

    def _land(self, file: Path, name: str) -> None:
        """Into a folder, where whoever reads finds a file whole or not at all."""
        target = Path(self._at(name))
        making = target.with_name(f".{os.getpid()}-{secrets.token_hex(4)}.new")  # other machines have the same numbers
        try:
            self._system.put_file(str(file), str(making))
            to_disk(making)
            making.replace(target)
        finally:
            making.unlink(missing_ok=True)
        sweep(target.parent)  # what a killed process of any machine had begun

    def get(self, name: str, to: Path) -> None:
        make_folder(to.parent)
        with landing(to, private=True, lasting=False) as making:
            self._tried(name, lambda: self._system.get_file(self._at(name), str(making)))

    def copy(self, name: str, to: str) -> None:
        self._tried(to, lambda: self._system.cp_file(self._at(name), self._at(to)))

    def remove(self, name: str) -> None:
        with suppress(FileNotFoundError):
            self._tried(name, lambda: self._system.rm(self._at(name), recursive=True))

    def size(self, name: str) -> int | None:
        try:
            return int(self._system.info(self._at(name))["size"])
        except FileNotFoundError:
            return None

    def names(self, folder: str) -> Iterator[str]:
        found: list[str] = []
        with suppress(FileNotFoundError):
            self._tried(folder, lambda: found.extend(self._system.find(self._at(folder))))
        yield from (path[len(self._root) + 1 :] for path in found)

    @property
    def _is_folder(self) -> bool:
        return not self.place.startswith("s3://")

    def _at(self, name: str) -> str:
        return f"{self._root}/{name}"

    def _tried(self, name: str, call: Callable[[], Any], *, there: bool = True) -> None:
        """Do something, once more for a while where it may pass; raises StoreError.

        Of what should be ``there``, FileNotFoundError says that it is not; else it is the bucket or the folder.
        """
        from concordex.again import retry_context

        try:
            for attempt in retry_context(on=_may_pass, attempts=_TRIES, timeout=None, wait_initial=_WAIT):
                with attempt:
                    call()
        except Exception as error:
            if not _is_of_the_store(error) or (there and isinstance(error, FileNotFoundError)):
                raise
            raise StoreError(
                f"the snapshots at {self.place} cannot be used ({name})",
                why=_told(error),
                advice="is it up, and may this machine read and write there? concordex doctor looks",
            ) from error


def _is_of_the_store(error: Exception) -> bool:
    return isinstance(error, OSError) or any(kind.__name__ in _PASSING for kind in type(error).__mro__)


def _may_pass(error: Exception) -> bool:
    """Whether to try once more: not where a file is not there, or this machine may not."""
    if isinstance(error, FileNotFoundError | PermissionError | NotADirectoryError) or not _is_of_the_store(error):
        return False
    return not any(word in str(error) for word in _REFUSED)


def _told(error: Exception) -> str:
    return " ".join((getattr(error, "strerror", None) or str(error) or type(error).__name__).split())
