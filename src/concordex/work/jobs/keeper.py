"""The long-lived process that runs jobs when they are due, until it is told to end."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from datetime import datetime
from functools import partial
from math import inf
from threading import Event, Lock, Thread
from typing import TYPE_CHECKING

from filelock import Timeout

from concordex.errors import ConcordexError, Stopped
from concordex.store.tasks import runner_name
from concordex.work.jobs.divide import take_one
from concordex.work.jobs.due import due, parts_of
from concordex.work.jobs.run import After, Heard, log_of, lost_runs, run_part, settle

if TYPE_CHECKING:
    from pathlib import Path

    from concordex.store.runs import JobRun, JobRuns
    from concordex.store.tasks import Lot
    from concordex.work.jobs.due import Due, JobPart
    from concordex.work.workspace.base import BaseWorkspace

#: Seconds between two looks at the clock, the file, and what is due.
_LOOK = 0.5
#: Seconds between two looks at what is to be told.
_POST = 2.0
#: Seconds after which it is tried again to begin what could not be begun.
_AGAIN = 30.0
#: Seconds in which another runner notes a run that it has begun.
_NOTED = 3.0
#: Sends what may go: each place with what came of it.
Post = Callable[["BaseWorkspace"], Iterable[tuple[str, str]]]
#: Of what has never begun.
_OVER = Event()
_OVER.set()


def keep_running(
    workspace: BaseWorkspace, stop: Event, heard: Heard, after: After, post: Post, *, once: bool = False
) -> int:
    """Run what is due until ``stop`` is set; with ``once`` what is due now.  How many runs there were.

    ``after`` is told what each run came to; ``post`` sends what people are to be told, while others run.

    Where the store is shared, any number of processes on any number of machines do so, and divide among themselves what
    there is to do; else raises Stopped where another process does so here.  `concordex.yaml` is read anew when altered;
    of one that does not hold together it is told, and what it said before goes on to hold.
    """
    with _in_turn(workspace) as me:
        return _Keeper(workspace, stop, heard, after, post, me, once=once).work()


@contextmanager
def _in_turn(workspace: BaseWorkspace) -> Iterator[str]:
    """Be the one that runs jobs here; or one of several runners, where the store is shared: its name."""
    if workspace.server is not None:
        tasks, me = workspace.catalogue.tasks, runner_name()
        with workspace.locks.of_runner(me):
            tasks.enlist(me, workspace.allowed.who, workspace.places)
            try:
                yield me
            finally:
                tasks.dismiss(me)
        return
    try:
        with workspace.locks.of_job(""):
            yield ""
    except Timeout as late:
        raise Stopped("another `concordex work` runs in this workspace", advice="concordex job list") from late


class _Keeper:
    def __init__(
        self, workspace: BaseWorkspace, stop: Event, heard: Heard, after: After, post: Post, me: str, *, once: bool
    ) -> None:
        self._here, self._stop, self._heard, self._me, self._once = workspace, stop, heard, me, once
        self._read = self._written()  # before it is read: whatever is altered meanwhile is read anew
        self._here = type(workspace)(workspace.root)
        self._after, self._post = after, post
        self._over, self._told = Event(), Event()
        #: Set when a part has ended.  Threads are not joined: a join that Ctrl-C interrupts takes them for ended.
        self._ended: dict[str, Event] = {}
        #: Of each part the slot that it was begun for, and from when on it is begun anew if the store does not know it.
        self._begun: dict[str, tuple[datetime, float]] = {}
        self._looking = Lock()
        self._ran = 0

    def work(self) -> int:
        for run in settle(self._here):
            self._heard(f"{run.job} {run.part}".rstrip() + f": run {run.id} had lost its process")
            self._after(self._here, run)
        jobs = len(self._here.config.jobs)
        if not self._once:
            self._heard(f"waiting for {jobs} job{'' if jobs == 1 else 's'} of {self._here.root}; Ctrl-C ends it")
        sending = Thread(target=self._send, name="telling", daemon=True)
        sending.start()
        if self._me and not self._once:
            self._ended["helping"] = Event()
            Thread(target=self._help, name="helping", daemon=True).start()
        try:
            self._begin_what_is_due()
            while not self._once and not self._stop.wait(_LOOK):
                self._read_anew()
                self._go_on_with_what_was_lost()
                self._begin_what_is_due()
        except BaseException:
            self._stop.set()
            raise
        finally:
            self._wait()
            self._over.set()
            self._ended["telling"] = self._told
            self._wait()
        return self._ran

    def _send(self) -> None:
        """Send what people are to be told, and once more when all else has ended."""
        last = False
        try:
            while not last:
                last = self._over.wait(_POST)
                with self._own() as here:
                    for place, fault in self._post(here):
                        self._heard(f"{place}: {fault or 'told'}")
        except ConcordexError as error:
            self._heard(f"nobody can be told: {error}")
        finally:
            self._told.set()

    def _help(self) -> None:
        """Take what other runners have to divide, and what those had that are gone."""
        try:
            with self._own() as here:
                while not self._stop.wait(_LOOK):
                    for gone in here.catalogue.tasks.settle(here.locks.is_at_work):
                        self._heard(f"runner {gone.name} of {gone.who} is gone; what it had is anybody's again")
                    self._take_a_share(here)
        except ConcordexError as error:
            self._heard(f"it can take nothing from others any more: {error}")
        finally:
            self._ended["helping"].set()

    def _take_a_share(self, here: BaseWorkspace) -> None:
        def log(lot: Lot) -> Path:
            return log_of(here, lot.run, f"{lot.step}-{lot.token[:8]}")

        asked = partial(self._is_asked, here.catalogue.runs)
        while not self._stop.is_set() and take_one(here, self._me, log, asked, heard=self._heard):
            pass

    def _is_asked(self, runs: JobRuns, lot: Lot) -> bool:
        return self._stop.is_set() or runs.is_to_stop(lot.run)

    def _go_on_with_what_was_lost(self) -> None:
        for part, run in lost_runs(self._here) if self._me else ():
            if run.due is not None and self._ended.get(part.name, _OVER).is_set():
                self._heard(f"{part.name}: run {run.id} has lost its runner, and is gone on with")
                self._begin(part, run.due, run)

    def _wait(self) -> None:
        """Until all that runs has ended; a second Ctrl-C does not leave it alone."""
        while True:
            try:
                for ended in self._ended.values():
                    ended.wait()
            except KeyboardInterrupt:
                self._stop.set()
            else:
                return

    def _begin_what_is_due(self) -> None:
        now = self._here.now()
        for part in parts_of(self._here):
            with self._looking:
                waiting = due(part, self._here.catalogue.runs, now)
                if waiting is not None and waiting.now and not self._is_begun(part, waiting.slot):
                    self._begin_or_skip(part, waiting)

    def _begin_or_skip(self, part: JobPart, waiting: Due) -> None:
        if waiting.missed:
            self._skip(part, waiting.slot, f"it was due at {waiting.slot:%Y-%m-%d %H:%M} UTC, and nothing ran then")
        elif self._ended.get(part.name, _OVER).is_set():
            self._begin(part, waiting.slot)
        elif not waiting.left:  # else it waits for the one before it, which was about to end
            self._skip(part, waiting.slot, "the one before it still runs")

    def _is_begun(self, part: JobPart, slot: datetime) -> bool:
        begun, again = self._begun.get(part.name, (None, inf))
        return begun == slot and time.monotonic() < again

    def _skip(self, part: JobPart, slot: datetime, why: str) -> None:
        if self._here.catalogue.runs.skip(part.job, part.part, slot, self._here.allowed.who, why):
            self._heard(f"{part.name}: skipped, {why}")

    def _begin(self, part: JobPart, slot: datetime, lost: JobRun | None = None) -> None:
        ended = self._ended[part.name] = Event()

        def run() -> None:
            again = inf
            try:
                if not self._run(part, slot, lost):
                    again = time.monotonic()
            except (ConcordexError, OSError) as error:  # such as a full disk: the others go on
                later = "" if self._once else f"; unless that was noted, it is tried again in {_AGAIN:g} s"
                self._heard(f"{part.name}: {error}{later}")
                again = time.monotonic() + _AGAIN
            finally:
                with self._looking:  # else it may be seen as due, and as one that still runs
                    ended.set()
                    self._begun[part.name] = slot, again

        self._ran += 1
        self._begun[part.name] = slot, inf
        Thread(target=run, name=part.name, daemon=True).start()

    def _run(self, part: JobPart, slot: datetime, lost: JobRun | None) -> bool:
        """Run it, or note that it runs already; False where whoever was about to is gone, and it may still be due."""
        try:
            run_part(self._here, part, slot, self._stop, self._heard, self._after, lost=lost, me=self._me)
        except Stopped as error:  # somebody runs it by hand, or another runner, which has not noted it yet
            if self._me:
                self._stop.wait(_NOTED)
            with self._own() as here:
                if self._me and not part.is_for_nobody and not here.locks.is_held_for(part.name):
                    return False
                if here.catalogue.runs.skip(part.job, part.part, slot, here.allowed.who, str(error)):
                    self._heard(f"{part.name}: skipped, {error}")
        return True

    @contextmanager
    def _own(self) -> Iterator[BaseWorkspace]:
        here = type(self._here)(self._here.root)
        try:
            yield here
        finally:
            here.close()

    def _read_anew(self) -> None:
        written = self._written()
        if written == self._read:
            return
        self._read = written
        fresh = type(self._here)(self._here.root)
        try:
            _ = fresh.config
        except ConcordexError as error:
            self._heard(f"concordex.yaml was altered and does not hold together; as before: {error}")
            return
        self._here.close()
        self._here = fresh
        self._heard("concordex.yaml was altered, and is read anew")

    def _written(self) -> tuple[int, int]:
        """What is another one whenever the file was written."""
        try:
            status = (self._here.root / "concordex.yaml").stat()
        except OSError:
            return 0, 0
        return status.st_mtime_ns, status.st_size
