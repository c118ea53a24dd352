"""How the work itself stands, as numbers for whoever watches it: jobs, systems, what waits, what is stored."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

from concordex.work.jobs.due import due, parts_of
from concordex.work.show.systems import overview

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: How a run may have ended.
_OUTCOMES = ("done", "found", "partly", "failed", "stopped", "skipped")


@dataclass(frozen=True, kw_only=True)
class MeasureFamily:
    """Numbers of one meaning: its name, what it is, and each number with its labels."""

    name: str
    about: str
    samples: Sequence[tuple[Mapping[str, object], float]]


def measures(workspace: BaseWorkspace) -> list[MeasureFamily]:
    """Everything, as it stands; no system is asked."""
    catalogue, now = workspace.catalogue, workspace.now()
    last = {
        (part.job, part.part): catalogue.runs.newest(1, job=part.job, part=part.part) for part in parts_of(workspace)
    }
    comes = {(part.job, part.part): due(part, catalogue.runs, now) for part in parts_of(workspace)}
    runs = [({"job": job, "apart": part}, run) for (job, part), found in last.items() for run in found]
    systems = overview(workspace) if workspace.config.systems else []
    states: dict[str, int] = {}
    for row in workspace.changes():
        states[row["state"]] = states.get(row["state"], 0) + 1
    waiting = catalogue.notices.waiting()
    return [
        MeasureFamily(
            name="concordex_job_last_outcome", about="How the last run of a job ended: 1 for the outcome that it had.",
            samples=[({**of, "outcome": word}, float(run.outcome == word)) for of, run in runs for word in _OUTCOMES],
        ),
        MeasureFamily(
            name="concordex_job_last_end_seconds", about="When the last run of a job ended, in seconds since 1970.",
            samples=[(of, run.ended.timestamp()) for of, run in runs if run.ended],
        ),
        MeasureFamily(
            name="concordex_job_last_duration_seconds", about="For how long the last run of a job ran.",
            samples=[(of, run.seconds) for of, run in runs if run.seconds is not None],
        ),
        MeasureFamily(
            name="concordex_job_next_seconds", about="When a job is due next, in seconds since 1970.",
            samples=[({"job": job, "apart": part}, to.at.timestamp()) for (job, part), to in comes.items() if to],
        ),
        MeasureFamily(
            name="concordex_system_failing", about="Whether a system fails: 1, or 0.5 where some of its tables come.",
            samples=[({"system": one.name}, _FAILS.get(one.state, 0.0)) for one in systems if one.state != "never"],
        ),
        MeasureFamily(
            name="concordex_system_data_age_seconds", about="How old the newest devices of a system are.",
            samples=[({"system": one.name}, _age(one.taken, now)) for one in systems if one.taken],
        ),
        MeasureFamily(
            name="concordex_changes", about="How many changes are in each state.",
            samples=[({"state": state}, float(count)) for state, count in sorted(states.items())],
        ),
        MeasureFamily(
            name="concordex_messages_waiting", about="What is to be told and has not gone yet.",
            samples=[
                ({"place": place}, float(sum(one.place == place for one in waiting))) for place in workspace.config.tell
            ],
        ),
    ]  # fmt: skip


_FAILS = {"failing": 1.0, "failing in part": 0.5}


def _age(moment: datetime, now: datetime) -> float:
    return (now - moment).total_seconds()
