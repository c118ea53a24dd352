"""The catalogue in a schema of a PostgreSQL database, which several machines share.

The driver binds values on our side where a statement may say ``? IS NULL``, whose type the server could not tell.
Whatever may be done once more waits for a server that is restarted; what may not says that nobody knows.
"""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from hashlib import sha256
from threading import RLock
from typing import TYPE_CHECKING, Any

from concordex.errors import StoreError
from concordex.store.database import Database, DatabaseLost, DatabaseRow, Made
from concordex.store.sqlite import SqliteDatabase

if TYPE_CHECKING:
    import psycopg

#: Seconds for which a server that does not answer is waited for: a restart takes a few.
PATIENCE = 60.0
#: The same of one that has not answered yet: its address may be wrong.
FIRST = 5.0
#: The release of the schema below.
_VERSION = 1
_VALUE = re.compile(r"'[^']*'|\?|(?<!:):([a-z_]+)|%")
#: So that a machine that lost its power is known to be gone within seconds, on both sides.
_ALIVE: dict[str, Any] = {
    "keepalives": 1, "keepalives_idle": 5, "keepalives_interval": 2, "keepalives_count": 3, "connect_timeout": 10,
}  # fmt: skip
_ALIVE_THERE = ("tcp_keepalives_idle = 5", "tcp_keepalives_interval = 2", "tcp_keepalives_count = 3")
#: Statements that come to the same when they are run again.
_AGAIN = ("SELECT", "UPDATE", "DELETE")


@dataclass(frozen=True, kw_only=True)
class Server:
    """Where a shared catalogue is: an address without a password, and the schema that is ours alone."""

    url: str
    schema: str
    password: str | None = None

    @property
    def place(self) -> str:
        """The address and the schema, as people are told."""
        return f"{self.url} ({self.schema})"

    def connect(self, *, patience: float | None = None) -> psycopg.Connection[Any]:
        """A connection that sees our schema first; a server that is not there is waited for, for so many seconds."""
        try:
            import psycopg
        except ImportError as error:
            advice = "pip install 'concordex[postgresql]'"
            raise StoreError("a catalogue in PostgreSQL needs a further package", advice=advice) from error
        until = time.monotonic() + (PATIENCE if patience is None else patience)
        while True:
            try:
                opened = psycopg.connect(
                    self.url, password=self.password, autocommit=True, cursor_factory=psycopg.ClientCursor,
                    application_name="concordex", **_ALIVE,
                )  # fmt: skip
            except psycopg.OperationalError as error:
                if time.monotonic() > until or not _may_pass(error):
                    raise self.lost(error) from error
                time.sleep(0.2)
                continue
            except psycopg.Error as error:  # such as an address that is none
                raise self.fault(error) from error
            opened.execute(f'SET search_path TO "{self.schema}"')
            for setting in _ALIVE_THERE:
                opened.execute(f"SET {setting}")
            return opened

    def lost(self, error: Exception) -> DatabaseLost:
        """What is said of a server that is not there."""
        advice = (
            "is the server up, and may this user sign in? concordex doctor looks; what was done before is kept there"
        )
        return DatabaseLost(f"the catalogue {self.place} cannot be reached", why=_told(error), advice=advice)

    def fault(self, error: Exception) -> StoreError:
        """What is said of a statement that the server refused."""
        return StoreError(
            f"the catalogue {self.place} cannot be used",
            why=_told(error),
            advice="may this user write there, and is there room? The workspace's own files are not touched.",
        )

    def key(self, name: str) -> int:
        """The number by which this catalogue locks what has that name (PostgreSQL's advisory locks have 64 bits)."""
        return int.from_bytes(sha256(f"concordex {self.schema} {name}".encode()).digest()[:8], "big", signed=True)


def opened(server: Server, schema: str, *, write: bool) -> Database:
    """The catalogue there; for whoever reads one that nobody has made yet, an empty one."""
    database = PostgresDatabase(server, schema, write=write)
    if not database.unmade:
        return database
    database.close()
    return SqliteDatabase.empty(schema, server.place)


