"""Words of different systems for the same thing, learned from records that are known to be one device.

A code in one system and a marketing name in another, a site's code and its label: where records with
one serial say both often, the two go together; where both are often said and never together, they
speak against each other.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import polars as pl

from concordex.match.crowds import Numbers

#: How two words stand to each other: unknown, opposed, apart, near, together.
UNKNOWN, OPPOSED, APART, NEAR, TOGETHER = range(5)

#: Fewer known pairs than this teach nothing.
_ENOUGH = 60


@dataclass(frozen=True)
class Vocabulary:
    """What was learned of one field: each record's word as a code, and how pairs of words stand."""

    words: npt.NDArray[np.int64]
    pairs: npt.NDArray[np.int64]
    stand: npt.NDArray[np.int8]
    common: npt.NDArray[np.bool_]
    learned: bool
    often: npt.NDArray[np.bool_]

    def levels(self, a: Numbers, b: Numbers) -> npt.NDArray[np.int8]:
        """How the words of rows ``a`` and ``b`` stand to each other."""
        one, other = self.words[a], self.words[b]
        low, high = np.minimum(one, other), np.maximum(one, other)
        level = np.full(len(a), UNKNOWN, dtype=np.int8)
        level[one == other] = TOGETHER
        strange = (one != other) & self._opposable(one, other)
        level[strange] = OPPOSED
        if len(self.pairs):
            at = np.searchsorted(self.pairs, (low << 32) | high).clip(0, len(self.pairs) - 1)
            known = self.pairs[at] == ((low << 32) | high)
            level[known] = self.stand[at[known]]
        level[(one < 0) | (other < 0)] = UNKNOWN
        return level

    def _opposable(self, one: Numbers, other: Numbers) -> npt.NDArray[np.bool_]:
        sure = self.often if self.learned else self.common
        return np.asarray(sure[one] & sure[other])


def vocabulary(said: pl.Series, system: pl.Series, a: Numbers, b: Numbers, *, ours: bool = False) -> Vocabulary:
    """Learn from rows ``a`` and ``b``, pair by pair the same device, how the words of ``said`` go together.

    Before anything is learned, two words are opposed if several systems use both, or if they are ``ours``.
    """
    codes = _codes(said)
    size = int(codes.max(initial=-1)) + 2  # the last stands for no word
    spread = pl.DataFrame({"code": codes, "system": system}).filter(pl.col("code") >= 0).unique()["code"]
    common = np.bincount(spread.to_numpy(), minlength=size) > (0 if ours else 1)
    there = (codes[a] >= 0) & (codes[b] >= 0)
    one, other = codes[a][there], codes[b][there]
    marginal = np.bincount(np.r_[one, other], minlength=size) / 2
    low, high = np.minimum(one, other), np.maximum(one, other)
    pairs, counts = np.unique((low << 32) | high, return_counts=True)
    low, high = pairs >> 32, pairs & 0xFFFFFFFF
    total = max(len(one), 1)
    chance = marginal[low] * marginal[high] * np.where(low == high, 1, 2) / total
    lift = np.log2((counts + 0.25) / (chance + 0.25))
    share = counts / np.maximum(np.minimum(marginal[low], marginal[high]), 1)
    stand = np.select(
        [(lift > 2) & (share > 0.15), (lift > 0.5) & (share > 0.1), lift > -1, lift > -3],
        [TOGETHER, NEAR, UNKNOWN, APART], OPPOSED,
    ).astype(np.int8)  # fmt: skip
    stand[low == high] = np.maximum(stand[low == high], NEAR)
    often = marginal >= 6
    stand[(low != high) & ~(often[low] & often[high]) & (stand < NEAR)] = UNKNOWN
    return Vocabulary(codes, pairs, stand, common, learned=total >= _ENOUGH, often=often)


def _codes(said: pl.Series) -> Numbers:
    """A small number for each word, the same for words that differ in case and signs alone; -1 for none."""
    texts = said.to_frame("said").lazy()
    words = texts.unique().drop_nulls().with_columns(
        pl.col("said").str.to_lowercase().str.replace_all(r"[^\p{L}\p{N}]+", " ").str.strip_chars().alias("plain")
    )  # fmt: skip
    coded = words.with_columns((pl.col("plain").rank("dense").cast(pl.Int64) - 1).alias("code"))
    found = texts.join(coded, on="said", how="left", maintain_order="left").select(pl.col("code").fill_null(-1))
    return found.collect().to_series().to_numpy()
