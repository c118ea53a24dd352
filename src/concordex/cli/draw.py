"""Drawing for people: tables, lines and progress; plain where nobody watches."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from functools import cache
from typing import IO, TYPE_CHECKING, Any

from concordex.cli.context import current
from concordex.model.scalars import parse_time
from concordex.progress import Advance
from concordex.unseen import in_data, masked
from concordex.words import plural

if TYPE_CHECKING:
    from rich.console import Console

#: Seconds before a progress bar appears: shorter work needs none.
_PATIENCE = 0.5
#: The widest that a cell of a table is drawn.
_WIDEST = 1_000
#: With more bars than this, those that are full are hidden.
_MOST_BARS = 12


def is_terminal(stream: IO[str]) -> bool:
    """Whether a person watches ``stream``."""
    return stream.isatty() and os.environ.get("TERM") != "dumb"


def clean(text: str) -> str:
    """``text`` with everything that could act on a terminal made visible."""
    if text.isprintable():
        return text
    return "".join(sign if sign.isprintable() else sign.encode("unicode_escape").decode() for sign in text)


def harmless(text: str) -> str:
    """Lines of text, each with everything that could act on a terminal made visible."""
    text = in_data(text)
    return text if text.isprintable() else "\n".join(map(clean, text.split("\n")))


def cell(value: Any) -> str:
    """A value as one short text."""
    if value is None:
        return ""
    if isinstance(value, datetime):
        return value.astimezone(UTC).strftime("%Y-%m-%d %H:%M")
    if isinstance(value, list | dict):
        return _cells(value)
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return clean(in_data(str(value)))


#: Of how many members is told in one line.
MEMBERS = 8


def members(body: Mapping[str, Any], most: int | None = MEMBERS) -> str:
    """What a record or an object says, in one line; an ellipsis where there is more than the ``most``."""
    texts = [f"{name} {cell(value) or '(empty)'}" for name, value in body.items()]
    return ", ".join([*texts[:most], *(["…"] if most is not None and len(texts) > most else [])])


def moment(written: str | None) -> str:
    """A time as a system told it, in our form where it can be read."""

    return cell(parse_time(written or "") or written or "?")


def _cells(value: list[Any] | dict[str, Any]) -> str:
    if isinstance(value, dict):
        return f"{{{', '.join(f'{cell(name)}: {cell(item)}' for name, item in value.items())}}}"
    return ", ".join(map(cell, value))


@cache
def console(error: bool = False) -> Console:
    """The terminal, drawn on by rich."""
    from rich.console import Console

    return Console(stderr=error, highlight=False, emoji=False, no_color="NO_COLOR" in os.environ or None)


def table(
    columns: Sequence[str],
    rows: Iterable[Sequence[Any]],
    *,
    right: Sequence[str] = (),
    styles: dict[str, str] | None = None,
    all_columns: bool = False,
) -> None:
    """A table on standard output; ``styles`` gives a cell's text its colour, ``right`` names numbers.

    On a terminal that is too narrow the least telling columns, which stand last, are left out and named, unless
    ``all_columns`` are wanted.
    """
    drawn, cut = [[cell(value) for value in row] for row in rows], 0
    for row in drawn:
        for at, text in enumerate(row):
            if len(text) > _WIDEST:  # every other row would be as wide
                row[at], cut = f"{text[: _WIDEST // 2]} … {text[-_WIDEST // 2 :]}", cut + 1
    if cut:
        note(f"{plural(cut, 'cell')} of more than {_WIDEST:,} characters cut in the middle; -f json has all", "dim")
    if is_terminal(sys.stdout):
        from concordex.cli.fitting import fit_columns

        kept = fit_columns(columns, drawn, console().width)
        if all_columns and len(kept) < len(columns):  # whoever named them gets them, line upon line
            _plain_table(columns, drawn, right)
            return
        left_out = [name for at, name in enumerate(columns) if at not in kept]
        _rich_table([columns[at] for at in kept], [[row[at] for at in kept] for row in drawn], right, styles or {})
        if left_out:
            note(f"left out, for want of room: {', '.join(left_out)} (-f json, or a wider window, has all)", "dim")
    else:
        _plain_table(columns, drawn, right)


def _rich_table(columns: Sequence[str], rows: list[list[str]], right: Sequence[str], styles: dict[str, str]) -> None:
    from rich import box
    from rich.table import Table
    from rich.text import Text

    from concordex.cli.fitting import is_wordy

    drawn = Table(box=box.SIMPLE_HEAD, pad_edge=False, header_style="bold", show_edge=False)
    for at, name in enumerate(columns):
        wordy = is_wordy([row[at] for row in rows])
        drawn.add_column(
            name, justify="right" if name in right else "left", overflow="fold", no_wrap=not wordy,
            min_width=None if wordy else max([len(name), *(len(row[at]) for row in rows)]),
        )  # fmt: skip
    for row in rows:
        drawn.add_row(*(Text(text, style=styles.get(text, "")) for text in row))
    console().print(drawn)


def _plain_table(columns: Sequence[str], rows: list[list[str]], right: Sequence[str]) -> None:
    widths = [max([len(name), *(len(row[at]) for row in rows)]) for at, name in enumerate(columns)]
    justify = [str.rjust if name in right else str.ljust for name in columns]
    for row in [list(columns), *rows]:
        cells = (fit(text, width) for fit, text, width in zip(justify, row, widths, strict=True))
        sys.stdout.write("  ".join(cells).rstrip() + "\n")


def line(text: str = "") -> None:
    """One line, or several, on standard output."""
    sys.stdout.write(f"{harmless(text)}\n")


def below(text: str, indent: str) -> None:
    """A line on standard output, set in by ``indent``; a terminal's width is kept."""
    if is_terminal(sys.stdout):
        import textwrap

        text = textwrap.fill(
            harmless(text), console().width, initial_indent=indent, subsequent_indent=indent, break_on_hyphens=False
        )
        line(text)
    else:
        line(f"{indent}{text}")


