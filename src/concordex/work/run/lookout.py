"""Looking whether a write has arrived, of which the system did not say so: looks are shared, and grow apart."""

from __future__ import annotations

import asyncio
import time
from collections import Counter, defaultdict
from collections.abc import AsyncIterator, Callable, Sequence

from concordex.change.steps import Step
from concordex.work.targets.api_target import ApiTarget

#: Seconds between the first two looks; each further pause is twice as long.
_PAUSE = 0.2


async def looks(end: float) -> AsyncIterator[None]:
    """One for each look, with growing pauses between them; the last is after ``end``, in seconds since 1970."""
    pause = _PAUSE
    while time.time() < end:
        yield
        await asyncio.sleep(max(0.0, min(pause, end - time.time())))
        pause *= 2
    yield


class Lookout:
    """Reads the tables of one target again, for all that wait for a look at the same time."""

    def __init__(self, target: ApiTarget) -> None:
        self.target = target
        self._locks: dict[str, asyncio.Lock] = defaultdict(asyncio.Lock)
        self._begun: Counter[str] = Counter()
        self._last: dict[str, ApiTarget] = {}

    async def read(self, table: str) -> ApiTarget:
        """The target as it was found by a reading of ``table`` that began after this call.

        Whoever calls while one is under way shares the next one with all others that do.
        """
        asked = self._begun[table]
        async with self._locks[table]:
            if self._begun[table] == asked or table not in self._last:
                self._begun[table] += 1
                self._last.pop(table, None)
                target = self.target.again()
                await target.read([table])
                self._last[table] = target
            return self._last[table]

    async def until(
        self, steps: Sequence[Step], seen: Callable[[ApiTarget, Sequence[Step]], list[Step]], since: float | None = None
    ) -> list[Step]:
        """Look until nothing is left of ``steps``, or what was sent must have settled; what is left then.

        ``seen`` takes a reading and gives back the steps that do not show in it.  ``since`` is when the last of
        them was sent, in seconds since 1970, if that was not just now: there is one look after it has settled.
        """
        end = (time.time() if since is None else since) + self.target.settle
        left = list(steps)
        if since is not None and time.time() < end:
            await asyncio.sleep(end - time.time())
        async for _ in looks(end):
            left = seen(await self.read(steps[0].table), left)
            if not left:
                break
        return left
