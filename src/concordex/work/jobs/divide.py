"""Lines that runners divide among themselves: which can be, who takes what, and what all of it came to."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from threading import Lock
from typing import TYPE_CHECKING

from concordex.store.runs import RanStep
from concordex.work.jobs.lacking import in_short, lacking
from concordex.work.jobs.process import run_line, worst
from concordex.work.workspace.base import ANYWHERE

if TYPE_CHECKING:
    from pathlib import Path

    from concordex.store.tasks import DividedTask, Lot
    from concordex.work.workspace.base import BaseWorkspace

#: Lines that come to the same when each of their systems has one of its own.
_DIVISIBLE = (("pull",), ("system", "check"))
#: Options that say which systems: a line with one of them is not taken apart.
_CHOOSING = ("--tag", "--label", "-s", "--system")
#: Seconds between two looks, and for which a runner is waited for that reaches a place.
_LOOK, _NOBODY = 0.2, 60.0
#: Held while this process does what it has taken.
_ONE = Lock()


def places(workspace: BaseWorkspace, words: Sequence[str]) -> list[tuple[str, str]] | None:
    """The systems of a line with the places that reach them, where others are to do it; None where it is run here.

    A line that can be taken apart is so for all of its systems; another is given to others as a whole where what it
    names is not reached from here.
    """
    if workspace.server is None:
        return None
    known = workspace.config.systems
    named = [word for word in words if word in known]
    if any(tuple(words[: len(line)]) == line for line in _DIVISIBLE):
        if any(word.partition("=")[0] in _CHOOSING for word in words):
            return None
        every = named or [name for name, system in known.items() if not system.paused]
        return [(name, workspace.place_of(name)) for name in every]
    away = {workspace.place_of(name) for name in named} - {ANYWHERE} - workspace.places
    return [("", away.pop())] if len(away) == 1 else None


class Divided:
    """A line that is divided, from whoever has the run: it does its share, and waits for the others."""

    def __init__(self, workspace: BaseWorkspace, run: int, step: int, log: Callable[[str], Path]) -> None:
        self._workspace, self._run, self._step, self._log = workspace, run, step, log
        self._tasks = workspace.catalogue.tasks

    def to_the_end(
        self,
        line: str,
        words: Sequence[str],
        systems: Sequence[tuple[str, str]],
        me: str,
        is_to_stop: Callable[[], bool],
    ) -> RanStep:
        """Let runners do it, this one included; what it came to."""
        begun = time.monotonic()
        named = {name for name, _ in systems}
        common = [word for word in words if word not in named]
        self._tasks.divide(self._run, self._step, common, systems)
        unreached: dict[str, float] = {}
        while any(task.outcome is None for task in self._tasks.of(self._run, self._step)):
            self._tasks.settle(self._workspace.locks.is_at_work)
            if is_to_stop():
                self._tasks.withdraw(self._run, "stopped", "it was asked to stop")
            if take_one(self._workspace, me, lambda lot: self._log(lot.token[:8]), lambda _: is_to_stop(), self._run):
                continue
            self._give_up(unreached)
            time.sleep(_LOOK)
        told = self._tasks.of(self._run, self._step)
        self._tasks.forget(self._run)
        return self._step_of(line, told, time.monotonic() - begun)

    def _give_up(self, unreached: dict[str, float]) -> None:
        """End what no runner reaches that is at work, after a while."""
        reached = {place for one in self._tasks.runners() for place in one.places} | self._workspace.places
        for place in {task.place for task in self._tasks.of(self._run, self._step) if task.outcome is None} - reached:
            since = unreached.setdefault(place, time.monotonic())
            if time.monotonic() - since > _NOBODY:
                why = f"no runner at {place} is at work: concordex work --where {place} on a machine there"
                self._tasks.withdraw(self._run, "failed", why, place)

    def _step_of(self, line: str, told: Sequence[DividedTask], seconds: float) -> RanStep:
        outcome = worst([task.outcome or "" for task in told])
        by = len({task.runner for task in told if task.runner})
        worst_of = next((task for task in told if task.outcome == outcome), None)
        said = worst_of.last_words if worst_of else ""
        if worst_of and worst_of.system and len(told) > 1:
            said = in_short(lacking(self._workspace.catalogue, worst_of.pulls)) or f"{worst_of.system}: {said}"
            said = f"{len(told)} systems by {by} runner{'' if by == 1 else 's'}; {said}"
        return RanStep(
            line=line, outcome=outcome, status=worst_of.status if worst_of else None, seconds=round(seconds, 2),
            last_words=said, pulls=tuple(sorted({pull for task in told for pull in task.pulls})),
        )  # fmt: skip


def take_one(
    workspace: BaseWorkspace, me: str, log: Callable[[Lot], Path], is_to_stop: Callable[[Lot], bool],
    run: int | None = None, heard: Callable[[str], None] = lambda _: None,
) -> bool:  # fmt: skip
    """Take what is free, of any run or of one, and do it; whether there was something.

    A process does one at a time, whoever of its threads asks: `at_once` holds for the whole of it.
    """
    if not _ONE.acquire(blocking=False):
        return False
    try:
        tasks = workspace.catalogue.tasks
        lot = tasks.take(me, workspace.places, workspace.config.timetable.at_once, run)
        if lot is None:
            return False
        heard(f"run {lot.run}: {' '.join(lot.words)} {' '.join(lot.systems)}".rstrip())
        words = [*lot.words, *filter(None, lot.systems)]
        ended = run_line(workspace, words, log(lot), lambda: is_to_stop(lot))
        tasks.end(lot.token, ended.outcome, ended.status, ended.last_words, ended.pulls)
        return True
    finally:
        _ONE.release()
