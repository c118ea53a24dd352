"""The one engine that runs every change: look at the target, send each stage in its order, read it back."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from typing import Generic, TypeVar

from concordex.change.batches import stages
from concordex.change.reasons import Why, has
from concordex.change.steps import Change, Step
from concordex.errors import ConcordexError
from concordex.work.run.readback import Before, ReadBack, Ready
from concordex.work.run.writer import Writer
from concordex.work.targets.target import Target

T = TypeVar("T", bound=Target)


@dataclass(frozen=True, kw_only=True)
class Engine(Generic[T]):
    """One run of steps of a change against one target.

    together  the tables whose creations go in one request
    ready     how what was made is waited for, given the target that is read back
    keeps     what is done with the target as it was read back, and with the steps that were
    """

    change: Change
    steps: Sequence[Step]
    target: T
    writer: Writer
    together: Collection[str] = ()
    ready: Callable[[T], Ready] | None = None
    keeps: Callable[[T, Sequence[Step]], None] | None = None

    async def run(self) -> None:
        """Run the steps; how each stands then is in the writer's ledger.  Raises what ended the run early."""
        tables = list(dict.fromkeys(step.table for step in self.steps))
        await self.target.read(self.target.needed(tables))
        before = Before.of(self.target, self.steps)
        await self._send(tables)
        if not any(has(step.why, Why.STAGED) for step in self.writer.ledger.written.values()):
            after = self.target.again()
            back = ReadBack(self.change, after, self.writer, before, self.ready(after) if self.ready else None)
            try:
                judged = await back.compare(tables)
            except ConcordexError:
                if self.writer.ended is None:
                    raise
            else:
                if self.keeps:
                    self.keeps(after, judged)
        if self.writer.ended:
            raise self.writer.ended

    async def _send(self, tables: Sequence[str]) -> None:
        referred = {name for table in tables for name in self.target.needed([table]) if name != table}
        try:
            for steps in stages(self.steps, self.together):
                several = len({step.table for step in steps}) > 1
                for layer in [steps] if several else self.target.layers(steps):
                    if not self.writer.ended:
                        await self.writer.stage(layer)
                if not several and steps[0].operation == "create" and steps[0].table in referred:
                    await self.writer.identify(steps)
            await self.writer.finish()
        except ConcordexError:
            await self.writer.abandon()
            raise
