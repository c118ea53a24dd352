"""How right a result is, by the truth that the fleet knows."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass

Record = tuple[str, str]


@dataclass(frozen=True)
class Score:
    """Pairwise: of the pairs of records called one device, how many are; of those that are, how many were found."""

    precision: float
    recall: float

    @property
    def f1(self) -> float:
        """The harmonic mean of the two."""
        both = self.precision + self.recall
        return 2 * self.precision * self.recall / both if both else 0.0


def score(entries: Mapping[Record, str], truth: Mapping[Record, int]) -> Score:
    """The score of ``entries`` (record: entry) against ``truth`` (record: device)."""
    agreed = Counter((entries[record], truth[record]) for record in truth)
    right = _pairs(agreed)
    claimed, real = _pairs(Counter(entries[record] for record in truth)), _pairs(Counter(truth.values()))
    return Score(right / claimed if claimed else 1.0, right / real if real else 1.0)


def _pairs(counts: Counter[object] | Counter[str] | Counter[int] | Counter[tuple[str, int]]) -> int:
    return sum(count * (count - 1) // 2 for count in counts.values())
