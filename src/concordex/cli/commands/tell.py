"""``concordex tell``: whom is told what."""

from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.options import LARGEST, Columns, Output, OutputFormat, safely, words, workspace
from concordex.cli.rows import emit_rows
from concordex.cli.statuses import Status

tell = typer.Typer(
    help="Whom is told what by itself: places, what waits there, and whether it comes.",
    no_args_is_help=True, rich_markup_mode=None,
)  # fmt: skip


def complete_places(incomplete: str) -> list[str]:
    """The places of the workspace here, for the shell."""
    return safely(lambda: list(workspace().config.tell), incomplete)


@tell.command("list")
def list_places(columns: Columns = None, form: OutputFormat = None, output: Output = None) -> None:
    """List the places where people are told things: what waits there, when it goes, what failed.

    Example: concordex tell list
    """
    here = workspace()
    rows = [
        {
            "place": one.name, "by": one.by, "of": ", ".join(one.of), "waiting": one.waiting,
            "goes": None if one.sends_at is None else max(one.sends_at, here.now()),
            "last sent": None if one.last_sent is None else f"{draw.ago(one.last_sent, here.now())} ago",
            "fault": one.fault or None,
        }
        for one in here.telling.places()
    ]  # fmt: skip
    if not rows:
        draw.note("nobody is told anything; tell: in concordex.yaml says whom, and by which way (docs/jobs.md)")
    emit_rows(rows, form, output, columns=words(columns))


@tell.command("try")
def try_place(place: Annotated[str, typer.Argument(help="A place.", autocompletion=complete_places)]) -> None:
    """Send a message that says that it is one to try.

    Example: concordex tell try ops
    """
    workspace().telling.try_(place)
    draw.note(f"{place} took it: look whether it came")


@tell.command("pending")
def pending(
    sent: Annotated[bool, typer.Option("--sent", help="Also what was sent, the newest first.")] = False,
    limit: Annotated[int, typer.Option("--limit", "-n", min=1, max=LARGEST, help="At most this many.")] = 20,
    columns: Columns = None,
    form: OutputFormat = None,
    output: Output = None,
) -> None:
    """What waits to be told, and why it has not gone.

    Example: concordex tell pending --sent
    """
    telling = workspace().telling
    found = telling.history(limit) if sent else telling.waiting()[:limit]
    rows = [
        {
            "message": one.id, "place": one.place, "kind": one.kind, "subject": one.subject, "since": one.made,
            "sent": one.sent, "tries": one.tries, "fault": one.fault or None,
        }
        for one in found
    ]  # fmt: skip
    emit_rows(rows, form, output, columns=words(columns))


@tell.command("send")
def send() -> int:
    """Send what waits and may go now, as `work` does by itself.

    Exit status 4 where a place did not take it: it stays, and is tried again.

    Example: concordex tell send
    """
    status = Status.DONE
    for place, fault in workspace().telling.deliver():
        draw.note(f"{place}: {fault or 'told'}", "yellow" if fault else "")
        status = Status.PARTLY if fault else status
    return status
