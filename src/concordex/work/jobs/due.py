"""Which part of which job is due, when it comes next, and what was missed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from concordex.errors import CalledWrongly, Stopped
from concordex.model.scalars import parse_duration
from concordex.rhythm import Rhythm, spread
from concordex.words import suggestion
from concordex.work.workspace.job_settings import SYSTEMS

if TYPE_CHECKING:
    from concordex.store.runs import JobRuns
    from concordex.work.workspace.base import BaseWorkspace
    from concordex.work.workspace.job_settings import Job, JobStep, Times

#: What is late by no more than this is not called missed: whoever waits looks about once in a second.
_GRACE = timedelta(minutes=1)


@dataclass(frozen=True, kw_only=True)
class JobPart:
    """A job, or what of it is run apart for one system: when it is due and for which systems it is.

    ``part`` is the system, or empty; ``rhythm`` is None where it is run by hand alone.
    """

    job: str
    part: str
    about: str
    paused: bool
    systems: tuple[str, ...]
    steps: tuple[JobStep, ...]
    rhythm: Rhythm | None
    in_words: str
    jitter: timedelta
    catch_up: timedelta

    @property
    def name(self) -> str:
        """The job, and the system that it is run apart for."""
        return f"{self.job} {self.part}".rstrip()

    @property
    def is_for_nobody(self) -> bool:
        """Whether a line names its systems, and there is none: without them it would be for all."""
        return not self.systems and any(SYSTEMS in step.run for step in self.steps)

    def require_systems(self) -> None:
        """Raise Stopped where it is for nobody."""
        if self.is_for_nobody:
            raise Stopped(f"{self.name} has no system that is not paused", advice="concordex system list")

    def pulls(self, known: Sequence[str]) -> set[str]:
        """The systems of those that are known here that one of its lines pulls."""
        found = set[str]()
        for step in self.steps:
            words = step.words(list(self.systems))
            if words[:1] == ["pull"]:
                named = [word for word in words if word in known]
                narrowed = any(word.startswith("--tag") or word.startswith("--label") for word in words)
                found |= {*named} if named else set() if narrowed else {*known}
        return found


@dataclass(frozen=True, kw_only=True)
class Due:
    """What a part of a job is waiting for: when it comes, whether that is now, and whether it came too late.

    ``left``: somebody has left it to whoever is at work, and it comes by no rhythm.
    """

    at: datetime
    slot: datetime
    now: bool = False
    missed: bool = False
    left: bool = False


def parts_of(workspace: BaseWorkspace) -> list[JobPart]:
    """All jobs of a workspace with their parts, in the order of its file."""
    return [part for name, job in workspace.config.jobs.items() for part in _parts(workspace, name, job)]


def part_of(workspace: BaseWorkspace, job: str, part: str = "") -> JobPart:
    """A job, or what of it is run apart; raises CalledWrongly where there is none."""
    if job not in workspace.config.jobs:
        known = list(workspace.config.jobs)
        advice = suggestion(job, known) if known else "jobs: in concordex.yaml (docs/jobs.md)"
        raise CalledWrongly(f"there is no job {job!r}", advice=advice)
    own = list(_parts(workspace, job, workspace.config.jobs[job]))
    for one in own:
        if one.part == part:
            return one
    apart = ", ".join(one.part for one in own if one.part) or "none"
    raise CalledWrongly(f"{job} is not run apart for {part!r}", advice=f"it is so for: {apart}")


def due(part: JobPart, runs: JobRuns, now: datetime) -> Due | None:
    """What a part is waiting for, by when it last was due; None where nothing will come by itself.

    One that somebody has left to whoever is at work is due, whatever its rhythm.
    """
    if (left := runs.left(part.job, part.part)) is not None:
        late = now - left[0] > max(part.catch_up, _GRACE)
        return Due(at=left[0], slot=left[0], now=True, missed=late, left=True)
    if part.rhythm is None or part.paused or part.is_for_nobody:
        return None
    last = max(filter(None, [runs.last_due(part.job, part.part), runs.await_from(part.job, part.part, now)]))
    slot = part.rhythm.until(now)
    if slot > last:
        at = slot + spread(part.name, slot, part.jitter)
        if at > now:
            return Due(at=at, slot=slot)
        return Due(at=at, slot=slot, now=True, missed=now - at > max(part.catch_up, _GRACE))
    onward = part.rhythm.after(max(now, last))  # a clock that was set back does not bring anything twice
    return Due(at=onward + spread(part.name, onward, part.jitter), slot=onward)


def _parts(workspace: BaseWorkspace, name: str, job: Job) -> Iterator[JobPart]:
    timetable, known = workspace.config.timetable, workspace.config.systems
    zone = job.zone or timetable.zone
    mine = [
        system
        for system, settings in known.items()
        if not settings.paused
        and (not (job.systems or job.tags) or system in job.systems or set(job.tags) & set(settings.tags))
    ]
    whole: dict[str, tuple[Times, list[str]]] = {"": (job, [system for system in mine if system not in job.apart])}
    whole |= {system: (times, [system] if not known[system].paused else []) for system, times in job.apart.items()}
    for part, (times, systems) in whole.items():
        yield JobPart(
            job=name, part=part, about=job.about, paused=job.paused, systems=tuple(systems), steps=tuple(job.steps),
            rhythm=times.rhythm(zone), in_words=_in_words(times, zone),
            jitter=_span(job.jitter or timetable.jitter), catch_up=_span(job.catch_up or timetable.catch_up),
        )  # fmt: skip


def _in_words(times: Times, zone: str) -> str:
    if times.every is not None:
        return f"every {times.every}"
    if times.at:
        days = f"{', '.join(times.days)} " if times.days else ""
        return f"{days}{', '.join(times.at)} {zone}"
    return f"{times.cron} {zone}" if times.cron else "by hand"


def _span(text: str) -> timedelta:
    return parse_duration(text) or timedelta()
