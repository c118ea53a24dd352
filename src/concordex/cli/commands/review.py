"""``concordex review``."""

import sys
from typing import Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.emit import emit
from concordex.cli.options import LARGEST, Output, OutputFormat, workspace
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly

_FIELDS = ("name", "serial", "uuid", "asset_tag", "macs", "ips", "maker", "model", "kind", "site", "user", "last_seen")


def review(
    listed: Annotated[bool, typer.Option("--list", help="Only list the pairs; ask nothing.")] = False,
    limit: Annotated[
        int | None, typer.Option("--limit", "-n", min=1, max=LARGEST, help="At most this many pairs.")
    ] = None,
    form: OutputFormat = None,
    output: Output = None,
) -> int:
    """Decide on pairs of entries that may be one device, the likeliest first, each by a key.

    s: same; a: apart; n: next, undecided; q: stop.  Each decision is a ruling that is kept at once, so that
    a review goes on where it was left.

    Examples:

    concordex review

    concordex review --list --format csv -o doubtful.csv
    """

    here = workspace()
    pairs = here.doubtful_pairs(names=bool(listed or form or output))
    waiting = pairs.head(limit) if limit else pairs
    if listed or form or output:
        return _list(waiting, form, output)
    if not (draw.is_terminal(sys.stdout) and sys.stdin.isatty()):
        raise CalledWrongly("a review needs a terminal", advice="concordex review --list")
    return _ask(here, waiting)


def _list(frame: Any, form: Any, output: Any) -> int:
    emit(frame, form, output)
    if form is None and output is None:
        draw.note(f"{frame.height:,} pairs to decide; bits: each doubles the odds that the two are one")
    return Status.FOUND if frame.height else Status.DONE


def _ask(here: Any, waiting: Any) -> int:
    counts = dict.fromkeys(("same", "apart", "left", "gone"), 0)
    for at, pair in enumerate(waiting.to_dicts(), start=1):
        if (doubt := here.doubt(pair)) is None:  # somebody has reconciled since it was listed
            counts["gone"] += 1
            draw.note(f"{pair['entry']} and {pair['other']} are in doubt no longer")
            continue
        _show(doubt, at, waiting.height)
        key = _key()
        if key == "q":
            break
        kind = {"s": "same", "a": "apart"}.get(key)
        counts[kind or "left"] += 1
        if kind:
            here.rule({kind: [doubt.link.a, doubt.link.b]}, why="reviewed")
    decided = counts["same"] + counts["apart"]
    rest = waiting.height - decided - counts["gone"]
    draw.note(f"{counts['same']} the same, {counts['apart']} apart; {rest:,} pairs not decided")
    if decided:
        draw.note("kept in rulings.yaml; concordex reconcile makes it count")
    return Status.DONE


def _show(doubt: Any, at: int, of: int) -> None:
    draw.line()
    draw.heading(f"Pair {at} of {of}: {doubt.one} and {doubt.other}, {doubt.link.bits:+.1f} bits in all")
    here, there = doubt.entries
    rows = [
        [name, here[name], "=" if _plain(here[name]) == _plain(there[name]) else "", there[name]]
        for name in _FIELDS
        if here[name] not in (None, []) or there[name] not in (None, [])
    ]
    systems = ["systems", here["systems"], "", there["systems"]]
    draw.table(["field", doubt.one, "", doubt.other], [*rows, systems])
    draw.line()
    for because in (b for b in doubt.link.because if b.bits):
        draw.line(f"  {because.bits:+5.1f}  {because.kind} {because.says}  {draw.cell(because.values)}")
    for entry, rival, bits in doubt.rivals:
        draw.line(f"  {entry} may be {rival} instead: {bits:+.1f} bits")
    draw.line()


def _plain(value: Any) -> str:
    return draw.cell(value).lower()


def _key() -> str:
    draw.note("[s]ame  [a]part  [n]ext  [q]uit", "bold")
    while True:
        try:
            key = typer.getchar().lower()
        except (KeyboardInterrupt, EOFError):
            return "q"
        if key in "sanq" and key:
            return key
