"""A system under another name in everything that the catalogue says of it: at once, or not at all."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

from concordex.errors import Stopped
from concordex.store.chain import Chain
from concordex.store.database import Database, DatabaseRow

#: Where rows bear the name of a system.
_BEARING = (
    ("checked", "system"), ("references_made", "system"), ("references_made", "source"), ("snapshots", "system"),
    ("progress", "system"), ("staged", "system"), ("tasks", "system"), ("runs", "part"), ("awaited", "part"),
    ("changes", "system"),
)  # fmt: skip
#: Of what there is once for each system, what was noted under the new name is the newer.
_NEWER = (
    "DELETE FROM checked WHERE system = ? AND EXISTS (SELECT 1 FROM checked WHERE system = ?)",
    "DELETE FROM references_made WHERE system = ? AND record_id IN"
    " (SELECT record_id FROM references_made WHERE system = ?)",
    "DELETE FROM awaited WHERE part = ? AND job IN (SELECT job FROM awaited WHERE part = ?)",
)


def is_known(database: Database, name: str) -> bool:
    """Whether the catalogue says anything of a system of that name."""
    return any(
        database.rows(f"SELECT 1 AS there FROM {table} WHERE {column} = ? LIMIT 1", (name,))  # noqa: S608 - ours
        for table, column in _BEARING
    )


def check(database: Database, old: str, new: str) -> list[int]:
    """Raise Stopped where :func:`rename` would; the changes of ``old``."""
    _refuse_two(database, old, new)
    changes = [row["id"] for row in database.rows("SELECT id FROM changes WHERE system = ? ORDER BY id", (old,))]
    if changes:
        _refuse_unsealed(Chain(database), old, set(changes))
    return changes


def rename(database: Database, old: str, new: str, who: str) -> int:
    """Let all rows of ``old`` be of ``new``, within a transaction of the caller; how many changes the journal notes so.

    Raises Stopped where that would make two systems one, where a change is not sealed, or the journal was altered: the
    seals that are made here would hide it.
    """
    changes = check(database, old, new)
    for sql in _NEWER:
        database.run(sql, (old, new))
    for table, column in _BEARING:
        database.run(f"UPDATE {table} SET {column} = ? WHERE {column} = ?", (new, old))  # noqa: S608 - ours
    for row in database.rows("SELECT name FROM matters"):
        called = " ".join(new if word == old else f"{new}:" if word == f"{old}:" else word for word in _words(row))
        if called != row["name"]:
            database.run("DELETE FROM matters WHERE name = ?", (called,))
            database.run("UPDATE matters SET name = ? WHERE name = ?", (called, row["name"]))
    for change in changes:
        Chain(database).add(change, f"renamed: {old} is {new} (by {who})")
    return len(changes)


def resettle(database: Database, folder: str, old: str, new: str) -> None:
    """Let the newest concordance be the one in ``folder``, and what is told of all that there were say the new name."""
    told = [(row["id"], json.loads(row["summary"])) for row in database.rows("SELECT id, summary FROM reconciliations")]
    rows = [(json.dumps(_renamed(summary, old, new)), number) for number, summary in told]
    database.run_many("UPDATE reconciliations SET summary = ? WHERE id = ?", rows)
    newest = max(number for number, _ in told)
    database.run("UPDATE reconciliations SET folder = ? WHERE id = ?", (folder, newest))


def _words(row: DatabaseRow) -> Iterator[str]:
    yield from str(row["name"]).split(" ")


def _refuse_two(database: Database, old: str, new: str) -> None:
    """What was pulled under the new name must be what came after."""
    sql = "SELECT MIN(taken) AS first, MAX(taken) AS last FROM snapshots WHERE system = ?"
    (before,), (after,) = database.rows(sql, (old,)), database.rows(sql, (new,))
    if before["last"] and after["first"] and after["first"] <= before["last"]:
        raise Stopped(
            f"{old} was pulled until {before['last'][:16]} UTC, and {new} from {after['first'][:16]} UTC on:"
            " that would make two systems one",
            advice="a name of which nothing was pulled",
        )


def _refuse_unsealed(chain: Chain, old: str, changes: set[int]) -> None:
    verified = chain.verify()
    if verified.tampered:
        first = verified.tampered[0]
        raise Stopped(f"the journal was altered: {first.where}: {first.what}", advice="concordex journal verify")
    if begun := sorted(changes & chain.begun()):
        raise Stopped(
            f"change {begun[0]} of {old} was begun and has not come to an end",
            advice=f"concordex change resume {begun[0]}, and then once more",
        )


def _renamed(said: Any, old: str, new: str) -> Any:
    if isinstance(said, dict):
        return {new if key == old else key: _renamed(value, old, new) for key, value in said.items()}
    if isinstance(said, list):
        return [_renamed(one, old, new) for one in said]
    return new if said == old else said
