"""Tables that are not behind an API: in a database by its URL, or in a file.  Rows in, rows out.

Every value is written as text, number, flag or time; lists as text with commas.  A batch is written in one go; a row
that the table does not take is named, and the others are written without it.
"""

from __future__ import annotations

import sqlite3
from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import datetime
from io import BytesIO
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from concordex.change.compare import as_compared
from concordex.change.reasons import Reasons, Why, because
from concordex.errors import CalledWrongly, StoreError
from concordex.landing import landing, make_folder
from concordex.model.inert import as_text, from_text, to_workbook
from concordex.words import suggestion

Values = Mapping[str, Any]


class RowRefused(StoreError):
    """The database does not take a row; nothing of the batch was written."""

    def __init__(self, why: str) -> None:
        super().__init__(f"the database refused: {why}", why=why, advice="nothing of the batch was written")


class CommitLost(StoreError):
    """The answer to a commit was lost: whether the batch is written is not known."""


@dataclass(frozen=True, kw_only=True)
class TargetRow:
    """One row to write: its key, what its columns hold, and what they should.

    Without ``before`` it is new, without ``desired`` it is deleted.
    """

    key: Any
    before: Values | None
    desired: Values | None

    def obstacle(self, there: Sequence[Values]) -> Reasons:
        """Why it is left as it is, given the rows that have its key; nothing where it is written."""
        if self.before is None:
            return because(Why.ROW_APPEARED) if there else ()
        if len(there) > 1:
            return because(Why.SEVERAL_ROWS)
        if not there:
            return because(Why.ROW_GONE) if self.desired is not None else ()
        moved = [name for name, value in self.before.items() if not _same(there[0].get(name), value)]
        return because(Why.ROW_CHANGED, columns=moved) if moved else ()


@dataclass(frozen=True, kw_only=True)
class KeyOfOther:
    """A column that holds the key of another table: of the row whose ``column`` says what we mean."""

    table: str
    column: str
    id: str = "id"


class StoredTarget(ABC):
    """A table of rows that a key tells apart."""

    def __init__(self, key: str, columns: Sequence[str]) -> None:
        self.key, self.columns = key, list(columns)

    @abstractmethod
    def rows(self) -> list[dict[str, Any]]:
        """All rows, the columns that are mapped of each."""

    @abstractmethod
    def write(self, rows: Sequence[TargetRow]) -> list[Reasons]:
        """Write a batch, whole or not at all; for each row why it was left, if it was (``SAID``: not taken)."""


def plain(value: Any) -> Any:
    """A value as a column takes it."""
    if isinstance(value, list):
        return ", ".join(map(str, value)) or None
    if isinstance(value, float) and value.is_integer():
        return int(value)
    return value.isoformat() if isinstance(value, datetime) else value


