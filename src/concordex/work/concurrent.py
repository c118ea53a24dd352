"""Several things at once, of which the first error ends all."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Coroutine, Iterable, Sequence
from typing import Any, TypeVar

from concordex.errors import ConcordexError

T = TypeVar("T")


async def all_of(coroutines: Iterable[Coroutine[Any, Any, T]]) -> list[T]:
    """The results, in order; the first of our own errors is raised alone, and the rest cancelled."""
    try:
        async with asyncio.TaskGroup() as group:
            tasks = [group.create_task(coroutine) for coroutine in coroutines]
    except* ConcordexError as several:
        found: BaseException = several
        while isinstance(found, BaseExceptionGroup):
            found = found.exceptions[0]
        error = found
    else:
        return [task.result() for task in tasks]
    raise error


async def at_most(most: int, calls: Sequence[Callable[[], Coroutine[Any, Any, None]]]) -> None:
    """Run ``calls``, at most so many at once; the first error ends the rest."""
    rest = iter(calls)

    async def work() -> None:
        for call in rest:
            await call()

    await all_of(work() for _ in range(min(most, len(calls))))
