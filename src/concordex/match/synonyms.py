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

from concordex.match.frequencies import Numbers

#: How two words stand to each other: unknown, opposed, apart, near, together.
UNKNOWN, OPPOSED, APART, NEAR, TOGETHER = range(5)

#: Fewer known pairs than this teach nothing.
_ENOUGH = 60


@dataclass(frozen=True)
class Words:
    """What was learned of one field: its words, and how pairs of them stand to each other.

    ``known`` holds each ``word`` in order, whether several systems use it (``common``), and whether it is
    said ``often`` of known devices; a pair is two places in it, the lower first, packed into one number.
    """

    known: pl.DataFrame
    pairs: npt.NDArray[np.int64]
    stand: npt.NDArray[np.int8]
    learned: bool

    def of(self, texts: pl.Series) -> Vocabulary:
        """The words of records: what was never heard before stands to nothing, and is itself."""
        codes, known = _coded(texts, self.known["word"])
        size = max(int(codes.max(initial=-1)) + 1, known) + 1  # the last stands for no word
        beyond = np.zeros(size - known, dtype=np.bool_)
        common, often = (np.r_[self.known[name].to_numpy(), beyond] for name in ("common", "often"))
        return Vocabulary(codes, self.pairs, self.stand, common, learned=self.learned, often=often)

    def frames(self, field: str) -> tuple[pl.DataFrame, pl.DataFrame]:
        """The words and the pairs as frames, each with the ``field``."""
        word = self.known["word"]
        pairs = pl.DataFrame({"one": word.gather(self.pairs >> 32), "other": word.gather(self.pairs & 0xFFFFFFFF)})
        return (
            self.known.select(pl.lit(field).alias("field"), pl.all(), pl.lit(self.learned).alias("learned")),
            pairs.select(pl.lit(field).alias("field"), "one", "other", pl.Series("stand", self.stand, dtype=pl.Int8)),
        )

    @classmethod
    def of_frames(cls, field: str, words: pl.DataFrame, pairs: pl.DataFrame) -> Words:
        """What :meth:`frames` made frames of."""
        mine = words.filter(pl.col("field") == field).sort("word")
        known = mine.select("word", "common", "often")
        at = dict(zip(known["word"], range(known.height), strict=True))
        stand = pairs.filter(pl.col("field") == field)
        packed = np.array([(at[a] << 32) | at[b] for a, b in stand.select("one", "other").iter_rows()], dtype=np.int64)
        order = np.argsort(packed, kind="stable")
        return cls(known, packed[order], stand["stand"].to_numpy()[order], learned=bool(mine["learned"].any()))


@dataclass(frozen=True)
class Vocabulary:
    """Each record's word as a code, and how pairs of words stand (see :class:`Words`)."""

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

    def differ(self, a: Numbers, b: Numbers) -> npt.NDArray[np.bool_]:
        """Whether the words of rows ``a`` and ``b`` mean different things, as far as both were heard often enough."""
        level, one, other = self.levels(a, b), self.words[a], self.words[b]
        heard = self.often[one] & self.often[other]
        return np.asarray((level < NEAR) & heard)

    def _opposable(self, one: Numbers, other: Numbers) -> npt.NDArray[np.bool_]:
        sure = self.often if self.learned else self.common
        return np.asarray(sure[one] & sure[other])


def learn(texts: pl.Series, system: pl.Series, a: Numbers, b: Numbers, *, ours: bool = False) -> Words:
    """Learn from rows ``a`` and ``b``, pair by pair the same device, how the words of ``texts`` go together.

    Before anything is learned, two words are opposed if several systems use both, or if they are ``ours``.
    """
    word = _plain(pl.DataFrame({"said": texts.unique()}))["word"].drop_nulls().unique().sort()
    codes, known = _coded(texts, word)
    size = known + 1  # the last stands for no word
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
    words = pl.DataFrame({"word": word, "common": common[:-1], "often": often[:-1]})
    return Words(words, pairs, stand, learned=total >= _ENOUGH)


def _plain(texts: pl.DataFrame) -> pl.DataFrame:
    """Each text's ``word``: the same for texts that differ in case and signs alone."""
    plain = pl.col("said").str.to_lowercase().str.replace_all(r"[^\p{L}\p{N}]+", " ").str.strip_chars()
    return texts.with_columns(plain.alias("word"))


def _coded(column: pl.Series, known: pl.Series) -> tuple[Numbers, int]:
    """Each record's word as its place in ``known``, others after those, -1 for none; and how many are known."""
    if column.null_count() == len(column):
        return np.full(len(column), -1), len(known)
    texts = column.to_frame("said").lazy()
    words = _plain(texts.unique().drop_nulls().collect())
    new = words.select(pl.col("word").filter(pl.col("word").is_in(known.implode()).not_()).unique().sort())["word"]
    places = pl.DataFrame({"word": pl.concat([known, new])}).with_row_index("code")
    coded = words.join(places.select("word", pl.col("code").cast(pl.Int64)), on="word")
    codes = texts.join(coded.lazy(), on="said", how="left", maintain_order="left")
    return codes.select(pl.col("code").fill_null(-1)).collect().to_series().to_numpy(), len(known)
