"""Serials that are nearly equal: one sign too many, too few or wrong, or two exchanged.

Two such have a common text once a sign is taken from each, or from the longer one (deletion neighbourhoods:
Bocek, Hunt and Stiller 2007).  In a running series many are near to many: where one system holds serials that
are near each other, those of their shape are numbers of a series, and no typing errors.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import polars as pl

from concordex.match.sorting import argsorted, starts

Numbers = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]

#: Shorter serials are near to too many; of longer ones the first signs are looked at.
_SHORTEST, _LONGEST = 6, 24

#: Odd numbers: what bytes are weighed by, and what spreads the sum over all bits.
_BASE, _MIX = np.uint64(0xD1342543DE82EF95), np.uint64(0x9E3779B97F4A7C15)

#: Texts are told apart by so many bits first.
_BUCKETS = 23

#: With so many others is a serial near, at most.
WIDTH = 2

#: So many pairs in one system, and such a share of all pairs of a shape, make it a series.
_PAIRS, _SHARE = 5, 0.2


def neighbours(serials: pl.Series, system: Numbers, lonely: Mask) -> list[Numbers]:
    """``WIDTH`` numbers for each record, nought for none: the same for two serials that are near each other.

    One of the two is ``lonely``: known in one system alone, as what was typed wrongly is.
    """
    known = pl.DataFrame(
        {"serial": serials, "lonely": lonely, "systems": np.left_shift(1, system % 62)}
    ).with_row_index("row")
    known = known.filter(pl.col("serial").str.len_chars() >= _SHORTEST)
    numbers = [np.zeros(len(serials), dtype=np.int64) for _ in range(WIDTH)]
    if not known["lonely"].any():
        return numbers
    by = known.group_by("serial", maintain_order=True)
    distinct = by.agg(pl.col("lonely").any(), pl.col("systems").bitwise_or())
    signs = _signs(distinct["serial"])
    texts, shape = _texts(signs), _shapes(signs)
    series = _series(texts, shape, distinct["systems"].to_numpy())[shape]
    shared = _shared(*texts, distinct.select("serial"), distinct["lonely"].to_numpy(), series)
    for at in range(WIDTH):
        mine = known.select("row", "serial").join(shared.filter(pl.col("at") == at), on="serial")
        numbers[at][mine["row"].to_numpy()] = mine["text"].to_numpy()
    return numbers


def _signs(serials: pl.Series) -> npt.NDArray[np.uint8]:
    """One row of bytes for each serial, noughts after its end."""
    return (
        np.array(serials.cast(pl.Binary).to_list(), dtype=f"S{_LONGEST}").view(np.uint8).reshape(len(serials), _LONGEST)
    )


#: Of each byte whether it is none, a digit, or another sign.
_CLASS = np.array([0] + [1 if ord("0") <= byte <= ord("9") else 2 for byte in range(1, 256)])


def _shapes(signs: npt.NDArray[np.uint8]) -> Numbers:
    """A number for the shape of each serial: which of its signs are digits."""
    shape = np.zeros(len(signs), dtype=np.int64)
    for at in range(_LONGEST):
        shape = shape * 3 + _CLASS[signs[:, at]]
    order = argsorted(shape)
    out = np.empty(len(signs), dtype=np.int64)
    out[order] = np.cumsum(starts(shape[order])) - 1
    return out


def _texts(signs: npt.NDArray[np.uint8]) -> tuple[Numbers, Numbers]:
    """The numbers of the texts that taking one sign or none leaves, in order, each with its serial's place.

    Texts of one serial alone may be left out.  A text's number is a polynomial in its bytes, so that taking one out is
    a sum of what stands before it and behind it.
    """
    length = (signs != 0).sum(axis=1)
    power = np.cumprod(np.r_[np.uint64(1), np.full(_LONGEST, _BASE)])
    before, parts, whose = np.zeros(len(signs), dtype=np.uint64), list[npt.NDArray[np.uint64]](), list[Numbers]()
    weighed = [signs[:, at].astype(np.uint64) * power[at] for at in range(_LONGEST)]
    behind = np.sum(weighed, axis=0, dtype=np.uint64)  # moved one place to the left, so that nothing is left free
    whole = behind.copy()
    for at in range(int(length.max())):
        rows = np.flatnonzero(length > at)
        behind = behind - weighed[at]
        parts.append((before[rows] * _BASE + behind[rows]) * _MIX)
        whose.append(rows)
        before = before + weighed[at]
    text = np.concatenate([whole * _BASE * _MIX, *parts])
    who = np.concatenate([np.arange(len(signs)), *whose])
    bucket = (text >> np.uint64(64 - _BUCKETS)).astype(np.int64)
    shared = np.bincount(bucket, minlength=1 << _BUCKETS)[bucket] > 1
    text, who = text[shared].view(np.int64), who[shared]
    order = argsorted(who)
    order = order[argsorted(text[order])]
    text, who = text[order], who[order]
    fresh = np.r_[True, (text[1:] != text[:-1]) | (who[1:] != who[:-1])][: len(text)]  # of a doubled sign either goes
    return text[fresh], who[fresh]


def _series(texts: tuple[Numbers, Numbers], shape: Numbers, systems: Numbers) -> Mask:
    """Which shapes are of running series."""
    text, who = texts
    at = np.flatnonzero(text[1:] == text[:-1])
    one, other = who[at], who[at + 1]
    alike = shape[one] == shape[other]
    one, other = one[alike], other[alike]
    within = (systems[one] & systems[other]) != 0
    many = int(shape.max(initial=-1)) + 1
    inside = np.bincount(shape[one[within]], minlength=many)
    return np.asarray((inside >= _PAIRS) & (inside > _SHARE * np.bincount(shape[one], minlength=many)))


def _shared(text: Numbers, who: Numbers, serials: pl.DataFrame, lonely: Mask, series: Mask) -> pl.DataFrame:
    """For each serial the texts that it has in common with one other: ``serial``, ``text``, ``at``."""
    first = np.flatnonzero(np.r_[True, text[1:] != text[:-1]][: len(text)])
    pairs = first[np.diff(np.r_[first, len(text)]) == 2]
    one, other = who[pairs], who[pairs + 1]
    pairs = pairs[(lonely[one] | lonely[other]) & ~series[one] & ~series[other]]
    both = np.concatenate([pairs, pairs + 1])
    sharing: pl.DataFrame = serials[who[both]].with_columns(pl.Series("text", text[both])).sort("serial", "text")
    return sharing.with_columns(pl.int_range(pl.len()).over("serial").alias("at"))
