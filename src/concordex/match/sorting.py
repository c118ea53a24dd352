"""Sorting many whole numbers, most of which are hashes: where each stands goes into its lowest bits.

Numbers of 64 bits sort several times as fast as places by them do.  A number and its place fit into one
where the numbers are small, and nearly fit where they are spread over all bits: what is equal but for the
lowest bits, which is seldom, is put in order afterwards.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Numbers = npt.NDArray[np.int64]


def argsorted(values: Numbers) -> Numbers:
    """The places of ``values`` in ascending order; of equal ones the first comes first."""
    bits = max(len(values) - 1, 0).bit_length()
    places = np.arange(len(values))
    if not len(values):
        return places
    if int(values.min()) >= 0 and int(values.max()) < 1 << (63 - bits):
        packed = (values << bits) | places
        packed.sort()
        return np.asarray(packed & ((1 << bits) - 1))
    packed = (values & ~np.int64((1 << bits) - 1)) | places
    packed.sort()
    order = packed & ((1 << bits) - 1)
    in_order, upper = values[order], packed >> bits
    torn = np.flatnonzero((upper[1:] == upper[:-1]) & (in_order[1:] != in_order[:-1]))
    if len(torn):
        mixed = np.flatnonzero(np.isin(upper, upper[torn]))
        order[mixed] = order[mixed][np.argsort(in_order[mixed], kind="stable")]
    return np.asarray(order)


def distinct(values: Numbers) -> Numbers:
    """The different ones of ``values``, in ascending order."""
    ordered = np.sort(values)
    return np.asarray(ordered[starts(ordered)])


def mixed(one: Numbers, other: Numbers) -> Numbers:
    """One number for each two, the first of which may be small."""
    with np.errstate(over="ignore"):
        return np.asarray(one * np.int64(-7046029254386353131) + other)


def starts(ordered: Numbers) -> npt.NDArray[np.bool_]:
    """Where another number begins; equal ones stand together."""
    return np.r_[True, ordered[1:] != ordered[:-1]] if len(ordered) else np.zeros(0, dtype=np.bool_)
