"""``concordex call``."""

from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import orjson
import typer

from concordex.cli import draw
from concordex.cli.described import draw_operation, draw_operations
from concordex.cli.emit import Format, emit, write_text
from concordex.cli.exchange import draw_address, draw_answer, draw_body
from concordex.cli.options import (
    Columns,
    Limit,
    Output,
    OutputFormat,
    complete_systems,
    pairs,
    safely,
    words,
    workspace,
)
from concordex.cli.rows import emit_rows, named_columns
from concordex.cli.screenful import fitted, on_screen
from concordex.cli.snippets import curl, python
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly
from concordex.landing import landing
from concordex.unseen import in_data, masked

if TYPE_CHECKING:
    from concordex import Workspace
    from concordex.work.call.call import Called, PreparedCall

#: The media type of a file, by its ending.
_TYPES = {".json": "application/json", ".xml": "application/xml", ".csv": "text/csv", ".txt": "text/plain"}
#: How a file is sent whose ending tells nothing (RFC 2046, section 4.5.1).
_BYTES = "application/octet-stream"


class Written(StrEnum):
    """In what a call is written for a colleague."""

    CURL = "curl"
    PYTHON = "python"


def complete_what(ctx: typer.Context, incomplete: str) -> list[str]:
    """What can be called of the system that was typed: the tables of its dialect, and operations that are known."""
    system = str(ctx.params.get("system") or "")
    return safely(lambda: workspace().calls.names(system), incomplete)


def complete_parameters(ctx: typer.Context, incomplete: str) -> list[str]:
    """The parameters of the operation that was typed, as NAME=."""
    system, where = str(ctx.params.get("system") or ""), str(ctx.params.get("where") or "")
    return safely(lambda: [f"{name}=" for name in workspace().calls.parameters(system, where)], incomplete)


def call(
    system: Annotated[
        str | None, typer.Argument(help="A system, or a device as DEVICES:ADDRESS.", autocompletion=complete_systems)
    ] = None,
    where: Annotated[
        str | None,
        typer.Argument(
            help="A path below the system's, a table of its dialect, or a method of JSON-RPC.",
            metavar="PATH",
            autocompletion=complete_what,
        ),
    ] = None,
    values: Annotated[
        list[str] | None,
        typer.Argument(
            help="NAME=VALUE: fills {NAME} in the path; else a parameter.", autocompletion=complete_parameters
        ),
    ] = None,
    method: Annotated[str | None, typer.Option("--method", "-m", help="GET, or POST where there is a body.")] = None,
    json: Annotated[str | None, typer.Option("--json", help="The body, or the parameters of a method.")] = None,
    file: Annotated[Path | None, typer.Option("--file", help="The body as it stands in a file.")] = None,
    header: Annotated[list[str] | None, typer.Option("--header", help="NAME=VALUE, one more header.")] = None,
    take: Annotated[
        str | None, typer.Option("--take", help="What stands at this path into the answer, as a table.")
    ] = None,
    as_table: Annotated[
        str | None, typer.Option("--as-table", help="Its records as the dialect maps those of this table.")
    ] = None,
    every: Annotated[bool, typer.Option("--all", help="Every page, as the dialect says or the answer leads.")] = False,
    write: Annotated[bool, typer.Option("--write", help="It may alter something: shown, asked, and noted.")] = False,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Send it without being asked.")] = False,
    any_time: Annotated[bool, typer.Option("--any-time", help="Also outside the system's windows.")] = False,
    written: Annotated[
        Written | None, typer.Option("--as", help="Not sent: written for a colleague, with names for secrets.")
    ] = None,
    listed: Annotated[bool, typer.Option("--list", help="What it says can be called; of these words.")] = False,
    about: Annotated[
        str | None,
        typer.Option("--about", help="One operation: what it takes, and an example.", autocompletion=complete_what),
    ] = None,
    history: Annotated[bool, typer.Option("--history", help="The calls that were made.")] = False,
    again: Annotated[int | None, typer.Option("--again", help="Make the call of that number once more.")] = None,
    columns: Columns = None,
    limit: Limit = None,
    form: OutputFormat = None,
    output: Output = None,
) -> int:
    """Ask a system anything, signed in as the workspace says: the answer as it came, and what it means.

    What only reads is sent at once; all else needs --write, is shown first, and noted with who sent it.  In a pipe the
    body stands alone on standard output.  Exit status 1 where the system refuses.

    Examples:

    concordex call fairlead /nodes from=1 size=2

    concordex call muster devices --all --take devices -c displayName,serialNo -f csv

    concordex call bollard firewall.list from=0 count=5 --as-table devices

    concordex call muster /muster/roles --json '{"name": "night watch"}' --write

    concordex call crowsnest /states --as curl

    concordex call muster --list devices
    """
    here = workspace()
    if listed or about is not None:
        if system is None:
            raise CalledWrongly("of which system?", advice="concordex call SYSTEM --list")
        told = here.calls.description(system)
        if about is not None:
            draw_operation(system, told, about)
        else:
            draw_operations(told, [*([where] if where else []), *(values or [])], words(columns), limit, form, output)
        for text in told.notes:
            draw.note(text, "yellow")
        return Status.DONE
    if history:
        emit_rows([_told(row) for row in here.calls.history()], form, output, columns=words(columns), limit=limit)
        return Status.DONE
    prepared = _meant(here, system, where, again, {
        "values": _values(values), "method": method, "json": json, "headers": pairs(header, "--header"),
        "content": _content(file, json),
    })  # fmt: skip
    if written is not None:
        copy = here.calls.copy(prepared)
        draw.line(curl(copy) if written is Written.CURL else python(copy))
        return Status.DONE
    if not prepared.reads:
        here.calls.check_write(prepared, any_time=any_time)
        if not _agreed(here, prepared, write=write, yes=yes):
            return Status.STOPPED
    called = here.calls.send(prepared, every=every, write=write)
    draw_address(called.exchange.method, called.exchange.url, _base(here, prepared))
    draw_answer(called)
    for text in called.notes:
        draw.note(text, "green" if text.endswith(": whole") else "yellow")
    _show(here, prepared, called, (take, as_table, every), (words(columns), limit, form, output))
    return Status.DONE if called.ok else Status.FAILED


