"""Thresholds of readings, and which are passed."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import polars as pl

#: How a bound is written: ``< 20``.
BOUND = r"^(<=|>=|<|>)\s*(-?\d+(?:\.\d+)?)$"
#: From bad to worse.
SEVERITIES = ("warning", "error")


@dataclass(frozen=True)
class Boundary:
    """A bound of a value, beyond which it is passed."""

    sign: str
    number: float

    @classmethod
    def of(cls, text: str) -> Boundary:
        """A bound as it is written; ValueError where it is none."""
        match = re.match(BOUND, text.strip())
        if match is None:
            raise ValueError(f"{text!r} is no bound: write < 20 or >= 1.5")
        return cls(match[1], float(match[2]))

    def passed(self, value: pl.Expr) -> pl.Expr:
        """Whether a value is beyond it."""
        tests = {"<": value < self.number, "<=": value <= self.number, ">": value > self.number,
                 ">=": value >= self.number}  # fmt: skip
        return tests[self.sign]

    def __str__(self) -> str:
        return f"{self.sign} {self.number:g}"


def passing(values: pl.DataFrame, bounds: Mapping[str, Boundary]) -> pl.DataFrame:
    """The values that are beyond a bound, each with the worst ``severity`` and the ``bound`` that it passed."""
    import polars as pl  # a workspace is read without

    severity, bound = pl.lit(None, dtype=pl.String), pl.lit(None, dtype=pl.String)
    for name in SEVERITIES:
        if name in bounds:
            test = bounds[name].passed(pl.col("value"))
            severity = pl.when(test).then(pl.lit(name)).otherwise(severity)
            bound = pl.when(test).then(pl.lit(str(bounds[name]))).otherwise(bound)
    judged = values.with_columns(severity.alias("severity"), bound.alias("bound"))
    return judged.filter(pl.col("severity").is_not_null())
