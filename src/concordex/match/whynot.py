"""Why records are not one device: what speaks for it and against it, and which of the rules it fell under."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import polars as pl

from concordex.match import cluster, strays
from concordex.match.compare import KINDS, levels
from concordex.match.frequencies import Frequencies, Numbers, frequencies
from concordex.match.learned import Learned
from concordex.match.link import identifying, sayings


@dataclass(frozen=True)
class Apart:
    """Two groups of records that are not one: the pair of records that comes nearest, and the evidence of all."""

    nearest: dict[str, Any]  # as a row of the concordance's ``doubts``: rows ``a`` and ``b``, levels, ``bits``
    together: float
    reason: str


def why_apart(members: pl.DataFrame, learned: Learned, one: Numbers, other: Numbers) -> Apart:
    """Why the rows ``one`` and ``other`` of ``members`` are not one device, by what was ``learned`` of all."""
    known = frequencies(members, learned.docks, learned.sighting)
    evidence = sayings(members, known, learned.words)
    a, b = (side.ravel() for side in np.meshgrid(one, other, indexing="ij"))
    a, b = np.minimum(a, b), np.maximum(a, b)
    seen = levels(evidence, a, b)
    score, links = learned.weights.score(seen), identifying(known, a, b, seen)
    at = int(np.lexsort((score, links))[-1])
    system = seen[:, list(KINDS).index("system")]
    pairs = cluster.Pairs(
        a=a, b=b, chain=np.zeros(len(a), dtype=np.int64), levels=seen, weights=learned.weights, identifying=links,
        one_system=system == 2, sighted=system == 3, apart=np.zeros(len(a), dtype=np.bool_),
    )  # fmt: skip
    groups = np.arange(members.height)
    groups[one], groups[other] = one.min(), other.min()
    together, why = cluster.verdict(groups, pairs)
    if not why and _stray(members, known, evidence.seen, np.r_[one, other]):
        why = "stale"
    nearest = {"a": int(a[at]), "b": int(b[at]), "bits": float(score[at])}
    nearest |= {kind: int(seen[at, place]) for place, kind in enumerate(KINDS)}
    return Apart(nearest, together, _REASONS[why])


def _stray(members: pl.DataFrame, known: Frequencies, hours: Numbers, rows: Numbers) -> bool:
    """Whether some of ``rows`` would be put aside if the entries of all of them were one."""
    entry = members.select(pl.col("row").first().over("entry")).to_series().cast(pl.Int64).to_numpy()
    merged = np.where(np.isin(entry, entry[rows]), entry[rows].min(), entry)
    return len(np.unique(strays.put_aside(merged, known, hours, rows[:0])[rows])) > 1


_REASONS = {
    "nothing": "nothing that identifies a device is the same in both",
    "replaced": "their serials differ outright, and nothing else of a device's own is the same: hardware changed under"
    " a name, or two devices with one",
    "against": "more speaks against it than for it",
    "stale": "one is a sight at an address that is another device's at the time, as far as several systems agree: a"
    " name that is out of date",
    "unsupported": "all that they have in common is as common among different devices",
    "": "the evidence would do, and another entry fits as well or better, or fits only one part of this one",
}