def _meant(here: "Workspace", system: str | None, where: str | None, again: int | None, rest: dict[str, Any]) -> Any:
    if again is not None:
        if system is not None:
            raise CalledWrongly("--again says which call", advice="concordex call --history")
        return here.calls.again(again)
    if system is None or where is None:
        raise CalledWrongly("what is called?", advice="concordex call SYSTEM PATH; concordex call --history")
    return here.calls.prepare(system, where, **rest)


def _values(given: list[str] | None) -> list[tuple[str, str]]:
    parted = [(text, *text.partition("=")) for text in given or []]
    for text, name, sign, _ in parted:
        if not sign or not name:
            raise CalledWrongly(f"{text}: is not NAME=VALUE")
    return [(name, value) for _, name, _, value in parted]


def _content(file: Path | None, json: str | None) -> tuple[bytes, str] | None:
    if file is None:
        return None
    if json is not None:
        raise CalledWrongly("--json and --file are both a body", advice="say one of them")
    try:
        return file.read_bytes(), _TYPES.get(file.suffix.lower(), _BYTES)
    except OSError as error:
        raise CalledWrongly(f"{file} cannot be read: {error.strerror}") from error


def _base(here: "Workspace", prepared: "PreparedCall") -> str:
    """The address below which the dialect's paths stand."""
    name, address = here.target(prepared.system)
    url = here.config.systems[name].url if address is None else here.config.devices[name].url
    below = here.dialect(name).base.strip("/")
    return url.replace("{address}", address or "").rstrip("/") + (f"/{below}" if below else "")


def _agreed(here: "Workspace", prepared: "PreparedCall", *, write: bool, yes: bool) -> bool:
    """Whether a call that may alter something is to be sent: shown first, and asked."""
    request = prepared.request
    draw.note(f"{request.rpc or request.method} {masked(request.path)} of {prepared.system}", "bold")
    body = request.params if request.rpc else request.body
    if body is not None:
        draw.note(f"  {masked(orjson.dumps(in_data(body)).decode())}")
    elif request.content is not None:
        draw.note(f"  {len(request.content[0]):,} bytes of {request.content[1]}")
    if not write:
        raise CalledWrongly("it may alter something, and was not sent", advice="say --write to send it")
    if yes or draw.ask("Send it?"):
        return True
    draw.note("not sent")
    return False


def _show(
    here: "Workspace", prepared: "PreparedCall", called: "Called", how: tuple[str | None, str | None, bool],
    told: tuple[list[str], int | None, Format | None, Path | None],
) -> None:  # fmt: skip
    take, as_table, every = how
    columns, limit, form, output = told
    if called.ok and (take or as_table or (every and (columns or form))):
        if as_table:
            frame = here.calls.as_table(prepared, called, as_table)
        else:
            frame = here.calls.taken(called, take) if take else here.calls.listed(called)
        shown = fitted(named_columns(frame, columns), limit, form, output)
        emit(shown.frame, form, output, all_columns=bool(columns))
        shown.say()
    elif columns or not on_screen(form, None):
        raise CalledWrongly("an answer has no columns and no format of ours", advice="a table: --take PATH, --all")
    elif every and called.ok and (called.records is not None or len(called.bodies) > 1):
        text = orjson.dumps(in_data(here.calls.records(called)), option=orjson.OPT_INDENT_2).decode()
        write_text(text + "\n", output)
    elif output is not None:
        _keep(called.exchange.reply.content, output)
    else:
        draw_body(called)


def _keep(content: bytes, output: Path) -> None:
    """The body in a file, as it came but for our secrets: some systems repeat what they were sent."""
    try:
        write_text(content.decode(), output)
    except UnicodeDecodeError:
        with landing(output) as making:
            making.write_bytes(content)


def _told(row: dict[str, Any]) -> dict[str, Any]:
    values = " ".join(f"{name}={value}" for name, value in row["values"])
    outcome = str(row.get("status") or row.get("failed") or "not known")
    return {
        "call": row["call"], "at": row["at"], "by": row["by"], "system": row["system"], "sent": row["sent"],
        "where": f"{row['where']} {values}".strip(), "status": outcome, "ms": row.get("ms"),
        "bytes": row.get("bytes"), "wrote": row["wrote"],
    }  # fmt: skip
