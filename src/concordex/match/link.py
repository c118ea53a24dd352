"""Which records are the same device: from keys to groups, with the evidence for and against each pair."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np
import numpy.typing as npt
import polars as pl

from concordex.match import blocks, cluster, seats, strays, synonyms
from concordex.match.compare import IDENTIFYING, KINDS, TOGETHER, Levels, Sayings, levels, of_one_person
from concordex.match.components import components
from concordex.match.frequencies import Frequencies, Numbers, numbers
from concordex.match.learned import WORDED, Learned
from concordex.match.sidebyside import side_by_side
from concordex.match.sorting import argsorted, starts
from concordex.match.synonyms import Words
from concordex.match.weights import Weights, learn

Ruled = Sequence[tuple[int, int]]

#: Groups are joined while the evidence for it exceeds this many bits.
THRESHOLD = 0.0

#: Of two groups that fit equally well, to this many bits, neither is taken.
MARGIN = 0.5

#: Pairs of more bits than this are plainly one device.
_PLAIN = 3.0

#: Chains longer than this are cut at their weakest links, which must weigh ever more.
_LONGEST = 60
_CUTS = (-2.0, 2.0, 5.0, 9.0, 14.0, 20.0)

#: Weights are learned from this many candidates at most.
_SAMPLE = 400_000


@dataclass(frozen=True)
class Linked:
    """The group of each row, named by its first; the pairs that were weighed; what stayed undecided."""

    groups: Numbers
    #: What hangs together, before chains are cut: rows of two of these have nothing to do with each other.
    chains: Numbers
    a: Numbers
    b: Numbers
    levels: Levels
    score: npt.NDArray[np.float32]
    learned: Learned
    #: Rows that fit two groups equally well and were left out of both.
    undecided: Numbers
    #: Groups that something identifies as one and that are not joined, and the evidence for it.
    between: tuple[Numbers, Numbers, npt.NDArray[np.float32]]


def link(
    keyed: pl.DataFrame,
    known: Frequencies,
    prefixes: Sequence[str] = (),
    *,
    same: Ruled = (),
    apart: Ruled = (),
    learned: Learned | None = None,
    only: npt.NDArray[np.bool_] | None = None,
) -> Linked:
    """Group the rows of ``keyed`` (see :func:`identity.identities`), whose values are counted in ``known``.

    ``same`` and ``apart`` are pairs of rows that are, and are not, one device, whatever the evidence;
    they do not contradict each other.  ``learned`` is what was learned before, if it still holds;
    ``only`` says which rows to group, the others being there for what they share with those.
    """
    words = learned.words if learned else _words(keyed, known)
    evidence = sayings(keyed, known, words)
    a, b = blocks.candidates(known, evidence.model.words + 1, evidence.site.words + 1)
    if only is not None:
        meant = only[a] & only[b]
        a, b = a[meant], b[meant]
    seen = levels(evidence, a, b)
    weights = learned.weights if learned else learn(seen[:: max(1, len(a) // _SAMPLE)])
    ruled = np.array([*same], dtype=np.int64).reshape(-1, 2)
    linkable = identifying(known, a, b, seen)
    whole, chains = _chains(known.height, a[linkable], b[linkable], weights.score(seen[linkable]), ruled)
    whole, chains = _seated(known, whole, chains, only)
    before = (a << 32) | b, seen
    a, b = blocks.within(chains)
    seen = _levels(evidence, a, b, *before)
    pairs = _pairs(a, b, chains, seen, weights, apart, identifying(known, a, b, seen))
    score = weights.score(seen)
    start, unclear = _plain(chains, pairs, score)
    start = _joined(start, ruled[:, 0], ruled[:, 1])
    groups, undecided = cluster.gather(start, unclear, THRESHOLD, MARGIN)
    groups = strays.put_aside(groups, known, evidence.seen, ruled.ravel())
    lessons = learned or Learned(weights, words, prefixes, known.docks, known.sighting)
    return Linked(groups, whole, a, b, seen, score, lessons, undecided, cluster.between(groups, unclear))


def _levels(evidence: Sayings, a: Numbers, b: Numbers, known: Numbers, seen: Levels) -> Levels:
    """The levels of pairs, of which many were ``seen`` before; both stand in order."""
    wanted = (a << 32) | b
    at = np.searchsorted(known, wanted).clip(0, max(len(known) - 1, 0))
    there = known[at] == wanted if len(known) else np.zeros(len(a), dtype=np.bool_)
    out = np.empty((len(a), len(KINDS)), dtype=np.int8)
    out[there] = seen[at[there]]
    out[~there] = levels(evidence, a[~there], b[~there])
    return out


def sayings(keyed: pl.DataFrame, known: Frequencies, words: Mapping[str, Words]) -> Sayings:
    """All that pairs are compared by."""
    name, texts = keyed["name_key"], _texts(keyed)
    tasks: list[Callable[[], Any]] = [
        lambda: _cards(keyed["mac_keys"]), lambda: _digits(name),
        *(partial(words[field].of, texts[field]) for field in WORDED),
    ]  # fmt: skip
    cards, digits, *worded = side_by_side(tasks, keyed.height)
    return Sayings(
        frequencies=known, **dict(zip(WORDED, worded, strict=True)),
        serial=keyed["serial_key"], tag=keyed["tag_key"], name=name, digits=digits, cards=cards,
        seen=_hours(keyed["last_seen"]),
        lengths=name.str.len_chars().fill_null(0).cast(pl.Int64).to_numpy(),
    )  # fmt: skip


def _cards(macs: pl.Series) -> Numbers:
    """The first card of each record as a number; nought for none."""
    first = macs.list.first().str.replace_all(":", "", literal=True).str.to_integer(base=16, strict=False)
    return first.fill_null(0).cast(pl.Int64).to_numpy()


def _texts(keyed: pl.DataFrame) -> pl.DataFrame:
    """What a record says in words: of its make, its place, and what sort of thing it is."""
    what = pl.concat_str("maker", "model", separator=" ", ignore_nulls=True)
    return keyed.select(
        pl.when(what.str.len_chars() > 0).then(what).alias("model"), "site",
        pl.when(pl.col("kind") != "other").then("kind").alias("kind"),
    )  # fmt: skip


def _words(keyed: pl.DataFrame, known: Frequencies) -> dict[str, Words]:
    a, b = _sure(known)
    texts = _texts(keyed)
    tasks = (partial(synonyms.learn, texts[name], keyed["system"], a, b, ours=name == "kind") for name in WORDED)
    return dict(zip(WORDED, side_by_side(tasks, keyed.height), strict=True))


def _sure(known: Frequencies) -> tuple[Numbers, Numbers]:
    """Pairs of records that share a serial, UUID or tag that nobody else bears: to learn words from."""
    joined = [(np.zeros(0, dtype=np.int64), np.zeros(0, dtype=np.int64))]
    for column in (known.serial, known.uuid, known.tag):
        alone = np.where((column.bearers == 1) & (column.systems > 1), column.values, 0)
        rows = np.flatnonzero(alone)
        order = rows[argsorted(alone[rows])]
        same = np.flatnonzero(alone[order][1:] == alone[order][:-1])
        joined.append((order[same], order[same + 1]))
    return np.concatenate([a for a, _ in joined]), np.concatenate([b for _, b in joined])


def _hours(moments: pl.Series) -> Numbers:
    """Each moment in hours; nought where there is none."""
    return (moments.dt.epoch("s") // 3600).fill_null(0).to_numpy()


def _digits(names: pl.Series) -> Numbers:
    """A number for the digits of each name; nought where there are none."""
    hashed = numbers(names).to_numpy()
    order = argsorted(hashed)  # many records have one name, and patterns take their time
    first = starts(hashed[order])
    digits = names.gather(order[first]).str.replace_all(r"[^0-9]", "").to_frame("d")
    of_each = numbers(digits.select(pl.when(pl.col("d").str.len_bytes() > 0).then("d")).to_series()).to_numpy()
    out = np.empty_like(hashed)
    out[order] = of_each[np.cumsum(first) - 1]
    return out


def _chains(
    size: int, a: Numbers, b: Numbers, score: npt.NDArray[np.float32], ruled: Numbers
) -> tuple[Numbers, Numbers]:
    """Rows that hang together: all of it, and in chains short enough to weigh all their pairs; -1 for those alone."""
    out = np.full(size, -1, dtype=np.int64)
    rows = np.ones(size, dtype=np.bool_)
    whole = None
    for least in _CUTS:
        use = (score > least) & rows[a] & rows[b]
        group = components(size, np.r_[a[use], ruled[:, 0]], np.r_[b[use], ruled[:, 1]])
        whole = group if whole is None else whole
        sizes = np.bincount(group, minlength=size)[group]
        fits = rows & (sizes > 1) & ((sizes <= _LONGEST) | (least == _CUTS[-1]))
        out[fits] = group[fits]
        rows = rows & (sizes > _LONGEST)
        if not rows.any():
            break
    return np.arange(size) if whole is None else whole, out


def _seated(
    known: Frequencies, whole: Numbers, chains: Numbers, only: npt.NDArray[np.bool_] | None
) -> tuple[Numbers, Numbers]:
    """Both with those joined that :mod:`seats` takes for one."""
    rows = np.arange(len(chains))
    alone = np.where(chains >= 0, chains, rows)
    one, other = seats.taken(known, alone)
    if only is not None:
        one, other = one[only[one]], other[only[one]]
    if not len(one):
        return whole, chains
    joined = _joined(alone, one, other)
    several = np.bincount(joined, minlength=len(rows))[joined] > 1
    return _joined(whole, one, other), np.where(several, joined, -1)


def _joined(groups: Numbers, a: Numbers, b: Numbers) -> Numbers:
    """``groups``, each named by its least row, with those joined in which pairs of rows are."""
    return components(len(groups), groups[a], groups[b])[groups] if len(a) else groups


def identifying(known: Frequencies, a: Numbers, b: Numbers, seen: Levels) -> npt.NDArray[np.bool_]:
    """Which pairs have something in common without which nothing is linked."""
    at = {name: place for place, name in enumerate(KINDS)}
    alone = [_shows(seen[:, at[kind]], which) for kind, which in IDENTIFYING.items()]
    together = [np.all([_shows(seen[:, at[kind]], which) for kind, which in both.items()], axis=0) for both in TOGETHER]
    return np.asarray(np.any([*alone, *together, of_one_person(known, a, b)], axis=0))


def _shows(levels: npt.NDArray[np.int8], which: Sequence[int]) -> npt.NDArray[np.bool_]:
    """Which ``levels`` are some of those."""
    table = np.zeros(np.iinfo(np.int8).max, dtype=np.bool_)
    table[[*which]] = True
    return np.asarray(table[levels])


def _pairs(
    a: Numbers, b: Numbers, chains: Numbers, seen: Levels, weights: Weights, apart: Ruled, links: npt.NDArray[np.bool_]
) -> cluster.Pairs:
    names = list(KINDS)
    ruled = np.array([(min(pair) << 32) | max(pair) for pair in apart], dtype=np.int64)
    system = seen[:, names.index("system")]
    return cluster.Pairs(
        a=a, b=b, chain=chains[a], levels=seen, weights=weights, identifying=links,
        one_system=system == 2, sighted=system == 3, apart=np.isin((a << 32) | b, ruled),
    )  # fmt: skip


def _plain(chains: Numbers, pairs: cluster.Pairs, score: npt.NDArray[np.float32]) -> tuple[Numbers, cluster.Pairs]:
    """Chains in which every pair is plainly one device are groups as they are; the pairs of the others."""
    serials = pairs.levels[:, list(KINDS).index("serial")]
    unclear = (score < _PLAIN) | ~pairs.identifying | pairs.one_system | pairs.apart | (serials > 3)
    mixed = np.zeros(len(chains), dtype=np.bool_)
    mixed[pairs.chain[unclear]] = True
    start = np.where((chains >= 0) & ~mixed[chains], chains, np.arange(len(chains)))
    open_to = mixed[pairs.chain]
    names = ("a", "b", "chain", "levels", "identifying", "one_system", "sighted", "apart")
    return start, replace(pairs, **{name: getattr(pairs, name)[open_to] for name in names})
