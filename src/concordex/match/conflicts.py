"""Values of one entry that differ after what was learned of words; of each system the record seen last speaks."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import polars as pl

from concordex.match.blocks import within
from concordex.match.finding import COMPARED, NOTHING, shaped
from concordex.match.frequencies import numbers
from concordex.match.identity import CUT
from concordex.match.ids import entry_numbers
from concordex.match.learned import Learned
from concordex.match.sorting import Numbers, argsorted, starts
from concordex.match.synonyms import Words


def conflicts(records: pl.DataFrame, entries: pl.DataFrame, learned: Learned | None) -> list[pl.DataFrame]:
    """Findings of the fields whose values conflict, for each field.

    ``records`` holds ``entry``, ``system``, ``row``, the fields and keys; ``entries`` their ``number`` as well.
    """
    ranked = _ranked(records)
    return [_conflicts(records, ranked, entries, field, learned) for field in COMPARED]


@dataclass(frozen=True)
class _Ranked:
    """Entries and systems of records by number, and the records' ``order`` by both, of each the one seen last at the
    end."""

    entry: Numbers
    system: Numbers
    order: Numbers


def _ranked(records: pl.DataFrame) -> _Ranked:
    entry = entry_numbers(records["entry"])  # numbers sort many times as fast as texts
    system = records["system"].cast(pl.Enum(records["system"].unique().sort())).to_physical().cast(pl.Int64).to_numpy()
    order = argsorted(records["row"].cast(pl.Int64).to_numpy())
    seen = records["last_seen"].to_physical().fill_null(np.iinfo(np.int64).min)
    for key in (seen.to_numpy(), system, entry):
        order = order[argsorted(key[order])]
    return _Ranked(entry, system, order)


def _conflicts(
    records: pl.DataFrame, ranked: _Ranked, entries: pl.DataFrame, field: str, learned: Learned | None
) -> pl.DataFrame:
    """Entries whose systems give different values; within one system the record seen last speaks."""
    key = {"name": "name_key", "serial": "serial_key"}.get(field, field)
    value = pl.col(key).str.to_lowercase()
    value = pl.when(value != "other").then(value) if field == "kind" else value
    rows = _differing(records[key], value, ranked)
    words = learned.words[field] if learned and field in learned.words else None
    if words and words.learned and len(rows):
        rows = rows[_in_other_words(records, rows, ranked.entry[rows], field, words)]
    if not len(rows):
        return NOTHING
    latest = records.select(*sorted({"system", field, key}))[rows].with_columns(
        pl.Series("number", ranked.entry[rows]), value.alias("said")
    )
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


def _differing(values: pl.Series, value: pl.Expr, ranked: _Ranked) -> Numbers:
    """The rows of those entries whose systems do not all say the same by ``value``; of each system the last row."""
    if values.null_count() == len(values):
        return np.zeros(0, dtype=np.int64)
    entry, rows = ranked.entry, ranked.order
    rows = rows[_torn(entry[rows], numbers(values).to_numpy()[rows])]  # most say the same to the letter
    normalised = numbers(values.gather(rows).to_frame().select(value).to_series()).to_numpy()
    rows, normalised = rows[normalised != 0], normalised[normalised != 0]
    ends = (np.diff(entry[rows]) != 0) | (np.diff(ranked.system[rows]) != 0)
    last = np.r_[ends, True][: len(rows)]
    rows, normalised = rows[last], normalised[last]
    return np.asarray(rows[_torn(entry[rows], normalised)])


def _torn(entry: Numbers, value: Numbers) -> npt.NDArray[np.bool_]:
    """Of records by ``entry`` those that say something, where not all that do say the same; nought says nothing."""
    begins = np.flatnonzero(starts(entry))
    if not len(begins):
        return np.zeros(0, dtype=np.bool_)
    there, ends = value != 0, np.iinfo(np.int64)
    least = np.minimum.reduceat(np.where(there, value, ends.max), begins)
    most = np.maximum.reduceat(np.where(there, value, ends.min), begins)
    return np.asarray(np.repeat(least < most, np.diff(np.r_[begins, len(entry)])) & there)


def _in_other_words(
    records: pl.DataFrame, rows: Numbers, entry: Numbers, field: str, words: Words
) -> npt.NDArray[np.bool_]:
    """Which ``rows`` are of entries of which two systems say what was not learned to be the same thing."""
    texts = records.select("maker", "model")[rows] if field == "model" else records.select(field)[rows]
    a, b = within(entry)
    differ = words.of(texts.select(pl.concat_str(pl.all(), separator=" ", ignore_nulls=True)).to_series()).differ(a, b)
    return np.isin(entry, entry[a[differ]])
