"""Words and values as messages show them: the nearest known word, plurals, the first of many."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Any

#: How many members are named in one reason.
_NAMED = 6


def nearest(word: str, known: Iterable[str], floor: float = 60) -> str | None:
    """The known word most like ``word``, or None when none is like it."""
    from rapidfuzz import fuzz, process

    best = process.extractOne(word, list(known), scorer=fuzz.ratio, score_cutoff=floor)
    return best[0] if best else None


def suggestion(word: str, known: Iterable[str]) -> str:
    """``did you mean "…"?`` or, failing that, the list of what there is."""
    words = sorted(set(known))
    best = nearest(word.lower(), words)
    if best:
        return f'did you mean "{best}"?'
    more = f" and {len(words) - _MOST:,} more" if len(words) > _MOST else ""
    return f"there is: {', '.join(words[:_MOST])}{more}" if words else "there is none yet"


#: How many words are listed where none is near.
_MOST = 20


def plural(count: int, one: str, many: str = "") -> str:
    """``1 device``, ``1,204 devices``."""
    return f"{count:,} {one if count == 1 else many or one + 's'}"


def shown(value: Any) -> str:
    """A value as people read it."""
    return ", ".join(map(str, value)) if isinstance(value, list) else "empty" if value in (None, "") else str(value)


def named(paths: Collection[str]) -> str:
    """Some members in words: the first few, and how many more."""
    first = ", ".join(list(paths)[:_NAMED])
    return f"{first} and {len(paths) - _NAMED:,} more" if len(paths) > _NAMED else first
