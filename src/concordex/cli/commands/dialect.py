"""``concordex dialect``: how systems speak."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.options import Form, complete_systems
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly, DocumentError

if TYPE_CHECKING:
    from concordex.wire.dialect import Dialect


def _names() -> list[str]:
    """Every dialect, for the shell."""
    from concordex.wire.load import known

    return list(known(_folder()))


dialect = typer.Typer(
    help="How kinds of system speak: list dialects, show what one can do, check a file.", no_args_is_help=True,
    rich_markup_mode=None,
)  # fmt: skip


@dialect.command("list")
def list_dialects(form: Form = None) -> None:
    """List the dialects: those that ship with the program, and the workspace's own.

    Example: concordex dialect list
    """
    from concordex.cli.rows import emit_rows
    from concordex.wire.load import find, known

    rows = []
    for name, kind in known(_folder()).items():
        try:
            found = find(name, _folder())
        except DocumentError as error:
            fault = str(error).partition(": ")[2].splitlines()[0]
            rows.append({"dialect": name, "kind": "FAULTY", "role": "", "title": fault, "sign-in": "", "reads": "",
                         "writes": "", "needs": ""})  # fmt: skip
            continue
        rows.append({
            "dialect": found.name, "kind": kind, "role": found.role, "title": found.title, "sign-in": found.sign_in.by,
            "reads": ", ".join(found.tables), "writes": ", ".join(n for n, t in found.tables.items() if t.write),
            "needs": ", ".join(found.credentials),
        })  # fmt: skip
    emit_rows(rows, form, None)


@dialect.command("show")
def show(
    name: Annotated[str, typer.Argument(help="A dialect, by name or as a file.", autocompletion=_names)],
    form: Form = None,
) -> None:
    """Show what a dialect can do, and what it cannot.

    Example: concordex dialect show muster
    """
    from concordex.cli.rows import emit_rows

    emit_rows(_table(_found(name)), form, None, styles={"no": "yellow", "yes": "green"})


@dialect.command("check")
def check(
    name: Annotated[str, typer.Argument(help="A dialect, by name or as a file.")],
    against: Annotated[
        str | None,
        typer.Option("--against", help="Try each read on this system.", autocompletion=complete_systems),
    ] = None,
    form: Form = None,
) -> int:
    """Check a dialect: every fault with its line and key, then what it can and cannot do.

    With --against each read is tried on a system of the workspace, with this dialect in the place of its
    own: nothing is written.  Exit status 1 when a read fails.

    Examples:

    concordex dialect check dialects/ours.yaml

    concordex dialect check dialects/ours.yaml --against lamps
    """
    from concordex.cli.rows import emit_rows

    found = _found(name)
    draw.note(f"{name}: well; {found.title}")
    if against is None:
        emit_rows(_table(found), form, None, styles={"no": "yellow", "yes": "green"})
        return Status.DONE
    from concordex.cli.commands.system import RESULTS
    from concordex.cli.options import workspace
    from concordex.work.check import check as try_all

    tried = try_all(workspace(), [against], found)
    rows = [{"step": f.step, "result": "well" if f.well else "FAILED", "seen": f.seen} for f in tried]
    emit_rows(rows, form, None, styles=RESULTS)
    for one in (f for f in tried if f.advice):
        draw.note(f"{one.step}: {one.advice}", "yellow" if not one.well else "")
    return Status.DONE if all(f.well for f in tried) else Status.FAILED


@dialect.command("schema")
def schema() -> None:
    """Print the JSON Schema of the dialect format, for an editor.

    Example: concordex dialect schema > dialect.schema.json
    """
    from concordex.wire.load import schema as written

    draw.line(written().rstrip())


def _table(found: "Dialect") -> list[dict[str, Any]]:
    from concordex.work.abilities import abilities

    rows, about = [], ""
    for one in abilities(found):
        rows.append({
            "of": one.about if one.about != about else "", "what": one.what, "can": "yes" if one.can else "no",
            "how": one.how,
        })  # fmt: skip
        about = one.about
    return rows


def _found(name: str) -> "Dialect":
    from concordex.wire.load import find, from_file

    if Path(name).suffix in (".yaml", ".yml") or "/" in name:
        return from_file(Path(name))
    return find(name, _folder())


def _folder() -> Path | None:
    """The workspace's own dialects, where there is a workspace."""
    from concordex.cli.options import workspace

    try:
        return workspace().root / "dialects"
    except CalledWrongly:
        return None
