"""``concordex work``."""

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
) -> int:
    """Run the jobs of the workspace when they are due, until it is told to end.

    It stays in the foreground, as services do.  Ctrl-C and SIGTERM let what runs end what it has begun, sign out and
    leave nothing half-done; no other line is begun.  What was due while nothing ran is caught up once.  A workspace has
    one of these; concordex.yaml is read anew when it is altered.

    Example: concordex work
    """
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
