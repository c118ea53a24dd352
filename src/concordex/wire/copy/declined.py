"""What a copy does not do, and why: refused as the system would, or not told by its dialect."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum


class Cause(StrEnum):
    """Why a request is refused."""

    DENIED = "denied"
    WRONG = "wrong"  # what is required is missing, or cannot be so
    ABSENT = "absent"
    TAKEN = "taken"  # such a record is there already
    ALTERED = "altered"  # it is not as whoever asks believes
    PAST = "past"  # beyond the end of a list
    UNTOLD = "untold"  # the dialect does not tell what the system does


@dataclass
class Declined(Exception):
    """A request that is refused; ``places`` are the records of a list that are at fault, and why.

    The ``text`` says why; of what is not told, what that is.
    """

    cause: Cause
    text: str
    places: Mapping[int, Declined] = field(default_factory=dict)

    def __str__(self) -> str:
        return self.text


def untold(what: str) -> Declined:
    """What cannot be answered, since the dialect does not tell it."""
    return Declined(Cause.UNTOLD, what)
