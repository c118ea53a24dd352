"""``concordex explain``."""

from dataclasses import asdict
from typing import Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.emit import Format
from concordex.cli.options import OutputFormat, workspace
from concordex.errors import CalledWrongly


def explain(
    device: Annotated[str, typer.Argument(help="A name, serial, MAC, address, asset tag, record id or entry.")],
    history: Annotated[
        bool, typer.Option("--history", help="Also its history: seen, renamed, moved, upgraded.")
    ] = False,
    why_not: Annotated[str | None, typer.Option("--why-not", help="Why it and this other device are not one.")] = None,
    form: OutputFormat = None,
) -> None:
    """Why records are one device, and where each of its values came from; or why two are not one.

    Examples:

    concordex explain sw-cobble-quay-01

    concordex explain 0cb1.0000.0042 --history

    concordex explain sw-cobble-quay-01 --why-not sw-cobble-quay-02
    """
    if why_not is not None:
        _draw_not_one(device, why_not, form)
        return
    explanations = workspace().explain(device)
    past = [_past(explanation.entry) if history else [] for explanation in explanations]
    if form not in (None, Format.TABLE):
        documents = [
            asdict(explanation) | ({"history": [asdict(e) for e in events]} if history else {})
            for explanation, events in zip(explanations, past, strict=True)
        ]
        _as_data(documents, form)
        return
    for at, explanation in enumerate(explanations):
        if at:
            draw.line()
        _draw(explanation)
        if history:
            _draw_past(past[at])


def _draw_not_one(device: str, other: str, form: OutputFormat) -> None:
    verdict = workspace().why_not(device, other)
    if form not in (None, Format.TABLE):
        _as_data([asdict(verdict)], form)
        return
    draw.heading(f"{verdict.one} and {verdict.other} are not one: {verdict.reason}")
    draw.line(f"{verdict.bits:+.1f} bits in all; nearest are {verdict.link.a} and {verdict.link.b}")
    for part in verdict.link.because:
        draw.line(f"  {part.bits:+5.1f}  {part.kind} {part.says}  {draw.cell(part.values)}".rstrip())


def _past(entry: str) -> list[Any]:
    return list(workspace().history(entry))


def _draw_past(events: list[Any]) -> None:
    draw.line()
    draw.heading("What became of it")
    rows = [[e.when, e.record, e.what, e.field, e.before, e.after] for e in events]
    draw.table(["pulled", "record", "what", "field", "before", "after"], rows)


def _as_data(documents: list[dict[str, Any]], form: Format | None) -> None:
    import orjson

    if form not in (Format.JSON, Format.NDJSON):
        raise CalledWrongly("an explanation is written as table, json or ndjson")
    parts = [documents] if form is Format.JSON else documents
    for part in parts:
        options = orjson.OPT_INDENT_2 if form is Format.JSON else 0
        draw.line(orjson.dumps(part, option=options | orjson.OPT_UTC_Z).decode())


def _draw(entry: Any) -> None:
    numbers = {f"{record['system']}/{record['record_id']}": at for at, record in enumerate(entry.records, start=1)}
    draw.heading(f"{entry.entry}  {draw.cell(entry.name)}")
    draw.line()
    draw.heading("Records")
    columns = ["system", "record_id", "name", "serial", "macs", "last_seen"]
    rows = [[at, *(record[name] for name in columns)] for at, record in enumerate(entry.records, start=1)]
    draw.table(["", *columns], rows, right=[""])
    draw.line()
    draw.heading("Why they are one" if entry.links else "Nothing links it to another record")
    if entry.links:
        _draw_links(entry.links, numbers)
    if entry.near:
        draw.line()
        draw.heading("What it is not, though something speaks for it")
        rows = [[link.entry, f"{link.bits:+.1f}", _because(link)] for link in entry.near]
        draw.table(["entry", "bits", "because"], rows, right=["bits"])
    for text in entry.speaks_for:
        draw.line(text)
    for ruling in entry.rulings:
        draw.line(f"ruled {ruling}")
    draw.line()
    draw.heading("What it is, and who says so")
    draw.table(["field", "value", "from", "others said"], [_told(value, numbers) for value in entry.values])
    if entry.findings:
        draw.line()
        draw.heading("To look at")
        rows = [[f["severity"], f["kind"], f["field"], f["seen"], f["advice"]] for f in entry.findings]
        draw.table(["severity", "kind", "field", "seen", "what to do"], rows)


#: Evidence of fewer bits than this is not worth a reader's time.
_SAYS = 0.5

#: Of many pairs so many are shown, the strongest for each record first.
_MOST_LINKS = 12


def _draw_links(links: Any, numbers: dict[str, int]) -> None:
    """The strongest link of each record first: those that hold the entry together."""
    held: set[str] = set()
    first: list[Any] = []
    rest: list[Any] = []
    for link in sorted(links, key=lambda link: -link.bits):
        (rest if {link.a, link.b} <= held else first).append(link)
        held |= {link.a, link.b}
    shown = [*first, *rest][: max(_MOST_LINKS, len(first))]
    rows = [[numbers[k.a], numbers[k.b], f"{k.bits:+.1f}", _because(k)] for k in shown]
    draw.table(["record", "and", "bits", "because"], rows, right=["record", "and", "bits"])
    if len(shown) < len(links):
        draw.note(f"{len(links) - len(shown)} weaker pairs are in --format json", "dim")
    draw.note(
        "bits: each doubles the odds that two records are one device; learned here, see docs/concordance.md", "dim"
    )


def _because(link: Any) -> str:
    """The evidence, all of it that speaks against; what speaks for it and says little stands together at the end."""
    shown = [b for b in link.because if b.bits < 0 or b.bits >= _SAYS] or link.because
    lines = [f"{b.bits:+.1f} {b.kind} {b.says}{f' ({draw.cell(b.values)})' if b.values else ''}" for b in shown]
    rest = round(sum(b.bits for b in link.because) - sum(b.bits for b in shown), 1)
    return "; ".join([*lines, *([f"{rest:+.1f} the rest"] if rest else [])])


def _told(value: Any, numbers: dict[str, int]) -> list[Any]:
    """One field: its value, whose it is, and what the other records say; agreement in a word."""
    known = value.source in numbers
    source = f"{numbers[value.source]} {value.source.partition('/')[0]}" if known else value.source
    same = [who for who, theirs in value.others.items() if draw.cell(theirs).lower() == draw.cell(value.value).lower()]
    other = [f"{numbers[who]}: {draw.cell(theirs)}" for who, theirs in value.others.items() if who not in same]
    return [value.field, value.value, source, "; ".join([*([f"{len(same)} the same"] if same else []), *other])]
