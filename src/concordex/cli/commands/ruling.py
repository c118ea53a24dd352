"""``concordex ruling``: people's standing decisions."""

from datetime import datetime
from typing import Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.options import Columns, Limit, Output, OutputFormat, moment, words, workspace
from concordex.cli.rows import emit_rows
from concordex.errors import CalledWrongly
from concordex.match.finding import KINDS
from concordex.words import suggestion

ruling = typer.Typer(
    help="People's standing decisions, kept in rulings.yaml; they always win over the evidence.",
    no_args_is_help=True, rich_markup_mode=None, add_completion=False,
)  # fmt: skip

Why = Annotated[str, typer.Option("--why", help="The reason, for the colleague who reads it next year.")]
Who = Annotated[str | None, typer.Option("--who", help="Who decides; your user name by default.")]
Until = Annotated[str | None, typer.Option("--until", help="The last day on which it holds, such as 2027-01-31.")]
Device = Annotated[str, typer.Argument(help="A record as system/record_id, or a device by entry, name, serial …")]


@ruling.command("same")
def same(
    devices: Annotated[list[str], typer.Argument(help="Records as system/record_id, or entries.")],
    why: Why = "",
    who: Who = None,
) -> None:
    """These are one device.

    Example: concordex ruling same muster/0f3a stowage/118 --why 'label read on site'
    """
    _pair("same", devices, why, who)


@ruling.command("apart")
def apart(
    devices: Annotated[list[str], typer.Argument(help="Records as system/record_id, or entries.")],
    why: Why = "",
    who: Who = None,
) -> None:
    """These are not one device.

    Example: concordex ruling apart muster/0f3a stowage/118 --why 'two kiosks, cloned'
    """
    _pair("apart", devices, why, who)


@ruling.command("value")
def value(
    device: Device,
    field: Annotated[str, typer.Argument(help="The field.")],
    value: Annotated[str, typer.Argument(help="Its value; of a list, several with commas.", metavar="VALUE")],
    why: Why = "",
    who: Who = None,
    until: Until = None,
) -> None:
    """A field of this device has this value, whatever its records say.

    Example: concordex ruling value sw-cobble-quay-01 site cobble-quay --why 'seen there'
    """
    _add({"value": {"of": _record(device), "field": field, "is": value}}, why, who, until)


@ruling.command("accept")
def accept(
    what: Annotated[str, typer.Argument(help="A device as elsewhere; or the site or rack that a finding is about.")],
    kind: Annotated[str, typer.Argument(help="The kind of finding.")],
    field: Annotated[
        str | None, typer.Option("--field", help="Of a conflict, the field, if there are several.")
    ] = None,
    about: Annotated[str | None, typer.Option("--about", help="What it is about, if there are several.")] = None,
    why: Why = "",
    who: Who = None,
    until: Until = None,
) -> None:
    """A finding needs no more attention, for a reason, and until a day.

    Examples:

    concordex ruling accept sw-cobble-quay-01 conflict --field model --why 'one thing' --until 2027-01-31

    concordex ruling accept mv-avocet site_hanging --why 'one radio link is all that a ship has'
    """

    if kind not in KINDS:
        raise CalledWrongly(f"there is no kind of finding {kind!r}", advice=suggestion(kind, KINDS))
    _add({"accept": workspace().acceptance(what, kind, field, about)}, why, who, until)


@ruling.command("list")
def list_rulings(
    limit: Limit = None, columns: Columns = None, form: OutputFormat = None, output: Output = None
) -> None:
    """All rulings, and whether they still hold.

    Example: concordex ruling list
    """

    here = workspace()
    hold = here.rulings(holding=True)
    rows = [
        {
            "ruling": listed.kind, "of": listed.records[0], "says": listed.says, "who": listed.who,
            "when": f"{listed.when:%Y-%m-%d}" if listed.when else "", "until": str(listed.until or ""),
            "holds": "yes" if listed in hold else "no", "why": listed.why,
        }
        for listed in here.rulings()
    ]  # fmt: skip
    if not rows:
        draw.note("there is no ruling yet; `concordex review` asks for some")
        return
    emit_rows(rows, form, output, columns=words(columns), limit=limit)


@ruling.command("remove")
def remove(
    record: Annotated[str, typer.Argument(help="A record that the ruling speaks of: system/record_id.")],
) -> None:
    """Take back the rulings that speak of a record.

    Example: concordex ruling remove muster/0f3a
    """
    for removed in workspace().remove_rulings(record):
        draw.note(f"removed: {removed.kind} {removed.records[0]} {removed.says}")
    draw.note("concordex reconcile makes it count")


def _pair(kind: str, devices: list[str], why: str, who: str | None) -> None:
    records = list(dict.fromkeys(map(_record, devices)))
    if len(records) < 2:
        raise CalledWrongly("a ruling needs two records", advice="name two of different entries, as system/record_id")
    _add({kind: records}, why, who, None)


def _record(device: str) -> str:
    """A record as it is written in rulings; of an entry, its first."""

    records = workspace().records_of(device)
    if len(records) > 1:
        raise CalledWrongly(
            f"{device!r} may be {len(records)} devices: {', '.join(records)}", advice="name one of them"
        )
    return records[0]


def _add(ruling: dict[str, Any], why: str, who: str | None, until: str | None) -> None:
    last = moment(until, "--until")
    given = ruling | ({"until": _day(last)} if last else {})
    made = workspace().rule(given, who=who, why=why)
    draw.note(f"ruled {made.kind}: {made.records[0]} {made.says}")
    draw.note("kept in rulings.yaml; concordex reconcile makes it count")


def _day(last: datetime) -> Any:
    return last.date()
