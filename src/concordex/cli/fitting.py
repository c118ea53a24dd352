"""Which columns of a table a terminal has room for, so that no name, address or date is broken."""

from __future__ import annotations

from collections.abc import Sequence

#: Values with spaces that are longer than this are read as text, and may go on in the next line.
_TEXT = 24
#: The least room in which a text is still readable.
_LEAST = 18
#: Between two columns.
_GAP = 3


def is_wordy(cells: Sequence[str]) -> bool:
    """Whether a column holds texts, which may be broken between words."""
    return any(len(cell) > _TEXT and " " in cell for cell in cells)


def fit_columns(columns: Sequence[str], rows: Sequence[Sequence[str]], width: int) -> list[int]:
    """The places of the columns that fit into ``width``: the first always; the last go first, and texts at the end."""
    needs = [_needed(name, [row[at] for row in rows]) for at, name in enumerate(columns)]
    wordy = {at for at in range(len(columns)) if is_wordy([row[at] for row in rows])}
    kept = list(range(len(columns)))

    def room() -> int:
        return sum(needs[at] for at in kept) + _GAP * (len(kept) - 1)

    for at in [*(at for at in reversed(kept) if at not in wordy), *sorted(wordy, reverse=True)]:
        if room() <= width or len(kept) == 1:
            break
        if at:
            kept.remove(at)
    return kept


def _needed(name: str, cells: Sequence[str]) -> int:
    widest = max([len(name), *map(len, cells)])
    if not is_wordy(cells):
        return widest
    words = [len(word) for cell in cells for word in cell.split()]
    return min(widest, max([_LEAST, len(name), *(word for word in words if word <= _TEXT)]))
