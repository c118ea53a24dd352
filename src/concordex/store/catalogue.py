"""The catalogue: which pulls there were and what came of them, reconciliations, changes and their steps."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import cached_property
from typing import Any, Protocol

from concordex.store.chain import SCHEMA as _CHAIN
from concordex.store.contacts import SCHEMA as _CONTACTS
from concordex.store.contacts import Contacts
from concordex.store.database import Database, DatabaseRow
from concordex.store.earlier import brought_up
from concordex.store.notices import SCHEMA as _NOTICES
from concordex.store.notices import Notices
from concordex.store.runs import JobRuns
from concordex.store.tasks import SCHEMA as _TASKS
from concordex.store.tasks import Tasks
from concordex.unseen import fit_to_keep, masked

_SCHEMA = """
CREATE TABLE IF NOT EXISTS pulls (
    id INTEGER PRIMARY KEY, begun TEXT NOT NULL, ended TEXT, outcome TEXT NOT NULL, process INTEGER,
    stop TEXT, origin TEXT
);
CREATE TABLE IF NOT EXISTS progress (
    pull INTEGER NOT NULL REFERENCES pulls (id), system TEXT NOT NULL, name TEXT NOT NULL,
    announced INTEGER, received INTEGER NOT NULL, PRIMARY KEY (pull, system, name)
);
CREATE TABLE IF NOT EXISTS snapshots (
    id INTEGER PRIMARY KEY, pull INTEGER NOT NULL REFERENCES pulls (id), system TEXT NOT NULL,
    name TEXT NOT NULL, taken TEXT NOT NULL, outcome TEXT NOT NULL, file TEXT,
    announced INTEGER, received INTEGER, distinct_ids INTEGER, fault TEXT, notes TEXT NOT NULL,
    lost TEXT NOT NULL, seconds DOUBLE PRECISION NOT NULL, requests INTEGER NOT NULL, retries INTEGER NOT NULL,
    bytes INTEGER NOT NULL, left_out TEXT NOT NULL DEFAULT '{}', narrowed TEXT, proof TEXT, refers TEXT,
    began TEXT, reading TEXT
);
CREATE INDEX IF NOT EXISTS newest ON snapshots (system, name, id);
CREATE TABLE IF NOT EXISTS reconciliations (
    id INTEGER PRIMARY KEY, made TEXT NOT NULL, folder TEXT NOT NULL, snapshots TEXT NOT NULL,
    summary TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS changes (
    id INTEGER PRIMARY KEY, made TEXT NOT NULL, kind TEXT NOT NULL, system TEXT NOT NULL,
    state TEXT NOT NULL, begun TEXT, ended TEXT, process INTEGER, about TEXT
);
CREATE TABLE IF NOT EXISTS steps (
    change INTEGER NOT NULL REFERENCES changes (id), number INTEGER NOT NULL, name TEXT NOT NULL,
    operation TEXT NOT NULL, label TEXT NOT NULL, body TEXT NOT NULL, state TEXT NOT NULL, reason TEXT,
    record_id TEXT, sent TEXT, answered TEXT, became TEXT, ours INTEGER, whole TEXT, causes TEXT,
    PRIMARY KEY (change, number)
);
CREATE TABLE IF NOT EXISTS references_made (
    system TEXT NOT NULL, record_id TEXT NOT NULL, entry TEXT NOT NULL, source TEXT NOT NULL,
    PRIMARY KEY (system, record_id)
);
CREATE TABLE IF NOT EXISTS files (name TEXT PRIMARY KEY, digest TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS runs (
    id INTEGER PRIMARY KEY, job TEXT NOT NULL, part TEXT NOT NULL, due TEXT, begun TEXT NOT NULL, ended TEXT,
    outcome TEXT NOT NULL, who TEXT NOT NULL, host TEXT NOT NULL, process INTEGER NOT NULL, stop TEXT, why TEXT,
    steps TEXT NOT NULL DEFAULT '[]'
);
CREATE INDEX IF NOT EXISTS runs_of ON runs (job, part, id);
CREATE TABLE IF NOT EXISTS awaited (
    job TEXT NOT NULL, part TEXT NOT NULL, since TEXT NOT NULL, left_at TEXT, left_by TEXT, PRIMARY KEY (job, part)
);
CREATE TABLE IF NOT EXISTS staged (
    system TEXT NOT NULL, who TEXT NOT NULL, since TEXT NOT NULL, what TEXT NOT NULL
);
"""


#: Columns that came later, for catalogues made before.
_LATER = {
    "pulls": {"stop": "TEXT", "origin": "TEXT"},
    "snapshots": {
        "left_out": "TEXT NOT NULL DEFAULT '{}'",
        "narrowed": "TEXT",
        "proof": "TEXT",
        "refers": "TEXT",
        "began": "TEXT",
        "reading": "TEXT",
    },
    "changes": {"about": "TEXT"},
    "steps": {"became": "TEXT", "ours": "INTEGER", "whole": "TEXT", "causes": "TEXT"},
    "files": {"content": "TEXT"},
    "awaited": {"left_at": "TEXT", "left_by": "TEXT"},
}


#: Files whose names begin with a folder's; the folder is given twice.
_BELOW = "substr(name, 1, length(?)) = ?"


class OpensDatabase(Protocol):
    """Opens a database with the tables of a schema, which are made where it is to be written to."""

    def __call__(self, schema: str, *, write: bool) -> Database:
        """The database, opened."""


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
    left_out: dict[str, int] = field(default_factory=dict)
    narrowed: str | None = None
    proof: str | None = None
    refers: Mapping[str, str] | None = None  # fields that hold ids of other tables' records; None: nobody noted it
    began: datetime | None = None  # its reading, by the system's own clock; None where that is not known
    reading: str | None = None  # a digest of how it was read, and of what the ids in it meant
    id: int | None = None
    trusted: bool = False  # the workspace believes it though nothing proves it

    @property
    def whole(self) -> bool:
        """Whether absence from it means anything: it is proved whole, or believed to be."""
        return self.outcome == "whole" or (self.trusted and self.outcome == "unproven")

    def facts(self) -> dict[str, Any]:
        """What its file says of itself, so that a catalogue that is lost can be made anew."""
        return {
            "pull": self.pull, "system": self.system, "table": self.table, "taken": self.taken.isoformat(),
            "outcome": self.outcome, "received": self.received, "distinct": self.distinct,
            "fault": fit_to_keep(self.fault), "left_out": self.left_out, "narrowed": self.narrowed,
        }  # fmt: skip


class Catalogue:
    """The workspace's memory of what was done."""

    def __init__(
        self, opened: OpensDatabase, *, write: bool, trusted: Collection[tuple[str, str]] = (),
        hidden: Collection[str] = (),
    ) -> None:  # fmt: skip
        """``hidden`` are systems whose snapshots whoever reads here may not see."""
        self._hidden = hidden
        self.database = opened(_SCHEMA + _NOTICES + _CHAIN + _CONTACTS + _TASKS, write=write)
        self._trusted = trusted  # systems and tables that are believed though nothing proves them whole
        if write or self.database.unmade:
            self._grow()

    def _grow(self) -> None:
        """Give a catalogue of an earlier release the columns that it lacks."""
        if self._lacking():
            with self.database.atomic():  # of several that open it at one time, one adds them
                for table, column in self._lacking():
                    self.database.run(f"ALTER TABLE {table} ADD COLUMN {column}")
        brought_up(self.database)

    def _lacking(self) -> list[tuple[str, str]]:
        known = {table: self.database.columns_of(table) for table in _LATER}
        return [
            (table, f"{name} {kind}")
            for table, columns in _LATER.items()
            for name, kind in columns.items()
            if name not in known[table]
        ]

    @cached_property
    def runs(self) -> JobRuns:
        """What jobs did."""
        return JobRuns(self.database)

    @cached_property
    def tasks(self) -> Tasks:
        """What runners divide among themselves."""
        return Tasks(self.database)

    @cached_property
    def notices(self) -> Notices:
        """What people are to be told."""
        return Notices(self.database)

    @cached_property
    def contacts(self) -> Contacts:
        """How it stands between us and each system."""
        return Contacts(self.database)

    def begin_pull(self, process: int, origin: str | None = None) -> int:
        """Note that a pull has begun, and the token of the job's line that began it; its number."""
        sql = "INSERT INTO pulls (begun, outcome, process, origin) VALUES (?, 'running', ?, ?)"
        return self.database.insert(sql, (_now(), process, origin))

    def pulls_of(self, origin: str) -> list[int]:
        """The pulls that one line of a job began."""
        rows = self.database.rows("SELECT id FROM pulls WHERE origin = ? ORDER BY id", (origin,))
        return [int(row["id"]) for row in rows]

    def end_pull(self, pull: int, outcome: str) -> None:
        """Note how a pull ended."""
        with self.database.atomic():
            self.database.run("UPDATE pulls SET ended = ?, outcome = ? WHERE id = ?", (_now(), outcome, pull))
            self.database.run("DELETE FROM progress WHERE pull = ?", (pull,))

    def give_up(self, pull: int) -> None:
        """Note that a pull stopped whose process is gone, unless it has ended by itself meanwhile."""
        with self.database.atomic():
            sql = "UPDATE pulls SET ended = ?, outcome = 'stopped' WHERE id = ? AND outcome = 'running'"
            if self.database.run(sql, (_now(), pull)):
                self.database.run("DELETE FROM progress WHERE pull = ?", (pull,))

    def advance(self, pull: int, counts: Mapping[tuple[str, str], tuple[int, int | None]]) -> bool:
        """Note how far a running pull is, by system and table; whether somebody asked it to stop."""
        rows = [(pull, system, table, of, came) for (system, table), (came, of) in counts.items()]
        self.database.run_many(
            "INSERT INTO progress VALUES (?, ?, ?, ?, ?) ON CONFLICT (pull, system, name)"
            " DO UPDATE SET announced = excluded.announced, received = excluded.received",
            rows,
        )
        asked = self.database.rows("SELECT stop FROM pulls WHERE id = ?", (pull,))
        return bool(asked and asked[0]["stop"])

    def progress(self, pull: int) -> list[DatabaseRow]:
        """How far a running pull is."""
        return self.database.rows("SELECT * FROM progress WHERE pull = ? ORDER BY system, name", (pull,))

    def ask_to_stop(self, pull: int) -> bool:
        """Ask a running pull to stop; whether there is such a one."""
        sql = "UPDATE pulls SET stop = ? WHERE id = ? AND outcome = 'running'"
        return self.database.run(sql, (_now(), pull)) > 0

    def add_snapshot(self, snapshot: Snapshot) -> None:
        """Note a snapshot, once its file is in place."""
        s = snapshot
        self.database.run(
            "INSERT INTO snapshots (pull, system, name, taken, outcome, file, announced, received, distinct_ids,"
            " fault, notes, lost, seconds, requests, retries, bytes, left_out, narrowed, proof, refers, began, reading)"
            " VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
            (
                s.pull, s.system, s.table, s.taken.isoformat(), s.outcome, s.file, s.announced, s.received,
                s.distinct, fit_to_keep(s.fault),
                json.dumps([*map(masked, s.notes)]), json.dumps(s.lost), s.seconds, s.requests,
                s.retries, s.bytes, json.dumps(s.left_out), s.narrowed, s.proof,
                None if s.refers is None else json.dumps(s.refers), s.began and s.began.isoformat(), s.reading,
            ),
        )  # fmt: skip

    def remark(self, pull: int, system: str, table: str, note: str) -> None:
        """Add a remark to a snapshot that has been noted."""
        where = "WHERE pull = ? AND system = ? AND name = ?"
        for row in self.database.rows(f"SELECT id, notes FROM snapshots {where}", (pull, system, table)):  # noqa: S608
            notes = json.dumps([*json.loads(row["notes"]), masked(note)])
            self.database.run("UPDATE snapshots SET notes = ? WHERE id = ?", (notes, row["id"]))

    def newest(
        self, table: str | None = None, *, system: str | None = None, until: datetime | None = None
    ) -> list[Snapshot]:
        """For each system and table, or for one, the snapshot to use, of all or of those taken ``until`` a moment.

        It is the newest that held all that the system gave (whole or unproven), unless a partial one is all
        there is: what came of a pull that was cut short does not hide what came before it.
        """
        asked = {"system": system, "name": table}
        only = "".join(f" AND {column} = :{column}" for column, value in asked.items() if value is not None)
        rows = self.database.rows(
            "SELECT * FROM snapshots WHERE id IN (SELECT COALESCE("  # noqa: S608 - the columns are ours
            " MAX(CASE WHEN outcome IN ('whole', 'unproven') THEN id END), MAX(id))"
            f" FROM snapshots WHERE file IS NOT NULL AND taken <= :until{only} GROUP BY system, name)"
            " ORDER BY system, name",
            asked | {"until": until.isoformat() if until else "9999"},
        )
        return self._seen(rows)

    def _seen(self, rows: Iterable[DatabaseRow]) -> list[Snapshot]:
        return [self._snapshot(row) for row in rows if row["system"] not in self._hidden]

    def pulls(
        self, limit: int = 20, *, system: str | None = None, outcome: str | None = None, since: datetime | None = None
    ) -> list[DatabaseRow]:
        """The latest pulls, newest first; those of a system, of an outcome, or since a moment."""
        sql = (
            "SELECT * FROM pulls WHERE (? IS NULL OR outcome = ?) AND begun >= ?"
            " AND (? IS NULL OR id IN (SELECT pull FROM snapshots WHERE system = ?"
            " UNION SELECT pull FROM progress WHERE system = ?)) ORDER BY id DESC LIMIT ?"
        )
        begun = since.isoformat() if since else ""
        return self.database.rows(sql, (outcome, outcome, begun, system, system, system, limit))

    def old_files(self, before: datetime, least: int) -> list[Snapshot]:
        """Snapshots with a file, taken ``before`` a moment, beside the newest ``least`` whole ones of each table."""
        rows = self.database.rows("SELECT * FROM snapshots WHERE file IS NOT NULL ORDER BY id DESC")
        kept: dict[tuple[str, str], int] = {}
        old = []
        for snapshot in map(self._snapshot, rows):
            key = (snapshot.system, snapshot.table)
            newest = kept.get(key, 0) < least
            kept[key] = kept.get(key, 0) + snapshot.whole
            if not newest and snapshot.taken < before:
                old.append(snapshot)
        return old

    def kept(self, system: str, table: str) -> list[Snapshot]:
        """The snapshots of one table whose file is still there, the oldest first."""
        sql = "SELECT * FROM snapshots WHERE file IS NOT NULL AND system = ? AND name = ? ORDER BY id"
        return self._seen(self.database.rows(sql, (system, table)))

    def forget_file(self, snapshot: int) -> None:
        """Note that a snapshot's file is no longer kept; what is known of it stays."""
        self.database.run("UPDATE snapshots SET file = NULL WHERE id = ?", (snapshot,))

    def note_file(self, name: str, digest: str, content: str | None = None) -> None:
        """Note the digest of a file that is in place, and that of its content."""
        self.database.run(
            "INSERT INTO files (name, digest, content) VALUES (?, ?, ?) ON CONFLICT (name)"
            " DO UPDATE SET digest = excluded.digest, content = excluded.content",
            (name, digest, content),
        )

    def content_of(self, name: str) -> str | None:
        """The digest of a file's content; none of what an earlier release wrote."""
        known = self.database.columns_of("files")
        rows = self.database.rows("SELECT * FROM files WHERE name = ?", (name,)) if known else []
        return rows[0].get("content") if rows else None

    def digest_of(self, name: str) -> str | None:
        """The digest that a file had when it was written; none of what an earlier release wrote."""
        if not self._has_digests:
            return None
        rows = self.database.rows("SELECT digest FROM files WHERE name = ?", (name,))
        return str(rows[0]["digest"]) if rows else None

    @cached_property
    def _has_digests(self) -> bool:
        return bool(self.database.columns_of("files"))

    def files_in(self, folder: str) -> list[str]:
        """The files of a folder that were kept."""
        sql = f"SELECT name FROM files WHERE {_BELOW} ORDER BY name"  # noqa: S608 - a name of our own
        rows = self.database.rows(sql, (f"{folder}/", f"{folder}/"))
        return [str(row["name"]) for row in rows]

    def all_files(self) -> list[str]:
        """Every file that is kept and has a digest."""
        return [str(row["name"]) for row in self.database.rows("SELECT name FROM files ORDER BY name")]

    def named_files(self) -> set[str]:
        """The files that snapshots have."""
        return {str(row["file"]) for row in self.database.rows("SELECT file FROM snapshots WHERE file IS NOT NULL")}

    def tables(self) -> list[tuple[str, str]]:
        """Every system and table of which there is a file."""
        sql = "SELECT DISTINCT system, name FROM snapshots WHERE file IS NOT NULL ORDER BY system, name"
        return [(row["system"], row["name"]) for row in self.database.rows(sql) if row["system"] not in self._hidden]

    def register(self, snapshot: Snapshot) -> None:
        """Note a snapshot of a pull that may be unknown here."""
        taken = snapshot.taken.isoformat()
        sql = "INSERT INTO pulls (id, begun, ended, outcome) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING"
        if self.database.run(sql, (snapshot.pull, taken, taken, snapshot.outcome)):
            self.database.renumber("pulls")
        self.add_snapshot(snapshot)

    def forget_digests(self, name: str) -> None:
        """Forget a file, or the files of a folder."""
        self.database.run(f"DELETE FROM files WHERE name = ? OR {_BELOW}", (name, f"{name}/", f"{name}/"))  # noqa: S608

    def running(self) -> list[DatabaseRow]:
        """The pulls that have not ended, by what they said of themselves."""
        return self.database.rows("SELECT * FROM pulls WHERE outcome = 'running'")

    def snapshots_of(self, pull: int) -> list[Snapshot]:
        """What one pull brought, or failed to bring."""
        return self._seen(self.database.rows("SELECT * FROM snapshots WHERE pull = ? ORDER BY id", (pull,)))

    def first_of(self, table: str) -> datetime | None:
        """When a table was pulled for the first time."""
        first = self.database.rows("SELECT MIN(taken) AS taken FROM snapshots WHERE name = ?", (table,))[0]["taken"]
        return datetime.fromisoformat(first) if first else None

    def latest_of(self, system: str) -> list[Snapshot]:
        """The newest try at each table of a system, whatever came of it."""
        sql = "SELECT * FROM snapshots WHERE id IN (SELECT MAX(id) FROM snapshots WHERE system = ? GROUP BY name)"
        return self._seen(self.database.rows(sql, (system,)))

    def systems_of(self, snapshots: Sequence[int]) -> set[str]:
        """The systems that some snapshots are of, as they are called now."""
        one_of, numbers = self.database.among(snapshots)
        rows = self.database.rows(f"SELECT DISTINCT system FROM snapshots WHERE id IN {one_of}", (numbers,))  # noqa: S608
        return {str(row["system"]) for row in rows}

    def add_reconciliation(
        self, folder: str, snapshots: Sequence[int], systems: Collection[str], summary: dict[str, Any]
    ) -> bool:
        """Note a concordance, once its files are in place; whether its systems are still called as they are there."""
        sql = "INSERT INTO reconciliations (made, folder, snapshots, summary) VALUES (?, ?, ?, ?)"
        with self.database.atomic():  # nobody gives one another name meanwhile
            if self.systems_of(snapshots) - set(systems):
                return False
            self.database.insert(sql, (_now(), folder, json.dumps(sorted(snapshots)), json.dumps(summary)))
        return True

    def reconciliation(self) -> DatabaseRow | None:
        """The newest concordance."""
        rows = self.database.rows("SELECT * FROM reconciliations ORDER BY id DESC LIMIT 1")
        return rows[0] if rows else None

    def reconciliations(self) -> list[DatabaseRow]:
        """All concordances that there were, the oldest first; their files are kept of the newest alone."""
        return self.database.rows("SELECT * FROM reconciliations ORDER BY id")

    def reconciled(self) -> list[int]:
        """The snapshots that the newest concordance rests on."""
        row = self.reconciliation()
        return list(json.loads(row["snapshots"])) if row else []

    def holds(self, system: str, rows: Iterable[tuple[str, str, str]]) -> None:
        """Note what a system holds staged, as ``(who, since, what)``, instead of what it held before."""
        with self.database.atomic():
            self.database.run("DELETE FROM staged WHERE system = ?", (system,))
            self.database.run_many("INSERT INTO staged VALUES (?, ?, ?, ?)", ((system, *row) for row in rows))

    def staged(self) -> list[DatabaseRow]:
        """What systems held staged when they were pulled last."""
        return self.database.rows("SELECT * FROM staged ORDER BY system, since, who, what")

    def references(self) -> list[DatabaseRow]:
        """Which record of a system we made for which record elsewhere."""
        return self.database.rows("SELECT * FROM references_made")

    def refer(self, rows: Iterable[tuple[str, str, str, str]]) -> None:
        """Note ``(system, record_id, entry, source)`` of records that we made."""
        self.database.run_many(
            "INSERT INTO references_made VALUES (?, ?, ?, ?) ON CONFLICT (system, record_id)"
            " DO UPDATE SET entry = excluded.entry, source = excluded.source",
            rows,
        )

    def forget(self, system: str, record_ids: Iterable[str]) -> None:
        """Forget what records that are gone stood for."""
        sql = "DELETE FROM references_made WHERE system = ? AND record_id = ?"
        self.database.run_many(sql, ((system, record_id) for record_id in record_ids))

    def _snapshot(self, row: DatabaseRow) -> Snapshot:
        return Snapshot(
            id=row["id"], pull=row["pull"], system=row["system"], table=row["name"],
            taken=datetime.fromisoformat(row["taken"]), outcome=row["outcome"], file=row["file"],
            announced=row["announced"], received=row["received"], distinct=row["distinct_ids"], fault=row["fault"],
            notes=json.loads(row["notes"]), lost=json.loads(row["lost"]), seconds=row["seconds"],
            requests=row["requests"], retries=row["retries"], bytes=row["bytes"],
            left_out=json.loads(row.get("left_out") or "{}"), narrowed=row.get("narrowed"), proof=row.get("proof"),
            refers=json.loads(row.get("refers") or "null"),
            began=datetime.fromisoformat(row["began"]) if row.get("began") else None, reading=row.get("reading"),
            trusted=(row["system"], row["name"]) in self._trusted,
        )  # fmt: skip


def _now() -> str:
    return datetime.now(UTC).isoformat()
