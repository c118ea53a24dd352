"""``concordex compare``."""

from typing import Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.emit import Format, emit
from concordex.cli.options import Limit, Output, OutputFormat, Where, complete_systems, moment, words, workspace
from concordex.cli.rows import emit_rows
from concordex.cli.screenful import fitted, on_screen
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly

_STYLES = {"only here": "cyan", "only there": "magenta", "different": "yellow"}


def compare(
    here: Annotated[str, typer.Argument(help="A system, or a date.", autocompletion=complete_systems)],
    there: Annotated[str, typer.Argument(help="Another system, or another date.", autocompletion=complete_systems)],
    where: Where = None,
    fields: Annotated[list[str] | None, typer.Option("--fields", help="Only these fields.")] = None,
    system: Annotated[
        list[str] | None,
        typer.Option("--system", help="Of two dates: only these systems.", autocompletion=complete_systems),
    ] = None,
    count: Annotated[bool, typer.Option("--count", help="Only how many there are of each.")] = False,
    equal: Annotated[bool, typer.Option("--equal", help="Show what is equal as well.")] = False,
    limit: Limit = None,
    form: OutputFormat = None,
    output: Output = None,
) -> int:
    """Two systems, or two dates, side by side: only here, only there, different field by field, equal.

    Systems are compared device by device, as the concordance knows them; dates record by record.  A field
    counts as different where both say something.  Exit status 3 when anything is not equal.

    Examples:

    concordex compare fairlead stowage --where 'kind = switch'

    concordex compare 2026-11-01 2026-11-20 --system muster --fields site,user
    """
    comparison = _found(here, there, where, words(fields), words(system))
    for text in comparison.notes:
        draw.note(text, "yellow")
    _tell(comparison, here, there, count=count, equal=equal, limit=limit, form=form, output=output)
    counts = ", ".join(f"{number:,} {state}" for state, number in comparison.counts.items())
    draw.note(f"{here} (here) and {there} (there): {counts}")
    differ = sum(number for state, number in comparison.counts.items() if state != "equal")
    return Status.FOUND if differ else Status.DONE


def _found(here: str, there: str, where: str | None, fields: list[str], systems: list[str]) -> Any:
    space = workspace()
    known = space.config.systems
    if here in known or there in known:
        if systems:
            raise CalledWrongly(
                "--system is for two dates", advice="concordex compare 2026-11-01 2026-11-20 --system …"
            )
        return space.compare_systems(here, there, where=where, fields=fields)
    moments = [moment(text, "compare", end_of_day=True) for text in (here, there)]
    assert moments[0] is not None
    assert moments[1] is not None
    return space.compare_dates(
        moments[0], moments[1], systems=space.systems(systems) if systems else (), where=where, fields=fields
    )


def _tell(
    comparison: Any,
    here: str,
    there: str,
    *,
    count: bool,
    equal: bool,
    limit: int | None,
    form: Format | None,
    output: Any,
) -> None:
    if count:
        emit_rows([{"state": state, "devices": number} for state, number in comparison.counts.items()], form, output)
        return
    frame = comparison.frame if equal else comparison.frame.filter(comparison.frame["state"] != "equal")
    if not on_screen(form, output):
        emit(frame.head(limit) if limit else frame, form, output)
        return
    shown = fitted(frame, limit)
    drawn = shown.frame.rename({"here": here, "there": there})
    draw.table(drawn.columns, drawn.iter_rows(), styles=_STYLES)
    shown.say(also=", --count counts")
