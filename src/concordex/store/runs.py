"""What jobs did: each run with its steps, who runs it, and since when a job is waited for."""

from __future__ import annotations

import json
import os
import socket
from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from typing import Any

from concordex.store.database import Database, DatabaseRow
from concordex.unseen import fit_to_keep, masked


@dataclass(frozen=True, kw_only=True)
class RanStep:
    """A line that was run, or left out: how it ended, for how long it ran, and its last words."""

    line: str
    outcome: str
    status: int | None = None
    seconds: float = 0.0
    last_words: str = ""
    pulls: tuple[int, ...] = ()


@dataclass(frozen=True, kw_only=True)
class JobRun:
    """One run of a job: for which part of it, when it was due, how it ended and why."""

    id: int
    job: str
    part: str
    due: datetime | None
    begun: datetime
    ended: datetime | None
    outcome: str
    who: str
    host: str
    process: int
    why: str = ""
    steps: tuple[RanStep, ...] = ()
    asked_to_stop: bool = field(default=False)

    @property
    def seconds(self) -> float | None:
        """For how long it ran; None while it runs."""
        return None if self.ended is None else (self.ended - self.begun).total_seconds()


class JobRuns:
    """The runs of jobs in the catalogue."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def begin(self, job: str, part: str, due: datetime | None, who: str) -> int:
        """Note that a run has begun; its number.  What was left to be run at that moment is so no more."""
        number = self._database.insert(
            "INSERT INTO runs (job, part, due, begun, outcome, who, host, process) VALUES (?,?,?,?,'running',?,?,?)",
            (job, part, _text(due), _text(datetime.now(UTC)), who, socket.gethostname(), os.getpid()),
        )
        if due is not None:
            sql = "UPDATE awaited SET left_at = NULL, left_by = NULL WHERE job = ? AND part = ? AND left_at <= ?"
            self._database.run(sql, (job, part, _text(due)))
        return number

    def skip(self, job: str, part: str, due: datetime, who: str, why: str) -> bool:
        """Note a run that was due and did not take place; not where another has noted, or runs, what was due then."""
        with self._database.atomic():
            last = self.last_due(job, part)
            if last is not None and last >= due:
                return False
            self.end(self.begin(job, part, due, who), "skipped", why)
        return True

    def step(self, run: int, steps: Sequence[RanStep]) -> None:
        """Note how far a run is."""
        told = [
            {**asdict(step), "line": masked(step.line), "last_words": fit_to_keep(step.last_words)} for step in steps
        ]
        self._database.run("UPDATE runs SET steps = ? WHERE id = ?", (json.dumps(told), run))

    def end(self, run: int, outcome: str, why: str = "") -> None:
        """Note how a run ended, and why so."""
        sql = "UPDATE runs SET ended = ?, outcome = ?, why = ? WHERE id = ?"
        self._database.run(sql, (_text(datetime.now(UTC)), outcome, fit_to_keep(why), run))

    def give_up(self, run: int, why: str) -> bool:
        """Note that a run stopped whose process is gone; whether it had not ended by itself meanwhile."""
        sql = "UPDATE runs SET ended = ?, outcome = 'stopped', why = ? WHERE id = ? AND outcome = 'running'"
        return self._database.run(sql, (_text(datetime.now(UTC)), fit_to_keep(why), run)) > 0

    def ask_to_stop(self, run: int) -> bool:
        """Ask a run to stop; whether there is such a one that runs."""
        sql = "UPDATE runs SET stop = ? WHERE id = ? AND outcome = 'running'"
        return self._database.run(sql, (_text(datetime.now(UTC)), run)) > 0

    def is_to_stop(self, run: int) -> bool:
        """Whether somebody asked a run to stop."""
        rows = self._database.rows("SELECT stop FROM runs WHERE id = ?", (run,))
        return bool(rows and rows[0]["stop"])

    def await_from(self, job: str, part: str, now: datetime) -> datetime:
        """Since when a job is waited for: from now on, where it never was."""
        rows = self._database.rows("SELECT since FROM awaited WHERE job = ? AND part = ?", (job, part))
        if rows:
            return datetime.fromisoformat(rows[0]["since"])
        values = (job, part, _text(now))
        self._database.run(
            "INSERT INTO awaited (job, part, since) VALUES (?, ?, ?) ON CONFLICT (job, part) DO NOTHING", values
        )
        return now

    def leave(self, job: str, part: str, now: datetime, who: str) -> None:
        """Note that somebody leaves a job to whoever is at work, to be run now."""
        self.await_from(job, part, now)
        sql = "UPDATE awaited SET left_at = ?, left_by = ? WHERE job = ? AND part = ?"
        self._database.run(sql, (_text(now), who, job, part))

    def left(self, job: str, part: str) -> tuple[datetime, str] | None:
        """When a job was left to whoever is at work, and by whom; None where it was not, or has been run since."""
        sql = "SELECT left_at, left_by FROM awaited WHERE job = ? AND part = ? AND left_at IS NOT NULL"
        for row in self._database.rows(sql, (job, part)):
            at, last = datetime.fromisoformat(row["left_at"]), self.last_due(job, part)
            return (at, row["left_by"]) if last is None or at > last else None
        return None

    def last_due(self, job: str, part: str) -> datetime | None:
        """When the latest run of a job that was due, or is left out, was due."""
        sql = "SELECT MAX(due) AS due FROM runs WHERE job = ? AND part = ?"
        (row,) = self._database.rows(sql, (job, part))
        return _moment(row["due"])

    def newest(
        self, limit: int, *, job: str | None = None, part: str | None = None, outcome: str | None = None,
        since: datetime | None = None,
    ) -> list[JobRun]:  # fmt: skip
        """The latest runs, newest first; of a job or a part of it, of an outcome, begun since a moment."""
        asked = {"job": job, "part": part, "outcome": outcome, "since": _text(since), "limit": limit}
        rows = self._database.rows(
            "SELECT * FROM runs WHERE (:job IS NULL OR job = :job) AND (:part IS NULL OR part = :part)"
            " AND (:outcome IS NULL OR outcome = :outcome)"
            " AND (:since IS NULL OR begun >= :since) ORDER BY id DESC LIMIT :limit",
            asked,
        )
        return [_run(row) for row in rows]

    def run(self, number: int) -> JobRun | None:
        """The run of that number."""
        rows = self._database.rows("SELECT * FROM runs WHERE id = ?", (number,))
        return _run(rows[0]) if rows else None

    def running(self) -> list[JobRun]:
        """Runs that say that they are going on."""
        return [_run(row) for row in self._database.rows("SELECT * FROM runs WHERE outcome = 'running' ORDER BY id")]

    def forget(self, keep: int) -> list[int]:
        """Forget all but the newest runs of each job that have ended; their numbers."""
        rows = self._database.rows(
            "SELECT id FROM (SELECT id, outcome, ROW_NUMBER() OVER (PARTITION BY job, part ORDER BY id DESC) AS place"
            " FROM runs) AS placed WHERE place > ? AND outcome <> 'running'",
            (keep,),
        )
        numbers = [int(row["id"]) for row in rows]
        self._database.run_many("DELETE FROM runs WHERE id = ?", [(number,) for number in numbers])
        return numbers


def _run(row: DatabaseRow) -> JobRun:
    begun = _moment(row["begun"])
    assert begun is not None
    steps: list[dict[str, Any]] = json.loads(row["steps"])
    return JobRun(
        id=row["id"], job=row["job"], part=row["part"], due=_moment(row["due"]), begun=begun,
        ended=_moment(row["ended"]), outcome=row["outcome"], who=row["who"], host=row["host"], process=row["process"],
        why=row["why"] or "", steps=tuple(RanStep(**{**step, "pulls": tuple(step["pulls"])}) for step in steps),
        asked_to_stop=bool(row["stop"]),
    )  # fmt: skip


def _text(moment: datetime | None) -> str | None:
    return None if moment is None else moment.astimezone(UTC).isoformat()


def _moment(text: str | None) -> datetime | None:
    return None if not text else datetime.fromisoformat(text)
