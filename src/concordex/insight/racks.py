"""What stands in a rack: within its units, and two things never in one place."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

#: How two things are in each other's way: both take the same place, or one is as deep as the rack and the other behind.
Meeting = Literal["taken", "behind"]


@dataclass(frozen=True, kw_only=True)
class Mounted:
    """A thing in a rack: from which unit, counted from 1, how many units high, and on which face, if that is known.

    One that is ``full_depth`` reaches from its face to the other.
    """

    label: str
    rack: tuple[str, ...]
    at: float
    height: float = 1.0
    face: str | None = None
    full_depth: bool | None = None

    def is_where(self, other: Mounted) -> bool:
        """Whether it stands in the place of another."""
        return (self.rack, self.at, self.face) == (other.rack, other.at, other.face)

    @property
    def units(self) -> range:
        """The units that it takes up."""
        return range(math.floor(self.at), math.floor(self.at) + max(1, math.ceil(self.height)))


def meeting(one: Mounted, other: Mounted) -> Meeting | None:
    """How two things that share a unit are in each other's way; two that are not deep may share it on two faces."""
    if one.face is None or other.face is None or one.face == other.face:
        return "taken"
    return "behind" if one.full_depth or other.full_depth else None


def is_outside(thing: Mounted, size: float | None) -> bool:
    """Whether a thing stands where no unit is, of a rack of so many units, if that is known; or between two."""
    return thing.at < 1 or thing.at != math.floor(thing.at) or (size is not None and thing.units[-1] > size)


def clashes(
    new: Sequence[Mounted], there: Iterable[Mounted], sizes: Mapping[tuple[str, ...], float]
) -> list[str | None]:
    """For each of ``new`` why it cannot stand where it shall; ``sizes`` are the units of each rack, where known."""
    taken: dict[tuple[tuple[str, ...], int], list[Mounted]] = {}
    for thing in there:
        for unit in thing.units:
            taken.setdefault((thing.rack, unit), []).append(thing)
    reasons: list[str | None] = []
    for thing in new:
        size = sizes.get(thing.rack)
        beside = [other for unit in thing.units for other in taken.get((thing.rack, unit), ())]
        met = next(((how, other) for other in beside if (how := meeting(thing, other))), None)
        if is_outside(thing, size):
            of = f", which has {size:g} units" if size is not None else ""
            reasons.append(f"is outside of the rack{of}: it would take up {thing.at:g} to {thing.units[-1]}")
        elif met is None:
            reasons.append(None)
        elif met[0] == "taken":
            reasons.append(f"is taken there by {met[1].label}")
        else:
            reasons.append(f"leaves no room: back to back with {met[1].label}, and one is as deep as the rack")
        for unit in thing.units:
            taken.setdefault((thing.rack, unit), []).append(thing)
    return reasons
