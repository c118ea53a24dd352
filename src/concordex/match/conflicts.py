"""Values of one entry that differ after what was learned of words; of each system the record seen last speaks."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import polars as pl

from concordex.match.finding import COMPARED, NOTHING, number, shaped
from concordex.match.frequencies import numbers
from concordex.match.identity import CUT
from concordex.match.learned import Learned
from concordex.match.sorting import Numbers, argsorted, starts
from concordex.match.synonyms import Words


def conflicts(records: pl.DataFrame, entries: pl.DataFrame, learned: Learned | None) -> list[pl.DataFrame]:
    """Findings of the fields whose values conflict, for each field.

    ``records`` holds ``entry``, ``system``, ``row``, the fields and keys; ``entries`` their ``number`` as well.
    """
    entry = records.select(number("entry")).to_series().to_numpy()  # numbers sort many times as fast as texts
    order = _ranked(records, entry)
    return [_conflicts(records, entry, order, entries, field, learned) for field in COMPARED]


def _ranked(records: pl.DataFrame, entry: Numbers) -> Numbers:
    """The places of records by entry and system, of each the one seen last at the end."""
    system = records["system"].cast(pl.Enum(records["system"].unique().sort())).to_physical().cast(pl.Int64)
    order = argsorted(records["row"].cast(pl.Int64).to_numpy())
    seen = records["last_seen"].to_physical().fill_null(np.iinfo(np.int64).min)
    for key in (seen.to_numpy(), system.to_numpy(), entry):
        order = order[argsorted(key[order])]
    return order


def _conflicts(
    records: pl.DataFrame, entry: Numbers, order: Numbers, entries: pl.DataFrame, field: str, learned: Learned | None
) -> pl.DataFrame:
    """Entries whose systems give different values; within one system the record seen last speaks."""
    key = {"name": "name_key", "serial": "serial_key"}.get(field, field)
    words = pl.concat_str("maker", "model", separator=" ", ignore_nulls=True) if field == "model" else pl.col(field)
    value = pl.col(key).str.to_lowercase()
    value = pl.when(value != "other").then(value) if field == "kind" else value
    rows = order[_torn(entry[order], numbers(records.select(value).to_series()).to_numpy()[order])]
    if not len(rows):
        return NOTHING
    columns = {"system", "maker", "model", field, key}
    values = records.select(*sorted(columns))[rows].with_columns(pl.Series("number", entry[rows]))
    values = values.select("number", "system", field, value.alias("said"), words.alias("words"))
    latest = values.unique(["number", "system"], keep="last", maintain_order=True)
    if learned and field in learned.words and learned.words[field].learned:
        latest = latest.join(_other_words(latest, learned.words[field]), on="number", how="semi", maintain_order="left")
    clash = (
        latest.group_by("number", maintain_order=True)
        .agg(
            pl.col("said").unique().sort().alias("values"),
            pl.format("{}: {}", "system", field).str.join("; ").alias("said"),
        )
        .filter(pl.col("values").list.len() > 1)
    )
    if field == "name":  # a name that was cut is no other name
        cut = pl.col("values").list.eval(pl.element().str.slice(0, CUT)).list.n_unique() == 1
        clash = clash.filter((cut & (pl.col("values").list.first().str.len_chars() == CUT)).not_())
    joined = clash.join(entries.select("number", "entry", "name", "systems"), on="number", maintain_order="left")
    return shaped(joined, "conflict", pl.col("said"), field=field, severity=COMPARED[field])


def _torn(entry: Numbers, value: Numbers) -> npt.NDArray[np.bool_]:
    """Of records by ``entry`` those that say something, where not all that do say the same; nought says nothing."""
    begins = np.flatnonzero(starts(entry))
    if not len(begins):
        return np.zeros(0, dtype=np.bool_)
    there, ends = value != 0, np.iinfo(np.int64)
    least = np.minimum.reduceat(np.where(there, value, ends.max), begins)
    most = np.maximum.reduceat(np.where(there, value, ends.min), begins)
    return np.asarray(np.repeat(least < most, np.diff(np.r_[begins, len(entry)])) & there)


def _other_words(latest: pl.DataFrame, words: Words) -> pl.DataFrame:
    """The entries of which two systems say what was not learned to be the same thing."""
    placed = latest.select("number", pl.int_range(pl.len()).alias("at"))
    pairs = placed.join(placed, on="number", suffix="_other").filter(pl.col("at") < pl.col("at_other"))
    differ = words.of(latest["words"]).differ(pairs["at"].to_numpy(), pairs["at_other"].to_numpy())
    return pairs.filter(pl.Series(differ)).select("number").unique()
