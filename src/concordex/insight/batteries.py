"""How long batteries will last: as their system predicts, and what that is worth; or by our own estimate."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

#: So many readings, over so many days, and no fewer, make an estimate.
_LEAST, _LEAST_DAYS = 5, 4.0
#: So few days of observation are little.
_LITTLE = 14.0
#: Nothing is estimated to last longer than that, in days.
_LONGEST = 3650.0

Basis = Literal["predicted", "estimated", "unknown"]


@dataclass(frozen=True, kw_only=True)
class Remaining:
    """How many days are left: at ``least``, at ``most`` (none: nobody knows an end), and whose word that is.

    ``little`` says that it rests on few days; ``days`` of observation it rests on, where that is known.
    """

    basis: Basis
    least: float | None = None
    most: float | None = None
    little: bool = False
    days: float | None = None

    @property
    def words(self) -> str:
        """The same for people."""
        if self.least is None:
            return "not known"
        span = (
            f"at least {self.least:.0f} days" if self.most is None
            else f"{self.least:.0f} days" if round(self.least) == round(self.most)
            else f"{self.least:.0f} to {self.most:.0f} days"
        )  # fmt: skip
        notes = ["our estimate"] if self.basis == "estimated" else []
        notes += [f"little known: {self.days:.0f} days observed"] if self.little and self.days is not None else []
        return span + (f" ({', '.join(notes)})" if notes else "")


def predicted(days: float | None, ceiling: float | None, observed: float | None) -> Remaining:
    """What a system predicts: at its ceiling that is at least so long; after few days observed it is little known."""
    if days is None or days < 0:
        return Remaining(basis="unknown", days=observed)
    most = None if ceiling is not None and days >= ceiling else days
    return Remaining(
        basis="predicted", least=days, most=most, little=observed is not None and observed < _LITTLE, days=observed
    )


def estimated(days: Sequence[float], capacities: Sequence[float], worn_at: float) -> Remaining:
    """An estimate from readings of what is left of a battery's capacity, in percent, by the ``days`` they were taken.

    By the median of all slopes between two readings, with its interval of 95 % (Theil 1950, Sen 1968).  Where the
    interval holds that nothing is lost, no end is known.
    """
    from scipy.stats import theilslopes

    span = max(days) - min(days) if days else 0.0
    if len(days) < _LEAST or span < _LEAST_DAYS:
        return Remaining(basis="unknown", days=span)
    fitted = theilslopes(capacities, days, 0.95)
    now = float(fitted.intercept + fitted.slope * max(days))
    left = now - worn_at
    if left <= 0:
        return Remaining(basis="estimated", least=0.0, most=0.0, little=span < _LITTLE, days=span)
    ends = [left / -slope if slope < 0 else None for slope in (float(fitted.low_slope), float(fitted.high_slope))]
    soonest, latest = (None if end is None or end > _LONGEST else end for end in ends)
    if soonest is None:
        return Remaining(basis="unknown", days=span)
    return Remaining(basis="estimated", least=soonest, most=latest, little=span < _LITTLE, days=span)
