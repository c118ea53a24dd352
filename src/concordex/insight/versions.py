"""Versions beside those that are wanted: who is behind, and by how much."""

from __future__ import annotations

from collections.abc import Collection
from functools import lru_cache
from typing import Literal

from concordex.model.scalars import version_parts

#: How a device stands: as wanted, behind, past what is wanted; or nobody tells its version.
Standing = Literal["current", "behind", "ahead", "unknown"]

_parts = lru_cache(50_000)(version_parts)


def standing(version: str | None, wanted: str) -> Standing:
    """How a version stands beside the one that is wanted."""
    if version is None:
        return "unknown"
    mine, theirs = _parts(version), _parts(wanted)
    return "current" if mine == theirs else "behind" if mine < theirs else "ahead"


def releases_behind(version: str | None, wanted: str, known: Collection[str]) -> int | None:
    """How many releases, of those that are known and the one that is wanted, came after a version up to it."""
    if version is None:
        return None
    mine, theirs = _parts(version), _parts(wanted)
    return len({parts for release in {*known, wanted} if mine < (parts := _parts(release)) <= theirs})


def newest(versions: Collection[str]) -> str | None:
    """The highest of some versions."""
    return max(versions, key=_parts, default=None)


def is_below(version: str | None, bound: str | None) -> bool:
    """Whether a version is below a bound; all are, that are known, where there is none."""
    return version is not None and (bound is None or _parts(version) < _parts(bound))
