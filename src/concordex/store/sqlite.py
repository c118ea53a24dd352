"""The catalogue in a file of SQLite."""

from __future__ import annotations

import json
import sqlite3
import weakref
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from concordex.errors import StoreError
from concordex.store.database import Database, DatabaseRow

#: A call that is made inside a running event loop works in a thread of its own, and whoever made it waits (see
#: :mod:`concordex.parallel`): one thread at a time.
_OPENED: dict[str, Any] = {"timeout": 30, "isolation_level": None, "check_same_thread": False}
#: Seconds for which a new file is waited for that another process is just giving its form.
_PATIENCE = 30.0


class SqliteDatabase(Database):
    """One SQLite file, opened for writing where that is possible and for reading where it is not."""

    def __init__(self, path: Path, schema: str, *, write: bool, version: int = 1) -> None:
        self.path, self.place = path, str(path)
        try:
            self._connection = self._open(path, schema, write=write)
            if write:  # whoever only reads is told where it stumbles; nothing is added to what does not hold together
                ((verdict,),) = self._connection.execute("PRAGMA quick_check(1)")
                if verdict != "ok":
                    raise sqlite3.DatabaseError(verdict)
            stored = int(self._connection.execute("PRAGMA user_version").fetchone()[0])
            if write and stored < version:
                self._connection.execute(f"PRAGMA user_version = {version}")
        except (sqlite3.Error, OSError) as error:
            raise self._fault(error) from error
        weakref.finalize(self, self._connection.close)  # at the end of the process as well: others need its last word
        if stored > version:
            raise StoreError(
                f"the catalogue {path} was made by a later release, and this one cannot read it",
                advice="use that release here, or another workspace",
            )

    @classmethod
    def empty(cls, schema: str, place: str) -> SqliteDatabase:
        """What stands for a database that nobody has made yet, for whoever reads it."""
        made = cls.__new__(cls)
        made.path, made.place, made.unmade = Path(place), place, True
        made._connection = made._in_memory(schema)
        return made

    @staticmethod
    def _in_memory(schema: str) -> sqlite3.Connection:
        connection: sqlite3.Connection = sqlite3.connect(":memory:", **_OPENED)
        connection.executescript(schema)
        connection.row_factory = sqlite3.Row
        return connection

    def _open(self, path: Path, schema: str, *, write: bool) -> sqlite3.Connection:
        if write:
            path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            path.touch(mode=0o600)
            connection: sqlite3.Connection = sqlite3.connect(path, **_OPENED)
            _write_ahead(connection)
            connection.execute("PRAGMA synchronous=FULL")
            connection.executescript(f"BEGIN IMMEDIATE; {schema}; COMMIT")  # whoever reads sees all of it, or nothing
        else:
            connection = sqlite3.connect(self._reading(path), uri=True, **_OPENED)
            if connection.execute("SELECT 1 FROM sqlite_master").fetchone() is None:
                connection.close()
                self.unmade = True
                return self._in_memory(schema)
        connection.row_factory = sqlite3.Row
        return connection

    def _reading(self, path: Path) -> str:
        """A folder that cannot be written has no room for a log beside the file: read it as it stands."""
        import os

        frozen = "" if os.access(path.parent, os.W_OK) else "&immutable=1"
        return f"{path.resolve().as_uri()}?mode=ro{frozen}"

    def _fault(self, error: Exception) -> StoreError:
        advice = "may this user write there, and is there room? The workspace's own files are not touched."
        if isinstance(error, sqlite3.DatabaseError) and not isinstance(error, sqlite3.OperationalError):
            advice = (
                "concordex mend rebuilds it from all that can still be read;"
                " decisions and settings are kept in other files"
            )
        return StoreError(f"the catalogue {self.path} cannot be used", why=str(error), advice=advice)

    def rows(self, sql: str, values: Sequence[Any] | Mapping[str, Any] = ()) -> list[DatabaseRow]:
        """What a query finds."""
        try:
            return [dict(row) for row in self._connection.execute(sql, values)]
        except sqlite3.Error as error:
            raise self._fault(error) from error

    def tuples(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """What a query finds, in the order of its columns: of many thousand rows in a third of the time."""
        try:
            cursor = self._connection.cursor()
            cursor.row_factory = None
            return cursor.execute(sql, values).fetchall()
        except sqlite3.Error as error:
            raise self._fault(error) from error

    def run(self, sql: str, values: Sequence[Any] = ()) -> int:
        """Run one statement; how many rows it touched."""
        try:
            return self._connection.execute(sql, values).rowcount
        except sqlite3.Error as error:
            raise self._fault(error) from error

    def run_many(self, sql: str, rows: Iterable[Sequence[Any]]) -> None:
        """Run one statement for each of many rows."""
        try:
            self._connection.executemany(sql, rows)
        except sqlite3.Error as error:
            raise self._fault(error) from error

    @contextmanager
    def steady(self, *, alone: bool = False) -> Iterator[None]:
        """All that is read inside is of one moment; ``alone``, nobody writes meanwhile."""
        self.run("BEGIN IMMEDIATE" if alone else "BEGIN")
        try:
            yield
            self._connection.commit()  # nothing, unless it was retired
        except BaseException:
            self._connection.rollback()
            raise

    def retire(self) -> None:
        """Within ``steady(alone=True)``: nobody can write here any more when that ends, not even who waits to."""
        for table in self.tables():
            self.run(f"DROP TABLE {table}")

    def in_pieces(self, sql: str, rows: int) -> Iterator[list[tuple[Any, ...]]]:
        """What a query finds, so many rows at a time."""
        try:
            cursor = self._connection.cursor()
            cursor.row_factory = None
            cursor.execute(sql)
            while piece := cursor.fetchmany(rows):
                yield piece
        except sqlite3.Error as error:
            raise self._fault(error) from error

    def columns_of(self, table: str) -> set[str]:
        """The columns of a table; none where it is not there."""
        return {str(row["name"]) for row in self.rows(f"PRAGMA table_info({table})")}

    def tables(self) -> list[str]:
        """The tables that are there, in the order of their names."""
        sql = "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%' ORDER BY name"
        return [str(row["name"]) for row in self.rows(sql)]

    def among(self, numbers: Sequence[int]) -> tuple[str, Any]:
        """What stands after ``IN`` for one of some numbers, and its value."""
        return "(SELECT value FROM json_each(?))", json.dumps(list(numbers))

    def renumber(self, table: str) -> None:
        """Nothing: the next row is always numbered after the last."""

    def moment(self) -> str:
        """What time it is here."""
        return datetime.now(UTC).isoformat()

    @contextmanager
    def atomic(self) -> Iterator[None]:
        """All that is run inside holds together, or not at all; blocks nest."""
        if self._connection.in_transaction:
            yield
            return
        self.run("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            self._connection.rollback()
            raise
        try:
            self._connection.commit()
        except sqlite3.Error as error:
            raise self._fault(error) from error

    def close(self) -> None:
        """Let go of the file."""
        self._connection.close()


def _write_ahead(connection: sqlite3.Connection) -> None:
    """Let a database be read while it is written to; to become so it waits for nobody by itself."""
    if connection.execute("PRAGMA journal_mode").fetchone()[0] == "wal":
        return
    from concordex.again import retry_context

    for attempt in retry_context(on=_is_busy, attempts=None, timeout=_PATIENCE, wait_initial=0.01):
        with attempt:
            connection.execute("PRAGMA journal_mode=WAL")


def _is_busy(error: Exception) -> bool:
    return isinstance(error, sqlite3.OperationalError) and error.sqlite_errorcode & 0xFF == sqlite3.SQLITE_BUSY
