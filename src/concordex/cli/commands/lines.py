"""``concordex lines``: devices with a command interface."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.change_options import ChangeOptions, change_options
from concordex.cli.mistakes import keep_rejected, tell_mistakes
from concordex.cli.options import Output, OutputFormat, words, workspace
from concordex.cli.propose import propose
from concordex.cli.rows import emit_rows
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly, ConcordexError
from concordex.words import plural

lines = typer.Typer(
    help="Devices with a command interface: enter lines from a template as one, run commands that only show.",
    no_args_is_help=True,
    rich_markup_mode=None,
)
Devices = Annotated[str, typer.Argument(help="Devices of the workspace (docs/changes.md), or a system.")]
At = Annotated[list[str] | None, typer.Option("--at", help="Only the device at this address. Repeatable.")]


@lines.command("enter")
@change_options(without=["form"])
def enter(
    devices: Devices,
    template: Annotated[Path, typer.Argument(help="A template of lines (Jinja); its names are the table's columns.")],
    table: Annotated[
        str | None, typer.Option("--with", help="A table with a row and an `address` for each device.")
    ] = None,
    at: At = None,
    rejects: Annotated[
        Path | None, typer.Option("--rejects", help="Write rows with mistakes to this file, and go on with the others.")
    ] = None,
    *,
    answers: ChangeOptions,
) -> int:
    """Enter lines on many devices, each as one: if a line fails, its device keeps none of them.

    Lines that a device keeps already are left out.  Each device is read back, and an undo puts back what
    it kept before.

    Without a table, the template names nothing but `address`.

    Examples:

    concordex lines enter switches segments.j2 --with switches.csv

    concordex lines enter switches banner.j2 --at 10.20.0.7 --at 10.20.0.9
    """
    here = workspace()
    if table is None and not at:
        raise CalledWrongly("which devices?", advice="--with TABLE has a row for each, or --at ADDRESS names one")
    rows = here.read_rows(table) if table else None
    made = here.enter_lines(devices, template, rows, words(at))
    source = table or "--at"
    if made.mistakes:
        tell_mistakes(made.mistakes, source, made.rows)
        if rejects is None:
            draw.note("nothing was prepared; correct them, or say --rejects FILE to go on without these rows")
            return Status.CALLED_WRONGLY
        keep_rejected(made.rejected, made.mistakes, rejects)
    draw.note(f"{plural(made.rows, 'device')}: {made.equal:,} keep these lines already")
    change = made.change.described(source=f"{template}, {table or ', '.join(words(at))}", command="lines enter")
    status = propose(here, change, answers, f"{devices} keep these lines")
    return Status.PARTLY if made.mistakes and status == Status.DONE else status


@lines.command("show")
def show(
    devices: Devices,
    line: Annotated[str, typer.Argument(help="The command, as one would type it there.")],
    at: At = None,
    text: Annotated[bool, typer.Option("--text", help="As text, as the device would show it; else as data.")] = False,
    form: OutputFormat = None,
    output: Output = None,
) -> int:
    """Run a command that only shows, on one or several devices; as data (JSON), or as text.

    With --format or --output it is a list with a row for each device.

    Examples:

    concordex lines show switches 'show segments' --at 10.20.0.7

    concordex lines show switches 'show segments' --text -o segments.csv
    """

    answers = workspace().show_lines(devices, line, words(at), "text" if text else "data")
    rows = form is not None or output is not None
    if rows:
        emit_rows([_row(address, answer) for address, answer in answers.items()], form, output)
    for address, answer in answers.items() if not rows else ():
        if len(answers) > 1:
            draw.heading(f"# {address}")
        if isinstance(answer, ConcordexError):
            draw.note(f"{address}: {answer.what}" + (f": {answer.why}" if answer.why else ""), "red")
        elif isinstance(answer, str):
            draw.line(answer)
        else:
            _data(answer)
    failed = sum(isinstance(answer, ConcordexError) for answer in answers.values())
    return Status.DONE if not failed else Status.FAILED if failed == len(answers) else Status.PARTLY


def _row(address: str, answer: Any) -> dict[str, Any]:
    """What a device answered, as text, or as JSON; or why it did not."""
    if isinstance(answer, ConcordexError):
        return {"address": address, "answer": None, "why": str(answer)}
    return {"address": address, "answer": answer if isinstance(answer, str) else json.dumps(answer), "why": None}


def _data(answer: Any) -> None:
    draw.line(json.dumps(answer, indent=2, ensure_ascii=True))
