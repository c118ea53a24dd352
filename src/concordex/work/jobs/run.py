"""One run of a job: its lines one after the other, each a command of ours in a process of its own."""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from threading import Event
from typing import TYPE_CHECKING

from filelock import Timeout

from concordex.errors import Stopped
from concordex.spans import span
from concordex.store.runs import JobRun, RanStep
from concordex.work.jobs.divide import Divided, places
from concordex.work.jobs.due import parts_of
from concordex.work.jobs.lacking import in_short, lacking
from concordex.work.jobs.process import run_line, worst

if TYPE_CHECKING:
    from concordex.work.jobs.due import JobPart
    from concordex.work.workspace.base import BaseWorkspace
    from concordex.work.workspace.job_settings import JobStep

#: Seconds between two looks at whether somebody asks it to end.
_ASK = 0.5
#: So many runs of each job are remembered, with what they said.
_KEPT = 200

Heard = Callable[[str], None]
#: Told what a run came to, with the workspace as that has it open.
After = Callable[["BaseWorkspace", JobRun], None]


def run_part(
    workspace: BaseWorkspace, part: JobPart, due: datetime | None, stop: Event,
    heard: Heard = lambda _: None, after: After = lambda *_: None, *, lost: JobRun | None = None, me: str = "",
) -> JobRun | None:  # fmt: skip
    """Run a part of a job to its end; ``after`` is told what came of it.

    Raises Stopped where it is running already, or its systems are all paused.

    Nothing is asked of a person: a line that would ask fails.  With ``stop``, or asked by `job stop`, the line that
    runs ends what it has begun, and no other is run but those that always are.  With ``lost`` it goes on where that
    run was whose runner is gone.  ``me`` is the runner that this is.  None where another has done by now what was due.
    """
    part.require_systems()
    here = type(workspace)(workspace.root)  # its own connection to the store: others may be used by other threads
    try:
        with here.locks.of_job(part.name):
            runs = here.catalogue.runs
            if lost is not None:
                if (now := runs.run(lost.id)) is None or now.outcome != "running":
                    return None
                runs.end(lost.id, "stopped", "its runner is gone, and another goes on with it")
            elif due is not None and (last := runs.last_due(part.job, part.part)) is not None and last >= due:
                return None
            settle(here, part.name)
            run = runs.begin(part.job, part.part, due, _for_whom(here, part, due))
            if lost is not None:
                here.catalogue.tasks.hand_over(lost.id, run)
            with span(f"job {part.name}", concordex__run=run):
                ran = _Running(here, part, run, stop, heard, lost, me).to_the_end()
            after(here, ran)
            return ran
    except Timeout as late:
        raise Stopped(f"{part.name} is running already", advice="concordex job list") from late
    finally:
        here.close()


def _for_whom(workspace: BaseWorkspace, part: JobPart, due: datetime | None) -> str:
    """Who runs it; and who has left it to them."""
    who, left = workspace.allowed.who, workspace.catalogue.runs.left(part.job, part.part)
    return f"{who} for {left[1]}" if left and left[0] == due and left[1] != who else who


def can_go_on(part: JobPart, lost: JobRun) -> bool:
    """Whether another runner may go on with a run: what was under way reads only, so that it may be done once more."""
    left = part.steps[len(lost.steps) :]
    return bool(left) and not part.is_for_nobody and tuple(left[0].words(list(part.systems))[:1]) in _READING


#: Commands that write nothing but what is known here.
_READING = {
    ("pull",), ("reconcile",), ("findings",), ("report",), ("health",), ("drift",), ("show",), ("compare",), ("racks",),
    ("links",), ("versions",), ("doctor",), ("metrics",), ("query",),
}  # fmt: skip


def lost_runs(workspace: BaseWorkspace) -> list[tuple[JobPart, JobRun]]:
    """Runs whose runner is gone, and which another one that is at work goes on with."""
    return [(part, run) for part, run in _for_runners(workspace) if not workspace.locks.is_held_for(part.name)]


def _for_runners(workspace: BaseWorkspace) -> list[tuple[JobPart, JobRun]]:
    """Runs that are not over and that another runner would go on with, be their own at work or not."""
    tasks = workspace.catalogue.tasks
    if workspace.server is None or not any(workspace.locks.is_at_work(one.name) for one in tasks.runners()):
        return []
    parts = {part.name: part for part in parts_of(workspace)}
    running = ((parts.get(f"{run.job} {run.part}".rstrip()), run) for run in workspace.catalogue.runs.running())
    return [(part, run) for part, run in running if part and run.due and can_go_on(part, run)]


