"""What stands in a rack: within its units, and two things never in one place."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass


@dataclass(frozen=True, kw_only=True)
class Mounted:
    """A thing in a rack: from which unit, counted from 1, how many units high, and on which face, if that is known."""

    label: str
    rack: tuple[str, ...]
    at: float
    height: float = 1.0
    face: str | None = None

    @property
    def units(self) -> range:
        """The units that it takes up."""
        return range(math.floor(self.at), math.floor(self.at) + max(1, math.ceil(self.height)))


def clashes(
    new: Sequence[Mounted], there: Iterable[Mounted], sizes: Mapping[tuple[str, ...], float]
) -> list[str | None]:
    """For each of ``new`` why it cannot stand where it shall; ``sizes`` are the units of each rack, where known.

    Two things may share a unit on two faces.
    """
    taken: dict[tuple[tuple[str, ...], int], list[Mounted]] = {}
    for thing in there:
        for unit in thing.units:
            taken.setdefault((thing.rack, unit), []).append(thing)
    reasons: list[str | None] = []
    for thing in new:
        size = sizes.get(thing.rack)
        beside = [other for unit in thing.units for other in taken.get((thing.rack, unit), ()) if _meet(thing, other)]
        last = thing.units[-1]
        if thing.at < 1 or thing.at != math.floor(thing.at) or (size is not None and last > size):
            of = f", which has {size:g} units" if size is not None else ""
            reasons.append(f"is outside of the rack{of}: it would take up {thing.at:g} to {last}")
        elif beside:
            reasons.append(f"is taken there by {beside[0].label}")
        else:
            reasons.append(None)
        for unit in thing.units:
            taken.setdefault((thing.rack, unit), []).append(thing)
    return reasons


def _meet(one: Mounted, other: Mounted) -> bool:
    return one.face is None or other.face is None or one.face == other.face