class DatabaseTarget(StoredTarget):
    """A table in SQLite or PostgreSQL."""

    def __init__(
        self,
        url: str,
        table: str,
        key: str,
        columns: Sequence[str],
        root: Path,
        password: str | None,
        elsewhere: Mapping[str, KeyOfOther] | None = None,
    ) -> None:
        super().__init__(key, columns)
        self.elsewhere = dict(elsewhere or {})
        self.url, self.table, self.root, self.password = url, table, root, password
        self.is_sqlite = url.startswith("sqlite:")
        self.mark = "?" if self.is_sqlite else "%s"

    def rows(self) -> list[dict[str, Any]]:
        """All rows, the columns that are mapped of each."""
        with self._connected() as run:
            self._known(run)
            names = ", ".join(map(self._quoted, self.columns))
            answers = run(f"SELECT {names} FROM {self._table}", ())  # noqa: S608 - names are quoted
            meant = {name: self._meant(run, there) for name, there in self.elsewhere.items()}
        rows = [dict(zip(self.columns, row, strict=True)) for row in answers]
        return [{**row, **{name: ids.get(row[name]) for name, ids in meant.items()}} for row in rows] if meant else rows

    def write(self, rows: Sequence[TargetRow]) -> list[Reasons]:
        """Write a batch in one transaction; rows that are not as they were are left, and why.

        Where the database refuses a row, all are written anew, each so that it can be taken back alone.
        """
        try:
            return self._written(rows, singly=False)
        except StoreError as error:
            if not isinstance(error, RowRefused):
                raise
            return self._written(rows, singly=True)

    def _written(self, rows: Sequence[TargetRow], *, singly: bool) -> list[Reasons]:
        reasons: list[Reasons] = []
        with self._connected() as run:
            ids = {name: self._meant(run, there, turned=True) for name, there in self.elsewhere.items()}
            for row in rows:
                if singly:
                    run("SAVEPOINT one", ())
                try:
                    reasons.append(self._one(run, row, ids))
                except RowRefused as refusal:
                    if not singly:
                        raise
                    run("ROLLBACK TO SAVEPOINT one", ())
                    reasons.append(because(Why.SAID, text=refusal.why))
                if singly:
                    run("RELEASE SAVEPOINT one", ())
        return reasons

    def _one(self, run: Any, row: TargetRow, ids: Mapping[str, Mapping[Any, Any]]) -> Reasons:
        """Write one row; why it was left as it is, if it was."""
        names = {name: {number: meaning for meaning, number in mine.items()} for name, mine in ids.items()}
        there = [
            {name: names[name].get(value) if name in names else value for name, value in record.items()}
            for record in self._there(run, row.key)
        ]
        if obstacle := row.obstacle(there):
            return obstacle
        desired = dict(row.desired or {})
        for name in ids.keys() & desired.keys():
            if desired[name] not in (None, "") and desired[name] not in ids[name]:
                return because(Why.SAID, text=f"{name}: {self.elsewhere[name].table} has no {desired[name]!r}")
            desired[name] = ids[name].get(desired[name])
        if row.desired is None:
            run(f"DELETE FROM {self._table} WHERE {self._quoted(self.key)} = {self.mark}", (row.key,))  # noqa: S608
        elif row.before is None:
            self._insert(run, desired)
        else:
            self._update(run, row.key, desired)
        return ()

    def _meant(self, run: Any, there: KeyOfOther, *, turned: bool = False) -> dict[Any, Any]:
        """What each key of another table means; ``turned``: the key of each meaning."""
        names = ", ".join(map(self._quoted, (there.id, there.column)))
        table = ".".join(map(self._quoted, there.table.split(".")))
        rows = run(f"SELECT {names} FROM {table}", ())  # noqa: S608 - names are quoted
        return {meaning: number for number, meaning in rows} if turned else dict(rows)

    def _quoted(self, name: str) -> str:
        """A name as SQL takes it whatever it holds (ISO/IEC 9075, delimited identifiers)."""
        quoted = '"' + name.replace('"', '""') + '"'
        return quoted if self.is_sqlite else quoted.replace("%", "%%")  # where values are filled in, it has a meaning

    @property
    def _table(self) -> str:
        return ".".join(self._quoted(part) for part in self.table.split("."))

    def _there(self, run: Any, key: Any) -> list[dict[str, Any]]:
        names = ", ".join(map(self._quoted, self.columns))
        lock = "" if self.is_sqlite else " FOR UPDATE"
        sql = f"SELECT {names} FROM {self._table} WHERE {self._quoted(self.key)} = {self.mark}{lock}"  # noqa: S608
        return [dict(zip(self.columns, row, strict=True)) for row in run(sql, (key,))]

    def _insert(self, run: Any, values: Values) -> None:
        names, marks = ", ".join(map(self._quoted, values)), ", ".join([self.mark] * len(values))
        run(f"INSERT INTO {self._table} ({names}) VALUES ({marks})", tuple(map(plain, values.values())))  # noqa: S608

    def _update(self, run: Any, key: Any, desired: Values) -> None:
        sets = ", ".join(f"{self._quoted(name)} = {self.mark}" for name in desired)
        sql = f"UPDATE {self._table} SET {sets} WHERE {self._quoted(self.key)} = {self.mark}"  # noqa: S608
        run(sql, (*map(plain, desired.values()), key))

    def _known(self, run: Any) -> None:
        """Raise CalledWrongly unless the table and its columns are there."""
        if self.is_sqlite:
            columns = [row[1] for row in run(f"PRAGMA table_info({self._quoted(self.table)})", ())]
            tables = [row[0] for row in run("SELECT name FROM sqlite_master WHERE type IN ('table', 'view')", ())]
        else:
            schema, _, name = self.table.rpartition(".")
            where = "table_schema = %s" if schema else "table_schema = ANY (current_schemas(false))"
            values = (schema, name) if schema else (name,)
            sql = f"SELECT column_name FROM information_schema.columns WHERE {where} AND table_name = %s"  # noqa: S608
            columns = [row[0] for row in run(sql, values)]
            tables = [row[0] for row in run("SELECT table_name FROM information_schema.tables", ())]
        if not columns:
            raise CalledWrongly(
                f"there is no table {self.table!r} in the database", advice=suggestion(self.table, tables)
            )
        for name in self.columns:
            if name not in columns:
                raise CalledWrongly(f"{self.table} has no column {name!r}", advice=suggestion(name, columns))

    def _opened(self) -> tuple[Any, Any]:
        """A connection, and what its driver's errors are."""
        if self.is_sqlite:
            path = self.root / urlsplit(self.url).path[1:]  # four slashes before it make it absolute
            if not path.is_file():
                raise CalledWrongly(f"there is no database {path}", advice="make it, and the table, first")
            return sqlite3.connect(path, timeout=30), sqlite3.Error
        try:
            import psycopg
        except ImportError as error:
            raise CalledWrongly(
                "PostgreSQL needs a further package", advice="pip install 'concordex[postgresql]'"
            ) from error
        try:
            return psycopg.connect(self.url, connect_timeout=30, password=self.password), psycopg.Error
        except psycopg.Error as error:
            raise StoreError("the database cannot be reached", why=str(error).strip().split("\n")[0]) from error

    @contextmanager
    def _connected(self) -> Iterator[Any]:
        """One transaction: what it gives runs a statement."""
        connection, errors = self._opened()
        cursor = connection.cursor()

        def run(sql: str, values: Sequence[Any]) -> list[Any]:
            try:
                cursor.execute(sql, values)
            except errors as error:
                if not sql.startswith(("INSERT", "UPDATE", "DELETE")):
                    raise
                raise RowRefused(str(error).strip().splitlines()[0]) from error
            return list(cursor.fetchall()) if cursor.description else []

        try:
            yield run
            self._commit(connection)
        except CommitLost:
            raise
        except RowRefused:
            connection.rollback()
            raise
        except errors as error:
            with suppress(errors):  # where the connection broke, the database does so by itself
                connection.rollback()
            raise StoreError(
                f"the database refused: {str(error).strip().splitlines()[0]}", advice="nothing of the batch was written"
            ) from error
        finally:
            connection.close()

    def _commit(self, connection: Any) -> None:
        """Commit; raises CommitLost where the connection broke over it, so that the answer never came."""
        try:
            connection.commit()
        except Exception as error:
            if not getattr(connection, "broken", False):
                raise
            why = str(error).strip().split("\n")[0]
            raise CommitLost("the connection broke while the batch was committed", why=why) from error


