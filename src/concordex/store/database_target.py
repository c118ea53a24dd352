"""A table in a database, spoken to by SQLAlchemy: names are quoted, transactions and locks made, as each asks for it.

Columns are taken without their types, so that the database itself reads what a value is, as from a person's hand.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import sqlalchemy as sa
from sqlalchemy.engine import Connection, Engine
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError, SQLAlchemyError

from concordex.change.reasons import Reasons, Why, because
from concordex.errors import CalledWrongly, StoreError
from concordex.store.targets import CommitLost, KeyOfOther, RowRefused, StoredTarget, TargetRow, plain
from concordex.words import suggestion

#: Seconds that are waited for a connection, or for a lock on a file.
_PATIENCE = 30

#: Of columns that hold the keys of other tables, what each key means, or the key of each meaning.
Foreign = Mapping[str, Mapping[Any, Any]]


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
        self.url, self.name, self.root, self.password = url, table, root, password
        self._table = _table(table, self.columns)
        self._mapped = [self._table.c[name] for name in self.columns]
        self._key = self._table.c[key]

    def rows(self) -> list[dict[str, Any]]:
        """All rows, the columns that are mapped of each."""
        with self._connected() as connection:
            self._check(connection)
            answers = connection.execute(sa.select(*self._mapped)).all()
            meant = {name: _meant(connection, other) for name, other in self.elsewhere.items()}
        rows = [dict(zip(self.columns, row, strict=True)) for row in answers]
        return [{**row, **{name: ids.get(row[name]) for name, ids in meant.items()}} for row in rows] if meant else rows

    def write(self, rows: Sequence[TargetRow]) -> list[Reasons]:
        """Write a batch in one transaction; rows that are not as they were are left, and why.

        Where the database refuses a row, all are written anew, each so that it can be taken back alone.
        """
        try:
            return self._write(rows, singly=False)
        except RowRefused:
            return self._write(rows, singly=True)

    def _write(self, rows: Sequence[TargetRow], *, singly: bool) -> list[Reasons]:
        reasons: list[Reasons] = []
        with self._connected(writes=True) as connection:
            meanings = {name: _meant(connection, other) for name, other in self.elsewhere.items()}
            keys = {name: {meaning: key for key, meaning in mine.items()} for name, mine in meanings.items()}
            for row in rows:
                if not singly:
                    reasons.append(self._write_row(connection, row, meanings, keys))
                    continue
                try:
                    with connection.begin_nested():
                        reasons.append(self._write_row(connection, row, meanings, keys))
                except RowRefused as refusal:
                    reasons.append(because(Why.SAID, text=refusal.why))
        return reasons

    def _write_row(self, connection: Connection, row: TargetRow, meanings: Foreign, keys: Foreign) -> Reasons:
        """Write one row; why it was left as it is, if it was."""
        ours = self._key == _value(row.key)
        present = connection.execute(sa.select(*self._mapped).where(ours).with_for_update()).all()
        there = [
            {name: meanings[name].get(value) if name in meanings else value
             for name, value in zip(self.columns, record, strict=True)}
            for record in present
        ]  # fmt: skip
        if obstacle := row.obstacle(there):
            return obstacle
        desired = dict(row.desired or {})
        for name in keys.keys() & desired.keys():
            if desired[name] not in (None, "") and desired[name] not in keys[name]:
                return because(Why.SAID, text=f"{name}: {self.elsewhere[name].table} has no {desired[name]!r}")
            desired[name] = keys[name].get(desired[name])
        values = {name: _value(value) for name, value in desired.items()}
        if row.desired is None:
            statement: sa.Executable = sa.delete(self._table).where(ours)
        elif row.before is None:
            statement = sa.insert(self._table).values(values)
        else:
            statement = sa.update(self._table).where(ours).values(values)
        try:
            connection.execute(statement)
        except DBAPIError as error:
            if error.connection_invalidated:
                raise
            raise RowRefused(_said(error)) from error
        return ()

    def _check(self, connection: Connection) -> None:
        """Raise CalledWrongly unless the table and its columns are there."""
        inspector = sa.inspect(connection)
        schema, name = _parts(self.name)
        if not inspector.has_table(name, schema):
            tables = [*inspector.get_table_names(schema), *inspector.get_view_names(schema)]
            raise CalledWrongly(f"there is no table {self.name!r} in the database", advice=suggestion(name, tables))
        columns = [column["name"] for column in inspector.get_columns(name, schema)]
        for name in self.columns:
            if name not in columns:
                raise CalledWrongly(f"{self.name} has no column {name!r}", advice=suggestion(name, columns))

    @contextmanager
    def _connected(self, *, writes: bool = False) -> Iterator[Connection]:
        """One transaction, that is committed where nothing is wrong in it."""
        try:
            connection = self._engine.connect().execution_options(writes=writes)
        except DBAPIError as error:
            raise StoreError("the database cannot be reached", why=_said(error)) from error
        with connection:
            try:
                yield connection
                self._commit(connection)
            except SQLAlchemyError as error:
                raise StoreError(
                    f"the database refused: {_said(error)}", advice="nothing of the batch was written"
                ) from error

    def _commit(self, connection: Connection) -> None:
        """Commit; raises CommitLost where the connection broke over it, so that the answer never came."""
        try:
            connection.commit()
        except DBAPIError as error:
            if error.connection_invalidated:
                raise CommitLost("the connection broke while the batch was committed", why=_said(error)) from error
            raise

    @cached_property
    def _engine(self) -> Engine:
        if self.url.startswith("sqlite:"):
            path = self.root / urlsplit(self.url).path[1:]  # four slashes before it make it absolute
            if not path.is_file():
                raise CalledWrongly(f"there is no database {path}", advice="make it, and the table, first")
            url = sa.URL.create("sqlite", database=str(path))
            engine = sa.create_engine(url, poolclass=sa.NullPool, connect_args={"timeout": _PATIENCE})
            sa.event.listen(engine, "connect", _leave_transactions)
            sa.event.listen(engine, "begin", _begin)
            return engine
        try:
            url = sa.make_url(self.url).set(drivername="postgresql+psycopg")
        except (ValueError, ArgumentError) as error:
            raise CalledWrongly(
                f"{self.url} is no address of a database", advice="postgresql://USER@HOST:PORT/DATABASE"
            ) from error
        if self.password is not None:
            url = url.set(password=self.password)
        try:
            return sa.create_engine(url, poolclass=sa.NullPool, connect_args={"connect_timeout": _PATIENCE})
        except (ImportError, NoSuchModuleError) as error:
            raise CalledWrongly(
                "PostgreSQL needs a further package", advice="pip install 'concordex[postgresql]'"
            ) from error


def _leave_transactions(connection: Any, _: Any) -> None:
    """Let SQLite's driver begin nothing by itself: it would begin too late to hold what was looked at."""
    connection.isolation_level = None


def _begin(connection: Connection) -> None:
    """Begin; where something is to be written, nobody else writes from the first look on."""
    connection.exec_driver_sql("BEGIN IMMEDIATE" if connection.get_execution_options().get("writes") else "BEGIN")


def _parts(name: str) -> tuple[str | None, str]:
    """A schema, where one is said, and a table."""
    schema, _, table = name.rpartition(".")
    return schema or None, table


def _table(name: str, columns: Sequence[str]) -> sa.TableClause:
    schema, table = _parts(name)
    return sa.table(table, *map(sa.column, columns), schema=schema)


def _value(value: Any) -> sa.BindParameter[Any]:
    """A value without a type of its own."""
    return sa.bindparam(None, plain(value), type_=sa.types.NullType())


def _meant(connection: Connection, other: KeyOfOther) -> dict[Any, Any]:
    """What each key of another table means."""
    table = _table(other.table, [other.id, other.column])
    rows = connection.execute(sa.select(table.c[other.id], table.c[other.column]))
    return {key: meaning for key, meaning in rows}  # noqa: C416 - a row is no pair to a checker of types


def _said(error: SQLAlchemyError) -> str:
    """The first line of what the database said."""
    return str(getattr(error, "orig", None) or error).strip().split("\n")[0]