def settle(workspace: BaseWorkspace, mine: str = "") -> list[JobRun]:
    """Say of runs whose process is gone that they ended: the next one does their work anew.

    Those that another runner goes on with are left to it.  The lock of the part called ``mine`` is held by the caller,
    so that nobody runs it.
    """
    gone = []
    left = {run.id for _, run in _for_runners(workspace)} if not mine else set()
    for run in workspace.catalogue.runs.running():
        name = f"{run.job} {run.part}".rstrip()
        if run.id in left:
            continue
        if name == mine or not workspace.locks.is_held_for(name):
            why = "its process ended before it did"
            if workspace.catalogue.runs.give_up(run.id, why):  # else it has ended between the two looks at it
                workspace.catalogue.tasks.forget(run.id)  # what it had divided is nobody's to do
                gone.append(replace(run, outcome="stopped", why=why))
    return gone


class _Running:
    """A run that is under way."""

    def __init__(
        self, workspace: BaseWorkspace, part: JobPart, run: int, stop: Event, heard: Heard, lost: JobRun | None, me: str
    ) -> None:
        self._workspace, self._part, self._run = workspace, part, run
        self._stop, self._heard, self._me = stop, heard, me or f"run {run}"
        self._runs = workspace.catalogue.runs
        self._steps: list[RanStep] = list(lost.steps) if lost else []
        ended = [ran for step, ran in zip(part.steps, self._steps, strict=False) if ran.outcome in step.stop_on]
        self._why = f"`{ended[0].line}` ended with {ended[0].outcome}" if ended else ""
        self._looked = 0.0
        self._is_asked = False

    def to_the_end(self) -> JobRun:
        self._heard(f"{self._part.name} begins (run {self._run})")
        try:
            for number, step in enumerate(self._part.steps[len(self._steps) :], len(self._steps) + 1):
                self._steps.append(self._left_out(step) or self._line(number, step))
                self._runs.step(self._run, self._steps)
        except BaseException as error:
            self._runs.end(self._run, "failed", f"{type(error).__name__}: {error}")
            raise
        self._runs.end(self._run, self._outcome(), self._why)
        for old in self._runs.forget(_KEPT):
            shutil.rmtree(log_of(self._workspace, old), ignore_errors=True)
        ran = self._runs.run(self._run)
        assert ran is not None
        self._heard(f"{self._part.name}: {ran.outcome} after {ran.seconds:.1f} s{f' ({ran.why})' if ran.why else ''}")
        return ran

    def _outcome(self) -> str:
        if self._is_to_stop():
            self._runs.ask_to_stop(self._run)  # whoever told the whole process to end has asked this run as well
            self._why = self._why or "somebody asked it to stop"
            return "stopped"
        ended = worst([step.outcome for step in self._steps])
        return "partly" if ended == "left out" else ended

    def _left_out(self, step: JobStep) -> RanStep | None:
        """Why a line is not run, if it is not."""
        why = ""
        if not step.always and (self._why or self._is_to_stop()):
            why = "the job had ended" if self._why else "it was asked to stop"
        elif step.only_if == "whole":
            why = self._not_whole()
        elif step.only_if == "nothing_failed" and any(one.outcome in ("failed", "stopped") for one in self._steps):
            why = "a line before it failed"
        if not why:
            return None
        self._heard(f"{self._part.name}: {step.run}: left out, {why}")
        return RanStep(line=step.run, outcome="left out", last_words=why)

    def _not_whole(self) -> str:
        pulls = [number for step in self._steps for number in step.pulls]
        if not any(self._workspace.catalogue.snapshots_of(number) for number in pulls):
            return "nothing was pulled in this run"
        return in_short(lacking(self._workspace.catalogue, pulls))

    def _line(self, number: int, step: JobStep) -> RanStep:
        words = step.words(list(self._part.systems))
        self._heard(f"{self._part.name}: concordex {step.run}")
        divided = places(self._workspace, words)
        if divided is not None:

            def log(name: str) -> Path:
                return log_of(self._workspace, self._run, f"{number}-{name}")

            line = Divided(self._workspace, self._run, number, log)
            told = line.to_the_end(step.run, words, divided, self._me, self._is_to_stop)
        else:
            ended = run_line(self._workspace, words, log_of(self._workspace, self._run, number), self._is_to_stop)
            told = RanStep(
                line=step.run, outcome=ended.outcome, status=ended.status, seconds=ended.seconds,
                last_words=ended.last_words, pulls=ended.pulls,
            )  # fmt: skip
        if told.outcome in step.stop_on and not self._why:
            self._why = f"`{step.run}` ended with {told.outcome}"
        return told

    def _is_to_stop(self) -> bool:
        """Whether it is to end; the store is asked about twice in a second."""
        if not self._is_asked and time.monotonic() - self._looked > _ASK:
            self._looked = time.monotonic()
            self._is_asked = self._runs.is_to_stop(self._run)
        return self._is_asked or self._stop.is_set()


def log_of(workspace: BaseWorkspace, run: int, step: int | str | None = None) -> Path:
    """Where what a run said is kept, or one of its lines."""
    folder = workspace.store / "runs" / str(run)
    return folder if step is None else folder / f"{step}.log"
