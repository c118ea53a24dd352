"""Several things at once, of which the first error ends all."""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine, Iterable
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
