"""``concordex group``: named selections."""

from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.change_options import ChangeOptions, change_options
from concordex.cli.emit import emit
from concordex.cli.options import Columns, Limit, Output, OutputFormat, complete_systems, safely, words, workspace
from concordex.cli.propose import propose
from concordex.cli.rows import emit_rows

group = typer.Typer(
    help="Named selections, one small file each in groups/; any filter may say `group = NAME`.",
    no_args_is_help=True, rich_markup_mode=None, add_completion=False,
)  # fmt: skip


def complete_groups(incomplete: str) -> list[str]:
    """The groups of the workspace here, for the shell."""

    return safely(lambda: list(workspace().groups()), incomplete)


Name = Annotated[str, typer.Argument(help="The group's name.", autocompletion=complete_groups)]


@group.command("add")
def add(
    name: Annotated[str, typer.Argument(help="A name for it.")],
    where: Annotated[str | None, typer.Option("--where", help="A filter (docs/filters.md).")] = None,
    any_of: Annotated[list[str] | None, typer.Option("--any-of", help="What is in any of these groups.")] = None,
    all_of: Annotated[list[str] | None, typer.Option("--all-of", help="What is in all of these groups.")] = None,
    but_not: Annotated[list[str] | None, typer.Option("--but-not", help="Less what is in these groups.")] = None,
    about: Annotated[str, typer.Option("--about", help="What it is for.")] = "",
) -> None:
    """Name a selection: a filter, or a union, intersection or difference of groups.

    Examples:

    concordex group add quays --where 'site like "*-quay"'

    concordex group add quay-radios --all-of quays,radios --but-not spare
    """
    given = {
        "about": about, "where": where, "any_of": words(any_of), "all_of": words(all_of), "but_not": words(but_not),
    }  # fmt: skip
    workspace().add_group(name, given)
    draw.note(f"groups/{name}.yaml; to use it: --where 'group = {name}'")


@group.command("list")
def list_groups(limit: Limit = None, columns: Columns = None, form: OutputFormat = None, output: Output = None) -> None:
    """All groups, and what they are made of.

    Example: concordex group list
    """

    rows = [
        {
            "group": name, "where": known.where or "", "any of": ", ".join(known.any_of),
            "all of": ", ".join(known.all_of), "but not": ", ".join(known.but_not), "about": known.about,
        }
        for name, known in workspace().groups().items()
    ]  # fmt: skip
    if not rows:
        draw.note("there is no group yet; concordex group add NAME --where …")
        return
    emit_rows(rows, form, output, columns=words(columns), limit=limit)


@group.command("show")
def show(
    name: Name,
    table: Annotated[str, typer.Option("--table", help="Of which table.")] = "entries",
    limit: Limit = None,
    columns: Columns = None,
    form: OutputFormat = None,
    output: Output = None,
) -> None:
    """The members of a group.

    Example: concordex group show quays --format csv
    """

    selection = workspace().show(table, where=f'group = "{name}"', columns=words(columns), limit=limit)
    for text in selection.notes:
        draw.note(text, "yellow")
    if form is None and output is None and not columns:
        names = [
            n
            for n in ("system", "entry", "record_id", "name", "kind", "site", "status", "last_seen")
            if n in selection.frame.columns
        ]
        draw.table(names, selection.frame.select(names).iter_rows())
        draw.note(f"{selection.frame.height:,} of {table} in {name}")
        return
    emit(selection.frame, form, output)


@group.command("remove")
def remove(name: Name) -> None:
    """Remove a group that no other is made of.

    Example: concordex group remove quays
    """
    workspace().remove_group(name)
    draw.note(f"groups/{name}.yaml is removed")


@group.command("push")
@change_options(without=["every"])
def push(
    names: Annotated[list[str], typer.Argument(help="Groups.", autocompletion=complete_groups)],
    to: Annotated[str, typer.Option("--to", help="The system to write to.", autocompletion=complete_systems)],
    *,
    answers: ChangeOptions,
) -> int:
    """Make groups in a system whose groups are made of kinds and of other groups, such as monitoring.

    Groups that a union is made of come along.  What such a system cannot say is refused.

    Example: concordex group push network --to crowsnest
    """

    here = workspace()
    change = here.push_groups(names, to)
    change = change.described(source=", ".join(names), command="group push")
    return propose(here, change, answers, f"{to} has them so")