def _same(there: Any, value: Any) -> bool:
    return as_compared(there) == as_compared(value)


def _fitting(value: Any, kind: Any, name: str) -> Any:
    """A value as a column of a file takes it; raises ValueError where it does not."""
    import polars as pl

    value = plain(value)
    if value is None:
        return None
    if kind is None or kind == pl.String:
        return str(int(value) if isinstance(value, float) and value.is_integer() else value)
    try:
        fitted = pl.Series([str(value)]).str.to_datetime(time_zone="UTC") if kind.is_temporal() else pl.Series([value])
        return fitted.cast(kind, strict=True)[0]
    except pl.exceptions.PolarsError as error:
        raise ValueError(f"{name}: {value!r} does not fit into a column of {kind}") from error


class FileTarget(StoredTarget):
    """A CSV, XLSX or Parquet file, written anew as a whole; columns that are not mapped stay."""

    def __init__(self, path: Path, key: str, columns: Sequence[str]) -> None:
        super().__init__(key, columns)
        self.path = path
        self._kinds: dict[str, Any] = {}  # the types of the columns, as the file has them

    def rows(self) -> list[dict[str, Any]]:
        """All rows, the columns that are mapped of each."""
        return [{name: row.get(name) for name in self.columns} for row in self._all()]

    def write(self, rows: Sequence[TargetRow]) -> list[Reasons]:
        """Write a batch into the file, whole or not at all."""
        every = self._all()
        at: dict[str, list[dict[str, Any]]] = {}
        for record in every:
            at.setdefault(str(record.get(self.key)), []).append(record)
        reasons: list[Reasons] = []
        gone = set[int]()
        for row in rows:
            there = at.get(str(row.key), [])
            try:
                desired = {
                    name: _fitting(value, self._kinds.get(name), name) for name, value in (row.desired or {}).items()
                }
            except ValueError as error:
                reasons.append(because(Why.SAID, text=str(error)))
                continue
            reasons.append(row.obstacle(there))
            if reasons[-1]:
                continue
            if row.desired is None:
                gone.update(map(id, at.pop(str(row.key), [])))
                continue
            if row.before is None:
                every.append({})
                there = at[str(row.key)] = [every[-1]]
            there[0].update(desired)
        names = list(dict.fromkeys([*(name for record in every for name in record), *self.columns]))
        self._keep([record for record in every if id(record) not in gone], names)
        return reasons

    def _all(self) -> list[dict[str, Any]]:
        import polars as pl

        if not self.path.is_file():
            return []
        readers = {
            ".csv": lambda: from_text(pl.read_csv(self.path, infer_schema=False), self.columns),
            ".parquet": lambda: pl.read_parquet(self.path),
            ".xlsx": lambda: pl.read_excel(self.path, infer_schema_length=0, raise_if_empty=False),
        }
        reader = readers.get(self.path.suffix.lower())
        if reader is None:
            raise CalledWrongly(f"{self.path}: only .csv, .xlsx and .parquet are written")
        try:
            frame = reader()
        except (pl.exceptions.PolarsError, OSError) as error:
            raise StoreError(f"{self.path} cannot be read", why=str(error).split("\n")[0]) from error
        self._kinds = dict(frame.schema)
        return frame.to_dicts()

    def _keep(self, rows: Sequence[Values], names: Sequence[str]) -> None:
        import polars as pl

        schema = {name: self._kinds.get(name, pl.String()) for name in names}
        frame = pl.DataFrame({n: pl.Series([row.get(n) for row in rows], dtype=kind) for n, kind in schema.items()})
        packed = BytesIO()
        if self.path.suffix.lower() == ".csv":
            as_text(frame, self.columns).write_csv(packed)  # theirs stays as it is
        elif self.path.suffix.lower() == ".xlsx":
            to_workbook(frame, packed)
        else:
            frame.write_parquet(packed)
        make_folder(self.path.parent)
        with landing(self.path) as making:
            making.write_bytes(packed.getvalue())
