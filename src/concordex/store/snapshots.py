"""Parquet files below a workspace, written whole, without secrets of ours, and known by their digests."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager, suppress
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import polars as pl
import xxhash

from concordex.errors import StoreError
from concordex.landing import landing, make_folder
from concordex.model.fields import FIELDS, ORIGINAL
from concordex.store.catalogue import Catalogue, Snapshot
from concordex.unseen import in_frame

if TYPE_CHECKING:
    from concordex.store.shelf import Shelf

#: Small enough that a filter on one site skips most of a sorted file and memory stays flat.
_ROWS = 16_384
#: How files are written that are kept for long.
LASTING: dict[str, Any] = {"row_group_size": _ROWS, "compression": "zstd", "compression_level": 1}
#: Seconds for which a file may be there that is not noted yet.
_UNDER_WAY = 3_600
#: Under which name a file says what it is, for a catalogue that is made anew.
FACTS = "concordex"


def write(frame: pl.DataFrame, path: Path, *, lasting: bool = True, facts: Mapping[str, Any] | None = None) -> str:
    """Write ``frame`` so that a reader finds all of it or nothing; its digest.

    What is not ``lasting`` is made anew often: it is written in half the time, and is half as large again.
    ``facts`` say in the file what it is.
    """
    make_folder(path.parent)
    how: dict[str, Any] = LASTING if lasting else {"row_group_size": 4 * _ROWS, "compression": "lz4"}
    if facts is not None:
        how = {**how, "metadata": {FACTS: json.dumps(facts)}}
    with landing(path, private=True) as making:
        in_frame(frame).write_parquet(making, **how)
        return digest_of(making)


#: The sums of the halves of hashes of 64 bits.
_HALVES = [
    half.sum().alias(f"{seed} {name}")
    for seed in ("3", "5")
    for name, half in (("upper", pl.col(seed) // (1 << 32)), ("lower", pl.col(seed) % (1 << 32)))
]


class Content:
    """A digest of what rows say, whatever their order and however they are divided into frames.

    What systems sent besides does not count.
    """

    def __init__(self) -> None:
        self._sums = [0] * 5
        self._schema: list[tuple[str, str]] = []

    def add(self, frame: pl.DataFrame) -> None:
        """Take some rows into account."""
        values = frame.drop(ORIGINAL, strict=False)
        values = values.select(sorted(values.columns))
        self._schema = [(name, str(kind)) for name, kind in values.schema.items()]
        hashes = pl.DataFrame({str(seed): values.hash_rows(seed=seed) for seed in (3, 5)})
        halves = hashes.select(_HALVES).row(0)  # whose sums are held
        self._sums = [old + new for old, new in zip(self._sums, (frame.height, *halves), strict=True)]

    def digest(self) -> str:
        """The digest of all rows together."""
        return hashlib.sha256(repr((self._schema, self._sums)).encode()).hexdigest()


def content(frame: pl.DataFrame) -> str:
    """A digest of what the rows of ``frame`` say."""
    made = Content()
    made.add(frame)
    return made.digest()


class Frames:
    """The frames that a workspace keeps, each by its name below the store, with its digest in the catalogue."""

    def __init__(
        self, root: Path, memory: Callable[[], Catalogue], catalogue: Callable[[], Catalogue],
        shelf: Shelf | None = None,
    ) -> None:  # fmt: skip
        """``shelf`` is where several machines share them; what is below ``root`` is a copy then."""
        self.root, self._memory, self._catalogue = root, memory, catalogue
        self.shelf = shelf
        self._sound: set[str] = set()

    def write(
        self, frame: pl.DataFrame, name: str, *, lasting: bool = True, facts: Mapping[str, Any] | None = None
    ) -> None:
        """Write ``frame``, and note its digest; of one that says what it is, that of its content as well."""
        digest = write(frame, self.root / name, lasting=lasting, facts=facts)
        self.keep(name, digest, content(frame) if facts is not None else None)

    def keep(self, name: str, digest: str, told: str | None = None) -> None:
        """Note a file that is in place, once all who share it can have it; ``told`` is the digest of its content."""
        if self.shelf is not None:
            self.shelf.put(self.root / name, name)
        self._catalogue().note_file(name, digest, told)

    def file(self, name: str) -> Path:
        """Where the file of that name is here; it is brought here where it is not."""
        if self.shelf is not None and not (self.root / name).is_file():
            self.shelf.get(name, self.root / name)
        return self.root / name

    @contextmanager
    def passing(self, folder: str) -> Iterator[Callable[[str, pl.DataFrame], None]]:
        """What is called with a name and a frame writes it into ``folder``, beside whatever is done meanwhile.

        All of it is written at the end, or nothing is left of it where that does not come.
        """
        under_way: dict[str, Future[str]] = {}

        def write_beside(part: str, frame: pl.DataFrame) -> None:
            name = f"{folder}/{part}.parquet"
            under_way[name] = worker.submit(write, frame, self.root / name, lasting=False)

        with ThreadPoolExecutor(1) as worker:
            try:
                yield write_beside
                digests = {name: done.result() for name, done in under_way.items()}
            except BaseException:
                worker.shutdown(cancel_futures=True)
                shutil.rmtree(self.root / folder, ignore_errors=True)
                raise
        for name, digest in digests.items():
            self.keep(name, digest)

    def vet(self, names: Sequence[str]) -> None:
        """Look at files of those names beforehand, several at a time; those that are as written need no other look."""
        asked = [name for name in names if name not in self._sound]
        expected = [self._memory().digest_of(name) for name in asked]

        def is_sound(name: str, digest: str | None) -> bool:
            try:
                return bool(digest) and self._is_as_written(name, str(digest))
            except OSError:  # gone, or taken away by another process meanwhile
                return False

        with ThreadPoolExecutor(2) as workers:
            self._sound.update(
                name for name, sound in zip(asked, workers.map(is_sound, asked, expected), strict=True) if sound
            )

    def scan(self, name: str, *, held: bool = False) -> pl.LazyFrame:
        """The frame of that name, read as far as it is needed; raises StoreError where its file is not as written.

        What is ``held`` can be read though another process takes the file away meanwhile: it is open until then.
        """
        path, fault = self.root / name, self.damage(name)
        if fault is None and not held:
            return pl.scan_parquet(path)
        if fault is None:
            with suppress(FileNotFoundError), path.open("rb", buffering=0) as file:
                return pl.scan_parquet(file)
        raise StoreError(
            f"{path} is {fault or 'gone'}",
            advice="concordex pull makes a new snapshot, concordex reconcile a new concordance, and concordex mend"
            " sets aside all that is damaged",
        )

    def damage(self, name: str) -> str | None:
        """What is wrong with a file that we wrote: gone, or not as it was written; nothing where all of it is right.

        A file of an earlier release has no digest: it is right where it can be read from both ends.
        """
        if name in self._sound:
            return None
        try:
            pl.read_parquet_schema(self.file(name))
            expected = self._memory().digest_of(name)
            if expected and not self._is_as_written(name, expected):
                return "damaged"
        except FileNotFoundError:
            return "gone"
        except (pl.exceptions.PolarsError, OSError):
            return "damaged"
        self._sound.add(name)
        return None

    def _is_as_written(self, name: str, digest: str) -> bool:
        """Whether a file has its digest; a copy that has not is brought anew, once."""
        if digest_of(self.file(name), like=digest) == digest:
            return True
        if self.shelf is None:
            return False
        self.shelf.get(name, self.root / name)
        return digest_of(self.root / name, like=digest) == digest

    def share(self, name: str, to: str) -> None:
        """Keep a file under another name as well; it is not read, and has the digest that it had."""
        make_folder((self.root / to).parent)
        self.file(name)
        try:
            os.link(self.root / name, self.root / to)
        except OSError:  # not every file system gives a file two names
            with landing(self.root / to, private=True) as making:
                shutil.copyfile(self.root / name, making)
        if self.shelf is not None:
            self.shelf.copy(name, to)
        self._catalogue().note_file(to, self._memory().digest_of(name) or digest_of(self.root / to))

    def content_of(self, name: str) -> str | None:
        """The digest of what the rows of a file say; none where an earlier release wrote it."""
        return self._memory().content_of(name)

    def known(self, name: str) -> bool:
        """Whether a frame of that name was kept, be its file there or not."""
        return (self.root / name).is_file() or self._memory().digest_of(name) is not None

    def vouch(self, name: str) -> None:
        """Take a file for right as it stands now."""
        self._catalogue().note_file(name, digest_of(self.root / name))

    def set_aside(self, name: str) -> None:
        """Keep a file out of use, under another name."""
        path = self.root / name
        with suppress(FileNotFoundError):
            path.replace(path.with_name(f"{path.name}.damaged"))
        if self.shelf is not None:
            with suppress(FileNotFoundError):
                self.shelf.copy(name, f"{name}.damaged")
                self.shelf.remove(name)

    def sweep(self, folder: str, since: datetime) -> None:
        """Remove what was begun below ``folder`` and never finished: none of it is known, or was touched ``since``."""
        if not (self.root / folder).is_dir():
            return
        for path in sorted((self.root / folder).iterdir()):
            name = f"{folder}/{path.name}"
            with suppress(OSError):  # another process may be as tidy
                if path.stat().st_mtime < since.timestamp() and not self._catalogue().files_in(name):
                    self.forget(name)

    def forget(self, name: str) -> None:
        """Remove a file, or a folder of files, that nothing refers to any more."""
        if (self.root / name).is_dir():
            shutil.rmtree(self.root / name, ignore_errors=True)
        else:
            (self.root / name).unlink(missing_ok=True)
        self._catalogue().forget_digests(name)
        if self.shelf is not None:
            self.shelf.remove(name)

    def forget_copies(self, folder: str) -> None:
        """Remove the copies below ``folder`` of what other machines have forgotten; what is shared is not asked for."""
        if self.shelf is None:
            return
        known = set(self._catalogue().all_files())
        for path in sorted((self.root / folder).rglob("*.parquet")):
            if path.relative_to(self.root).as_posix() not in known and time.time() - path.stat().st_mtime > _UNDER_WAY:
                path.unlink(missing_ok=True)

    def together(self, snapshots: Sequence[Snapshot]) -> pl.LazyFrame:
        """Snapshots of one table from several systems as one frame, with the ``system`` first."""
        frames = [
            self.scan(snapshot.file).with_columns(pl.lit(snapshot.system).alias("system"))
            for snapshot in snapshots
            if snapshot.file
        ]
        if not frames:
            return pl.LazyFrame(schema={"system": pl.String, **{n: t.dtype for n, t in FIELDS.items()}})
        return join(frames)


def facts_of(path: Path) -> dict[str, Any] | None:
    """What a file says that it is; nothing where it says nothing, or cannot be read."""
    try:
        facts = json.loads(pl.read_parquet_metadata(path).get(FACTS, "null"))
    except (pl.exceptions.PolarsError, OSError, ValueError):
        return None
    return facts if isinstance(facts, dict) else None


def digest_of(path: Path, like: str | None = None) -> str:
    """The digest of a file: XXH3 of 128 bits, which is against damage; nobody is kept from writing another.

    Where one of an earlier release is to be compared with, SHA-256 (FIPS 180-4) as that was: it takes forty times as
    long.
    """
    made: Callable[[], Any] = hashlib.sha256 if len(like or "") == hashlib.sha256().digest_size * 2 else xxhash.xxh3_128
    with path.open("rb", buffering=0) as file:
        return str(hashlib.file_digest(file, made).hexdigest())


def beside(name: str) -> str:
    """The file that keeps the keys of the records that were left out of a snapshot."""
    return f"{name.removesuffix('.parquet')}.keys.parquet"


def join(frames: Sequence[pl.LazyFrame]) -> pl.LazyFrame:
    """Frames of one table, each with its ``system``, below each other; columns in our order."""
    joined = pl.concat(frames, how="diagonal_relaxed") if len(frames) > 1 else frames[0]
    names = joined.collect_schema().names()
    ordered = [*(n for n in ("change", "system") if n in names), *(n for n in FIELDS if n in names)]
    if "what" in names:
        ordered.insert(6, "what")
    rest = [n for n in names if n not in ordered and n != ORIGINAL]
    return joined.select(*ordered, *rest, *([ORIGINAL] if ORIGINAL in names else []))
