"""How things are: what is told of one by several, and how many are how."""

from __future__ import annotations

from collections.abc import Mapping

import polars as pl

#: From the worst; what nobody tells is never good.
STATES = ("error", "warning", "normal", "unknown")


def meaning(word: str, words: Mapping[str, str]) -> pl.Expr:
    """What the words in a column mean; one that is not listed, or missing, is unknown."""
    known = {said.lower(): state for said, state in words.items()}
    said = pl.col(word).str.strip_chars().str.to_lowercase()
    return said.replace_strict(list(known), list(known.values()), default="unknown", return_dtype=pl.String)


def worst(told: pl.DataFrame, by: str) -> pl.DataFrame:
    """Of all that is told of each the row with the worst state."""
    ranked = told.with_columns(pl.col("state").replace_strict(STATES, range(len(STATES))).alias("_rank"))
    return ranked.sort("_rank", maintain_order=True).unique(by, keep="first", maintain_order=True).drop("_rank")


def counted(told: pl.DataFrame, by: list[str]) -> pl.DataFrame:
    """How many there are of each state."""
    counts = [(pl.col("state") == state).sum().cast(pl.Int64).alias(state) for state in (*STATES[::-1][1:], "unknown")]
    return told.group_by(by).agg(*counts, pl.len().cast(pl.Int64).alias("all")).sort(by, nulls_last=True)
