"""What each level of agreement weighs, learned from the records at hand.

Fellegi and Sunter (1969): a level weighs log2(m/u), where m is how often it is seen between records
of one device, u between records of two.  Both are estimated by expectation and maximisation
(Dempster, Laird and Rubin 1977) over the candidates, each kind of evidence independent of the others
given the answer.  Pairs whose answer is plain anchor the estimate; defaults stand in, as so many
imagined pairs, where there is too little data.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt
import polars as pl

from concordex.match.compare import KINDS, Levels
from concordex.match.sorting import argsorted, starts

Floats = npt.NDArray[np.float64]

#: What is believed before any data: for each kind and level m and u, in hundredths.
_DEFAULTS: dict[str, tuple[Sequence[float], Sequence[float]]] = {
    "serial": ((96, 1, 2, 0.3, 0.1, 0.1, 0.5), (0.5, 0.5, 0.2, 3, 40, 50, 5.8)),
    "uuid": ((97, 2, 1), (0.2, 8, 91.8)),
    "mac": ((80, 6, 1, 5, 8), (1, 10, 20, 3, 66)),
    "drawn": ((50, 2, 48), (0.5, 9.5, 90)),
    "tag": ((94, 1, 2, 3), (0.5, 2, 2, 95.5)),
    "name": ((80, 3, 1, 7, 3, 2, 4), (4, 15, 15, 1, 15, 2, 48)),
    "ip": ((38, 6, 2, 9, 3, 1, 1, 20, 20), (18, 24, 14, 24, 3, 3, 7, 1, 6)),
    "user": ((90, 10), (4, 96)),
    "model": ((2, 3, 5, 90), (45, 20, 10, 25)),
    "site": ((3, 4, 5, 88), (40, 20, 10, 30)),
    "kind": ((1, 2, 7, 90), (30, 15, 15, 40)),
    "seen": ((60, 30, 10), (50, 32, 18)),
    "system": ((90, 3, 7), (50, 40, 10)),
}

#: How many pairs the defaults count for.
_BELIEF = 40.0

_ROUNDS = 40

#: From fewer candidates nothing is learned, so that a handful cannot talk itself into anything.
_ENOUGH = 200
_RADIX = np.array([len(names) + 1 for names in KINDS.values()])
_SCALE = np.concatenate([[1], np.cumprod(_RADIX)[:-1]]).astype(np.int64)
_AT = {name: at for at, name in enumerate(KINDS)}
#: Where the levels of each kind begin among those of all, and where each of all stands in a table by kind and level.
_BEGIN = np.cumsum(_RADIX) - _RADIX
_PLACES = np.concatenate([at * int(_RADIX.max()) + np.arange(size) for at, size in enumerate(_RADIX)])


#: Kinds that, borne by one alone, are a device's own: they outweigh a serial that somebody mistook.
OWN = ("uuid", "mac", "tag")

#: What speaks against it that two records with a sign of hardware in common are one device.
_OPPOSED = {
    "serial": (3, 4, 5, 6, 7),
    "uuid": (3,),
    "tag": (4,),
    "name": (6, 7),
    "user": (2,),
    "kind": (1, 2),
    "model": (1, 2),
}

#: Why two records of one device, or of two, may look as they do: classes that begin where the
#: pairs have this level of this kind, and are left to find their own way.
_ONE = (("ip", (1, 2, 3, 5, 6, 8)), ("ip", (4, 7, 9)), ("ip", (0,)), ("system", (2,)), ("system", (3,)))
_TWO = (("name", (1, 2)), ("name", (3, 4, 5)), ("mac", (1, 2, 3)), ("system", (2,)), ("system", (3,)), ("system", (1,)))
CLASSES = len(_ONE) + len(_TWO)
_IS_ONE = np.arange(CLASSES) < len(_ONE)


@dataclass(frozen=True)
class Weights:
    """What was learned: how likely each level of each kind is in each class of pairs, in bits.

    The first classes are of one device, the others of two; ``share`` says how frequent each is.
    """

    share: Floats  # classes
    likely: Floats  # classes by kinds by levels; nought for what is silent
    learned_from: int

    @property
    def prior(self) -> float:
        """The evidence in bits for a candidate of which nothing is known."""
        return float(combined(self.share[None, :])[0])

    def score(self, levels: Levels) -> npt.NDArray[np.float32]:
        """The evidence in bits that each pair is one device."""
        patterns, inverse = patterns_of(levels)
        logs = self.share + np.sum([self.likely[:, at, patterns[:, at]].T for at in range(len(KINDS))], axis=0)
        return np.asarray(combined(logs).astype(np.float32)[inverse])

    def told_apart(self, levels: Mapping[str, int]) -> dict[str, float]:
        """What each kind of evidence adds, in bits, to what is known by those before it, the weightiest first.

        Kinds hang together, so what one adds depends on what is known already; all of it adds up to the score, with
        the prior, which comes first under ``""``.
        """
        order = sorted(
            (kind for kind, level in levels.items() if level), key=lambda k: -abs(self.table[_AT[k], levels[k]])
        )
        logs, before = self.share[None, :], self.prior
        bits = {"": before}
        for kind in order:
            logs = logs + self.likely[None, :, _AT[kind], levels[kind]]
            now = float(combined(logs)[0])
            bits[kind], before = now - before, now
        return bits

    def frame(self) -> pl.DataFrame:
        """The same as a frame: ``class``, ``kind``, ``level`` (from 1), ``means``, ``likely`` and ``weight``."""
        rows = [
            (c, float(self.share[c]), kind, level, name, float(self.likely[c, at, level]), float(self.table[at, level]))
            for c in range(CLASSES)
            for at, (kind, names) in enumerate(KINDS.items())
            for level, name in enumerate(names, start=1)
        ]
        schema = ["class", "share", "kind", "level", "means", "likely", "weight"]
        return pl.DataFrame(rows, schema=schema, orient="row")

    def means(self) -> pl.DataFrame:
        """One row for each level of each ``kind``: what it ``means``, its percentage of the pairs of ``one`` device and
        of ``two``, where neither of the pair is silent, and the ``bits`` that it weighs."""
        one, two = self._chances
        rows = [
            (kind, name, *(round(float(value), 2) for value in
                           (one[at, level] * 100, two[at, level] * 100, self.table[at, level])))
            for at, (kind, names) in enumerate(KINDS.items())
            for level, name in enumerate(names, start=1)
        ]  # fmt: skip
        return pl.DataFrame(rows, schema=["kind", "means", "one", "two", "bits"], orient="row")

    @classmethod
    def of_frame(cls, frame: pl.DataFrame) -> Weights:
        """What :meth:`frame` made a frame of."""
        share, likely = np.zeros(CLASSES), np.zeros_like(_believed())
        for c, frequent, kind, level, chance in frame.select("class", "share", "kind", "level", "likely").iter_rows():
            share[c], likely[c, _AT[kind], level] = frequent, chance
        return cls(share, likely, 0)

    @cached_property
    def table(self) -> Floats:
        """What each level of each kind weighs by itself: kinds by levels."""
        one, two = self._chances
        return np.asarray(np.log2(one / two))

    @cached_property
    def _chances(self) -> tuple[Floats, Floats]:
        """How likely each level of each kind is in pairs of one device, and of two: kinds by levels."""
        shares, chances = np.exp2(self.share), np.exp2(self.likely)
        one, two = (np.tensordot(shares[of] / shares[of].sum(), chances[of], axes=1) for of in (_IS_ONE, ~_IS_ONE))
        return one, two


def combined(logs: Floats) -> Floats:
    """From the likelihoods of all classes, in bits, the evidence for one device against two."""
    return _added(logs[:, _IS_ONE]) - _added(logs[:, ~_IS_ONE])


def _added(logs: Floats) -> Floats:
    most = logs.max(axis=1)
    return np.asarray(most + np.log2(np.exp2(logs - most[:, None]).sum(axis=1)))


def coded(levels: Levels) -> npt.NDArray[np.int64]:
    """One number for each row of ``levels``."""
    codes = np.zeros(len(levels), dtype=np.int64)
    for at, scale in enumerate(_SCALE):
        codes += levels[:, at] * scale
    return codes


def patterns_of(levels: Levels) -> tuple[Levels, npt.NDArray[np.int64]]:
    """The distinct rows of ``levels``, and which of them each row is."""
    codes = coded(levels)
    order = argsorted(codes)
    first = starts(codes[order])
    inverse = np.empty_like(codes)
    inverse[order] = np.cumsum(first) - 1
    return ((codes[order[first]][:, None] // _SCALE) % _RADIX).astype(np.int8), inverse


def learn(levels: Levels) -> Weights:
    """The classes and weights that explain the candidates best."""
    patterns, inverse = patterns_of(levels)
    counts = np.bincount(inverse, minlength=len(patterns)).astype(np.float64)
    believed = _believed()
    open_to = _anchored(patterns)
    belong = _first_guess(patterns, open_to, believed)
    seen = _seen(patterns)
    for _ in range(_ROUNDS if len(levels) >= _ENOUGH else 1):
        weight = counts[:, None] * belong * (len(levels) >= _ENOUGH)
        share = np.log2((weight.sum(axis=0) + 1) / (counts.sum() + CLASSES))
        likely = _frequencies(seen, weight, believed)
        logs = share + seen @ likely.reshape(CLASSES, -1)[:, _PLACES].T
        belong = _belonging(np.where(open_to, logs, -np.inf))
    return Weights(share, likely, int(counts.sum()))


def _belonging(logs: Floats) -> Floats:
    chances = np.exp2(logs - logs.max(axis=1, keepdims=True))
    return np.asarray(chances / chances.sum(axis=1, keepdims=True))


def _first_guess(patterns: Levels, open_to: npt.NDArray[np.bool_], believed: Floats) -> Floats:
    """By the defaults whether a pair is one device; by what marks each class, which of its classes it is in."""
    marks = np.stack([np.isin(patterns[:, _AT[kind]], which) for kind, which in (*_ONE, *_TWO)], axis=1)
    logs = np.sum([np.log2(believed[:, at, patterns[:, at]]).T for at in range(len(KINDS))], axis=0)
    return _belonging(np.where(open_to, logs + np.where(marks, 0, -3), -np.inf))


def _believed() -> Floats:
    table = np.ones((CLASSES, len(KINDS), int(_RADIX.max())))
    for at, kind in enumerate(KINDS):
        for of, shares in zip((_IS_ONE, ~_IS_ONE), _DEFAULTS[kind], strict=True):
            table[of, at, 1 : len(shares) + 1] = np.array(shares) / 100
    return table


def _seen(patterns: Levels) -> Floats:
    """Which levels each pattern shows: of all levels of all kinds a one for each that is not silent."""
    rows, kinds = np.nonzero(patterns)
    seen = np.zeros((len(patterns), int(_RADIX.sum())))
    seen[rows, _BEGIN[kinds] + patterns[rows, kinds]] = 1
    return seen


def _frequencies(seen: Floats, weight: Floats, believed: Floats) -> Floats:
    """How likely each level of each kind is in each class, in bits, where the patterns belong by ``weight``."""
    counts = np.zeros(believed.shape)
    counts.reshape(CLASSES, -1)[:, _PLACES] = weight.T @ seen
    table = np.zeros_like(believed)
    for at, size in enumerate(_RADIX):
        mine = counts[:, at, 1:size] + _BELIEF * believed[:, at, 1:size]
        table[:, at, 1:size] = np.log2(mine / mine.sum(axis=1, keepdims=True))
    return table


def _anchored(patterns: Levels) -> npt.NDArray[np.bool_]:
    """Which classes each pattern may be in: some answers need no estimate.

    One serial and a second sign of hardware are one device, in one system too; two serials that are well known are
    two, and so are two in one system, or two that share a place and nothing of their own.
    """
    serial, system = patterns[:, _AT["serial"]], patterns[:, _AT["system"]]
    own = np.any([patterns[:, _AT[kind]] == 1 for kind in OWN], axis=0)
    sure = (serial == 1) & (own | ((patterns[:, _AT["name"]] == 1) & (system == 1)))
    opposed = np.any([np.isin(patterns[:, _AT[kind]], levels) for kind, levels in _OPPOSED.items()], axis=0)
    sure |= own & ~opposed
    never = (serial == 6) | ((serial == 5) & ((system == 2) | ~own))
    return np.asarray(np.where(_IS_ONE, ~never[:, None], ~sure[:, None]))
