"""Options that several commands share, and the workspace that they mean."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from concordex.cli.context import current
from concordex.cli.emit import Format
from concordex.errors import CalledWrongly, ConcordexError
from concordex.model.fields import FIELDS
from concordex.model.scalars import parse_duration, parse_time

if TYPE_CHECKING:
    from concordex import Workspace


def workspace() -> Workspace:
    """The workspace that the command line, the environment or the folder says."""
    from concordex import Workspace

    return Workspace.nearest(current().workspace)


def complete_systems(incomplete: str) -> list[str]:
    """The systems of the workspace here, for the shell."""
    return safely(lambda: list(workspace().config.systems), incomplete)


def complete_tables(incomplete: str) -> list[str]:
    """The tables that were pulled, for the shell."""
    return safely(
        lambda: [*{s.table for s in workspace().memory.newest()}, "entries", "findings", "records", "weights"],
        incomplete,
    )


def complete_racks(incomplete: str) -> list[str]:
    """The racks that were pulled, for the shell."""
    return safely(lambda: workspace().fleet.racks().frame["rack"].drop_nulls().to_list(), incomplete)


def complete_fields(incomplete: str) -> list[str]:
    """The common fields, for the shell."""

    done, comma, last = incomplete.rpartition(",")
    names = [*FIELDS, *(f"device.{name}" for name in ("name", "kind", "site", "entry"))]
    return [f"{done}{comma}{name}" for name in names if name.startswith(last)]


def safely(find: object, incomplete: str) -> list[str]:
    """What ``find`` finds that begins so; nothing where it cannot be found, since a shell is asking."""

    try:
        names = find()  # type: ignore[operator]
    except ConcordexError:
        return []
    return sorted(name for name in names if name.startswith(incomplete))


def words(given: list[str] | None) -> list[str]:
    """Options that may be repeated or hold several words with commas, as one list."""
    return [word.strip() for text in given or [] for word in text.split(",") if word.strip()]


def pairs(given: list[str] | None, option: str) -> dict[str, str]:
    """Options that say NAME=VALUE, as a mapping."""

    values = {}
    for text in given or []:
        name, sign, value = text.partition("=")
        if not sign or not name.strip():
            raise CalledWrongly(f"{option} {text}: is not NAME=VALUE")
        values[name.strip()] = value.strip()
    return values


#: As large as any number is that can be meant: of rows, of a change, of a step.
LARGEST = 2**31 - 1
Limit = Annotated[
    int | None, typer.Option("--limit", "-n", min=0, max=LARGEST, help="At most this many rows; 0 for all.")
]
Columns = Annotated[list[str] | None, typer.Option("--columns", "-c", help="Columns to show, separated by commas.")]
Systems = Annotated[
    list[str] | None,
    typer.Argument(help="Systems; all if none is given.", autocompletion=complete_systems),
]


def moment(text: str | None, option: str, *, end_of_day: bool = False) -> datetime | None:
    """A moment: an ISO 8601 date or time (UTC), or how long ago; a date may mean its end."""
    if text is None:
        return None
    if end_of_day and re.fullmatch(r"\d{4}-\d\d-\d\d", text):
        text = f"{text}T23:59:59"

    ago = parse_duration(text)
    try:
        then = datetime.now(UTC) - ago if ago is not None else parse_time(text)
    except OverflowError:  # longer ago than there are dates
        then = datetime.min.replace(tzinfo=UTC)
    if then is None:
        raise CalledWrongly(
            f"{option} {text}: is not a date or time", advice="say 2026-11-20, 2026-11-20T18:00, 12h or 3d"
        )
    return then


Since = Annotated[str | None, typer.Option("--since", help="From when on: 2h or 1d ago, a date or a time (UTC).")]
Between = Annotated[
    tuple[str, str] | None,
    typer.Option("--between", help="In place of --since: from when until when.", metavar="FROM UNTIL"),
]


def span(since: str | None, between: tuple[str, str] | None) -> tuple[datetime | None, datetime | None]:
    """The moments between which something is wanted: a date is its beginning, as an end that of the day after it."""
    if between is None:
        return moment(since, "--since"), None
    if since is not None:
        raise CalledWrongly("--since and --between both say when it begins", advice="say one of them")
    begin, end = moment(between[0], "--between"), moment(between[1], "--between", end_of_day=True)
    if begin is not None and end is not None and begin >= end:
        raise CalledWrongly(f"--between {' '.join(between)}: ends before it begins")
    return begin, end


def chosen(systems: list[str] | None, tags: list[str] | None, labels: list[str] | None) -> list[str]:
    """The systems that names, tags and labels select; all where none is given."""
    names = words(systems)
    if not tags and not labels:
        return names
    systems_named = workspace().systems(names, tags=words(tags), labels=labels or [])
    if not systems_named:
        raise CalledWrongly("no system matches these names, tags and labels together", advice="concordex system list")
    return systems_named


def complete_tags(incomplete: str) -> list[str]:
    """The tags of the workspace's systems, for the shell."""
    return safely(lambda: {tag for system in workspace().config.systems.values() for tag in system.tags}, incomplete)


def complete_labels(incomplete: str) -> list[str]:
    """The labels of the workspace's systems, for the shell."""
    return safely(lambda: {system.label for system in workspace().config.systems.values()}, incomplete)


Tags = Annotated[
    list[str] | None,
    typer.Option("--tag", help="Systems with this tag. Repeatable.", autocompletion=complete_tags),
]
Labels = Annotated[
    list[str] | None,
    typer.Option("--label", help="Systems with this label. Repeatable.", autocompletion=complete_labels),
]


def _says_something(given: str | None) -> str | None:
    """A filter that a script left empty must not mean everything."""
    if given is not None and not given.strip():
        raise CalledWrongly("the filter is empty", advice="leave out --where to mean all records")
    return given


Where = Annotated[
    str | None,
    typer.Option(
        "--where", help="Only records for which this filter holds (docs/filters.md).", callback=_says_something
    ),
]
OutputFormat = Annotated[
    Format | None,
    typer.Option("--format", "-f", help="Output format; by default a table, or by the ending of the output file."),
]
Output = Annotated[Path | None, typer.Option("--output", "-o", help="Write to this file, all or nothing.")]
