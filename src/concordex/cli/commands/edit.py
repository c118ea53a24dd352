"""``concordex set``, ``retire``, ``delete`` and ``action``: records that are there."""

from typing import Annotated

import typer

from concordex.cli.change_options import ChangeOptions, change_options
from concordex.cli.options import complete_systems, pairs, words, workspace
from concordex.cli.propose import propose

System = Annotated[str, typer.Argument(help="The system to write to.", autocompletion=complete_systems)]
Chosen = Annotated[str, typer.Argument(help="A filter (docs/filters.md), or a name, serial, MAC, address, tag or id.")]
Table = Annotated[str, typer.Option("--table", help="The table to write to.")]


@change_options()
def set_fields(
    system: System,
    selection: Chosen,
    values: Annotated[
        list[str], typer.Argument(help="FIELD=VALUE; nothing after = empties it.", metavar="FIELD=VALUE…")
    ],
    table: Table = "devices",
    make: Annotated[
        list[str] | None, typer.Option("--make", help="Tables whose missing records may be created, such as sites.")
    ] = None,
    *,
    answers: ChangeOptions,
) -> int:
    """Set fields of existing records: one record, or all that a filter finds.

    Examples:

    concordex set stowage sw-cobble-quay-01 position=12

    concordex set stowage 'site = "cobble-quay" and kind = switch' status=stored comment= --draft
    """
    here = workspace()
    change = here.set(system, table, selection, pairs(values, "set"), words(make))
    change = change.described(selection=selection, command="set")
    return propose(here, change, answers, "the selected records are so already, or none is selected")


@change_options()
def retire(
    system: System,
    selection: Chosen,
    table: Table = "devices",
    *,
    answers: ChangeOptions,
) -> int:
    """Set records to what their system calls retired; they stay there.

    Example: concordex retire stowage 'last_seen older than 90d' --draft
    """
    here = workspace()
    change = here.retire(system, table, selection)
    change = change.described(selection=selection, command="retire")
    return propose(here, change, answers, "the selected records are retired already, or none is selected")


@change_options("count", without=["yes"])
def delete(
    system: System,
    selection: Chosen,
    table: Table = "devices",
    *,
    answers: ChangeOptions,
) -> int:
    """Delete records; their number must be typed, or given with --count.

    What could be written of them is kept, so that `concordex change undo` can make them again, under
    other ids.

    Example: concordex delete stowage 'status = retired and site = depot' --count 4
    """
    here = workspace()
    change = here.delete(system, table, selection)
    change = change.described(selection=selection, command="delete")
    return propose(here, change, answers, "no record is selected")


@change_options("count")
def action(
    system: System,
    what: Annotated[str, typer.Argument(help="What to do, as the dialect calls it: concordex dialect show.")],
    selection: Chosen,
    table: Table = "devices",
    *,
    answers: ChangeOptions,
) -> int:
    """Perform an action that the system offers: restart, locate, wipe.  Irreversible ones ask for the record count.

    Nothing is sent twice: where no answer came, that is reported, and a person must check.

    Examples:

    concordex action fairlead restart 'site = depot and kind = access-point'

    concordex action muster wipe LT-0042 --count 1
    """
    here = workspace()
    change = here.action(system, table, what, selection)
    change = change.described(selection=selection, command=f"action {what}")
    return propose(here, change, answers, "no record is selected")
