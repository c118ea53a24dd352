"""One writer at a time for each system: a lock of the operating system, which falls with the process that holds it."""

from __future__ import annotations

import json
import os
import socket
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote

from filelock import FileLock, Timeout

from concordex.errors import Stopped, StoreError
from concordex.landing import is_alive

#: Seconds to wait in any case: whoever only asks whether a lock is held has it for a moment.
GRACE = 0.5
#: Seconds to wait for a file that another process alters: that takes it a moment.
_PATIENCE = 30


class Locks:
    """The locks of a workspace, one file for each system that is written to."""

    def __init__(self, store: Path) -> None:
        self.folder = store / "locks"

    @contextmanager
    def held(self, system: str, change: int, by: str, wait: float = 0.0) -> Iterator[None]:
        """Hold the lock of ``system`` for a change; raises Stopped, and says who has it, after ``wait`` seconds."""
        lock = self._lock(system)
        try:
            lock.acquire(timeout=max(wait, GRACE))
        except Timeout as late:
            raise Stopped(self._told(system), advice=self._advice(system, change)) from late
        note = self._note(system)
        try:
            note.write_text(
                json.dumps({
                    "process": os.getpid(), "host": socket.gethostname(), "by": by, "change": change,
                    "since": datetime.now(UTC).isoformat(timespec="seconds"),
                })
            )  # fmt: skip
            yield
        finally:
            note.unlink(missing_ok=True)
            lock.release()

    @contextmanager
    def of_file(self, path: Path) -> Iterator[None]:
        """Hold the lock of a file that is read, altered and written; raises Stopped where another has it for long."""
        try:
            with self._lock(f"file {path.name}").acquire(timeout=_PATIENCE):
                yield
        except Timeout as late:
            raise Stopped(f"another process has been altering {path} for {_PATIENCE} s", advice="try again") from late
        except PermissionError as error:
            raise StoreError(
                f"{self.folder} cannot be written",
                why=error.strerror or str(error),
                advice="may this user write there?",
            ) from error

    @contextmanager
    def of_job(self, name: str) -> Iterator[None]:
        """Hold the lock of a job, or of the process that runs jobs; raises Timeout where another has it."""
        with self._lock(f"job {name}").acquire(timeout=GRACE):
            yield

    @contextmanager
    def of_pull(self, number: int) -> Iterator[None]:
        """Hold what says that a pull is going on."""
        lock = self._lock(f"pull {number}")
        with lock.acquire(timeout=GRACE):
            try:
                yield
            finally:
                Path(lock.lock_file).unlink(missing_ok=True)  # nobody waits for it, and there is one for each pull

    def is_pulling(self, number: int, process: int | None) -> bool:
        """Whether whoever began a pull is still at it.

        A process of that number may be another one by now, as the first of a container always is.
        """
        lock = self._lock(f"pull {number}")
        if not Path(lock.lock_file).exists():
            return False
        try:
            with lock.acquire(timeout=0):
                Path(lock.lock_file).unlink(missing_ok=True)
                return False
        except Timeout:
            return True
        except OSError:  # a store that cannot be written: its number must do
            return process is not None and is_alive(process)

    @contextmanager
    def of_runner(self, name: str) -> Iterator[None]:
        """Hold what says that a runner is at work: here nobody asks."""
        yield

    def is_at_work(self, runner: str) -> bool:
        """Whether a runner of that name is at work."""
        return False

    def try_reading(self, system: str) -> bool:
        """Hold what keeps others from pulling a system meanwhile, where machines share it; whether it could be had."""
        return True

    def end_reading(self, system: str) -> None:
        """Let others pull a system."""

    def check(self, system: str) -> None:
        """Raise Stopped where the lock of ``system``, which this process holds, is lost: a file's never is."""

    def close(self) -> None:
        """Let go of everything."""

    def is_held_for(self, job: str) -> bool:
        """Whether somebody runs a job now."""
        try:
            with self._lock(f"job {job}").acquire(timeout=0):
                return False
        except Timeout:
            return True

    def holder(self, system: str) -> Mapping[str, Any] | None:
        """Who writes to ``system`` now: process, host, by, change, since; nothing where nobody does."""
        if not self.folder.is_dir():
            return None
        try:
            with self._lock(system).acquire(timeout=0):
                return None
        except Timeout:
            return self._noted(system)
        except OSError:  # a store that cannot be written has no writer here
            return None

    def _lock(self, system: str) -> FileLock:
        with suppress(OSError):
            self.folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        return FileLock(self.folder / f"{quote(system, safe='')}.lock", mode=0o600)

    def _note(self, system: str) -> Path:
        return self.folder / f"{quote(system, safe='')}.holder"

    def _noted(self, system: str) -> Mapping[str, Any]:
        try:
            note: Mapping[str, Any] = json.loads(self._note(system).read_text())
        except (OSError, ValueError):
            return {}
        return note

    def _told(self, system: str) -> str:
        who = self._noted(system)
        if not who:
            return f"{system} is being written to by another process"
        return (
            f"{system} is being written to by change {who['change']} of {who['by']}, since {who['since']}"
            f" (process {who['process']} on {who['host']})"
        )

    def _advice(self, system: str, change: int) -> str:
        who = self._noted(system)
        end = f"; the lock falls when process {who['process']} ends" if who else ""
        return f"wait for it: concordex change run {change} --wait 10m{end}"
