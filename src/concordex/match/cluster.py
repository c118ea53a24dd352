"""From pairs to entries: records are gathered best first, and only while the whole speaks for it.

Two groups are weighed as one pair whose levels are those of all pairs of their records, each counting
by how much it says: one bad value is outvoted by what the other records of its group say.  Groups that
chains have joined come apart, because every pair within is weighed and not only those that linked.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import partial

import numpy as np
import numpy.typing as npt

from concordex.match.compare import IDENTIFYING, KINDS, TOGETHER, Levels
from concordex.match.frequencies import Numbers
from concordex.match.sidebyside import side_by_side
from concordex.match.sorting import argsorted, starts
from concordex.match.weights import OWN, Weights, coded, combined

Floats = npt.NDArray[np.float32]
Mask = npt.NDArray[np.bool_]

#: Of two groups that fit alike the larger is likelier: bits for each doubling.
_FAVOUR = np.float32(1.0)

#: What nobody else bears needs no more than so many bits; what several bear must say more than is common.
_PLAIN = 1.0

#: Two groups are rivals for a third where so many bits speak against their being one.
_AGAINST = 1.0


@dataclass(frozen=True)
class Pairs:
    """Pairs of rows with the weight of each kind of evidence, and what is decided about them already."""

    a: Numbers
    b: Numbers
    chain: Numbers  # which pairs hang together
    levels: Levels
    weights: Weights
    identifying: Mask
    one_system: Mask
    sighted: Mask  # of one system, which holds several records of many devices
    apart: Mask  # ruled apart


def gather(groups: Numbers, pairs: Pairs, threshold: float, margin: float) -> tuple[Numbers, Numbers]:
    """The group of each row after all that may be joined was joined, and the rows whose best two were too close.

    ``groups`` says what is together already.  Each round, every two groups that are each other's
    best are joined; a group that fits two others equally well, which are not one, waits, and stays
    alone if that does not change.
    """
    state = _State(pairs, groups)
    group = groups.copy()
    doubtful: list[Numbers] = []
    while True:
        scores = state.scored()
        against = _key(state.a, state.b)[scores.opposed]
        good = (scores.score > threshold) & scores.linkable & scores.supported
        open_to = _among(state.chain, state.chain[good])
        one, other, score = state.a[good], state.b[good], scores.score[good]
        size = np.bincount(group, minlength=len(group)).astype(np.float32)
        best = _best(one, other, score + _FAVOUR * np.log2(size[one] * size[other]), against, margin)
        moved = _among(state.chain, state.chain[np.flatnonzero(good)[best.keep]])
        doubtful.append(best.torn[_among(best.torn, np.r_[state.a[open_to & ~moved], state.b[open_to & ~moved]])])
        if not len(best.keep):
            return group, np.concatenate(doubtful)
        state.keep(moved)
        group = state.join(group, one[best.keep], other[best.keep])


def between(groups: Numbers, pairs: Pairs) -> tuple[Numbers, Numbers, Floats]:
    """Two groups each, by their first rows, that something identifies as one, and the evidence in bits."""
    state = _State(pairs, groups)
    scores = state.scored()
    return state.a[scores.linkable], state.b[scores.linkable], scores.score[scores.linkable]


def verdict(groups: Numbers, pairs: Pairs) -> tuple[float, str]:
    """Of the pairs of two groups the evidence in bits that they are one, and what forbids it, if anything does.

    ``nothing`` identifies them, their serials say that hardware was ``replaced``, more speaks ``against`` it, or what
    speaks for it is no more than is common (``unsupported``).
    """
    state = _State(pairs, groups)
    scores = state.scored()
    bits = float(scores.plain[0])
    for why, holds in (
        ("nothing", not scores.linkable[0]), ("replaced", scores.replaced[0]), ("against", bits <= 0),
        ("unsupported", not scores.supported[0]),
    ):  # fmt: skip
        if holds:
            return bits, why
    return bits, ""


@dataclass(frozen=True)
class _Scored:
    """Of each pair of groups the evidence in bits that they are one; whether anything identifies them; whether the
    evidence speaks for it, and not only that candidates often are one; whether it speaks against it: to have nothing
    in common does not."""

    score: Floats
    plain: Floats  # the same, where something forbids it too
    linkable: Mask
    supported: Mask
    opposed: Mask
    replaced: Mask  # hardware was changed under a name

    def take(self, rows: Numbers | Mask) -> _Scored:
        """The same of some alone."""
        return _Scored(*(part[rows] for part in vars(self).values()))

    def below(self, other: _Scored) -> _Scored:
        """These, and others behind them."""
        return _Scored(*map(np.concatenate, zip(vars(self).values(), vars(other).values(), strict=True)))


@dataclass(frozen=True)
class _Best:
    keep: Numbers
    torn: Numbers


def _among(rows: Numbers, some: Numbers) -> Mask:
    """Which ``rows`` are some of those."""
    marked = np.zeros(int(max(rows.max(initial=-1), some.max(initial=-1))) + 1, dtype=np.bool_)
    marked[some] = True
    return np.asarray(marked[rows])


def _key(one: Numbers, other: Numbers) -> Numbers:
    """One number for a pair; those of a state come in order."""
    return np.asarray((np.minimum(one, other) << 32) | np.maximum(one, other))


def _best(one: Numbers, other: Numbers, score: Floats, against: Numbers, margin: float) -> _Best:
    """Which edges are the best of both their ends, and which ends have two that are equally good."""
    if not len(one):
        return _Best(one, one)
    ends = np.concatenate([one, other])
    far = np.concatenate([other, one])
    edge = np.concatenate([np.arange(len(one))] * 2)
    values = np.concatenate([score, score])
    order = np.lexsort((far, -values, ends))
    ends, values, edge, far = ends[order], values[order], edge[order], far[order]
    first = np.flatnonzero(np.r_[True, ends[1:] != ends[:-1]])
    second = first + 1
    has = (second < len(ends)) & (ends[np.minimum(second, len(ends) - 1)] == ends[first])
    close = has & (values[first] - values[np.minimum(second, len(ends) - 1)] < margin)
    torn = np.zeros(len(first), dtype=np.bool_)
    if close.any() and len(against):  # two that nothing speaks against are no rivals
        wanted = _key(far[first[close]], far[second[close]])
        at = np.searchsorted(against, wanted).clip(0, len(against) - 1)
        torn[close] = against[at] == wanted
    chosen = edge[first]
    votes = np.bincount(chosen, minlength=len(one))
    bad = np.zeros(len(one), dtype=np.bool_)
    bad[chosen[torn]] = True
    return _Best(np.flatnonzero((votes == 2) & ~bad), ends[first[torn]])


#: Every level of every kind but the system, side by side: the columns of a state.
_COLUMNS = [(kind, level) for kind in range(len(KINDS) - 1) for level in range(1, len(list(KINDS.values())[kind]) + 1)]
_KIND = np.array([kind for kind, _ in _COLUMNS])
_FIRST = np.searchsorted(_KIND, np.arange(len(KINDS) - 1))


def _columns(kind: str, *levels: int) -> list[int]:
    at = list(KINDS).index(kind)
    return [_COLUMNS.index((at, level)) for level in levels]


#: Columns of what is the same and borne by several: it may say little, and does not speak against.
_SHARED = np.concatenate([
    _columns("serial", 2), _columns("uuid", 2), _columns("mac", 2, 3), _columns("drawn", 2), _columns("tag", 2),
    _columns("name", 2, 3), _columns("ip", 2, 3),
])  # fmt: skip

#: So many pairs are weighed at once, for the tables that it takes.
_AT_ONCE = 200_000

_FLAGS = ("identifying", "one_system", "sighted", "apart")


class _State:
    """The pairs of groups: how much is said on each level of each kind, and how often each flag is up.

    Many pairs look alike, so each look is kept and judged once: a pair has its place among them.
    """

    def __init__(self, pairs: Pairs, groups: Numbers) -> None:
        self.weights = pairs.weights
        flags = [getattr(pairs, flag) for flag in _FLAGS]
        code = coded(pairs.levels) << len(_FLAGS) | np.sum([up << at for at, up in enumerate(flags)], axis=0)
        order = argsorted(code)
        begins = starts(code[order])
        self.at = np.empty(len(code), dtype=np.int64)
        self.at[order] = np.cumsum(begins) - 1
        looks = order[begins]
        self.sums = np.zeros((len(looks), len(_COLUMNS) + len(_FLAGS)), dtype=np.float32)
        for kind, first in enumerate(_FIRST):
            level = pairs.levels[looks, kind]
            rows = np.flatnonzero(level)
            # each pair counts by how much it says
            self.sums[rows, first + level[rows] - 1] = np.maximum(np.abs(self.weights.table[kind, level[rows]]), 1e-3)
        for at, up in enumerate(flags, start=len(_COLUMNS)):
            self.sums[:, at] = up[looks]
        self.likely = pairs.weights.likely[:, _KIND, [level for _, level in _COLUMNS]].T.astype(np.float32)
        self.judged = self._judged(self.sums[:0])
        self.a, self.b, self.chain = groups[pairs.a], groups[pairs.b], pairs.chain
        self._fold(self.a, self.b)

    def scored(self) -> _Scored:
        """What is to be said of each pair of groups."""
        self.judged = self.judged.below(self._judged(self.sums[len(self.judged.score) :]))
        return self.judged.take(self.at)

    def _judged(self, sums: Floats) -> _Scored:
        """What is to be said of pairs that look so.

        By the classes of pairs, or by each kind of evidence for itself where that is more: the records of two groups
        may be of several classes, and a mixture of them is of none.
        """
        parts = [sums[at : at + _AT_ONCE] for at in range(0, len(sums), _AT_ONCE)]
        weighed = side_by_side((partial(self._weighed, part) for part in parts or [sums]), len(sums))
        score, nothing = (np.concatenate(pieces) for pieces in zip(*weighed, strict=True))
        flags = sums[:, len(_COLUMNS) :]
        opposed = (score < 0) & (score < nothing - _AGAINST)
        plain, replaced = score.copy(), _replaced(sums)
        score[(flags[:, 3] > 0) | replaced] = -np.inf
        linkable = (flags[:, 0] > 0) | np.any([_shows(sums, both) for both in TOGETHER], axis=0)
        supported = (score > nothing) | (_alone(sums) & (score > _PLAIN))
        return _Scored(score, plain, linkable, supported, opposed | np.isneginf(score), replaced)

    def _weighed(self, looks: Floats) -> tuple[Floats, Floats]:
        """For pairs that look so the evidence in bits, and what it would be if nothing were known but the systems."""
        sums, flags = looks[:, : len(_COLUMNS)], looks[:, len(_COLUMNS) :]
        whole = np.add.reduceat(sums, _FIRST, axis=1)
        share = sums / np.maximum(whole, 1e-6)[:, _KIND]
        other, same, sighted = (self.weights.likely[:, -1, level] for level in (1, 2, 3))
        shared, seen = flags[:, 1:2], flags[:, 2:3]  # each two records of one system count anew
        prior = self.weights.share + np.where(shared > 0, shared * same, np.where(seen > 0, sighted, other))
        nothing = combined(prior).astype(np.float32)
        weigh = np.array([self.weights.table[kind, level] for kind, level in _COLUMNS], dtype=np.float32)
        weigh[_SHARED] = np.maximum(weigh[_SHARED], 0)
        score = np.maximum(combined(share @ self.likely + prior), nothing + share @ weigh)
        return score.astype(np.float32), nothing

    def join(self, group: Numbers, one: Numbers, other: Numbers) -> Numbers:
        """Make one group of each two, and add up what became the same pair; the new group of each row."""
        into = np.arange(len(group))
        into[np.maximum(one, other)] = np.minimum(one, other)
        self._fold(into[self.a], into[self.b])
        return np.asarray(into[group])

    def keep(self, chosen: Mask) -> None:
        """Forget the pairs of chains in which nothing moves any more."""
        self.a, self.b, self.chain, self.at = (part[chosen] for part in (self.a, self.b, self.chain, self.at))

    def _fold(self, a: Numbers, b: Numbers) -> None:
        key = _key(a, b)
        order = argsorted(key)
        order = order[(a != b)[order]]
        key = key[order]
        first = starts(key)
        begins = np.flatnonzero(first)
        several = np.diff(np.r_[begins, len(key)]) > 1
        at = self.at[order]
        looks = self._added(at, first, several)
        at = at[begins]
        at[several] = len(self.sums) + np.arange(len(looks))
        used = np.zeros(len(self.sums) + len(looks), dtype=np.bool_)
        used[at] = True
        self.judged = self.judged.take(used[: len(self.judged.score)])
        self.sums = np.concatenate([self.sums, looks])[used]
        self.at = (np.cumsum(used) - 1)[at]
        self.chain = self.chain[order[begins]]
        self.a, self.b = key[begins] >> 32, key[begins] & 0xFFFFFFFF

    def _added(self, at: Numbers, first: Mask, several: Mask) -> Floats:
        """How pairs look that ``several`` became, of which the ``first`` of each stands before the others."""
        into = (np.cumsum(several) - 1)[np.cumsum(first) - 1] if len(first) else at
        sums = self.sums[at[first][several]]
        rest, place = at[~first], into[~first]
        while len(rest):  # few pairs fall together, so adding the others one after another is cheap
            new = starts(place)
            sums[place[new]] += self.sums[rest[new]]
            rest, place = rest[~new], place[~new]
        return sums


def _alone(sums: Floats) -> Mask:
    """Of which pairs of groups some records agree on a value that one device alone bears."""
    return np.asarray(np.any([sums[:, _columns(kind, 1)[0]] > 0 for kind in IDENTIFYING], axis=0))


def _shows(sums: Floats, both: Mapping[str, tuple[int, ...]]) -> Mask:
    """Of which pairs of groups some records agree on each of those kinds, be they the same records or not."""
    agree = [np.any(sums[:, _columns(kind, *levels)] > 0, axis=1) for kind, levels in both.items()]
    return np.asarray(np.all(agree, axis=0))


def _replaced(sums: Floats) -> Mask:
    """Whether serials differ outright and nothing else of a device's own agrees: hardware changed under a name."""
    differ = np.any(sums[:, _columns("serial", 5, 6)] > 0, axis=1)
    agree = np.any(sums[:, _columns("serial", 1, 2, 3, 4)] > 0, axis=1)
    own = np.any([sums[:, _columns(kind, 1)[0]] > 0 for kind in OWN], axis=0)
    return np.asarray(differ & ~agree & ~own)
