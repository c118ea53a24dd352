"""Tables that are not behind an API: in a database by its URL, or in a file.  Rows in, rows out.

Every value is written as text, number, flag or time; lists as text with commas.  A batch is written
whole or not at all.
"""

from __future__ import annotations

import os
import sqlite3
from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from concordex.errors import CalledWrongly, StoreError
from concordex.words import suggestion

Values = Mapping[str, Any]


@dataclass(frozen=True, kw_only=True)
class Row:
    """One row to write: its key, what its columns were, and what they shall be.

    Nothing was: it is new; nothing shall be: it is deleted.
    """

    key: Any
    was: Values | None
    shall: Values | None

    def obstacle(self, there: Sequence[Values]) -> str | None:
        """Why it is left as it is, given the rows that have its key."""
        if self.was is None:
            return "a row with this key has appeared since" if there else None
        if len(there) > 1:
            return "several rows have this key"
        if not there:
            return "the row is gone" if self.shall is not None else None
        moved = [name for name, value in self.was.items() if not _same(there[0].get(name), value)]
        return f"changed there since: {', '.join(moved)}" if moved else None


class Outlet(ABC):
    """A table of rows that a key tells apart."""

    def __init__(self, key: str, columns: Sequence[str]) -> None:
        self.key, self.columns = key, list(columns)

    @abstractmethod
    def rows(self) -> list[dict[str, Any]]:
        """All rows, the columns that are mapped of each."""

    @abstractmethod
    def write(self, rows: Sequence[Row]) -> list[str | None]:
        """Write a batch, whole or not at all; for each row why it was left as it is, if it was."""


def plain(value: Any) -> Any:
    """A value as a column takes it."""
    if isinstance(value, list):
        return ", ".join(map(str, value)) or None
    return value.isoformat() if isinstance(value, datetime) else value


class DatabaseOutlet(Outlet):
    """A table in SQLite or PostgreSQL."""

    def __init__(
        self, url: str, table: str, key: str, columns: Sequence[str], root: Path, password: str | None
    ) -> None:
        super().__init__(key, columns)
        self.url, self.table, self.root, self.password = url, table, root, password
        self.is_sqlite = url.startswith("sqlite:")
        self.mark = "?" if self.is_sqlite else "%s"

    def rows(self) -> list[dict[str, Any]]:
        """All rows, the columns that are mapped of each."""
        with self._connected() as run:
            self._known(run)
            names = ", ".join(_quoted(name) for name in self.columns)
            found = run(f"SELECT {names} FROM {self._table}", ())  # noqa: S608 - names are quoted
        return [dict(zip(self.columns, row, strict=True)) for row in found]

    def write(self, rows: Sequence[Row]) -> list[str | None]:
        """Write a batch in one transaction; rows that are not as they were are left, and why."""
        told: list[str | None] = []
        with self._connected() as run:
            for row in rows:
                there = self._there(run, row.key)
                told.append(row.obstacle(there))
                if told[-1] is not None:
                    continue
                if row.shall is None:
                    run(f"DELETE FROM {self._table} WHERE {_quoted(self.key)} = {self.mark}", (row.key,))  # noqa: S608
                elif row.was is None:
                    self._insert(run, row.shall)
                else:
                    self._update(run, row.key, row.shall)
        return told

    @property
    def _table(self) -> str:
        return ".".join(_quoted(part) for part in self.table.split("."))

    def _there(self, run: Any, key: Any) -> list[dict[str, Any]]:
        names = ", ".join(_quoted(name) for name in self.columns)
        lock = "" if self.is_sqlite else " FOR UPDATE"
        sql = f"SELECT {names} FROM {self._table} WHERE {_quoted(self.key)} = {self.mark}{lock}"  # noqa: S608
        return [dict(zip(self.columns, row, strict=True)) for row in run(sql, (key,))]

    def _insert(self, run: Any, values: Values) -> None:
        names, marks = ", ".join(map(_quoted, values)), ", ".join([self.mark] * len(values))
        run(f"INSERT INTO {self._table} ({names}) VALUES ({marks})", tuple(map(plain, values.values())))  # noqa: S608

    def _update(self, run: Any, key: Any, shall: Values) -> None:
        sets = ", ".join(f"{_quoted(name)} = {self.mark}" for name in shall)
        sql = f"UPDATE {self._table} SET {sets} WHERE {_quoted(self.key)} = {self.mark}"  # noqa: S608
        run(sql, (*map(plain, shall.values()), key))

    def _known(self, run: Any) -> None:
        """Raise CalledWrongly unless the table and its columns are there."""
        if self.is_sqlite:
            found = [row[1] for row in run(f"PRAGMA table_info({_quoted(self.table)})", ())]
            tables = [row[0] for row in run("SELECT name FROM sqlite_master WHERE type IN ('table', 'view')", ())]
        else:
            schema, _, name = self.table.rpartition(".")
            where = "table_schema = %s" if schema else "table_schema = ANY (current_schemas(false))"
            values = (schema, name) if schema else (name,)
            sql = f"SELECT column_name FROM information_schema.columns WHERE {where} AND table_name = %s"  # noqa: S608
            found = [row[0] for row in run(sql, values)]
            tables = [row[0] for row in run("SELECT table_name FROM information_schema.tables", ())]
        if not found:
            raise CalledWrongly(
                f"there is no table {self.table!r} in the database", advice=suggestion(self.table, tables)
            )
        for name in self.columns:
            if name not in found:
                raise CalledWrongly(f"{self.table} has no column {name!r}", advice=suggestion(name, found))

    @contextmanager
    def _connected(self) -> Iterator[Any]:
        """One transaction: what it gives runs a statement."""
        connection: Any
        if self.is_sqlite:
            path = self.root / urlsplit(self.url).path[1:]  # four slashes before it make it absolute
            if not path.is_file():
                raise CalledWrongly(f"there is no database {path}", advice="make it, and the table, first")
            connection = sqlite3.connect(path, timeout=30)
            errors: Any = sqlite3.Error
        else:
            try:
                import psycopg
            except ImportError as error:
                raise CalledWrongly(
                    "PostgreSQL needs a further package", advice="pip install 'concordex[postgresql]'"
                ) from error
            errors = psycopg.Error
            try:
                connection = psycopg.connect(self.url, connect_timeout=30, password=self.password)
            except errors as error:
                raise StoreError("the database cannot be reached", why=str(error).strip().split("\n")[0]) from error
        cursor = connection.cursor()

        def run(sql: str, values: Sequence[Any]) -> list[Any]:
            cursor.execute(sql, values)
            return list(cursor.fetchall()) if cursor.description else []

        try:
            yield run
            connection.commit()
        except errors as error:
            connection.rollback()
            raise StoreError(
                f"the database refused: {str(error).strip().splitlines()[0]}", advice="nothing of the batch was written"
            ) from error
        finally:
            connection.close()


