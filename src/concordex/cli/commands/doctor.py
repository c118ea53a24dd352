"""``concordex doctor``."""

from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.context import current
from concordex.cli.options import Columns, Output, OutputFormat, words
from concordex.cli.rows import emit_rows
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly

STYLES = {"ok": "green", "doubtful": "yellow", "wrong": "bold red"}


def doctor(
    all_: Annotated[bool, typer.Option("--all", help="Also what is as it should be.")] = False,
    columns: Columns = None,
    form: OutputFormat = None,
    output: Output = None,
) -> int:
    """Look at the installation, the workspace, its secrets, its store, the disk, the clock and its jobs.

    What is wrong is told with the command that mends it.  No system is asked (`system check` does that), and no secret
    is read.  Exit status 3 when something is wrong.

    Example: concordex doctor
    """
    from concordex import Workspace
    from concordex.work.api_upkeep import examine_installation

    try:
        found = Workspace.nearest(current().workspace).upkeep.examine()
    except CalledWrongly:
        if current().workspace is not None:
            raise
        found = examine_installation()
    shown = found if all_ else [one for one in found if one.result != "ok"]
    rows = [
        {"part": one.part, "what": one.what, "result": one.result, "seen": one.seen, "mend": one.mend or None}
        for one in shown
    ]
    if rows or form is not None:
        emit_rows(rows, form, output, columns=words(columns), styles=STYLES)
    wrong = sum(one.result == "wrong" for one in found)
    doubtful = sum(one.result == "doubtful" for one in found)
    if not (wrong or doubtful):
        draw.note(f"all is well: {len(found)} things were looked at")
    else:
        draw.note(f"{wrong} wrong, {doubtful} doubtful, {len(found) - wrong - doubtful} as they should be")
    return Status.FOUND if wrong else Status.DONE
