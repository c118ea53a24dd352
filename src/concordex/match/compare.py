"""What each pair of records agrees and disagrees on: one level for each kind of evidence.

Level nought always means that nothing can be said, because one of the two is silent.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
import numpy.typing as npt
import polars as pl

from concordex.match.frequencies import Frequencies, Numbers, ValueColumn
from concordex.match.identity import CUT
from concordex.match.sidebyside import side_by_side
from concordex.match.synonyms import Vocabulary

Levels = npt.NDArray[np.int8]
Mask = npt.NDArray[np.bool_]

#: The kinds of evidence, and the levels of each from 1: what may be seen of a pair.
KINDS: dict[str, tuple[str, ...]] = {
    "serial": ("same", "same, borne by several", "a typing error apart", "a typing error apart, both known elsewhere",
               "different, one known here alone", "different", "neighbours in a series"),
    "uuid": ("same", "same, borne by several", "different"),
    "mac": ("same", "same, borne by a few", "same, borne by many", "of one set of cards", "different"),
    "drawn": ("same", "same, borne by several", "different"),
    "tag": ("same", "same, borne by several", "a typing error apart", "different"),
    "name": ("same", "same, borne by a few", "same, borne by many", "the same, cut", "the same, cut, borne by several",
             "alike", "different"),
    "ip": ("same", "same, borne by a few", "same, borne by many", "different", "same, at other times",
           "same, at other times, borne by several", "different, each one's own", "same, its own",
           "different, of one network"),
    "user": ("same", "different"),
    "model": ("opposed", "apart", "near", "together"),
    "site": ("opposed", "apart", "near", "together"),
    "kind": ("opposed", "apart", "near", "together"),
    "seen": ("within a day", "within a fortnight", "longer apart"),
    "system": ("two systems", "one system", "one system that sights"),
}  # fmt: skip

#: Hours after which an address that was lent may be another's.
_LEASE = 7 * 24

#: An address that so many systems show of one device alone is its own.
_AGREED = 3

#: Levels that identify: without one of them nothing is linked.
IDENTIFYING: dict[str, tuple[int, ...]] = {
    "serial": (1, 2, 3, 4), "uuid": (1, 2), "mac": (1, 2), "drawn": (1, 2), "tag": (1, 2, 3),
    "name": (1, 2, 4, 5, 6),
}  # fmt: skip


#: Nor by one of these, but by both: whoever sits at a dock that many use, and the address that he has there.
TOGETHER: tuple[dict[str, tuple[int, ...]], ...] = (
    {"mac": (2, 3), "user": (1,)},
    {"mac": (2, 3), "ip": (1, 8)},
    {"ip": (8,), "kind": (4,)},
    {"ip": (8,), "model": (4,)},
)


@dataclass(frozen=True)
class Sayings:
    """All that pairs are compared by: numbers for every record, and the texts where spelling matters."""

    frequencies: Frequencies
    model: Vocabulary
    site: Vocabulary
    kind: Vocabulary
    serial: pl.Series
    tag: pl.Series
    name: pl.Series
    cards: Numbers  # the first card of each record as a number; nought: none
    lengths: Numbers  # of the names
    seen: Numbers  # the hour at which each record was last seen; nought: unknown
    digits: Numbers  # of each name, as one number for the same digits; nought: none


def levels(sayings: Sayings, a: Numbers, b: Numbers) -> Levels:
    """One row for each pair, one column for each of ``KINDS``."""
    known = sayings.frequencies
    table = np.zeros((len(a), len(KINDS)), dtype=np.int8)
    kinds: list[Callable[[], npt.NDArray[Any]]] = [
        lambda: _serial(sayings, a, b), lambda: _by_bearers(known.uuid, a, b, (1,), differ=3),
        lambda: _macs(sayings, a, b), lambda: _drawn(known.drawn, a, b), lambda: _tag(sayings, a, b),
        lambda: _name(sayings, a, b), lambda: _ips(sayings, a, b), lambda: _by_bearers(known.user, a, b, (), differ=2),
        lambda: sayings.model.levels(a, b), lambda: sayings.site.levels(a, b), lambda: sayings.kind.levels(a, b),
        lambda: _seen(sayings, a, b),
        lambda: np.where(known.system[a] != known.system[b], 1, np.where(known.sights[a], 3, 2)),
    ]  # fmt: skip

    def fill(at: int, column: Callable[[], npt.NDArray[Any]]) -> None:
        table[:, at] = column()

    side_by_side((partial(fill, at, column) for at, column in enumerate(kinds)), len(a))
    return table


def _by_bearers(column: ValueColumn, a: Numbers, b: Numbers, steps: Sequence[int], *, differ: int) -> Levels:
    """Level 1 where the values are the same, one more for each of ``steps`` that the bearers exceeds."""
    one, other = column.values[a], column.values[b]
    there = (one != 0) & (other != 0)
    level = np.where(there, differ, 0).astype(np.int8)
    same = there & (one == other)
    level[same] = 1 + sum((column.bearers[a[same]] > step).astype(np.int8) for step in steps)
    return level


def _any_of(columns: tuple[ValueColumn, ...], a: Numbers, b: Numbers, steps: Sequence[int]) -> Levels:
    """The best level that any value of a list has in common with the other's; nought for none."""
    best = np.zeros(len(a), dtype=np.int8)
    for column in columns:
        mine = column.values[a]
        for other in columns:
            same = np.flatnonzero((mine != 0) & (mine == other.values[b]))
            if len(same):
                level = 1 + sum((column.bearers[a[same]] > step).astype(np.int8) for step in steps)
                best[same] = np.where(best[same] == 0, level, np.minimum(best[same], level))
    return best


