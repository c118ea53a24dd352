"""How a count narrows, clause by clause."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import accumulate

import polars as pl

from concordex.query.bind import Binder
from concordex.query.frames import to_polars


@dataclass(frozen=True, kw_only=True)
class Stage:
    """What is left once ``clause`` and all before it have been applied, and by whom it was."""

    clause: str
    left: int | None
    by: str = "concordex"


def funnel(frame: pl.LazyFrame, binder: Binder) -> list[Stage]:
    """The stages of the binder's filter over ``frame``, the whole table first."""
    query = binder.query
    tests = [to_polars(node, binder) for node in query.conjuncts]
    narrowing = list(accumulate(tests, lambda before, test: before & test))
    counts = frame.select(
        pl.len().alias("all"), *(test.sum().alias(str(at)) for at, test in enumerate(narrowing))
    ).collect(engine="streaming")
    rows = counts.row(0)
    written = ["(all)", *(query.written(node) for node in query.conjuncts)]
    return [Stage(clause=clause, left=int(count)) for clause, count in zip(written, rows, strict=True)]
