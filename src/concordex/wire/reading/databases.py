"""A database as a system: what a statement selects, in one transaction that can only read."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, urlsplit

from concordex.errors import BadAnswer, CalledWrongly, Unreachable
from concordex.unseen import Secret, masked
from concordex.wire import dialect as d
from concordex.wire.http.transport import Endpoint
from concordex.wire.reading.pages import Page

if TYPE_CHECKING:
    from sqlalchemy.engine import Connection, Engine

#: Rows that become records at once.
_ROWS = 10_000
#: Why a table is whole that a statement selects: a database gives all rows, or says that it failed.
VOUCHED = "one statement in one transaction gives all rows that it selects, or an error"


@dataclass(frozen=True)
class Selected:
    """What a statement selects: its records in pieces, which raise BadAnswer."""

    pages: Iterator[Page]
    note: str


def select(endpoint: Endpoint, table: d.Table) -> Selected:
    """The rows that a table's statement selects, as records.  Raises CalledWrongly, BadAnswer or Unreachable."""
    statement = (table.read.sql or "").strip().rstrip(";").rstrip()
    if ";" in statement:  # some drivers run what stands behind it, and in a transaction of its own
        raise CalledWrongly(
            "the statement of a table holds a `;`", advice="say one statement, or put what needs more into a view"
        )
    if endpoint.database is None:
        raise CalledWrongly(f"{endpoint.name} names no database", advice="database: in concordex.yaml")
    return Selected(_pages(endpoint, statement), "selected from a database")


def _pages(endpoint: Endpoint, statement: str) -> Iterator[Page]:
    import sqlalchemy as sa
    from sqlalchemy.exc import SQLAlchemyError

    with _reading(endpoint) as connection:
        try:
            answer = connection.execution_options(yield_per=_ROWS).execute(sa.text(statement.replace(":", r"\:")))
            names = list(answer.keys())
            twins = {name for name in names if names.count(name) > 1}
            if twins:
                raise BadAnswer(f"the statement gives two columns that are called {min(twins)!r}", where=endpoint.name)
            for part in answer.mappings().partitions(_ROWS):
                yield Page(records=[_record(row) for row in part])
        except SQLAlchemyError as error:
            raise BadAnswer(
                "the database refused the statement", where=endpoint.name, why=_said(error),
                advice="it is only allowed to read: SELECT …",
            ) from error  # fmt: skip


def _record(row: Mapping[Any, Any]) -> dict[str, Any]:
    return {str(name): _plain(value) for name, value in row.items()}


def _plain(value: Any) -> Any:
    """A value as JSON has it: numbers and flags as they are, moments by ISO 8601, bytes in hexadecimal."""
    if value is None or isinstance(value, str | bool | int | float):
        return value
    if isinstance(value, Decimal):
        return int(value) if value == value.to_integral_value() else float(value)
    if isinstance(value, bytes | memoryview):
        return bytes(value).hex()
    if isinstance(value, list | tuple):
        return [_plain(item) for item in value]
    if isinstance(value, dict):
        return {str(name): _plain(item) for name, item in value.items()}
    return value.isoformat() if hasattr(value, "isoformat") else str(value)


@contextmanager
def _reading(endpoint: Endpoint) -> Iterator[Connection]:
    """A transaction in which nothing can be written, and all is as at its first moment."""
    from sqlalchemy.exc import DBAPIError

    engine = _engine(endpoint)
    try:
        connection = engine.connect()
    except DBAPIError as error:
        raise Unreachable("the database cannot be reached", where=endpoint.name, why=_said(error)) from error
    with connection:
        yield connection


def _engine(endpoint: Endpoint) -> Engine:
    import sqlalchemy as sa
    from sqlalchemy.exc import ArgumentError, NoSuchModuleError

    database = endpoint.database or ""
    if database.startswith("sqlite:"):
        path = (endpoint.root or Path()) / urlsplit(database).path[1:]  # four slashes before it make it absolute
        if not path.is_file():
            raise BadAnswer(f"there is no database {path}", where=endpoint.name)
        url = f"sqlite:///file:{quote(str(path.absolute()))}?mode=ro&uri=true"
        return sa.create_engine(url, poolclass=sa.NullPool, connect_args={"check_same_thread": False})
    try:
        made = sa.make_url(database).set(drivername="postgresql+psycopg")
    except (ValueError, ArgumentError) as error:
        raise CalledWrongly(f"{database} is no address of a database") from error
    password = endpoint.credentials.get("password")
    if password is not None:
        made = made.set(password=password.reveal() if isinstance(password, Secret) else str(password))
    only_read = r"-c default_transaction_read_only=on -c default_transaction_isolation=repeatable\ read"
    try:
        return sa.create_engine(made, poolclass=sa.NullPool, connect_args={"connect_timeout": 30, "options": only_read})
    except (ImportError, NoSuchModuleError) as error:
        raise CalledWrongly(
            "PostgreSQL needs a further package", advice="pip install 'concordex[postgresql]'"
        ) from error


def _said(error: Exception) -> str:
    return masked(str(getattr(error, "orig", None) or error).strip().split("\n")[0])
