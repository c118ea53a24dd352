"""What runs by itself, in the public Python API: ``Workspace.jobs``."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from threading import Event
from typing import TYPE_CHECKING

from concordex.errors import CalledWrongly, Stopped

if TYPE_CHECKING:
    from concordex.store.runs import JobRun
    from concordex.store.tasks import Runner
    from concordex.work.jobs.due import Due, JobPart
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True, kw_only=True)
class JobOverview:
    """A job, or what of it is run apart for a system: its last run, whether it runs, and when it comes next."""

    part: JobPart
    last: JobRun | None
    next: Due | None


class Jobs:
    """The jobs of a workspace: what they are, what they did, and running them."""

    def __init__(self, workspace: BaseWorkspace) -> None:
        self._workspace = workspace

    def overview(self) -> list[JobOverview]:
        """Every job with its parts, its last run and its next."""
        from concordex.work.jobs.due import due, parts_of
        from concordex.work.jobs.run import settle

        here = self._workspace
        if here.catalogue.runs.running():
            settle(here)
        runs, told = here.catalogue.runs, []
        for part in parts_of(here):
            last = next(iter(runs.newest(1, job=part.job, part=part.part)), None)
            told.append(JobOverview(part=part, last=last, next=due(part, runs, here.now())))
        return told

    def run(self, job: str, part: str = "", heard: Callable[[str], None] | None = None) -> JobRun:
        """Run a job here and now, to its end; Ctrl-C lets the line that runs end what it has begun.

        Raises Stopped where it runs already, CalledWrongly where there is none of that name.
        """
        from concordex.work.jobs.due import part_of
        from concordex.work.jobs.run import run_part
        from concordex.work.tell.deliver import deliver
        from concordex.work.tell.matters import note_matters

        tell = heard or (lambda _: None)
        ran = run_part(self._workspace, part_of(self._workspace, job, part), None, Event(), tell, note_matters)
        assert ran is not None  # nothing was due
        for place, fault in deliver(self._workspace):
            tell(f"{place}: {fault or 'told'}")
        return ran

    def leave(self, job: str, part: str = "") -> None:
        """Leave a job to whoever is at work, to be run now: with their rights, credentials and places.

        Raises Stopped where nobody is at work, where it runs already, or where who asks may not run changes on its
        systems.
        """
        from concordex.work.jobs.due import part_of

        here, wanted = self._workspace, part_of(self._workspace, job, part)
        wanted.require_systems()
        for system in wanted.systems or [None]:
            here.allowed.require("run", system)
        if here.locks.is_held_for(wanted.name):
            raise Stopped(f"{wanted.name} is running already", advice="concordex job list")
        if not self.is_at_work():
            raise Stopped("nobody is at work here to leave it to", advice=f"concordex job run {wanted.name}, or work")
        here.catalogue.runs.leave(job, part, here.now(), here.allowed.who)

    def history(
        self, limit: int = 20, *, job: str | None = None, outcome: str | None = None, since: datetime | None = None
    ) -> list[JobRun]:
        """What ran, the newest first: of a job, with an outcome, begun since a moment."""
        from concordex.work.jobs.run import settle

        if self._workspace.catalogue.runs.running():
            settle(self._workspace)
        return self._workspace.catalogue.runs.newest(limit, job=job, outcome=outcome, since=since)

    def one(self, run: int) -> JobRun:
        """One run with its steps; raises CalledWrongly where there is none of that number."""
        found = self._workspace.catalogue.runs.run(run)
        if found is None:
            raise CalledWrongly(f"there is no run {run}", advice="concordex job history")
        return found

    def said(self, run: int, step: int) -> Path:
        """The file with all that a step of a run said."""
        from concordex.work.jobs.run import log_of

        ran = self.one(run)
        file = log_of(self._workspace, run, step)
        if not file.is_file():
            what = f"step {step} of run {run} said nothing that is kept"
            raise CalledWrongly(what, advice=f"it has {len(ran.steps)} steps: concordex job history {run}")
        return file

    def stop(self, run: int) -> None:
        """Ask a run to stop; it does so within a second, once its line has ended what it has begun."""
        ran = self.one(run)
        if not self._workspace.catalogue.runs.ask_to_stop(run):
            raise CalledWrongly(f"run {run} has ended: {ran.outcome}", advice="concordex job list")

    def work(self, stop: Event, heard: Callable[[str], None], *, once: bool = False) -> int:
        """Run what is due until ``stop`` is set, or what is due now; how many runs there were."""
        from concordex.work.jobs.keeper import keep_running
        from concordex.work.tell.deliver import deliver
        from concordex.work.tell.matters import note_matters

        return keep_running(self._workspace, stop, heard, note_matters, deliver, once=once)

    def runners(self) -> list[Runner]:
        """The processes that do what is divided, where the store is shared: those that are at work now."""
        here = self._workspace
        return [one for one in here.catalogue.tasks.runners() if here.locks.is_at_work(one.name)]

    def is_at_work(self) -> bool:
        """Whether a `concordex work` is at work here, on this machine or, where the store is shared, on any."""
        here = self._workspace
        return bool(self.runners()) if here.server is not None else here.locks.is_held_for("")

    def next_pulls(self) -> dict[str, datetime]:
        """When each system is pulled next by a job, of those that are; none where nothing has been pulled yet."""
        here, told = self._workspace, dict[str, datetime]()
        if not here.config.jobs or not here.can_write:
            return told
        from concordex.work.jobs.due import due, parts_of

        for part in parts_of(here):
            comes = due(part, here.catalogue.runs, here.now())
            if comes is not None:
                for system in part.pulls(list(here.config.systems)):
                    told[system] = min(told.get(system, comes.at), comes.at)
        return told

    def exported(self, form: str, jobs: Sequence[str] = ()) -> dict[str, str]:
        """Files by their names for another scheduler, ``cron`` or ``systemd``: of all jobs, or of some."""
        from concordex.work.jobs.due import part_of, parts_of
        from concordex.work.jobs.export import as_crontab, as_units

        for job in jobs:
            part_of(self._workspace, job)
        parts = [part for part in parts_of(self._workspace) if not jobs or part.job in jobs]
        if not any(part.rhythm and not part.paused for part in parts):
            raise CalledWrongly("no job comes by itself", advice="jobs: in concordex.yaml: every, at or cron")
        if form == "cron":
            return {"crontab": as_crontab(self._workspace, parts)}
        return as_units(self._workspace, parts)
