"""``concordex job``: what runs by itself."""

import shutil
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

import typer

from concordex.cli import draw
from concordex.cli.options import LARGEST, Columns, Output, OutputFormat, moment, safely, words, workspace
from concordex.cli.rows import emit_rows
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly

if TYPE_CHECKING:
    from datetime import datetime

    from concordex.store.runs import JobRun
    from concordex.work.api_jobs import JobOverview

job = typer.Typer(
    help="What runs by itself: jobs, when they are due, what they did.", no_args_is_help=True, rich_markup_mode=None
)

STYLES = {
    "done": "green", "found": "yellow", "partly": "yellow", "stopped": "yellow", "failed": "bold red",
    "skipped": "yellow", "running": "cyan", "never": "dim", "paused": "dim", "left out": "dim",
}  # fmt: skip
STATUSES = {
    "done": Status.DONE, "found": Status.FOUND, "partly": Status.PARTLY, "stopped": Status.STOPPED,
    "failed": Status.FAILED,
}  # fmt: skip


def complete_jobs(incomplete: str) -> list[str]:
    """The jobs of the workspace here, for the shell."""
    return safely(lambda: list(workspace().config.jobs), incomplete)


Named = Annotated[str, typer.Argument(help="A job of concordex.yaml.", autocompletion=complete_jobs)]


@job.command("list")
def list_jobs(columns: Columns = None, form: OutputFormat = None, output: Output = None) -> None:
    """List the jobs: when each is due, how its last run ended, and when it comes next.

    Times are UTC, but for those that a job says in a zone of its own.

    Example: concordex job list
    """
    here = workspace()
    rows = []
    for one in here.jobs.overview():
        last = one.last
        rows.append({
            "job": one.part.job, "apart": one.part.part or None, "when": one.part.in_words,
            "last": "never" if last is None else last.outcome, "run": last.id if last else None,
            "ended": draw.ago(last.ended, here.now()) + " ago" if last and last.ended else None,
            "took": _took(last), "next": _next(one, here.now()),
            "steps": len(one.part.steps), "systems": len(one.part.systems),
        })  # fmt: skip
    if not rows:
        draw.note("there is no job yet; jobs: in concordex.yaml says what runs by itself (docs/jobs.md)")
    if not any(row["apart"] for row in rows):
        rows = [{name: value for name, value in row.items() if name != "apart"} for row in rows]
    emit_rows(rows, form, output, columns=words(columns), styles=STYLES)


@job.command("run")
def run(
    name: Named,
    apart: Annotated[str, typer.Option("--apart", help="What of it is run apart for this system.")] = "",
    leave: Annotated[
        bool, typer.Option("--leave", help="Leave it to a `concordex work` that is at work, and do not wait.")
    ] = False,
) -> int:
    """Run a job now, to its end; what its lines say is kept (`job history`).

    Exit status: 0 all was done, 3 something was found, 4 done in part, 1 a line failed, 5 stopped, as by a guard.

    Examples:

    concordex job run nightly

    concordex job run nightly --leave
    """
    if leave:
        workspace().jobs.leave(name, apart)
        draw.note(f"{name} is due now, for whoever is at work; concordex job history --job {name}")
        return Status.DONE
    ran = workspace().jobs.run(name, apart, draw.note)
    _each_step(ran, None, None)
    return STATUSES[ran.outcome]


@job.command("runners")
def runners(form: OutputFormat = None, output: Output = None) -> None:
    """List the runners that are at work: where each is, since when, and which systems it reaches.

    A workspace whose store is shared has any number of them (`concordex work`), on any number of machines.

    Example: concordex job runners
    """
    here = workspace()
    if here.server is None:
        draw.note("the store is this machine's alone: one `concordex work` runs all jobs (concordex store move)")
    rows = [
        {"runner": one.name, "host": one.host, "process": one.process, "by": one.who,
         "reaches": ", ".join(one.places), "since": one.begun}
        for one in here.jobs.runners()
    ]  # fmt: skip
    emit_rows(rows, form, output)


