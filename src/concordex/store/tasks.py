"""What runners divide among themselves: the systems of a line, each taken by one of them, and who is at work.

A runner is known to be at work by a lock, which falls with it; what it had taken is then anybody's again.
"""

from __future__ import annotations

import json
import os
import socket
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from uuid import uuid4

from concordex.store.database import Database, DatabaseRow
from concordex.unseen import fit_to_keep

SCHEMA = """
CREATE TABLE IF NOT EXISTS tasks (
    id INTEGER PRIMARY KEY, run INTEGER NOT NULL, step INTEGER NOT NULL, words TEXT NOT NULL, system TEXT NOT NULL,
    place TEXT NOT NULL, runner TEXT, lot TEXT, outcome TEXT, status INTEGER, last_words TEXT, pulls TEXT
);
CREATE INDEX IF NOT EXISTS tasks_of ON tasks (run, step);
CREATE TABLE IF NOT EXISTS runners (
    name TEXT PRIMARY KEY, who TEXT NOT NULL, host TEXT NOT NULL, process INTEGER NOT NULL, begun TEXT NOT NULL,
    places TEXT NOT NULL
);
"""


@dataclass(frozen=True, kw_only=True)
class Lot:
    """What a runner has taken: some systems of one line of one run."""

    token: str
    run: int
    step: int
    words: tuple[str, ...]
    systems: tuple[str, ...]


@dataclass(frozen=True, kw_only=True)
class DividedTask:
    """One system of a line: who has it, and what came of it; no outcome while nothing has."""

    system: str
    place: str
    runner: str | None
    outcome: str | None
    status: int | None
    last_words: str
    pulls: tuple[int, ...]


@dataclass(frozen=True, kw_only=True)
class Runner:
    """A process that does what is divided: who began it, where, since when, and which systems it reaches."""

    name: str
    who: str
    host: str
    process: int
    begun: datetime
    places: tuple[str, ...]


