"""What is to be told: matters that are open, so that each is told once, and messages that wait for their way."""

from __future__ import annotations

import json
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from concordex.store.database import Database, DatabaseRow
from concordex.unseen import masked

SCHEMA = """
CREATE TABLE IF NOT EXISTS matters (name TEXT PRIMARY KEY, digest TEXT NOT NULL, since TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS notices (
    id INTEGER PRIMARY KEY, place TEXT NOT NULL, kind TEXT NOT NULL, subject TEXT NOT NULL, body TEXT NOT NULL,
    facts TEXT NOT NULL, made TEXT NOT NULL, sent TEXT, tries INTEGER NOT NULL DEFAULT 0, next TEXT, fault TEXT
);
CREATE INDEX IF NOT EXISTS waiting ON notices (place, sent);
"""


@dataclass(frozen=True, kw_only=True)
class Notice:
    """One thing to be told at one place; ``next`` is when it may be tried again."""

    id: int
    place: str
    kind: str
    subject: str
    body: str
    facts: dict[str, object]
    made: datetime
    sent: datetime | None = None
    tries: int = 0
    next: datetime | None = None
    fault: str = ""


class Notices:
    """Open matters and messages in the catalogue."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def is_new(self, matter: str, digest: str = "") -> bool:
        """Note that a matter is open; whether it was not, or was another one of that name."""
        with self._database.atomic():
            known = self._database.rows("SELECT digest FROM matters WHERE name = ?", (matter,))
            if known and known[0]["digest"] == digest:
                return False
            self._database.run("DELETE FROM matters WHERE name = ?", (matter,))
            self._database.run("INSERT INTO matters VALUES (?, ?, ?)", (matter, digest, _now()))
            return True

    def is_over(self, matter: str) -> datetime | None:
        """Note that a matter is over; since when it was open, if it was."""
        with self._database.atomic():
            known = self._database.rows("SELECT since FROM matters WHERE name = ?", (matter,))
            self._database.run("DELETE FROM matters WHERE name = ?", (matter,))
        return datetime.fromisoformat(known[0]["since"]) if known else None

    def open(self, kind: str) -> list[str]:
        """The open matters of a kind, by their names without it."""
        rows = self._database.rows("SELECT name FROM matters WHERE name LIKE ? ORDER BY name", (f"{kind} %",))
        return [str(row["name"]).removeprefix(f"{kind} ") for row in rows]

    def add(self, places: Collection[str], kind: str, subject: str, body: str, facts: dict[str, object]) -> None:
        """Have something told at each of some places."""
        told = (kind, masked(subject), masked(body), masked(json.dumps(facts, default=str)), _now())
        self._database.run_many(
            "INSERT INTO notices (place, kind, subject, body, facts, made) VALUES (?, ?, ?, ?, ?, ?)",
            [(place, *told) for place in places],
        )

    def waiting(self, place: str | None = None) -> list[Notice]:
        """What has not been sent yet, the oldest first."""
        sql = "SELECT * FROM notices WHERE sent IS NULL AND (? IS NULL OR place = ?) ORDER BY id"
        return [_notice(row) for row in self._database.rows(sql, (place, place))]

    def last_sent(self, place: str) -> datetime | None:
        """When something was last sent there."""
        (row,) = self._database.rows("SELECT MAX(sent) AS sent FROM notices WHERE place = ?", (place,))
        return _moment(row["sent"])

    def newest(self, limit: int) -> list[Notice]:
        """The latest messages, the newest first."""
        rows = self._database.rows("SELECT * FROM notices ORDER BY id DESC LIMIT ?", (limit,))
        return [_notice(row) for row in rows]

    def sent(self, ids: Sequence[int]) -> None:
        """Note that messages have been taken by whoever brings them."""
        sql = "UPDATE notices SET sent = ?, fault = NULL WHERE id = ?"
        self._database.run_many(sql, [(_now(), one) for one in ids])

    def failed(self, ids: Sequence[int], fault: str, again: datetime) -> None:
        """Note that messages could not be sent, and when they may be tried again."""
        sql = "UPDATE notices SET tries = tries + 1, fault = ?, next = ? WHERE id = ?"
        self._database.run_many(sql, [(masked(fault), again.isoformat(), one) for one in ids])

    def forget(self, keep: int) -> None:
        """Forget all but the newest messages that were sent."""
        sql = (
            "DELETE FROM notices WHERE sent IS NOT NULL AND id NOT IN"
            " (SELECT id FROM notices WHERE sent IS NOT NULL ORDER BY id DESC LIMIT ?)"
        )
        self._database.run(sql, (keep,))


def _notice(row: DatabaseRow) -> Notice:
    made = _moment(row["made"])
    assert made is not None
    return Notice(
        id=row["id"], place=row["place"], kind=row["kind"], subject=row["subject"], body=row["body"],
        facts=json.loads(row["facts"]), made=made, sent=_moment(row["sent"]), tries=row["tries"],
        next=_moment(row["next"]), fault=row["fault"] or "",
    )  # fmt: skip


def _moment(text: str | None) -> datetime | None:
    return None if not text else datetime.fromisoformat(text)


def _now() -> str:
    return datetime.now(UTC).isoformat()
