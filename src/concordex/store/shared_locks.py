"""Locks that all machines of a shared catalogue see: PostgreSQL's advisory ones, which fall with their connection.

A connection may break while its process lives on.  What it held is then free, and its note of who holds it is still
there: whoever finds that waits a moment before taking it, in which the one before takes it back; and whoever holds one
looks whether it still does before each thing that it does under it.
"""

from __future__ import annotations

import json
import os
import socket
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import _GeneratorContextManager, contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path
from threading import RLock
from typing import TYPE_CHECKING, Any
from uuid import uuid4

from filelock import Timeout

from concordex.errors import Stopped, StoreError
from concordex.store.locks import GRACE, Locks
from concordex.store.postgresql import FIRST, Server

if TYPE_CHECKING:
    import psycopg

#: Seconds that are given to one whose connection broke, to take back what it held.
_BACK = 3.0
#: Seconds between two tries.
_LOOK = 0.1


class SharedLocks(Locks):
    """The locks of a workspace that several machines share; those of its own files stay here."""

    def __init__(self, store: Path, server: Server, make: Callable[[], object]) -> None:
        """``make`` makes the tables that are not there yet."""
        super().__init__(store)
        self._make = make
        self._server, self._guard = server, RLock()
        self._opened: psycopg.Connection[Any] | None = None
        self._held: dict[str, str] = {}  # names, with the token of who holds each

    @contextmanager
    def held(self, system: str, change: int, by: str, wait: float = 0.0) -> Iterator[None]:
        """Hold the lock of ``system`` for a change; raises Stopped, and says who has it, after ``wait`` seconds."""
        about = {"by": by, "change": change}
        try:
            token = self._take(_system(system), max(wait, GRACE), about, careful=True)
        except Timeout as late:
            raise Stopped(self._told(system), advice=self._advice(system, change)) from late
        try:
            yield
        finally:
            self._give_back(_system(system), token)

    def of_job(self, name: str) -> _GeneratorContextManager[None]:
        """Hold the lock of a job, or of whoever sends what is to be told; raises Timeout where another has it."""
        return self._holding(f"job {name}")

    def of_pull(self, number: int) -> _GeneratorContextManager[None]:
        """Hold what says that a pull is going on."""
        return self._holding(f"pull {number}")

    def of_runner(self, name: str) -> _GeneratorContextManager[None]:
        """Hold what says that a runner is at work."""
        return self._holding(f"runner {name}")

    def is_at_work(self, runner: str) -> bool:
        """Whether a runner of that name is at work."""
        return self._is_taken(f"runner {runner}")

    def try_reading(self, system: str) -> bool:
        """Hold what keeps others from pulling a system meanwhile; whether it could be had at once."""
        try:
            self._take(f"reading {system}", 0.0, {})
        except Timeout:
            return False
        return True

    def end_reading(self, system: str) -> None:
        """Let others pull a system."""
        if (token := self._held.get(f"reading {system}")) is not None:
            self._give_back(f"reading {system}", token)

    def is_pulling(self, number: int, process: int | None) -> bool:
        """Whether whoever began a pull is still at it."""
        return self._is_taken(f"pull {number}")

    def is_held_for(self, job: str) -> bool:
        """Whether somebody runs a job now."""
        return self._is_taken(f"job {job}")

    def holder(self, system: str) -> Mapping[str, Any] | None:
        """Who writes to ``system`` now: process, host, by, change, since; nothing where nobody does."""
        return self._noted(system) if self._is_taken(_system(system)) else None

    @contextmanager
    def _holding(self, name: str) -> Iterator[None]:
        token = self._take(name, GRACE, {})
        try:
            yield
        finally:
            self._give_back(name, token)

    def check(self, system: str) -> None:
        """Raise Stopped where the lock of ``system``, which this process holds, has gone to another."""
        name = _system(system)
        with self._guard:
            token = self._held.get(name)
            rows = self._ask("SELECT token FROM holders WHERE name = %s", (name,))
            if token is None or not rows or rows[0][0] != token:
                raise Stopped(
                    f"{system} has gone to another process while the catalogue could not be reached: "
                    f"{self._told(system)}",
                    advice="nothing more was sent from here; concordex change list shows how it stands",
                )

    def close(self) -> None:
        """Let go of everything."""
        with self._guard:
            if self._opened is not None:
                self._opened.close()
            self._opened = None

    def _take(self, name: str, wait: float, about: Mapping[str, Any], *, careful: bool = False) -> str:
        self._make()
        until, left = time.monotonic() + wait, None
        token = str(uuid4())
        while True:
            with self._guard:
                if name not in self._held and self._try(name):
                    rows = self._ask("SELECT token FROM holders WHERE name = %s", (name,))
                    if not careful or not rows or left == rows[0][0]:
                        self._enter(name, token, about)
                        self._held[name] = token
                        return token
                    self._unlock(name)  # it was not given back: its holder may come for it
                    left, until = rows[0][0], max(until, time.monotonic() + _BACK + 1)
                    sleep = _BACK
                else:
                    left, sleep = None, _LOOK
            if time.monotonic() > until:
                raise Timeout(name)
            time.sleep(sleep)

    def _enter(self, name: str, token: str, about: Mapping[str, Any]) -> None:
        told = {
            "process": os.getpid(), "host": socket.gethostname(),
            "since": datetime.now(UTC).isoformat(timespec="seconds"), **about,
        }  # fmt: skip
        self._ask(
            "INSERT INTO holders VALUES (%s, %s, %s) ON CONFLICT (name)"
            " DO UPDATE SET token = excluded.token, about = excluded.about RETURNING 1",
            (name, token, json.dumps(told)),
        )

    def _give_back(self, name: str, token: str) -> None:
        with self._guard, suppress(StoreError):  # what cannot be given back falls with the connection
            self._held.pop(name, None)
            self._ask("DELETE FROM holders WHERE name = %s AND token = %s RETURNING 1", (name, token))
            self._unlock(name)

    def _noted(self, system: str) -> Mapping[str, Any]:
        self._make()
        with self._guard:
            rows = self._ask("SELECT about FROM holders WHERE name = %s", (_system(system),))
        noted: Mapping[str, Any] = json.loads(rows[0][0]) if rows else {}
        return noted

    def _is_taken(self, name: str) -> bool:
        """Whether any connection holds it, this one included."""
        key = self._server.key(name)
        with self._guard:
            rows = self._ask(
                "SELECT 1 FROM pg_locks WHERE locktype = 'advisory' AND granted AND classid::bigint = %s"
                " AND objid::bigint = %s AND objsubid = 1"
                " AND database = (SELECT oid FROM pg_database WHERE datname = current_database())",
                (key >> 32 & 0xFFFFFFFF, key & 0xFFFFFFFF),
            )
        return bool(rows)

    def _try(self, name: str) -> bool:
        return bool(self._ask("SELECT pg_try_advisory_lock(%s)", (self._server.key(name),))[0][0])

    def _unlock(self, name: str) -> None:
        self._ask("SELECT pg_advisory_unlock(%s)", (self._server.key(name),))

    def _ask(self, sql: str, values: tuple[Any, ...]) -> list[tuple[Any, ...]]:
        """What a query finds; once more over a new connection where this one broke, with all that it held."""
        import psycopg

        for last in (False, True):
            if self._opened is None or self._opened.closed:
                self._opened = self._server.connect(patience=FIRST if self._opened is None else None)
                self._take_back()
            try:
                return self._opened.execute(sql, values).fetchall()
            except (psycopg.OperationalError, psycopg.InterfaceError) as error:
                self._opened.close()
                if last:
                    raise self._server.lost(error) from error
            except psycopg.Error as error:
                raise self._server.fault(error) from error
        raise AssertionError

    def _take_back(self) -> None:
        """Take anew what the connection that broke held, as far as nobody else has it."""
        assert self._opened is not None
        for name in self._held:
            for row in self._opened.execute("SELECT pg_try_advisory_lock(%s)", (self._server.key(name),)):
                if not row[0]:
                    self._held[name] = ""  # it is another's now: no look at it finds this token


def _system(name: str) -> str:
    return f"system {name}"
