"""Mistakes in rows that people typed: told all at once, and kept beside the rows."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from concordex.cli import draw
from concordex.cli.rows import emit_rows
from concordex.words import plural

if TYPE_CHECKING:
    from concordex.change.rows import Mistake, Row


def tell_mistakes(mistakes: list[Mistake], file: str, count: int) -> None:
    """Each mistake once, with all the rows that make it."""
    places: dict[tuple[str, str, str], list[str]] = {}
    for mistake in mistakes:
        places.setdefault((mistake.column, mistake.value, mistake.what), []).append(mistake.place)
    rows = [[_places(rows_of), *what] for what, rows_of in places.items()]
    draw.table(["where", "column", "value", "what"], rows[:60])
    more = f"; {len(rows) - 60:,} sorts of them are not shown" if len(rows) > 60 else ""
    draw.note(f"{plural(len(mistakes), 'mistake')} in {file} ({plural(count, 'row')}){more}", "red")


def _places(places: list[str]) -> str:
    if len(places) == 1:
        return places[0] or "heading"
    word = places[0].split()[0]
    first = ", ".join(place.split()[-1] for place in places[:5])
    return f"{word}s {first}" + (f" and {len(places) - 5:,} more" if len(places) > 5 else "")


def keep_rejected(rejected: list[Row], mistakes: list[Mistake], path: Path) -> None:
    """The rows as they were typed, with what is wrong beside them."""

    wrong: dict[str, list[str]] = {}
    for mistake in mistakes:
        wrong.setdefault(mistake.place, []).append(
            f"{mistake.column} {mistake.value} {mistake.what}".replace("  ", " ")
        )
    names = list(dict.fromkeys(name for row in rejected for name in row.typed))
    rows: list[dict[str, Any]] = [
        {**{name: _text(row.typed.get(name)) for name in names}, "mistakes": "; ".join(wrong.get(row.place, []))}
        for row in rejected
    ]
    emit_rows(rows, None, path, private=True)


def _text(value: Any) -> str | None:
    return None if value is None else ", ".join(map(str, value)) if isinstance(value, list) else str(value)
