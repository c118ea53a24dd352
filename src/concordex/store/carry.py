"""A catalogue carried from one database into another, and held against what it was."""

from __future__ import annotations

from dataclasses import dataclass
from hashlib import sha256

from concordex.errors import StoreError
from concordex.store.database import Database

#: Rows that others refer to come before those.
_FIRST = ("pulls", "changes")
#: So many rows are held at once.
_ROWS = 5_000


@dataclass(frozen=True, kw_only=True)
class TableSum:
    """How many rows a table has, and a digest of what they say, whatever their order."""

    rows: int
    digest: str


def sums(database: Database) -> dict[str, TableSum]:
    """What every table of a catalogue holds."""
    return {table: _sum(database, table) for table in database.tables()}


def carry(source: Database, target: Database) -> dict[str, TableSum]:
    """Put all rows of one catalogue into another, which is empty or has them already.

    The caller holds the source steady.  All of it is there afterwards, or nothing; raises StoreError where a row is not
    as it was, or the other one holds something else.
    """
    with target.atomic():
        before = sums(source)
        if _common(sums(target), before) == before:  # it was carried here before
            return before
        for table in sorted(before, key=lambda name: (name not in _FIRST, name)):
            columns = sorted(source.columns_of(table) & target.columns_of(table))
            if _sum(target, table).rows:
                raise StoreError(
                    f"{target.place} is not empty: it has {table}",
                    advice="name another schema or file, or look whose it is",
                )
            if columns:
                _copy(source, target, table, columns)
            if "id" in columns:
                target.renumber(table)
        after = _common(sums(target), before)
        if bad := sorted(table for table in before if before[table] != after.get(table)):
            raise StoreError(f"{bad[0]} did not arrive in {target.place} as it was", advice="nothing was changed there")
    return before


def _common(there: dict[str, TableSum], here: dict[str, TableSum]) -> dict[str, TableSum]:
    return {table: there[table] for table in here if table in there}


def _copy(source: Database, target: Database, table: str, columns: list[str]) -> None:
    names, places = ", ".join(columns), ", ".join("?" * len(columns))
    put = f"INSERT INTO {table} ({names}) VALUES ({places})"  # noqa: S608 - names of ours
    for rows in source.in_pieces(f"SELECT {names} FROM {table}", _ROWS):  # noqa: S608
        target.run_many(put, rows)


def _sum(database: Database, table: str) -> TableSum:
    columns = sorted(database.columns_of(table))
    count = total = 0
    for rows in database.in_pieces(f"SELECT {', '.join(columns)} FROM {table}", _ROWS):  # noqa: S608 - names of ours
        count += len(rows)
        for row in rows:
            total += int.from_bytes(sha256(repr(row).encode()).digest(), "big")
    return TableSum(rows=count, digest=f"{total % (1 << 256):064x}")
