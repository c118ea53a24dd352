"""Jobs in ``concordex.yaml``: what is run by itself, when, for which systems, and under which conditions."""

from __future__ import annotations

import shlex
from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field, field_validator, model_validator

from concordex.documents import Part, Slug, fault_at
from concordex.model.scalars import parse_duration
from concordex.rhythm import NoRhythm, Rhythm
from concordex.work.workspace.duration import Duration
from concordex.work.workspace.system_settings import known_zone

Day = Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
#: How a step may end that ends the job.
Ending = Literal["failed", "partly", "found", "stopped"]
#: What stands in a line for the systems that a job is for.
SYSTEMS = "{systems}"
#: Commands that need a person, or that run jobs themselves.
_NOT_BY_ITSELF = {"work", "job", "demo", "review"}


class Times(Part):
    """When a job is due: every so often, at times of the day, or by a cron expression; by hand alone, if none."""

    every: Duration | None = Field(None, description="Such as 6h, counted from midnight UTC of a Monday.")
    at: list[str] = Field(default_factory=list, description="Times of the day, such as 02:30.")
    days: list[Day] = Field(default_factory=list, description="On which days `at` counts; on all, if none.")
    cron: str | None = Field(None, description="A cron expression of five fields.")

    @field_validator("at", mode="before", json_schema_input_type=str | list[str])
    @classmethod
    def _several(cls, given: Any) -> Any:
        return [given] if isinstance(given, str) else given

    @model_validator(mode="after")
    def _sound(self) -> Times:
        if sum((self.every is not None, bool(self.at), self.cron is not None)) > 1:
            raise fault_at((), "says more than one of `every`, `at` and `cron`")
        if self.days and not self.at:
            raise fault_at(("days",), "says on which days `at` counts, and there is no `at`")
        for number, time in enumerate(self.at):
            hour, colon, minute = time.partition(":")
            if not (colon and hour.isdecimal() and minute.isdecimal() and int(hour) < 24 and len(minute) == 2):
                raise fault_at(("at", str(number)), "is no time of the day, such as 02:30")
        try:
            self.rhythm("UTC")
        except NoRhythm as error:
            raise fault_at(("cron",), str(error)) from error
        return self

    def rhythm(self, zone: str) -> Rhythm | None:
        """When it is due, in the time of a zone; None where it is run by hand alone."""
        if self.every is not None:
            span = parse_duration(self.every)
            assert span is not None
            if not span:
                raise NoRhythm("every 0 is no rhythm")
            return Rhythm(every=span)
        if self.at:
            return Rhythm.daily(self.at, self.days, zone)
        return Rhythm(expressions=(self.cron,), zone=zone) if self.cron else None


class Timetable(Part):
    """What holds for all jobs that do not say otherwise."""

    zone: str = Field("UTC", description="The time zone of `at` and `cron`, of the IANA database.")
    jitter: Duration = Field("0s", description="Jobs begin up to so much later than due, each by another span.")
    catch_up: Duration = Field(
        "1d", description="What was missed, since nothing ran, is run once if it was due no longer ago; 0s: never."
    )

    at_once: int = Field(16, ge=1, description="So many systems one of several runners takes at a time.")

    _zone = field_validator("zone")(known_zone)


class JobStep(Part):
    """One line of a job, and when it is run."""

    run: str = Field(min_length=1, description="What would be typed after `concordex`; {systems} are those it is for.")
    only_if: Literal["whole", "nothing_failed"] | None = Field(
        None, description="whole: every list that this run has pulled is whole; else it is left out."
    )
    stop_on: list[Ending] = Field(
        default=["failed", "stopped"],
        description="How it may end that ends the job; default: failed, stopped.",
    )
    always: bool = Field(False, description="Also after a step that ended the job.")

    @field_validator("stop_on", mode="before", json_schema_input_type=Ending | list[Ending])
    @classmethod
    def _several(cls, given: Any) -> Any:
        return [given] if isinstance(given, str) else given

    @field_validator("run")
    @classmethod
    def _line(cls, given: str) -> str:
        try:
            words = shlex.split(given)
        except ValueError as error:
            raise ValueError(f"cannot be taken apart into words: {error}") from error
        if words[:1] == ["concordex"]:
            raise ValueError("is what would be typed after `concordex`: leave that word out")
        if words and words[0] in _NOT_BY_ITSELF:
            raise ValueError(f"`{words[0]}` is nothing that a job can run")
        return given

    def words(self, systems: list[str]) -> list[str]:
        """The words of the line, with the systems in the place of ``{systems}``."""
        told = [[*systems] if word == SYSTEMS else [word] for word in shlex.split(self.run)]
        return [word for words in told for word in words]


class Job(Times):
    """Lines that are run one after the other, when they are due or when somebody says so."""

    about: str = ""
    zone: str | None = Field(None, description="Instead of the timetable's.")
    jitter: Duration | None = None
    catch_up: Duration | None = None
    systems: list[str] = Field(default_factory=list, description="For which systems it is; all, if it names neither.")
    tags: list[str] = Field(default_factory=list, description="For the systems with one of these tags.")
    apart: dict[Slug, Times] = Field(
        default_factory=dict, description="Systems that it is run for by themselves, at other times."
    )
    paused: bool = False
    steps: list[JobStep] = Field(min_length=1)

    @field_validator("zone")
    @classmethod
    def _zone(cls, given: str | None) -> str | None:
        return None if given is None else known_zone(given)

    @field_validator("steps", mode="before", json_schema_input_type=Annotated[list[str | JobStep], Field(min_length=1)])
    @classmethod
    def _short(cls, given: Any) -> Any:
        if not isinstance(given, list):
            return given
        return [{"run": step} if isinstance(step, str) else step for step in given]

    @model_validator(mode="after")
    def _for_systems(self) -> Job:
        if (self.systems or self.tags or self.apart) and not any(SYSTEMS in step.run for step in self.steps):
            raise fault_at(("steps",), f"no line says {SYSTEMS}, so that `systems`, `tags` and `apart` mean nothing")
        return self


def faults_of(jobs: Mapping[str, Job], known: Mapping[str, Any]) -> list[tuple[tuple[str | int, ...], str]]:
    """Places in jobs that name a system or a tag that is not there."""
    tags = {tag for system in known.values() for tag in system.tags}
    faults: list[tuple[tuple[str | int, ...], str]] = []
    for name, job in jobs.items():
        named: list[tuple[tuple[str | int, ...], str]] = [
            (("jobs", name, "systems", at), system) for at, system in enumerate(job.systems)
        ]
        named += [(("jobs", name, "apart", system), system) for system in job.apart]
        faults += [(place, f"there is no system {system!r} above") for place, system in named if system not in known]
        faults += [
            (("jobs", name, "tags", at), f"no system has the tag {tag!r}")
            for at, tag in enumerate(job.tags)
            if tag not in tags
        ]
    return faults
