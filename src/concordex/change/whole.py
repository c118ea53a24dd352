"""Records as systems keep them, member by member: what changed beside a step, and what did not come back."""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Iterable, Mapping
from functools import lru_cache
from typing import Any

import orjson

from concordex.change.compare import alike_but_for_signs
from concordex.model.scalars import parse_time
from concordex.words import shown

#: A record's members by their dotted paths; lists are values.
Flat = dict[str, Any]


def beside(before: Flat, after: Flat, ours: Iterable[str]) -> dict[str, tuple[Any, Any]]:
    """What changed in a record though nobody here wrote it: ``{path: (was, is)}``; ``ours`` are the paths written."""
    mine = list(ours)
    return {
        path: (before.get(path), after.get(path))
        for path in {**before, **after}
        if before.get(path) != after.get(path) and not any(_is_of(path, own, before, after) for own in mine)
    }


def is_stamp(value: Any, begin: float, end: float) -> bool:
    """Whether a value is a moment between two (in seconds since 1970): a system notes when a record was altered."""
    if isinstance(value, str):
        is_long = len(value) >= len("2026-01-01T00:00") and value.lstrip()[:4].isdigit()
        moment = parse_time(value) if is_long else None
        return moment is not None and begin <= moment.timestamp() <= end
    if isinstance(value, int | float) and not isinstance(value, bool):
        return begin <= value <= end or begin <= value / 1000 <= end
    return False


def _is_of(path: str, ours: str, before: Flat, after: Flat) -> bool:
    """Whether a path belongs to one that was written: it, a part of it, or an empty place that took it up."""
    if path == ours or path.startswith(f"{ours}."):
        return True
    return ours.startswith(f"{path}.") and before.get(path) in (None, {}) and after.get(path) in (None, {})


def prints(record: Flat, unwatched: Collection[str] = ()) -> dict[str, str]:
    """A short digest of each member, by which it is known again; of those that are not watched, nothing."""
    return {
        path: "" if path in unwatched else _digest(orjson.dumps(value, default=str)) for path, value in record.items()
    }


@lru_cache(maxsize=4096)
def _digest(text: bytes) -> str:
    """A digest of a value; most records have most of their values in common."""
    return hashlib.blake2b(text, digest_size=6).hexdigest()


def moved(left: Mapping[str, str], now: Flat) -> list[str]:
    """The members that are no longer as they were when the prints were taken, or that came since."""
    digests = prints(now, {path for path, digest in left.items() if not digest})
    return sorted(
        path for path in {**left, **digests} if left.get(path) != digests.get(path) and not _is_nothing(path, left, now)
    )


def _is_nothing(path: str, left: Mapping[str, str], now: Flat) -> bool:
    """Whether a member only came or went without a value."""
    return path not in left and now.get(path) in (None, "", [], {})


def lost(again: Mapping[str, Any], now: Flat) -> list[str]:
    """What of a record that was brought back is not as it was, in words."""
    return [
        f"{path} is {shown(now.get(path))}, and was {shown(value)}"
        for path, value in again.items()
        if value not in (None, "", [], {}) and now.get(path) != value and not alike_but_for_signs(now.get(path), value)
    ]
