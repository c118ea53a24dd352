"""What the catalogue asks of a database: statements in the SQL that SQLite and PostgreSQL share.

Values stand as ``?`` or ``:name``.  Each database speaks through its own driver: an object mapper would cost every
command half a second of imports.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from typing import Any, TypeVar

from concordex.errors import StoreError

DatabaseRow = Mapping[str, Any]
Made = TypeVar("Made")


class DatabaseLost(StoreError):
    """The database went away, and did not come back while it was waited for."""


class Database(ABC):
    """One database, whose transactions are ``with`` blocks."""

    #: Where it is, as people are told.
    place: str
    #: Whether it has not been made yet, and whoever reads finds an empty one.
    unmade = False
    #: What lets a query leave out rows that another is about to alter.
    skip_taken = ""

    @abstractmethod
    def rows(self, sql: str, values: Sequence[Any] | Mapping[str, Any] = ()) -> list[DatabaseRow]:
        """What a query finds."""

    @abstractmethod
    def tuples(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """What a query finds, in the order of its columns: of many thousand rows in a third of the time."""

    @abstractmethod
    def run(self, sql: str, values: Sequence[Any] = ()) -> int:
        """Run one statement; how many rows it touched."""

    @abstractmethod
    def run_many(self, sql: str, rows: Iterable[Sequence[Any]]) -> None:
        """Run one statement for each of many rows."""

    @abstractmethod
    def atomic(self) -> AbstractContextManager[None]:
        """All that is run inside holds together, or not at all; blocks nest.  One writer at a time is in one."""

    @abstractmethod
    def steady(self, *, alone: bool = False) -> AbstractContextManager[None]:
        """All that is read inside is of one moment; ``alone``, nobody writes meanwhile."""

    @abstractmethod
    def retire(self) -> None:
        """Within ``steady(alone=True)``: nobody can write here any more when that ends, not even who waits to."""

    @abstractmethod
    def in_pieces(self, sql: str, rows: int) -> Iterator[list[tuple[Any, ...]]]:
        """What a query finds, so many rows at a time."""

    @abstractmethod
    def columns_of(self, table: str) -> set[str]:
        """The columns of a table; none where it is not there."""

    @abstractmethod
    def tables(self) -> list[str]:
        """The tables that are there, in the order of their names."""

    @abstractmethod
    def among(self, numbers: Sequence[int]) -> tuple[str, Any]:
        """What stands after ``IN`` for one of some numbers, and its value."""

    @abstractmethod
    def renumber(self, table: str) -> None:
        """Number the next row of a table after the last, where rows with numbers of their own were put into it."""

    @abstractmethod
    def moment(self) -> str:
        """What time it is where the database is."""

    @abstractmethod
    def close(self) -> None:
        """Let go of it."""

    def insert(self, sql: str, values: Sequence[Any] = ()) -> int:
        """Insert one row; its number."""
        return int(self.rows(f"{sql} RETURNING id", values)[0]["id"])

    def repeatable(self, work: Callable[[], Made]) -> Made:
        """Do in one transaction what may be done once more where nobody knows whether it was done."""
        with self.atomic():
            return work()
