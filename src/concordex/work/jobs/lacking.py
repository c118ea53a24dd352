"""Which of the lists that some pulls fetched are not whole."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from concordex.store.catalogue import Catalogue


def lacking(catalogue: Catalogue, pulls: Iterable[int]) -> list[str]:
    """The tables that are not proved whole, nor believed to be, each with what is the matter with it, in order."""
    return sorted(
        f"{shot.system}/{shot.table} {'failed' if shot.outcome == 'failed' else f'is {shot.outcome}'}"
        for number in set(pulls)
        for shot in catalogue.snapshots_of(number)
        if not shot.whole
    )


def in_short(tables: list[str]) -> str:
    """The first of them, and how many more there are; empty where there is none."""
    return f"{tables[0]}{f', and {len(tables) - 1} more' if tables[1:] else ''}" if tables else ""
