"""How the steps of a run stand: written down as it becomes known, or at the end, where they come into effect as one."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from concordex.change.steps import Outcome, State, Step, Values
from concordex.store.journal import Journal


class Ledger:
    """Takes down what becomes of the steps of one run.

    progress hears how many have ended
    waits    whether a step comes into effect with others, at the end
    waiting  whether anything does by now
    still    raises Stopped where another process writes to the system by now
    """

    def __init__(
        self,
        journal: Journal,
        number: int,
        progress: Callable[[int], None],
        *,
        waits: Callable[[Step], bool] = lambda _: False,
        waiting: Callable[[], bool] = lambda: False,
        still: Callable[[], None] = lambda: None,
    ) -> None:
        self._still = still
        self.journal, self.number, self.progress = journal, number, progress
        self._waits, self._waiting = waits, waiting
        #: How steps stand that were settled in this run.
        self.states: dict[int, State] = {}
        #: Steps as the system says that it has done them, and those of which nobody knows.
        self.written: dict[int, Step] = {}
        self.unknown: dict[int, Step] = {}
        #: Steps that the system says it has refused.
        self.refused: dict[int, Step] = {}
        #: What became of steps that come into effect as one, until that is known; nothing is kept back any more.
        self._kept: dict[int, Outcome] = {}
        self._closed = False

    def mark_sent(self, steps: Sequence[Step]) -> None:
        """Write down that steps leave now, before they do."""
        self._still()
        self.journal.mark_sent(self.number, steps)

    def settle(self, outcomes: Sequence[Outcome], *, ended: bool = True) -> None:
        """Write down what became of steps; of those that come into effect as one, at the end."""
        settled = [outcome for outcome in outcomes if not self._keeps(outcome)]
        if settled:
            self.journal.settled(self.number, settled)
            self._note(settled)
        if ended and outcomes:
            self.progress(len(outcomes))

    def judge(self, outcomes: Sequence[Outcome], read_back: Iterable[tuple[Values, Values]]) -> None:
        """Write down, at the end, what became of steps as they were read back, and what was read of each."""
        self.journal.judged(self.number, outcomes, read_back)
        self._note(outcomes)

    def _note(self, settled: Sequence[Outcome]) -> None:
        for step, state, why, record_id in settled:
            self.states[step.number] = state
            self.written.pop(step.number, None)
            self.unknown.pop(step.number, None)
            self.refused.pop(step.number, None)
            into = {"written": self.written, "unknown": self.unknown, "refused": self.refused}.get(state)
            if into is not None:
                into[step.number] = step.settled(state, why, record_id)

    def _keeps(self, outcome: Outcome) -> bool:
        """Whether what became of a step waits for the end: all are done then, or none, and its last word counts."""
        step, state = outcome.step, outcome.state
        if self._closed or step.operation == "action" or not self._waits(step):
            return False
        if state == "written" and not self._waiting():  # it was so before anything was staged
            self._kept.pop(step.number, None)
            return False
        self._kept[step.number] = outcome
        return state in ("refused", "held", "unknown", "written")  # others are written down at once, too

    def is_written(self, step: Step) -> bool:
        """Whether the system has done a step, be it only staged."""
        kept = self._kept.get(step.number)
        return step.number in self.written or (kept is not None and kept.state == "written")

    def is_open(self, step: Step) -> bool:
        """Whether nothing is known of a step that was not known when the run began."""
        return step.number not in self.states and step.number not in self._kept

    def close(self) -> list[Outcome]:
        """What was kept back until the end; from now on everything is written down at once."""
        kept, self._kept, self._closed = list(self._kept.values()), {}, True
        return kept
