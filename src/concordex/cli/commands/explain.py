"""``concordex explain``."""

from dataclasses import asdict
from typing import Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.emit import Format
from concordex.cli.options import Form, workspace


def explain(
    device: Annotated[str, typer.Argument(help="A name, serial, MAC, address, asset tag, record id or entry.")],
    form: Form = None,
) -> None:
    """Why records are one device, and where each of its values came from.

    Examples:

    concordex explain sw-cobble-quay-01

    concordex explain 0cb1.0000.0042
    """
    from concordex.work.explain import explain as find

    found = find(workspace(), device)
    if form not in (None, Format.TABLE):
        _as_data([asdict(one) for one in found], form)
        return
    for at, one in enumerate(found):
        if at:
            draw.line()
        _draw(one)


def _as_data(found: list[dict[str, Any]], form: Format | None) -> None:
    import orjson

    from concordex.errors import CalledWrongly

    if form not in (Format.JSON, Format.NDJSON):
        raise CalledWrongly("an explanation is written as table, json or ndjson")
    parts = [found] if form is Format.JSON else found
    for part in parts:
        options = orjson.OPT_INDENT_2 if form is Format.JSON else 0
        draw.line(orjson.dumps(part, option=options | orjson.OPT_UTC_Z).decode())


def _draw(one: Any) -> None:
    draw.line(f"{one.entry}  {draw.cell(one.name)}")
    draw.line(f"\nRecords ({len(one.records)})")
    columns = ["system", "record_id", "name", "serial", "macs", "last_seen"]
    draw.table(columns, [[record[name] for name in columns] for record in one.records])
    draw.line("\nWhy they are one" if one.links else "\nNothing links it to another record")
    if one.links:
        draw.table(["record", "and", "because"], [[k["a"], k["b"], "; ".join(k["because"])] for k in one.links])
    draw.line("\nWhat it is, and who says so")
    rows = [[v.field, v.value, v.source, _others(v)] for v in one.values]
    draw.table(["field", "value", "from", "others said"], rows)
    if one.findings:
        draw.line("\nTo look at")
        rows = [[f["severity"], f["kind"], f["field"], f["seen"], f["advice"]] for f in one.findings]
        draw.table(["severity", "kind", "field", "seen", "advice"], rows)


def _others(value: Any) -> str:
    """What differs, record by record; agreement in a word."""
    same = [who for who, said in value.others.items() if draw.cell(said).lower() == draw.cell(value.value).lower()]
    other = [f"{who}: {draw.cell(said)}" for who, said in value.others.items() if who not in same]
    return "; ".join([*([f"{len(same)} the same"] if same else []), *other])
