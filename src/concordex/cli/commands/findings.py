"""``concordex findings``."""

from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.emit import emit
from concordex.cli.options import Columns, Limit, Output, OutputFormat, Where, words, workspace
from concordex.cli.screenful import fitted, on_screen
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly
from concordex.words import suggestion

STYLES = {"high": "bold red", "medium": "yellow", "low": "dim"}


def findings(
    kind: Annotated[list[str] | None, typer.Option("--kind", "-k", help="Only these kinds.")] = None,
    where: Where = None,
    count: Annotated[bool, typer.Option("--count", help="Only how many there are of each kind.")] = False,
    count_by: Annotated[
        list[str] | None, typer.Option("--count-by", help="How many there are of each: kind, severity, state, field …")
    ] = None,
    new: Annotated[bool, typer.Option("--new", help="Only those that are new since last time.")] = False,
    gone: Annotated[bool, typer.Option("--gone", help="Those of last time that are gone.")] = False,
    accepted: Annotated[bool, typer.Option("--accepted", help="With those that somebody accepted.")] = False,
    limit: Limit = None,
    columns: Columns = None,
    form: OutputFormat = None,
    output: Output = None,
) -> int:
    """What a person should look at: conflicts, duplicates, what is missing where, what is stale.

    Those that somebody accepted are left out (`concordex ruling accept`).  Exit status 3 when there are any.

    Examples:

    concordex findings --count

    concordex findings --kind conflict,duplicate --where 'severity = high'

    concordex findings --new --format csv -o new.csv
    """

    from concordex.match.finding import KINDS

    kinds = words(kind)
    for name in kinds:
        if name not in KINDS:
            raise CalledWrongly(f"there is no kind of finding {name!r}", advice=suggestion(name, KINDS))
    parts = [
        f"kind in ({', '.join(kinds)})" if kinds else "", f"({where})" if where else "", "state = new" if new else "",
        "accepted missing" if not accepted and not gone else "",
    ]  # fmt: skip
    by = words(count_by) or (["kind", "severity"] if count else [])
    count = bool(by)
    table = "gone" if gone else "findings"
    here = workspace()
    selection = here.show(table, where=" and ".join(filter(None, parts)) or None, count_by=by, columns=words(columns))
    for text in selection.notes:
        draw.note(text, "yellow")
    frame, screen = selection.frame, on_screen(form, output)
    fit = fitted(frame, limit, form, output)
    shown = fit.frame
    if fit.more and not count and not columns:  # of a whole fleet: what there is at all, before the gravest of it
        counted = frame.group_by("kind", "severity", maintain_order=True).len("count").sort("count", descending=True)
        draw.table(counted.columns, counted.iter_rows(), right=["count"], styles=STYLES)
        draw.line()
    if screen and not count and not columns:
        names = ["severity", "kind", "entry", "name", "field", "seen", "state"]
        names += ["accepted"] if accepted else []
        since = here.conflicts_since(shown) if table == "findings" else {}
        rows = [(*row, since.get((row[2], row[4]))) if since else row for row in shown.select(names).iter_rows()]
        draw.table([*names, "since"] if since else names, rows, styles=STYLES)
        for name in shown["kind"].unique(maintain_order=True):
            draw.note(f"{name}: {KINDS[name][1]}", "dim")
    elif screen and count:
        draw.table(frame.columns, frame.iter_rows(), right=["count"], styles=STYLES)
    else:
        emit(shown, form, output, all_columns=bool(columns))
    fit.say(also=", --count counts")
    return Status.FOUND if frame.height else Status.DONE