def _serial(sayings: Sayings, a: Numbers, b: Numbers) -> Levels:
    column = sayings.frequencies.serial
    level = _by_bearers(column, a, b, (1,), differ=6)
    differ = np.flatnonzero(level == 6)
    lonely = (column.systems[a[differ]] < 2) | (column.systems[b[differ]] < 2)
    near = _one_error(sayings.serial, a[differ], b[differ]) | _contained(sayings.serial, a[differ], b[differ])
    series = near & _in_series(sayings.serial, a[differ], b[differ])
    level[differ] = np.select([series, near & lonely, near, lonely], [7, 3, 4, 5], 6)
    return level


def _tag(sayings: Sayings, a: Numbers, b: Numbers) -> Levels:
    level = _by_bearers(sayings.frequencies.tag, a, b, (1,), differ=4)
    differ = np.flatnonzero(level == 4)
    column = sayings.frequencies.tag
    lonely = (column.systems[a[differ]] < 2) | (column.systems[b[differ]] < 2)
    level[differ[_one_error(sayings.tag, a[differ], b[differ]) & lonely]] = 3
    return level


def _macs(sayings: Sayings, a: Numbers, b: Numbers) -> Levels:
    known = sayings.frequencies
    best = _any_of(known.macs, a, b, (1, 3))
    left, right = sayings.cards[a], sayings.cards[b]
    own = [np.any([(c.values != 0) & (c.bearers <= 1) for c in known.macs], axis=0)[rows] for rows in (a, b)]
    differ = (best == 0) & own[0] & own[1]  # a dock's card says nothing of the machine's own
    near = np.abs(left - right) <= 3
    return np.where(differ, np.where(near, 4, 5), best).astype(np.int8)


def _drawn(columns: tuple[ValueColumn, ...], a: Numbers, b: Numbers) -> Levels:
    best = _any_of(columns, a, b, (1,))
    there = (columns[0].values[a] != 0) & (columns[0].values[b] != 0)
    return np.where((best == 0) & there, 3, best).astype(np.int8)


def _ips(sayings: Sayings, a: Numbers, b: Numbers) -> Levels:
    """An address that two records had at different times may have been lent twice; not so one that is a device's own.

    It is where several systems show it, and of one device alone.
    """
    ips = sayings.frequencies.ips
    best = _any_of(ips, a, b, (1, 3))
    late = (best > 0) & (_hours_apart(sayings, a, b) > _LEASE)
    best[(best == 1) & ~late & _in_common(ips, a, b)] = 8
    best[late] = np.where(best[late] == 1, 5, 6)
    there = (best == 0) & (ips[0].values[a] != 0) & (ips[0].values[b] != 0)
    own = [np.any([(c.values != 0) & (c.bearers <= 1) & (c.systems > 1) for c in ips], axis=0)[rows] for rows in (a, b)]
    net = sayings.frequencies.network
    one_network = (net[a] != 0) & (net[a] == net[b])
    differ = np.select([own[0] & own[1], one_network], [7, 9], 4)
    return np.where(there, differ, best).astype(np.int8)


