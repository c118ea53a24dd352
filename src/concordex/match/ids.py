"""Entry numbers that stay with their device from one reconciliation to the next."""

from __future__ import annotations

import numpy as np
import polars as pl

from concordex.match.sorting import Numbers, argsorted, starts


def earlier(members: pl.DataFrame, before: pl.DataFrame) -> pl.Series:
    """The entry that each record (``system``, ``record_id``) had ``before``; missing where it is new."""
    rows = pl.Series(places(members, before))
    return before["entry"].gather(rows.set(rows < 0, None))


def places(records: pl.DataFrame, among: pl.DataFrame) -> Numbers:
    """Where each record (``system``, ``record_id``) stands ``among`` others; -1 where it does not.

    Both in one order, as :func:`concordance.ordered` puts them: many stand where they stood.
    """
    sought, there = (frame.select("system", "record_id") for frame in (records, among))
    if sought.equals(there):
        return np.arange(records.height)
    one, other = (pl.DataFrame({"called": ids.hash_rows(seed=13)}) for ids in (sought, there))
    at = one.join(other.with_row_index("at"), on="called", how="left", maintain_order="left")["at"]
    return at.cast(pl.Int64).fill_null(-1).to_numpy()


def number(group: pl.Series, was: pl.Series | None = None, known: pl.Series | None = None) -> pl.Series:
    """The entry (``E00001``) of each record, by the ``group`` it is in now and the entry it ``was`` in.

    A group takes the entry that most of its records had; of two groups that want one, the larger; the rest get
    new ones, above all that are ``known``.
    """
    code, first = _coded(group.cast(pl.Int64).to_numpy())
    chosen = np.zeros(first, dtype=np.int64)
    if was is not None and known is not None and len(known):
        _keep(chosen, code, entry_numbers(was))
    highest = int(entry_numbers(known).max(initial=0)) if known is not None else 0
    fresh = chosen == 0
    chosen[fresh] = highest + np.arange(1, fresh.sum() + 1)
    return pl.select("E" + pl.Series(chosen).cast(pl.String).str.zfill(5)).to_series().gather(code).alias("entry")


def _coded(group: Numbers) -> tuple[Numbers, int]:
    """Each group as a number from nought, in the order in which they come up; and how many there are."""
    order = argsorted(group)
    begins = starts(group[order])
    rank = np.empty(int(begins.sum()), dtype=np.int64)
    rank[argsorted(order[begins])] = np.arange(len(rank))
    code = np.empty_like(group)
    code[order] = rank[np.cumsum(begins) - 1]
    return code, len(rank)


def entry_numbers(entry: pl.Series) -> Numbers:
    """The number in the name of each entry; nought where there is none."""
    return entry.str.slice(1).cast(pl.Int64).fill_null(0).to_numpy()


def _keep(chosen: Numbers, code: Numbers, was: Numbers) -> None:
    """Give groups the entries that most of their records had."""
    pairs = np.sort((code << 32 | was)[was > 0])
    at = np.flatnonzero(starts(pairs))
    votes = np.diff(np.r_[at, len(pairs)])
    groups, entries = pairs[at] >> 32, pairs[at] & 0xFFFFFFFF
    order = np.lexsort((groups, entries, -votes))
    for key in (groups, entries):  # a group wants one entry, and an entry goes to one group
        by = argsorted(key[order])
        order = order[np.sort(by[starts(key[order][by])])]
    chosen[groups[order]] = entries[order]
