"""Writing rows: batch by batch, each in one transaction that looks at every row once more before it writes it."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

from concordex.change.batches import lists
from concordex.change.reasons import Reasons, Why, because, has, resting
from concordex.change.run_options import RunOptions
from concordex.change.steps import Change, Outcome, Step
from concordex.errors import ConcordexError
from concordex.store.targets import CommitLost
from concordex.work.run.engine import Engine
from concordex.work.run.ledger import Ledger
from concordex.work.run.precheck import changed, of_creations, of_the_rest
from concordex.work.run.writer import Writer
from concordex.work.targets.rows import Rows

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: Rows in one transaction, at the most.
_BATCH = 1000


class RowWriter(Writer):
    """Writes the steps of one change into a database or a file."""

    def __init__(self, rows: Rows, ledger: Ledger, how: RunOptions) -> None:
        self.rows, self.ledger, self.how = rows, ledger, how
        self.spared: dict[int, Reasons] = {}
        self.ended: ConcordexError | None = None

    async def stage(self, steps: list[Step]) -> None:
        """Write steps of one operation.

        What an earlier run sent and does not show is written now: a transaction that was cut off has no effect, and
        this one looks at the row itself, and locks it, before it writes.
        """
        several = [step for step in steps if self.rows.several(step)]
        self.ledger.settle([Outcome(step, "held", because(Why.SEVERAL_ROWS)) for step in several])
        left = [step for step in steps if not self.rows.several(step)]
        if not left:
            return
        if left[0].operation == "create":
            checked = of_creations(self.rows, left)
        else:
            how = self.how
            checked = of_the_rest(self.rows, left, force=how.force, field_by_field=how.field_by_field)
            self.spared |= checked.spared
        held = [Outcome(step, "held", changed(self.rows, step, names)) for step, names in checked.altered]
        self.ledger.settle([*checked.settled, *held])
        ready = sorted([*checked.ready, *checked.doubtful], key=lambda step: step.number)
        for part in lists(ready, min(_BATCH, self.how.batch_size or _BATCH)):
            if self.ended is None:
                self._write(part)
                await asyncio.sleep(0)  # whoever interrupts is heard between two transactions

    def _write(self, steps: Sequence[Step]) -> None:
        self.ledger.mark_sent(steps)
        try:
            reasons = self.rows.stored.write([self.rows.row(step, force=self.how.force) for step in steps])
        except CommitLost as error:
            self.ledger.settle([Outcome(step, "unknown", because(Why.ERROR, text=str(error))) for step in steps])
            self.ended = error
        except ConcordexError as error:  # a transaction, or a file, is written whole or not at all
            self.ledger.settle([Outcome(step, "ready", because(Why.ERROR, text=str(error))) for step in steps])
            self.ended = error
        else:
            self.ledger.settle([
                Outcome(step, "written" if not why else "refused" if has(why, Why.SAID) else "held", why)
                for step, why in zip(steps, reasons, strict=True)
            ])  # fmt: skip

    async def identify(self, steps: Sequence[Step]) -> None:
        """Nothing: a row's id is its key."""

    async def finish(self) -> None:
        """Nothing: each transaction is in effect, or not."""
        self.ledger.close()

    async def abandon(self) -> None:
        """Nothing is left half done."""

    def seen(self, why: Reasons, now: Rows, steps: Sequence[Step]) -> list[Step]:
        """Steps that do not show in a reading; those that do are written, although the database did not say so."""
        shown = [step for step in steps if self._shows(now, step)]
        self.ledger.settle([Outcome(step, "written", resting(Why.FOUND_DONE, why)) for step in shown])
        return [step for step in steps if step not in shown]

    @staticmethod
    def _shows(now: Rows, step: Step) -> bool:
        there = now.records(step.table, [step.record_id or ""]).get(step.record_id or "")
        if step.operation == "delete":
            return there is None
        return there is not None and not now.verdict(step, there)


async def run_rows(
    workspace: BaseWorkspace, change: Change, steps: Sequence[Step], how: RunOptions, progress: Callable[[int], None]
) -> None:
    """Run steps against a database or a file."""
    rows = Rows.of(workspace, change.system)
    how = replace(how, field_by_field=change.kind == "undo")
    still = partial(workspace.locks.check, change.system)
    writer = RowWriter(rows, Ledger(workspace.journal, change.number or 0, progress, still=still), how)
    await Engine(change=change, steps=steps, target=rows, writer=writer).run()
