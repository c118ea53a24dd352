"""One run of a job: its lines one after the other, each a command of ours in a process of its own."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from threading import Event
from typing import TYPE_CHECKING

from filelock import Timeout

from concordex.errors import Stopped
from concordex.store.runs import JobRun, RanStep
from concordex.work.workspace.user import user

if TYPE_CHECKING:
    from concordex.work.jobs.due import JobPart
    from concordex.work.workspace.base import BaseWorkspace
    from concordex.work.workspace.job_settings import JobStep

#: How exit statuses are called: they are a contract (docs/jobs.md).
ENDINGS = {0: "done", 1: "failed", 2: "failed", 3: "found", 4: "partly", 5: "stopped"}
#: The worst first: how a run is called by how its steps ended.
_WORST = ("failed", "stopped", "partly", "left out", "found")
#: Seconds between two looks at whether a line has ended or somebody asks it to.
_LOOK, _ASK = 0.05, 0.5
#: Seconds for a line that is asked to end to finish what it has begun.
_PATIENCE = 600.0
#: So many runs of each job are remembered, with what they said; so much of that are its last words.
_KEPT, _LAST_WORDS = 200, 400

Heard = Callable[[str], None]
#: Told what a run came to, with the workspace as that has it open.
After = Callable[["BaseWorkspace", JobRun], None]


def run_part(
    workspace: BaseWorkspace, part: JobPart, due: datetime | None, stop: Event,
    heard: Heard = lambda _: None, after: After = lambda *_: None,
) -> JobRun:  # fmt: skip
    """Run a part of a job to its end; raises Stopped where it is running already.  ``after`` is told what came of it.

    Nothing is asked of a person: a line that would ask fails.  With ``stop``, or asked by `job stop`, the line that
    runs ends what it has begun, and no other is run but those that always are.
    """
    here = type(workspace)(workspace.root)  # its own connection to the store: others may be used by other threads
    try:
        with here.locks.of_job(part.name):
            settle(here, part.name)
            run = here.catalogue.runs.begin(part.job, part.part, due, user())
            ran = _Running(here, part, run, stop, heard).to_the_end()
            after(here, ran)
            return ran
    except Timeout as late:
        raise Stopped(f"{part.name} is running already", advice="concordex job list") from late
    finally:
        here.close()


def settle(workspace: BaseWorkspace, mine: str = "") -> list[JobRun]:
    """Say of runs whose process is gone that they ended: nothing takes them up, the next one does their work anew.

    The lock of the part called ``mine`` is held by the caller, so that nobody runs it.
    """
    gone = []
    for run in workspace.catalogue.runs.running():
        name = f"{run.job} {run.part}".rstrip()
        if name == mine or not workspace.locks.is_held_for(name):
            why = "its process ended before it did"
            workspace.catalogue.runs.end(run.id, "stopped", why)
            gone.append(replace(run, outcome="stopped", why=why))
    return gone


class _Running:
    """A run that is under way."""

    def __init__(self, workspace: BaseWorkspace, part: JobPart, run: int, stop: Event, heard: Heard) -> None:
        self._workspace, self._part, self._run = workspace, part, run
        self._stop, self._heard = stop, heard
        self._runs = workspace.catalogue.runs
        self._steps: list[RanStep] = []
        self._why = ""
        self._looked = 0.0
        self._is_asked = False

    def to_the_end(self) -> JobRun:
        self._heard(f"{self._part.name} begins (run {self._run})")
        try:
            for number, step in enumerate(self._part.steps, 1):
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
        ended = {step.outcome for step in self._steps}
        worst = next((word for word in _WORST if word in ended), "done")
        return "partly" if worst == "left out" else worst

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
        snapshots = [shot for number in pulls for shot in self._workspace.catalogue.snapshots_of(number)]
        lacking = sorted(
            f"{shot.system}/{shot.table} {'failed' if shot.outcome == 'failed' else f'is {shot.outcome}'}"
            for shot in snapshots
            if not shot.whole
        )
        if not snapshots:
            return "nothing was pulled in this run"
        return f"{lacking[0]}{f', and {len(lacking) - 1} more' if lacking[1:] else ''}" if lacking else ""

    def _line(self, number: int, step: JobStep) -> RanStep:
        words = step.words(list(self._part.systems))
        begun, log = time.monotonic(), log_of(self._workspace, self._run, number)
        moment = datetime.now(UTC)
        self._heard(f"{self._part.name}: concordex {step.run}")
        status, process = self._process(words, log)
        ended_early = status == -signal.SIGTERM and self._is_to_stop()  # told to end before it could hear of it
        outcome = "stopped" if ended_early else ENDINGS.get(status, "failed")
        pulls = self._workspace.catalogue.pulls(100, since=moment)
        told = RanStep(
            line=step.run, outcome=outcome, status=status, seconds=round(time.monotonic() - begun, 2),
            last_words=_last_words(log), pulls=tuple(row["id"] for row in pulls if row["process"] == process),
        )  # fmt: skip
        if outcome in step.stop_on and not self._why:
            self._why = f"`{step.run}` ended with {outcome}"
        return told

    def _process(self, words: Sequence[str], log: Path) -> tuple[int, int]:
        """Run one command to its end; its exit status, and its process."""
        log.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        command = [sys.executable, "-m", "concordex", "-w", str(self._workspace.root.resolve()), *words]
        log.touch(mode=0o600)
        with log.open("wb") as out:
            process = subprocess.Popen(
                command, stdin=subprocess.DEVNULL, stdout=out, stderr=subprocess.STDOUT, start_new_session=True,
                env={**os.environ, "CONCORDEX_PARENT": str(os.getpid())},
            )  # fmt: skip
        told: float | None = None
        while process.poll() is None:
            now = time.monotonic()
            if told is None and self._is_to_stop():
                process.terminate()
                told = now
            elif told is not None and now - told > _PATIENCE:
                process.kill()
            time.sleep(_LOOK)
        return process.returncode, process.pid

    def _is_to_stop(self) -> bool:
        """Whether it is to end; the store is asked about twice in a second."""
        if not self._is_asked and time.monotonic() - self._looked > _ASK:
            self._looked = time.monotonic()
            self._is_asked = self._runs.is_to_stop(self._run)
        return self._is_asked or self._stop.is_set()


def log_of(workspace: BaseWorkspace, run: int, step: int | None = None) -> Path:
    """Where what a run said is kept, or one of its lines."""
    folder = workspace.store / "runs" / str(run)
    return folder if step is None else folder / f"{step}.log"


def _last_words(log: Path) -> str:
    with log.open("rb") as file:
        file.seek(max(0, log.stat().st_size - 4 * _LAST_WORDS))
        text = file.read().decode("utf-8", "replace")
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    return lines[-1][-_LAST_WORDS:] if lines else ""
