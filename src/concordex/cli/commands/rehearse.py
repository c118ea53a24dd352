"""``concordex rehearse``."""

from __future__ import annotations

import shlex
import sys
import threading
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from concordex.cli import draw
from concordex.cli.options import complete_systems, workspace
from concordex.cli.rehearsed import tell_copy
from concordex.errors import CalledWrongly
from concordex.model.scalars import parse_duration

if TYPE_CHECKING:
    from datetime import datetime

    from concordex.work.rehearse.rehearsal import ServedCopy


def rehearse(
    system: Annotated[str, typer.Argument(help="The system.", autocompletion=complete_systems)],
    port: Annotated[int, typer.Option("--port", min=0, max=65535, help="On this port; else on a free one.")] = 0,
    into: Annotated[
        Path | None, typer.Option("--into", help="A new folder for the copy's workspace; else in the store.")
    ] = None,
    lasts: Annotated[str | None, typer.Option("--for", help="End after so long: 10m, 1h; else by Ctrl-C.")] = None,
) -> None:
    """Serve what was pulled last of a system, in that system's own manner, as its dialect tells it.

    It asks for a sign-in, cuts lists into pages, filters, takes writes and refuses what is required, unique or refers
    to nothing; what the dialect does not tell it answers with 501 and says so.  It is reached from this machine alone,
    with credentials of its own, which stand in a workspace that is made for it.  What is written to it ends with it.

    Examples:

    concordex rehearse stowage

    concordex rehearse stowage --port 8700 --for 1h
    """
    seconds = None
    if lasts is not None:
        length = parse_duration(lasts)
        if length is None:
            raise CalledWrongly(f"--for {lasts}: is not a duration", advice="such as 30s, 10m or 2h")
        seconds = length.total_seconds()
    here = workspace()
    with here.rehearsals.serve(system, port=port, into=into) as served:
        _tell(served, here.now())
        try:
            threading.Event().wait(seconds)
        except KeyboardInterrupt:
            draw.line()
        tell_copy(served.made.copy.noted, system)


def _tell(served: ServedCopy, now: datetime) -> None:
    made, place = served.made, served.workspace.absolute()
    near = place.relative_to(Path.cwd()) if place.is_relative_to(Path.cwd()) else place
    begin = f"concordex -w {shlex.quote(str(near))}"
    draw.heading(f"a copy of {made.system}, as it was pulled {draw.ago(made.taken[0], now)} ago, is at {served.url}")
    draw.line(", ".join(f"{table} {count:,}" for table, count in made.tables.items()))
    for table in made.doubtful:
        draw.note(f"{table} is not proved to be whole: the copy lacks what was not pulled", "yellow")
    for table in made.missing:
        draw.note(f"{table} was not pulled: the copy knows nothing of it", "yellow")
    if made.copy.dialect.sign_in.by == "none":
        draw.note("it asks for no sign-in: whoever is on this machine can read it", "yellow")
    draw.line()
    draw.line("In another terminal, with credentials that only the copy knows:")
    first = next(iter(made.tables))
    for words in (f"pull {made.system}", f"call {made.system} {first}", f"show {first} --live"):
        draw.line(f"  {begin} {words}")
    draw.line("What is written to the copy ends with it.  Ctrl-C ends it.")
    sys.stdout.flush()
