"""What of a job's run is worth telling, each matter once: failures, recoveries, what was found, what waits."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from itertools import islice
from typing import TYPE_CHECKING

from concordex.work.jobs.run import log_of

if TYPE_CHECKING:
    from concordex.store.notices import Notices
    from concordex.store.runs import JobRun, RanStep
    from concordex.work.workspace.base import BaseWorkspace

#: So many lines of what a command said are told; and so many changes that wait are named.
_LINES, _NAMED = 40, 20
#: How the first word of a line calls what it found.
_FOUND = {"findings": "findings", "drift": "drift"}


def note_matters(workspace: BaseWorkspace, run: JobRun) -> None:
    """Have told what a run came to, where nobody was told of it before."""
    notices, name = workspace.catalogue.notices, f"{run.job} {run.part}".rstrip()
    _failures(workspace, notices, run, name)
    for number, step in enumerate(run.steps, 1):
        _found(workspace, notices, run, name, number, step)
    _waiting(workspace, notices, run)


def _failures(workspace: BaseWorkspace, notices: Notices, run: JobRun, name: str) -> None:
    """That a job fails, once; and that it is well again."""
    kind = {"failed": "failed", "stopped": "failed", "partly": "partly"}.get(run.outcome)
    if run.asked_to_stop:
        return
    if kind is None:
        since = min(filter(None, [notices.is_over(f"failed {name}"), notices.is_over(f"partly {name}")]), default=None)
        if since is not None:
            _tell(
                workspace,
                run,
                "recovered",
                f"{name} is well again",
                f"It had not been since {since:%Y-%m-%d %H:%M} UTC.",
            )
        return
    notices.is_over(f"{'partly' if kind == 'failed' else 'failed'} {name}")
    bad = [step for step in run.steps if step.outcome in ("failed", "stopped", "partly")]
    why = "\n".join([run.why, *(f"{step.line}: {step.outcome}: {step.last_words}" for step in bad)]).strip()
    if notices.is_new(f"{kind} {name}", _digest([step.line for step in bad])):
        _tell(workspace, run, kind, f"{name} {'failed' if kind == 'failed' else 'was done in part'}", why)


def _found(
    workspace: BaseWorkspace, notices: Notices, run: JobRun, name: str, number: int, step: RanStep
) -> None:  # fmt: skip
    """What a line was to look for and found, where it is not what it found last time."""
    matter = f"found {name}: {step.line}"
    if step.outcome == "done":
        notices.is_over(matter)
    if step.outcome != "found":
        return
    said = log_of(workspace, run.id, number)
    lines = [step.last_words]
    if said.is_file():  # what runners divided was said where they are
        with said.open("r", encoding="utf-8", errors="replace") as log:
            lines = [line.rstrip() for line in islice(log, _LINES + 1)]
    if notices.is_new(matter, _digest(lines)):
        kind = _FOUND.get(step.line.split()[0], "found")
        left = ["…"] if len(lines) > _LINES else []
        _tell(workspace, run, kind, f"{name}: `{step.line}` found something", "\n".join([*lines[:_LINES], *left]))


def _waiting(workspace: BaseWorkspace, notices: Notices, run: JobRun) -> None:
    """Changes that were prepared and wait for somebody to agree to them."""
    drafts = {str(row["id"]): row for row in workspace.changes() if row["state"] == "draft"}
    for number in notices.open("waiting"):
        if number not in drafts:
            notices.is_over(f"waiting {number}")
    new = [row for number, row in drafts.items() if notices.is_new(f"waiting {number}")]
    if new:
        told = [
            f"change {row['id']}, {row['kind']} of {row['system']}: {sum(row['steps'].values())} steps"
            f" (concordex change show {row['id']})"
            for row in sorted(new, key=lambda row: int(row["id"]))[:_NAMED]
        ]
        what = f"{len(new)} changes wait" if new[1:] else f"change {new[0]['id']} waits"
        _tell(workspace, run, "waiting", f"{what} for somebody to agree", "\n".join(told))


def _tell(workspace: BaseWorkspace, run: JobRun, kind: str, subject: str, body: str) -> None:
    places = [
        name
        for name, place in workspace.config.tell.items()
        if kind in place.of and (not place.jobs or run.job in place.jobs)
    ]
    facts: dict[str, object] = {"job": run.job, "apart": run.part or None, "run": run.id, "outcome": run.outcome}
    workspace.catalogue.notices.add(places, kind, subject, body, facts)


def _digest(lines: Sequence[str]) -> str:
    return hashlib.sha256("\n".join(lines).encode()).hexdigest()
