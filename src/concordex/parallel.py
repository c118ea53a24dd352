"""Several things at once, of which the first error ends all."""

from __future__ import annotations

import asyncio
import contextvars
from collections.abc import Callable, Coroutine, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar

from concordex.errors import ConcordexError

T = TypeVar("T")


async def all_of(coroutines: Iterable[Coroutine[Any, Any, T]]) -> list[T]:
    """The results, in order; the first error is raised alone, one of our own before any other, and the rest ended."""
    try:
        async with asyncio.TaskGroup() as group:
            tasks = [group.create_task(coroutine) for coroutine in coroutines]
    except BaseExceptionGroup as several:
        errors = list(_leaves(several))
        error = next((error for error in errors if isinstance(error, ConcordexError)), errors[0])
    else:
        return [task.result() for task in tasks]
    raise error


def _leaves(several: BaseExceptionGroup) -> Iterator[BaseException]:
    for error in several.exceptions:
        if isinstance(error, BaseExceptionGroup):
            yield from _leaves(error)
        else:
            yield error


async def at_most(most: int, calls: Sequence[Callable[[], Coroutine[Any, Any, None]]]) -> None:
    """Run ``calls``, at most so many at once; the first error ends the rest."""
    rest = iter(calls)

    async def work() -> None:
        for call in rest:
            await call()

    await all_of(work() for _ in range(min(most, len(calls))))


def completed(coroutine: Coroutine[Any, Any, T]) -> T:
    """What a coroutine comes to, also where an event loop is running already, as in a notebook: then in a thread."""
    try:
        asyncio.get_running_loop()
    except RuntimeError:
        return asyncio.run(coroutine)
    with ThreadPoolExecutor(1) as beside:
        return beside.submit(contextvars.copy_context().run, asyncio.run, coroutine).result()