def _in_common(columns: tuple[ValueColumn, ...], a: Numbers, b: Numbers) -> Mask:
    """Whether two records share a value that one device alone bears, and that so many systems agree on."""
    shared = np.zeros(len(a), dtype=np.bool_)
    for column in columns:
        mine = np.where((column.bearers <= 1) & (column.systems >= _AGREED), column.values, 0)[a]
        for other in columns:
            shared |= (mine != 0) & (mine == other.values[b])
    return shared


def _seen(sayings: Sayings, a: Numbers, b: Numbers) -> Levels:
    apart = _hours_apart(sayings, a, b)
    return np.select([apart < 0, apart <= 24, apart <= 14 * 24], [0, 1, 2], 3).astype(np.int8)


def _hours_apart(sayings: Sayings, a: Numbers, b: Numbers) -> Numbers:
    """The hours between two sights; -1 where one is unknown."""
    left, right = sayings.seen[a], sayings.seen[b]
    return np.where((left == 0) | (right == 0), -1, np.abs(left - right))


def _name(sayings: Sayings, a: Numbers, b: Numbers) -> Levels:
    known = sayings.frequencies
    level = _by_bearers(known.name, a, b, (1, 3), differ=7)
    differ = level == 7
    was_cut = (sayings.lengths[a] == CUT) | (sayings.lengths[b] == CUT)
    cut = differ & (known.cut.values[a] == known.cut.values[b]) & was_cut
    alone = np.maximum(known.cut.bearers[a], known.cut.bearers[b]) <= 1
    level[cut] = np.where(alone[cut], 4, 5)
    rest = np.flatnonzero((level == 7) & (sayings.digits[a] == sayings.digits[b]) & (sayings.digits[a] != 0))
    level[rest[_distance(sayings.name, a[rest], b[rest]) <= 2]] = 6
    return level


def of_one_person(known: Frequencies, a: Numbers, b: Numbers) -> Mask:
    """Whether two records have the name and the user in common, and one device alone has both.

    A name that many have, like that of telephones, is one person's only once.
    """
    theirs = known.theirs.values
    return np.asarray((theirs[a] != 0) & (theirs[a] == theirs[b]) & (known.theirs.bearers[a] <= 1))


def _one_error(texts: pl.Series, a: Numbers, b: Numbers) -> Mask:
    """Whether two texts are one typing error apart: a sign too many, too few, wrong, or two exchanged.

    Optimal string alignment (Damerau 1964), on each distinct pair once.
    """
    return _distance(texts, a, b) <= 1


def _in_series(texts: pl.Series, a: Numbers, b: Numbers) -> Mask:
    """Whether two texts of one length differ in their last sign or last two digits: so do things bought together."""
    pair = pl.DataFrame({"one": texts.gather(a), "other": texts.gather(b)})
    one, other = pl.col("one"), pl.col("other")
    equal = one.str.len_chars() == other.str.len_chars()
    last = one.str.head(-1) == other.str.head(-1)
    digits = (
        (one.str.head(-2) == other.str.head(-2)) & one.str.contains(r"[0-9][0-9]$") & other.str.contains(r"[0-9][0-9]$")
    )
    return pair.select((equal & (last | digits)).fill_null(False)).to_series().to_numpy()


def _contained(texts: pl.Series, a: Numbers, b: Numbers) -> Mask:
    """Whether one text, of six signs or more, is the end or the beginning of the other."""
    pair = pl.DataFrame({"one": texts.gather(a), "other": texts.gather(b)})
    one, other = pl.col("one"), pl.col("other")
    long = pl.min_horizontal(one.str.len_chars(), other.str.len_chars()) >= 6
    part = one.str.ends_with(other) | other.str.ends_with(one) | one.str.starts_with(other) | other.str.starts_with(one)
    return pair.select((long & part).fill_null(False)).to_series().to_numpy()


def _distance(texts: pl.Series, a: Numbers, b: Numbers) -> npt.NDArray[np.int32]:
    if not len(a):
        return np.zeros(0, dtype=np.int32)
    from rapidfuzz.distance import OSA
    from rapidfuzz.process import cpdist

    one, other = texts.gather(a).to_list(), texts.gather(b).to_list()
    return np.asarray(cpdist(one, other, scorer=OSA.distance, score_cutoff=2, workers=1), dtype=np.int32)
