"""How steps are cut into requests."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from itertools import groupby

from concordex.change.steps import Step


def stages(steps: Sequence[Step], together: Collection[str] = ()) -> Iterator[list[Step]]:
    """Runs of steps of one table and action, in order: each must end before the next begins.

    Creations of the tables ``together`` that follow each other are one run.
    """

    def sort(step: Step) -> tuple[str | None, str]:
        return (None if step.operation == "create" and step.table in together else step.table), step.operation

    for _, stage in groupby(steps, key=sort):
        yield list(stage)


def lists(steps: Sequence[Step], most: int) -> list[list[Step]]:
    """``steps`` in lists of at most ``most``."""
    return [list(steps[at : at + most]) for at in range(0, len(steps), most)]


def halves(steps: Sequence[Step]) -> list[list[Step]]:
    """Two halves, to find which of them holds the one that was refused."""
    middle = (len(steps) + 1) // 2
    return [list(steps[:middle]), list(steps[middle:])]