@job.command("history")
def history(
    number: Annotated[
        int | None, typer.Argument(metavar="RUN", min=1, max=LARGEST, help="One run, line by line.")
    ] = None,
    name: Annotated[str | None, typer.Option("--job", help="Runs of this job.", autocompletion=complete_jobs)] = None,
    outcome: Annotated[
        str | None, typer.Option("--outcome", help="done, found, partly, failed, stopped, skipped or running.")
    ] = None,
    since: Annotated[str | None, typer.Option("--since", help="Begun since then: a date or time (UTC), or 3d.")] = None,
    said: Annotated[
        int | None, typer.Option("--said", min=1, help="All that this line of the run said.", metavar="LINE")
    ] = None,
    limit: Annotated[
        int, typer.Option("--limit", "-n", min=1, max=LARGEST, help="At most this many, the newest first.")
    ] = 20,
    columns: Columns = None,
    form: OutputFormat = None,
    output: Output = None,
) -> None:
    """What ran, the newest first; one run line by line; and all that a line said.

    Examples:

    concordex job history --job nightly --outcome failed --since 30d

    concordex job history 12

    concordex job history 12 --said 2
    """
    here = workspace()
    if outcome and outcome not in STYLES:
        raise CalledWrongly(f"there is no outcome {outcome!r}", advice="done, found, partly, failed, stopped, skipped")
    if number is None:
        if said is not None:
            raise CalledWrongly("of which run?", advice="concordex job history RUN --said LINE")
        ran = here.jobs.history(limit, job=name, outcome=outcome, since=moment(since, "--since"))
        emit_rows([_row(one) for one in ran], form, output, columns=words(columns), styles=STYLES)
    elif said is not None:
        with here.jobs.said(number, said).open("r", encoding="utf-8", errors="replace") as log:
            shutil.copyfileobj(log, sys.stdout)
    else:
        _each_step(here.jobs.one(number), form, output)


@job.command("stop")
def stop(
    number: Annotated[int, typer.Argument(metavar="RUN", min=1, max=LARGEST, help="As `job list` shows it.")],
) -> None:
    """Ask a run to stop: its line ends what it has begun, and no other is run.

    Example: concordex job stop 12
    """
    workspace().jobs.stop(number)
    draw.note(f"run {number} is asked to stop; it does so when its line has ended what it has begun")


@job.command("export")
def export(
    form: Annotated[Literal["systemd", "cron"], typer.Argument(help="For which scheduler.")],
    names: Annotated[list[str] | None, typer.Argument(help="Jobs; all if none is given.")] = None,
    output: Annotated[
        Path | None, typer.Option("--output", "-o", help="Write the files into this folder; else they are shown.")
    ] = None,
) -> None:
    """Write the jobs for whoever has a scheduler: units of systemd, or lines of a crontab.

    Each runs `concordex job run`, whose exit statuses are a contract (docs/jobs.md).

    Examples:

    concordex job export systemd -o /etc/systemd/system

    concordex job export cron
    """
    files = workspace().jobs.exported(form, names or [])
    if output is None:
        for name, text in files.items():
            draw.line(f"# {name}\n{text}" if len(files) > 1 else text.rstrip())
        return
    output.mkdir(parents=True, exist_ok=True)
    there = [str(output / name) for name in files if (output / name).exists()]
    if there:
        raise CalledWrongly(f"{there[0]} is there already", advice="remove it, or write elsewhere")
    for name, text in files.items():
        (output / name).write_text(text, encoding="utf-8")
    draw.note(f"written to {output}: {', '.join(files)}")


def _row(run: "JobRun") -> dict[str, Any]:
    return {
        "run": run.id, "job": f"{run.job} {run.part}".rstrip(), "begun": run.begun, "outcome": run.outcome,
        "took": _took(run), "due": run.due, "why": run.why or None, "by": run.who, "host": run.host,
    }  # fmt: skip


def _each_step(run: "JobRun", form: OutputFormat, output: Output) -> None:
    rows = [
        {
            "line": number, "runs": step.line, "outcome": step.outcome, "status": step.status,
            "took": _span(step.seconds), "last words": step.last_words,
        }
        for number, step in enumerate(run.steps, 1)
    ]  # fmt: skip
    emit_rows(rows, form, output, styles=STYLES)


def _took(run: "JobRun | None") -> str | None:
    return None if run is None or run.seconds is None else _span(run.seconds)


def _next(one: "JobOverview", now: "datetime") -> str | None:
    if one.part.paused:
        return "paused"
    if one.next is None:
        return None
    moment = one.next.at
    if moment <= now:
        return "now"
    day = "" if moment.date() == now.date() else f"{moment:%Y-%m-%d} "
    return f"{day}{moment:%H:%M}, in {draw.ago(now, moment)}"


def _span(seconds: float) -> str:
    """How long something took: ``0.4 s``, ``41 s``, ``3 min 20 s``, ``2 h 5 min``."""
    if seconds < 60:
        return f"{seconds:.1f} s" if seconds < 10 else f"{seconds:.0f} s"
    minutes, rest = divmod(round(seconds), 60)
    return f"{minutes} min {rest} s" if minutes < 60 else f"{minutes // 60} h {minutes % 60} min"