def styled(text: str, style: str) -> None:
    """A line on standard output, in colour where that is a terminal."""
    if is_terminal(sys.stdout):
        from rich.text import Text

        console().print(Text(harmless(text), style=style))
    else:
        line(text)


def heading(text: str) -> None:
    """A line on standard output that begins something."""
    if is_terminal(sys.stdout):
        from rich.text import Text

        console().print(Text(harmless(text), style="bold cyan" if text.startswith("$") else "bold"))
    else:
        line(text)


def told_as_document(text: str, level: str) -> str:
    """What is told of the work as a document in one line: when, how grave, and the text."""
    import json

    moment = datetime.now(UTC).isoformat(timespec="milliseconds")
    return json.dumps({"moment": moment, "level": level, "text": text}, ensure_ascii=False)


def until_interrupted() -> None:
    """Wait for Ctrl-C, or whatever ends as it does."""
    from threading import Event

    try:
        Event().wait()
    except KeyboardInterrupt:
        return


def note(text: str, style: str = "") -> None:
    """One line on standard error, which is where all that is not data goes."""
    if current().log == "json":
        level = "error" if "red" in style else "warning" if "yellow" in style else "info"
        sys.stderr.write(f"{told_as_document(masked(text), level)}\n")
        sys.stderr.flush()
    elif is_terminal(sys.stderr):
        from rich.text import Text

        console(error=True).print(Text(harmless(masked(text)), style=style))
    else:
        sys.stderr.write(f"{harmless(masked(text))}\n")


@contextmanager
def progress() -> Iterator[Advance]:
    """Bars on standard error, one for each label; none where nobody watches or it is soon done."""
    if not is_terminal(sys.stderr):
        yield lambda _label, _done, _of: None
        return
    from threading import Timer

    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeElapsedColumn

    bars = Progress(
        TextColumn("{task.description}"), BarColumn(complete_style="cyan", finished_style="green", pulse_style="cyan"),
        MofNCompleteColumn(), TimeElapsedColumn(),
        console=console(error=True), transient=True,
    )  # fmt: skip
    tasks = dict[str, Any]()
    waited = Timer(_PATIENCE, bars.start)  # by the clock: what is slow to answer at all is waited for longest

    def advance(label: str, done: int, of: int | None) -> None:
        if label not in tasks:
            tasks[label] = bars.add_task(label, total=of)
        ended = of is not None and done >= of
        bars.update(tasks[label], completed=done, total=of, visible=not ended or len(tasks) <= _MOST_BARS)

    waited.start()
    try:
        yield advance
    finally:
        waited.cancel()
        waited.join()
        bars.stop()


def ask(question: str) -> bool:
    """Whether the person at the terminal agrees; without one, nobody does."""
    return ask_text(f"{question} [y/N]").lower() in ("y", "yes")


def ask_number(question: str) -> int | None:
    """The number that the person at the terminal types; none without one, or when it is no number."""
    answer = ask_text(question)
    return int(answer) if answer.isdecimal() else None


def ask_text(question: str) -> str:
    """What the person at the terminal types; nothing without one."""
    if not sys.stdin.isatty():
        return ""
    sys.stderr.write(f"{harmless(question)} ")
    sys.stderr.flush()
    return sys.stdin.readline().strip()


def ago(moment: datetime, now: datetime) -> str:
    """``4 min``, ``3 h``, ``12 d``: how long ago."""
    seconds = max(0.0, (now - moment).total_seconds())
    for size, unit in ((86400, "d"), (3600, "h"), (60, "min")):
        if seconds >= size:
            return f"{int(seconds // size)} {unit}"
    return f"{int(seconds)} s"
