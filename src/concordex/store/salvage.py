"""A catalogue that can no longer be read, made anew of what of it still can."""

from __future__ import annotations

import shutil
import sqlite3
from collections.abc import Iterator
from contextlib import closing, suppress
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import Any

from concordex.landing import landing
from concordex.store.catalogue import Catalogue
from concordex.store.sqlite import SqliteDatabase

#: What SQLite keeps beside a file (its write-ahead log).
_BESIDE = ("-wal", "-shm")


def is_emptied(path: Path) -> bool:
    """Whether a catalogue holds nothing at all, as when a disk was full or another process has just begun it."""
    return path.is_file() and path.stat().st_size == 0 and not path.with_name(f"{path.name}-wal").is_file()


def fault_in(path: Path) -> str | None:
    """What is wrong with a catalogue, in SQLite's own words; nothing where all of its pages hold together."""
    if not path.is_file():
        return "gone"
    if is_emptied(path):
        return "empty"
    try:
        with closing(_reading(path)) as old:
            faults = [str(row[0]) for row in old.execute("PRAGMA quick_check(1)")]
    except sqlite3.Error as error:
        return str(error)
    return None if faults == ["ok"] else faults[0]


def renew(path: Path) -> tuple[Path | None, dict[str, int]]:
    """Put a new catalogue in the place of a damaged one, with every row that can still be read.

    Where the old one lies now, and how many rows of each table were saved.
    """
    saved = {}
    aside = _set_aside(path)
    with landing(path, private=True) as making:
        with closing(Catalogue(partial(SqliteDatabase, making), write=True).database) as new:
            for table in new.tables():
                known = new.columns_of(table)
                count = 0
                for row in _rows(aside, table) if aside else ():
                    names = [name for name in row if name in known]
                    places = ", ".join("?" * len(names))
                    sql = f"INSERT OR IGNORE INTO {table} ({', '.join(names)}) VALUES ({places})"  # noqa: S608
                    count += new.run(sql, [row[name] for name in names])
                saved[table] = count
            new.run("PRAGMA journal_mode=DELETE")  # one file, which can be put into place as a whole
        for end in _BESIDE:
            path.with_name(path.name + end).unlink(missing_ok=True)
    return aside, saved


def _set_aside(path: Path) -> Path | None:
    """A copy of the old file and what belongs to it; nothing that was there is lost."""
    if not path.is_file():
        return None
    aside = path.with_name(f"{path.name}.damaged-{datetime.now(UTC):%Y%m%dT%H%M%S%f}")
    for end in ("", *_BESIDE):
        with suppress(FileNotFoundError):
            shutil.copy2(path.with_name(path.name + end), aside.with_name(aside.name + end))
    return aside


def _rows(path: Path, table: str) -> Iterator[dict[str, Any]]:
    """The rows of a table from its beginning up to where it cannot be read, and from its end back to there."""
    for order in ("", " ORDER BY rowid DESC"):
        try:
            with closing(_reading(path)) as old:
                old.row_factory = sqlite3.Row
                for row in old.execute(f"SELECT * FROM {table}{order}"):  # noqa: S608 - a name of our own
                    yield dict(row)
        except sqlite3.Error:
            continue
        return


def _reading(path: Path) -> sqlite3.Connection:
    return sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True, timeout=30)
