"""``concordex findings``."""

import sys
from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.emit import Format, emit
from concordex.cli.options import Form, Output, Where, words, workspace
from concordex.cli.statuses import Status

STYLES = {"high": "bold red", "medium": "yellow", "low": "dim"}
_SCREENFUL = 40


def findings(
    kind: Annotated[list[str] | None, typer.Option("--kind", "-k", help="Only these kinds.")] = None,
    where: Where = None,
    count: Annotated[bool, typer.Option("--count", help="Only how many there are of each kind.")] = False,
    limit: Annotated[int | None, typer.Option("--limit", "-n", help="How many rows; 0 for all.")] = None,
    form: Form = None,
    output: Output = None,
) -> int:
    """What a person should look at: conflicts, duplicates, what is missing where, what is stale.

    Exit status 3 when there are findings.

    Examples:

    concordex findings --count

    concordex findings --kind conflict,duplicate --where 'severity = high'
    """
    from concordex.errors import CalledWrongly
    from concordex.match.findings import KINDS
    from concordex.words import suggestion

    kinds = words(kind)
    for name in kinds:
        if name not in KINDS:
            raise CalledWrongly(f"there is no kind of finding {name!r}", advice=suggestion(name, KINDS))
    both = " and ".join([*([f"kind in ({', '.join(kinds)})"] if kinds else []), *([f"({where})"] if where else [])])
    found = workspace().show("findings", where=both or None, count_by=["kind", "severity"] if count else [])
    for text in found.notes:
        draw.note(text, "yellow")
    frame, screen = found.frame, form in (None, Format.TABLE) and output is None
    cut = screen and limit is None and draw.is_terminal(sys.stdout) and frame.height > _SCREENFUL
    shown = frame.head(_SCREENFUL) if cut else frame.head(limit) if limit else frame
    if screen and not count:
        columns = ["severity", "kind", "entry", "name", "field", "seen"]
        draw.table(columns, shown.select(columns).iter_rows(), styles=STYLES)
        for name in shown["kind"].unique(maintain_order=True):
            draw.note(f"{name}: {KINDS[name][1]}", "dim")
    elif screen:
        draw.table(frame.columns, frame.iter_rows(), right=["count"], styles=STYLES)
    else:
        emit(shown, form, output)
    if cut:
        draw.note(f"{frame.height - _SCREENFUL:,} more; --limit 0 shows all, --count counts", "dim")
    return Status.FOUND if frame.height else Status.DONE