def _quoted(name: str) -> str:
    """A name as SQL takes it whatever it holds (ISO/IEC 9075, delimited identifiers)."""
    return '"' + name.replace('"', '""') + '"'


def _same(there: Any, value: Any) -> bool:
    return there == plain(value) or str("" if there is None else there) == str("" if value is None else plain(value))


class FileOutlet(Outlet):
    """A CSV, XLSX or Parquet file, written anew as a whole; columns that are not mapped stay."""

    def __init__(self, path: Path, key: str, columns: Sequence[str]) -> None:
        super().__init__(key, columns)
        self.path = path

    def rows(self) -> list[dict[str, Any]]:
        """All rows, the columns that are mapped of each."""
        return [{name: row.get(name) for name in self.columns} for row in self._all()]

    def write(self, rows: Sequence[Row]) -> list[str | None]:
        """Write a batch into the file, whole or not at all."""
        every = self._all()
        at: dict[str, list[dict[str, Any]]] = {}
        for one in every:
            at.setdefault(str(one.get(self.key)), []).append(one)
        told: list[str | None] = []
        gone = set[int]()
        for row in rows:
            there = at.get(str(row.key), [])
            told.append(row.obstacle(there))
            if told[-1] is not None:
                continue
            if row.shall is None:
                gone.update(map(id, at.pop(str(row.key), [])))
                continue
            if row.was is None:
                every.append({})
                there = at[str(row.key)] = [every[-1]]
            there[0].update({name: plain(value) for name, value in row.shall.items()})
        names = list(dict.fromkeys([*(name for one in every for name in one), *self.columns]))
        self._keep([one for one in every if id(one) not in gone], names)
        return told

    def _all(self) -> list[dict[str, Any]]:
        import polars as pl

        if not self.path.is_file():
            return []
        readers = {
            ".csv": lambda: pl.read_csv(self.path, infer_schema=False),
            ".parquet": lambda: pl.read_parquet(self.path),
            ".xlsx": lambda: pl.read_excel(self.path, infer_schema_length=0, raise_if_empty=False),
        }
        reader = readers.get(self.path.suffix.lower())
        if reader is None:
            raise CalledWrongly(f"{self.path}: only .csv, .xlsx and .parquet are written")
        try:
            return reader().to_dicts()
        except (pl.exceptions.PolarsError, OSError) as error:
            raise StoreError(f"{self.path} cannot be read", why=str(error).split("\n")[0]) from error

    def _keep(self, rows: Sequence[Values], names: Sequence[str]) -> None:
        import polars as pl

        frame = pl.DataFrame([{n: row.get(n) for n in names} for row in rows], infer_schema_length=None)
        frame = frame if rows else pl.DataFrame(schema=dict.fromkeys(names, pl.String))
        making = self.path.with_name(f".{self.path.stem}.{os.getpid()}{self.path.suffix}")
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            if self.path.suffix.lower() == ".csv":
                frame.write_csv(making)
            elif self.path.suffix.lower() == ".xlsx":
                frame.write_excel(making)
            else:
                frame.write_parquet(making)
            making.replace(self.path)
        except OSError as error:
            making.unlink(missing_ok=True)
            raise StoreError(f"{self.path} cannot be written", why=error.strerror or str(error)) from error
