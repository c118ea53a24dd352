"""The catalogue: which pulls there were and what came of them, reconciliations, changes and their steps."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from concordex.store.database import Database, Row

_SCHEMA = """
CREATE TABLE IF NOT EXISTS pulls (
    id INTEGER PRIMARY KEY, begun TEXT NOT NULL, ended TEXT, outcome TEXT NOT NULL, process INTEGER
);
CREATE TABLE IF NOT EXISTS snapshots (
    id INTEGER PRIMARY KEY, pull INTEGER NOT NULL REFERENCES pulls (id), system TEXT NOT NULL,
    name TEXT NOT NULL, taken TEXT NOT NULL, outcome TEXT NOT NULL, file TEXT,
    announced INTEGER, received INTEGER, distinct_ids INTEGER, fault TEXT, notes TEXT NOT NULL,
    lost TEXT NOT NULL, seconds REAL NOT NULL, requests INTEGER NOT NULL, retries INTEGER NOT NULL,
    bytes INTEGER NOT NULL
);
CREATE INDEX IF NOT EXISTS newest ON snapshots (system, name, id);
CREATE TABLE IF NOT EXISTS reconciliations (
    id INTEGER PRIMARY KEY, made TEXT NOT NULL, folder TEXT NOT NULL, snapshots TEXT NOT NULL,
    summary TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS changes (
    id INTEGER PRIMARY KEY, made TEXT NOT NULL, kind TEXT NOT NULL, system TEXT NOT NULL,
    state TEXT NOT NULL, begun TEXT, ended TEXT, process INTEGER
);
CREATE TABLE IF NOT EXISTS steps (
    change INTEGER NOT NULL REFERENCES changes (id), number INTEGER NOT NULL, name TEXT NOT NULL,
    action TEXT NOT NULL, label TEXT NOT NULL, body TEXT NOT NULL, state TEXT NOT NULL, reason TEXT,
    record_id TEXT, sent TEXT, answered TEXT, PRIMARY KEY (change, number)
);
CREATE TABLE IF NOT EXISTS references_made (
    system TEXT NOT NULL, record_id TEXT NOT NULL, entry TEXT NOT NULL, source TEXT NOT NULL,
    PRIMARY KEY (system, record_id)
);
"""


@dataclass(frozen=True, kw_only=True)
class Snapshot:
    """One table of one system, as one pull found it, with what it takes to trust it."""

    pull: int
    system: str
    table: str
    taken: datetime
    outcome: str
    file: str | None = None
    announced: int | None = None
    received: int = 0
    distinct: int = 0
    fault: str | None = None
    notes: Sequence[str] = ()
    lost: dict[str, int] = field(default_factory=dict)
    seconds: float = 0.0
    requests: int = 0
    retries: int = 0
    bytes: int = 0
    id: int | None = None

    @property
    def whole(self) -> bool:
        """Whether absence from it means anything."""
        return self.outcome == "whole"


class Catalogue:
    """The workspace's memory of what was done."""

    def __init__(self, path: Path, *, write: bool) -> None:
        self.database = Database(path, _SCHEMA, write=write)

    def begin_pull(self, process: int) -> int:
        """Note that a pull has begun; its number."""
        sql = "INSERT INTO pulls (begun, outcome, process) VALUES (?, 'running', ?)"
        return self.database.insert(sql, (_now(), process))

    def end_pull(self, pull: int, outcome: str) -> None:
        """Note how a pull ended."""
        self.database.run("UPDATE pulls SET ended = ?, outcome = ? WHERE id = ?", (_now(), outcome, pull))

    def add_snapshot(self, snapshot: Snapshot) -> None:
        """Note a snapshot, once its file is in place."""
        s = snapshot
        self.database.run(
            "INSERT INTO snapshots (pull, system, name, taken, outcome, file, announced, received, distinct_ids,"
            " fault, notes, lost, seconds, requests, retries, bytes) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
            (
                s.pull, s.system, s.table, s.taken.isoformat(), s.outcome, s.file, s.announced, s.received,
                s.distinct, s.fault, json.dumps(list(s.notes)), json.dumps(s.lost), s.seconds, s.requests,
                s.retries, s.bytes,
            ),
        )  # fmt: skip

    def newest(self, table: str | None = None) -> list[Snapshot]:
        """For each system and table the snapshot to use.

        It is the newest whole one, unless a partial one is all there is: what came of a pull that
        was cut short does not hide what is known to be whole.
        """
        rows = self.database.rows(
            "SELECT * FROM snapshots WHERE id IN (SELECT COALESCE("
            " MAX(CASE WHEN outcome = 'whole' THEN id END), MAX(CASE WHEN file IS NOT NULL THEN id END))"
            " FROM snapshots GROUP BY system, name) ORDER BY system, name"
        )
        return [found for found in map(_snapshot, rows) if table in (None, found.table)]

    def pulls(self, limit: int = 20) -> list[Row]:
        """The latest pulls, newest first."""
        return self.database.rows("SELECT * FROM pulls ORDER BY id DESC LIMIT ?", (limit,))

    def running(self) -> list[Row]:
        """The pulls that have not ended, by what they said of themselves."""
        return self.database.rows("SELECT * FROM pulls WHERE outcome = 'running'")

    def snapshots_of(self, pull: int) -> list[Snapshot]:
        """What one pull brought, or failed to bring."""
        return [
            _snapshot(row) for row in self.database.rows("SELECT * FROM snapshots WHERE pull = ? ORDER BY id", (pull,))
        ]

    def latest_of(self, system: str) -> list[Snapshot]:
        """The newest try at each table of a system, whatever came of it."""
        sql = "SELECT * FROM snapshots WHERE id IN (SELECT MAX(id) FROM snapshots WHERE system = ? GROUP BY name)"
        return [_snapshot(row) for row in self.database.rows(sql, (system,))]

    def add_reconciliation(self, folder: str, snapshots: Iterable[int], summary: dict[str, Any]) -> int:
        """Note a concordance, once its files are in place."""
        sql = "INSERT INTO reconciliations (made, folder, snapshots, summary) VALUES (?, ?, ?, ?)"
        return self.database.insert(sql, (_now(), folder, json.dumps(sorted(snapshots)), json.dumps(summary)))

    def reconciliation(self) -> Row | None:
        """The newest concordance."""
        rows = self.database.rows("SELECT * FROM reconciliations ORDER BY id DESC LIMIT 1")
        return rows[0] if rows else None

    def references(self) -> list[Row]:
        """Which record of a system we made for which record elsewhere."""
        return self.database.rows("SELECT * FROM references_made")

    def refer(self, rows: Iterable[tuple[str, str, str, str]]) -> None:
        """Note ``(system, record_id, entry, source)`` of records that we made."""
        self.database.run_many("INSERT OR REPLACE INTO references_made VALUES (?, ?, ?, ?)", rows)


def _snapshot(row: Row) -> Snapshot:
    return Snapshot(
        id=row["id"], pull=row["pull"], system=row["system"], table=row["name"],
        taken=datetime.fromisoformat(row["taken"]), outcome=row["outcome"], file=row["file"],
        announced=row["announced"], received=row["received"], distinct=row["distinct_ids"], fault=row["fault"],
        notes=json.loads(row["notes"]), lost=json.loads(row["lost"]), seconds=row["seconds"],
        requests=row["requests"], retries=row["retries"], bytes=row["bytes"],
    )  # fmt: skip


def _now() -> str:
    return datetime.now(UTC).isoformat()