class Tasks:
    """The tasks and runners in the catalogue."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def enlist(self, name: str, who: str, places: Collection[str]) -> None:
        """Note a runner, which holds by now what says that it is at work: else whoever looks takes it for gone."""
        values = (name, who, socket.gethostname(), os.getpid(), _now(), json.dumps(sorted(places)))
        self._database.run("INSERT INTO runners VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING", values)

    def dismiss(self, name: str) -> None:
        """Forget a runner, and let others have what it had."""
        with self._database.atomic():
            self._database.run(
                "UPDATE tasks SET runner = NULL, lot = NULL WHERE runner = ? AND outcome IS NULL", (name,)
            )
            self._database.run("DELETE FROM runners WHERE name = ?", (name,))

    def runners(self) -> list[Runner]:
        """Those that said that they are at work, the first first."""
        rows = self._database.rows("SELECT * FROM runners ORDER BY begun, name")
        return [
            Runner(
                name=row["name"], who=row["who"], host=row["host"], process=row["process"],
                begun=datetime.fromisoformat(row["begun"]), places=tuple(json.loads(row["places"])),
            )
            for row in rows
        ]  # fmt: skip

    def settle(self, is_at_work: Callable[[str], bool]) -> list[Runner]:
        """Forget runners that are no longer at work, and let others have what they had; who they were."""
        gone = [runner for runner in self.runners() if not is_at_work(runner.name)]
        for runner in gone:
            self.dismiss(runner.name)
        return gone

    def divide(self, run: int, step: int, words: Sequence[str], systems: Sequence[tuple[str, str]]) -> None:
        """Let others have a line for each of some systems, given with the place that reaches it.

        Where the run was gone on with, those that were divided before are gone on with as well.
        """
        rows = [(run, step, json.dumps(list(words)), system, place) for system, place in systems]
        with self._database.atomic():
            if self._database.rows("SELECT 1 FROM tasks WHERE run = ? AND step = ?", (run, step)):
                return
            self._database.run_many("INSERT INTO tasks (run, step, words, system, place) VALUES (?, ?, ?, ?, ?)", rows)

    def take(self, runner: str, places: Collection[str], most: int, run: int | None = None) -> Lot | None:
        """Take some systems of one line, of any run or of one; nothing where there is none that is free.

        As many as come to each runner of all that is not done, those that others have taken included: a process takes
        about as long for several systems as for one.
        """
        token, within = uuid4().hex, sorted(places)
        marks = ", ".join("?" * len(within))
        free = f"FROM tasks WHERE runner IS NULL AND outcome IS NULL AND place IN ({marks}) AND (? IS NULL OR run = ?)"

        def take() -> list[DatabaseRow]:
            mine = self._database.rows("SELECT * FROM tasks WHERE lot = ? ORDER BY id", (token,))
            if mine:  # it was done, and nobody had heard of it
                return mine
            first = self._database.rows(
                f"SELECT run, step, COUNT(*) AS free {free} GROUP BY run, step ORDER BY run, step LIMIT 1",
                (*within, run, run),
            )
            if not first:
                return []
            able = sum(bool({*places} & {*one.places}) for one in self.runners()) or 1
            sql = "SELECT COUNT(*) AS open FROM tasks WHERE run = ? AND step = ? AND outcome IS NULL"
            (left,) = self._database.rows(sql, (first[0]["run"], first[0]["step"]))
            share = max(1, min(most, -(-left["open"] // able)))
            return self._database.rows(
                f"UPDATE tasks SET runner = ?, lot = ? WHERE id IN (SELECT id {free} AND run = ? AND step = ?"  # noqa: S608
                f" ORDER BY id LIMIT ?{self._database.skip_taken}) RETURNING *",
                (runner, token, *within, run, run, first[0]["run"], first[0]["step"], share),
            )

        rows = self._database.repeatable(take)
        if not rows:
            return None
        return Lot(
            token=token, run=rows[0]["run"], step=rows[0]["step"], words=tuple(json.loads(rows[0]["words"])),
            systems=tuple(row["system"] for row in sorted(rows, key=lambda row: int(row["id"]))),
        )  # fmt: skip

    def end(self, lot: str, outcome: str, status: int | None, last_words: str, pulls: Sequence[int]) -> bool:
        """Note what came of a lot; whether it was still ours."""
        sql = "UPDATE tasks SET outcome = ?, status = ?, last_words = ?, pulls = ? WHERE lot = ? AND outcome IS NULL"
        return self._database.run(sql, (outcome, status, fit_to_keep(last_words), json.dumps(list(pulls)), lot)) > 0

    def of(self, run: int, step: int) -> list[DividedTask]:
        """The systems of a line, in the order in which they were given."""
        rows = self._database.rows("SELECT * FROM tasks WHERE run = ? AND step = ? ORDER BY id", (run, step))
        return [
            DividedTask(
                system=row["system"], place=row["place"], runner=row["runner"], outcome=row["outcome"],
                status=row["status"], last_words=row["last_words"] or "", pulls=tuple(json.loads(row["pulls"] or "[]")),
            )
            for row in rows
        ]  # fmt: skip

    def hand_over(self, lost: int, run: int) -> None:
        """Let the tasks of a run whose runner is gone be those of the one that goes on with it."""
        self._database.run("UPDATE tasks SET run = ? WHERE run = ?", (run, lost))

    def withdraw(self, run: int, outcome: str, why: str, place: str | None = None) -> None:
        """End what nobody has taken, of a run, or of what a place alone reaches."""
        self._database.run(
            "UPDATE tasks SET outcome = ?, last_words = ? WHERE run = ? AND runner IS NULL AND outcome IS NULL"
            " AND (? IS NULL OR place = ?)",
            (outcome, why, run, place, place),
        )

    def forget(self, run: int) -> None:
        """Forget the tasks of a run that has ended."""
        self._database.run("DELETE FROM tasks WHERE run = ?", (run,))


def runner_name() -> str:
    """A name for a runner that is this process."""
    return f"{socket.gethostname()}-{os.getpid()}-{uuid4().hex[:6]}"


def _now() -> str:
    return datetime.now(UTC).isoformat()