class PostgresDatabase(Database):
    """One schema, over one connection that is made anew when it breaks."""

    skip_taken = " FOR UPDATE SKIP LOCKED"

    def __init__(self, server: Server, schema: str, *, write: bool) -> None:
        import psycopg
        from psycopg.rows import dict_row

        self._errors, self._by_name = psycopg, dict_row
        self.server, self.place = server, server.place
        self._lock, self._depth = RLock(), 0
        self._connection = server.connect(patience=FIRST)
        if write:
            self._make(schema)
        self.unmade = not self.columns_of("pulls")
        if (
            not self.unmade
            and (found := self.rows("SELECT MAX(number) AS number FROM release")[0]["number"]) != _VERSION
        ):
            raise StoreError(
                f"the catalogue {self.place} was made by another release ({found}), and this one cannot read it",
                advice="use that release here, or another schema",
            )

    def _make(self, schema: str) -> None:
        """Make what is not there; a user who may not make a schema uses one that somebody else has made."""
        with self.atomic():
            if self.columns_of("release"):
                return
            known = self._perform("SELECT 1 FROM pg_namespace WHERE nspname = %s", (self.server.schema,)).fetchall()
            if not known:
                self._perform(f'CREATE SCHEMA "{self.server.schema}"')
            self._perform(_as_here(schema))
            self._perform("CREATE TABLE release (number BIGINT NOT NULL)")
            self._perform("CREATE TABLE holders (name TEXT PRIMARY KEY, token TEXT NOT NULL, about TEXT NOT NULL)")
            self._perform("INSERT INTO release VALUES (%s)", (_VERSION,))

    def rows(self, sql: str, values: Sequence[Any] | Mapping[str, Any] = ()) -> list[DatabaseRow]:
        """What a query finds."""
        return self._once_more(sql, lambda: self._perform(_bound(sql), values, row_factory=self._by_name).fetchall())

    def tuples(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """What a query finds, in the order of its columns."""
        return self._once_more(sql, lambda: self._perform(_bound(sql), values).fetchall())

    def run(self, sql: str, values: Sequence[Any] = ()) -> int:
        """Run one statement; how many rows it touched."""
        return self._once_more(sql, lambda: int(self._perform(_bound(sql), values).rowcount))

    def run_many(self, sql: str, rows: Iterable[Sequence[Any]]) -> None:
        """Run one statement for each of many rows, one after the other without waiting for each answer."""
        several = list(rows)
        if not several:
            return

        def perform() -> None:
            with self._errors.Cursor(self._connection) as cursor:
                cursor.executemany(_bound(sql), several)

        def together() -> None:  # all of them or none
            with self.atomic():
                self._tried(perform)

        self._once_more(sql, together)

    @contextmanager
    def atomic(self) -> Iterator[None]:
        """All that is run inside holds together, or not at all; one writer at a time, of all machines, is in one."""
        with self._lock:
            if self._depth:
                yield
                return
            self._begin()
            self._depth += 1
            try:
                yield
                self._tried(lambda: self._connection.execute("COMMIT"))
            except BaseException:
                with_it_gone = self._connection.closed
                if not with_it_gone:
                    try:
                        self._connection.execute("ROLLBACK")
                    except self._errors.Error:
                        self._connection.close()
                raise
            finally:
                self._depth -= 1

    def _begin(self) -> None:
        def begin() -> None:
            self._tried(lambda: self._connection.execute("BEGIN"))
            self._tried(
                lambda: self._connection.execute("SELECT pg_advisory_xact_lock(%s)", (self.server.key("write"),))
            )

        self._patiently(begin)

    def repeatable(self, work: Callable[[], Made]) -> Made:
        """Do in one transaction what may be done once more where nobody knows whether it was done."""
        if self._depth:
            return work()

        def perform() -> Made:
            with self.atomic():
                return work()

        return self._patiently(perform)

    @contextmanager
    def steady(self, *, alone: bool = False) -> Iterator[None]:
        """All that is read inside is of one moment; ``alone``, nobody writes meanwhile."""
        with self._lock:
            self._patiently(lambda: self._perform("BEGIN ISOLATION LEVEL REPEATABLE READ"))
            self._depth += 1
            try:
                for table in self.tables() if alone else ():
                    self._perform(f'LOCK TABLE "{table}" IN SHARE MODE')
                yield
                self._tried(lambda: self._connection.execute("COMMIT"))  # nothing, unless it was retired
            except BaseException:
                self._connection.rollback()
                raise
            finally:
                self._depth -= 1

    def retire(self) -> None:
        """Within ``steady(alone=True)``: nobody can write here any more when that ends, not even who waits to."""
        aside = f"{self.server.schema[:40]}_moved_{datetime.now(UTC):%Y%m%d%H%M%S}"
        for table in self.tables():
            self._perform(f'LOCK TABLE "{table}" IN ACCESS EXCLUSIVE MODE')
        self._perform(f'ALTER SCHEMA "{self.server.schema}" RENAME TO "{aside}"')

    def in_pieces(self, sql: str, rows: int) -> Iterator[list[tuple[Any, ...]]]:
        """What a query finds, so many rows at a time."""
        with self._connection.cursor("in_pieces", withhold=not self._depth) as cursor:
            self._tried(lambda: cursor.execute(sql))
            while piece := cursor.fetchmany(rows):
                yield piece

    def columns_of(self, table: str) -> set[str]:
        """The columns of a table; none where it is not there."""
        sql = "SELECT column_name AS name FROM information_schema.columns WHERE table_schema = ? AND table_name = ?"
        return {str(row["name"]) for row in self.rows(sql, (self.server.schema, table))}

    def tables(self) -> list[str]:
        """The tables that are there, in the order of their names."""
        sql = (
            "SELECT table_name AS name FROM information_schema.tables WHERE table_schema = ? ORDER BY table_name"
            ' COLLATE "C"'
        )
        return [
            str(row["name"])
            for row in self.rows(sql, (self.server.schema,))
            if row["name"] not in ("release", "holders")
        ]

    def among(self, numbers: Sequence[int]) -> tuple[str, Any]:
        """What stands after ``IN`` for one of some numbers, and its value."""
        return "(SELECT unnest(CAST(? AS BIGINT[])))", list(numbers)

    def renumber(self, table: str) -> None:
        """Number the next row of a table after the last, where rows with numbers of their own were put into it."""
        self.rows(
            f"SELECT setval(pg_get_serial_sequence(?, 'id'), GREATEST(MAX(id), 1), MAX(id) IS NOT NULL) FROM {table}",  # noqa: S608
            (f'"{self.server.schema}".{table}',),
        )

    def moment(self) -> str:
        """What time it is where the database is."""
        sql = "SELECT to_char(clock_timestamp() AT TIME ZONE 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.US+00:00') AS now"
        return str(self.tuples(sql)[0][0])

    def close(self) -> None:
        """Let go of the connection."""
        self._connection.close()

    def _perform(self, sql: str, values: Any = None, **how: Any) -> Any:
        cursor = self._connection.cursor(**how)
        self._tried(lambda: cursor.execute(sql, values or None))
        return cursor

    def _tried(self, call: Callable[[], Any]) -> None:
        """Raise StoreError for what the server refused, and DatabaseLost where it went away."""
        try:
            call()
        except (self._errors.OperationalError, self._errors.InterfaceError) as error:
            if self._connection.closed or self._connection.broken or _may_pass(error):
                raise self.server.lost(error) from error
            raise self.server.fault(error) from error
        except self._errors.Error as error:
            raise self.server.fault(error) from error

    def _once_more(self, sql: str, work: Callable[[], Made]) -> Made:
        with self._lock:
            if self._depth:
                return work()
            if self._connection.closed:  # found out before anything was sent
                self._connection = self.server.connect()
            return self._patiently(work) if sql.startswith(_AGAIN) or " ON CONFLICT " in sql else work()

    def _patiently(self, work: Callable[[], Made]) -> Made:
        until = time.monotonic() + PATIENCE
        while True:
            try:
                if self._connection.closed:
                    self._connection = self.server.connect(patience=max(0.0, until - time.monotonic()))
                return work()
            except DatabaseLost:
                self._connection.close()
                if time.monotonic() > until:
                    raise
                time.sleep(0.1)


def _as_here(schema: str) -> str:
    """A schema in PostgreSQL's words: numbers of 64 bits, and text in the order of its bytes, as in SQLite."""
    told = schema.replace("INTEGER PRIMARY KEY", "BIGINT GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY")
    told = re.sub(r"\bINTEGER\b", "BIGINT", told)
    return re.sub(r"\bTEXT\b", 'TEXT COLLATE "C"', told)


def _bound(sql: str) -> str:
    """A statement with its values as the driver wants them."""

    def one(found: re.Match[str]) -> str:
        if found[0] == "?":
            return "%s"
        return f"%({found[1]})s" if found[1] else found[0].replace("%", "%%")

    return _VALUE.sub(one, sql)


def _may_pass(error: Exception) -> bool:
    """Whether a server that is restarted says so: it is not there, shuts down, or starts up (SQLSTATE 57P, 08)."""
    state = getattr(error, "sqlstate", None)
    if state is None:
        told = str(error).lower()
        return not any(
            word in told for word in ("password", "authentication", "does not exist", "no pg_hba", "certificate")
        )
    return str(state).startswith(("57P", "08", "53300"))


def _told(error: Exception) -> str:
    return " ".join(str(error).split("\n")[0].split())
