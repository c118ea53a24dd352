"""``concordex work``."""

import os
from datetime import UTC, datetime
from threading import Event
from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.context import current
from concordex.cli.options import workspace
from concordex.cli.statuses import Status


def work(
    once: Annotated[bool, typer.Option("--once", help="Run what is due now, and end.")] = False,
    where: Annotated[
        list[str] | None, typer.Option("--where", help="Where this machine is: of systems that are reached from there.")
    ] = None,
) -> int:
    """Run the jobs of the workspace when they are due, until it is told to end.

    It stays in the foreground, as services do.  Ctrl-C and SIGTERM let what runs end what it has begun, sign out and
    leave nothing half-done; no other line is begun.  What was due while nothing ran is caught up once.  concordex.yaml
    is read anew when it is altered.

    A workspace has one of these; one whose store is shared has as many as there are machines, which divide among
    themselves what is due.  One that dies is replaced within seconds.

    Examples:

    concordex work

    concordex work --where berlin
    """
    if where:
        os.environ["CONCORDEX_WHERE"] = " ".join(where)
    here = workspace()
    stop = Event()

    def heard(text: str) -> None:
        moment = "" if current().log == "json" else f"{datetime.now(UTC):%Y-%m-%d %H:%M:%S}Z  "
        draw.note(f"{moment}{text}")

    try:
        ran = here.jobs.work(stop, heard, once=once)
    except KeyboardInterrupt:
        heard("told to end: all has ended")
        return Status.DONE
    if once and not ran:
        heard("nothing is due")
    return Status.DONE
