"""``concordex dialect``: how systems speak."""

from pathlib import Path
from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.options import Form

dialect = typer.Typer(
    help="How kinds of system speak: list dialects, check a file.", no_args_is_help=True, rich_markup_mode=None
)


@dialect.command("list")
def list_dialects(form: Form = None) -> None:
    """List the dialects that ship with the program.

    Example: concordex dialect list
    """
    from concordex.cli.rows import emit_rows
    from concordex.wire.load import find, shipped

    rows = [
        {
            "dialect": found.name, "role": found.role, "title": found.title, "sign-in": found.sign_in.by,
            "reads": ", ".join(found.tables), "writes": ", ".join(n for n, t in found.tables.items() if t.write),
            "needs": ", ".join(found.credentials),
        }
        for found in map(find, shipped())
    ]  # fmt: skip
    emit_rows(rows, form, None)


@dialect.command("check")
def check(file: Annotated[Path, typer.Argument(help="A dialect file.")]) -> None:
    """Check a dialect file; every fault is named with its line and key.

    Example: concordex dialect check dialects/ours.yaml
    """
    from concordex.wire.load import from_file

    found = from_file(file)
    draw.note(f"{file}: well; {found.title}, tables: {', '.join(found.tables)}")


@dialect.command("schema")
def schema() -> None:
    """Print the JSON Schema of the dialect format, for an editor.

    Example: concordex dialect schema > dialect.schema.json
    """
    from concordex.wire.load import schema as written

    draw.line(written().rstrip())
