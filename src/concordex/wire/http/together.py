"""Several requests at once, of which none goes on when one has failed."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Iterable
from typing import TypeVar

T = TypeVar("T")


async def gathered(things: Iterable[Awaitable[T]]) -> list[T]:
    """The results, in order; when one fails the others are ended before its error is raised."""
    tasks = [asyncio.ensure_future(thing) for thing in things]
    try:
        return list(await asyncio.gather(*tasks))
    finally:
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
