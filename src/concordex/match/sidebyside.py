"""Work that does not depend on each other, done by two threads: sorting and joining let go of the interpreter."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

T = TypeVar("T")


#: With fewer rows than this, beginning a thread takes longer than what it does.
_WORTH = 20_000


def side_by_side(tasks: Iterable[Callable[[], T]], rows: int) -> list[T]:
    """What each of the ``tasks`` comes to, in their order; the first error is raised when all have ended.

    ``rows`` says how much there is to do; of little, one is done after the other.
    """
    if rows < _WORTH:
        return [task() for task in tasks]
    with ThreadPoolExecutor(2) as workers:
        return [done.result() for done in [workers.submit(task) for task in tasks]]
