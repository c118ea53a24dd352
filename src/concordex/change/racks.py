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
    for one in there:
        for unit in one.units:
            taken.setdefault((one.rack, unit), []).append(one)
    found: list[str | None] = []
    for one in new:
        size = sizes.get(one.rack)
        beside = [other for unit in one.units for other in taken.get((one.rack, unit), ()) if _meet(one, other)]
        last = one.units[-1]
        if one.at < 1 or one.at != math.floor(one.at) or (size is not None and last > size):
            of = f", which has {size:g} units" if size is not None else ""
            found.append(f"is outside of the rack{of}: it would take up {one.at:g} to {last}")
        elif beside:
            found.append(f"is taken there by {beside[0].label}")
        else:
            found.append(None)
        for unit in one.units:
            taken.setdefault((one.rack, unit), []).append(one)
    return found


def _meet(one: Mounted, other: Mounted) -> bool:
    return one.face is None or other.face is None or one.face == other.face
