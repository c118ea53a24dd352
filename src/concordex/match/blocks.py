"""Candidates: pairs of records that share something rare enough; never all pairs.

A *block* is the records that bear one value.  Small ones give all their pairs; of large ones those
that agree on something else as well, and so on: the number of pairs stays near that of records.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
import numpy.typing as npt

from concordex.match.frequencies import Frequencies, Numbers, ValueColumn
from concordex.match.sorting import argsorted, distinct

#: A block of more records is divided by a second value.
LARGEST = 14

Rows = npt.NDArray[np.int64]


def candidates(known: Frequencies, kinds: Numbers, sites: Numbers) -> tuple[Rows, Rows]:
    """All pairs ``a < b`` of rows that share a block, each once, in order.

    ``kinds`` and ``sites`` are what a record says of its model and place, nought where nothing.
    """
    seconds = [known.user.values, known.ips[0].values, sites, kinds]
    parts = [pairs for several in columns(known) for pairs in _divided(_together(several), seconds)]
    packed = distinct(np.concatenate(parts))
    return packed >> 32, packed & 0xFFFFFFFF


def within(groups: Numbers) -> tuple[Rows, Rows]:
    """All pairs of rows of each group; rows whose group is negative belong to none."""
    rows = np.flatnonzero(groups >= 0)
    rows = rows[argsorted(groups[rows])]
    packed = np.sort(_pairs(groups[rows], rows, _sizes(groups[rows])))
    return packed >> 32, packed & 0xFFFFFFFF


def columns(known: Frequencies) -> Iterator[tuple[ValueColumn, ...]]:
    """The values by which blocks are made, those of one kind together."""
    for column in (known.serial, known.uuid, known.tag, known.name, known.cut):
        yield (column,)
    yield known.macs
    yield known.drawn
    yield known.near
    yield (known.ips[0].without(1),)


def _there(column: ValueColumn) -> tuple[Numbers, Rows]:
    rows = np.flatnonzero(column.values)
    return column.values[rows], rows


def _together(columns: Iterable[ValueColumn]) -> tuple[Numbers, Rows]:
    parts = [_there(column) for column in columns]
    return np.concatenate([values for values, _ in parts]), np.concatenate([rows for _, rows in parts])


def _divided(block: tuple[Numbers, Rows], seconds: list[Numbers]) -> Iterator[Rows]:
    pairs, (values, rows) = _small(*block)
    yield pairs
    for second in seconds:
        if not len(rows):
            return
        divider = second[rows]
        there = divider != 0
        yield _small(_mixed(values, divider)[there], rows[there])[0]


def _small(values: Numbers, rows: Rows) -> tuple[Rows, tuple[Numbers, Rows]]:
    """The pairs of small blocks, and what is in large ones."""
    order = argsorted(values)
    values, rows = values[order], rows[order]
    sizes = _sizes(values)
    small = np.repeat(sizes <= LARGEST, sizes)
    return _pairs(values[small], rows[small], sizes[sizes <= LARGEST]), (values[~small], rows[~small])


def _sizes(values: Numbers) -> Numbers:
    """How often each value stands there; ``values`` are in order."""
    starts = np.flatnonzero(np.r_[True, values[1:] != values[:-1]]) if len(values) else np.zeros(0, dtype=np.int64)
    return np.asarray(np.diff(np.r_[starts, len(values)]))


def _mixed(one: Numbers, other: Numbers) -> Numbers:
    with np.errstate(over="ignore"):
        mixed: Numbers = (one * np.int64(-7046029254386353131)) ^ (other * np.int64(2654435761) + (one >> 29))
    return mixed


def _pairs(values: Numbers, rows: Rows, sizes: Numbers) -> Rows:
    """The pairs of rows with one value, packed into one number each; equal values stand together."""
    made = [np.zeros(0, dtype=np.int64)]
    for apart in range(1, int(sizes.max(initial=0))):
        same = np.flatnonzero(values[apart:] == values[:-apart])
        one, other = rows[same], rows[same + apart]
        made.append((np.minimum(one, other) << 32) | np.maximum(one, other))
    packed = np.concatenate(made)
    return np.asarray(packed[(packed >> 32) != (packed & 0xFFFFFFFF)])
