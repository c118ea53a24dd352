"""Work that does not depend on each other, done by two threads: sorting and joining let go of the interpreter."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

T = TypeVar("T")


def side_by_side(tasks: Iterable[Callable[[], T]]) -> list[T]:
    """What each of the ``tasks`` comes to, in their order; the first error is raised when all have ended."""
    with ThreadPoolExecutor(2) as workers:
        return [done.result() for done in [workers.submit(task) for task in tasks]]
