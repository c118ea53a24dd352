"""The journal as a chain of digests: whoever alters what was written down, or takes it away, is found out.

Each link names what was noted of a change, a digest of the change and all its steps as they stood then, and the link
before it; its seal is the SHA-256 of all that (FIPS 180-4).  Whoever can write the catalogue can make a chain anew from
the first link on: the seal of the last one, kept elsewhere, tells that too.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from concordex.store.database import Database, DatabaseRow
from concordex.store.step_rows import step_rows

SCHEMA = """
CREATE TABLE IF NOT EXISTS links (
    id INTEGER PRIMARY KEY, change INTEGER NOT NULL, what TEXT NOT NULL, moment TEXT NOT NULL, digest TEXT NOT NULL,
    previous TEXT NOT NULL, seal TEXT NOT NULL
);
"""
#: What stands before the first link.
_NONE = "0" * 64
_STEPS = "number, name, operation, label, body, state, reason, record_id, sent, answered, became, ours, whole, causes"


@dataclass(frozen=True, kw_only=True)
class Tampering:
    """What in a journal is not as it was written down: of which change, or of which link of the chain."""

    where: str
    what: str


@dataclass(frozen=True, kw_only=True)
class Verified:
    """A journal as it was found: how many changes its links vouch for, which they do not, and the last seal."""

    links: int
    sealed: int
    unsealed: tuple[str, ...]
    tampered: tuple[Tampering, ...]
    seal: str


class Chain:
    """The links of a journal."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def add(self, change: int, what: str) -> None:
        """Note something of a change, with all its steps as they stand; within a transaction of the caller."""
        last = self._database.rows("SELECT id, seal FROM links ORDER BY id DESC LIMIT 1")
        number, previous = (last[0]["id"] + 1, last[0]["seal"]) if last else (1, _NONE)
        moment, digest = datetime.now(UTC).isoformat(), self._digest(change)
        seal = _seal(number, change, what, moment, digest, previous)
        self._database.run(
            "INSERT INTO links VALUES (?, ?, ?, ?, ?, ?, ?)", (number, change, what, moment, digest, previous, seal)
        )

    def begun(self) -> set[int]:
        """The changes that were begun, and of which no end is noted."""
        sql = "SELECT change, what FROM links WHERE id IN (SELECT MAX(id) FROM links GROUP BY change)"
        return {row["change"] for row in self._database.rows(sql) if row["what"] == "begun"}

    def verify(self) -> Verified:
        """Hold every link against the one before it, and every change against the last link that speaks of it."""
        links = self._database.rows("SELECT * FROM links ORDER BY id")
        tampered = list(_broken(links))
        last = {link["change"]: link for link in links}
        changes = {row["id"]: row for row in self._database.rows("SELECT id, made, state FROM changes")}
        for change, link in last.items():
            if change not in changes:
                tampered.append(Tampering(where=f"change {change}", what="it is gone"))
            elif link["what"] != "begun" and self._digest(change) != link["digest"]:
                what = f"it is not as it was noted at {link['moment'][:16]} UTC ({link['what']})"
                tampered.append(Tampering(where=f"change {change}", what=what))
        first = links[0]["moment"] if links else "9999"
        unsealed, early = list[str](), list[int]()
        for change, row in changes.items():
            if change in last and last[change]["what"] == "begun":
                unsealed.append(
                    f"change {change}: it runs, or its process was killed; resumed to its end, it is sealed"
                )
            elif change not in last and row["made"] < first:
                early.append(change)
            elif change not in last:
                tampered.append(Tampering(where=f"change {change}", what="nothing notes that it was made"))
        if early:
            unsealed.insert(0, f"{len(early)} changes that were made before there was a chain, up to {max(early)}")
        sealed = sum(link["what"] != "begun" for change, link in last.items() if change in changes)
        seal = links[-1]["seal"] if links else _NONE
        return Verified(links=len(links), sealed=sealed, unsealed=tuple(unsealed), tampered=tuple(tampered), seal=seal)

    def _digest(self, change: int) -> str:
        """Of a change and its steps, as they stand."""
        made = hashlib.sha256()
        for row in self._database.tuples(
            "SELECT kind, system, made, state, about FROM changes WHERE id = ?", (change,)
        ):
            made.update(_bytes(row))
        for row in step_rows(self._database, change, _STEPS):
            made.update(_bytes(row))
        return made.hexdigest()


def _broken(links: Sequence[DatabaseRow]) -> Iterator[Tampering]:
    """Links that are not as they were written, or do not follow the one before them."""
    previous, number = _NONE, 0
    for link in links:
        where = f"link {link['id']}"
        own = _seal(link["id"], link["change"], link["what"], link["moment"], link["digest"], link["previous"])
        if own != link["seal"]:
            yield Tampering(where=where, what="it is not as it was written")
        elif link["previous"] != previous or link["id"] != number + 1:
            yield Tampering(where=where, what="what was written before it is gone, or another")
        previous, number = link["seal"], link["id"]


def _seal(*parts: object) -> str:
    return hashlib.sha256(json.dumps(parts, ensure_ascii=False).encode()).hexdigest()


def _bytes(row: tuple[object, ...]) -> bytes:
    return "\x1e".join("\0" if value is None else str(value) for value in row).encode() + b"\x1d"
