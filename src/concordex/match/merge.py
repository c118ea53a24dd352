"""What an entry says: for each field one value, chosen by a rule, and whose it is."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial

import numpy as np
import numpy.typing as npt
import polars as pl

from concordex.match.choose import Choose
from concordex.match.frequencies import numbers
from concordex.match.ids import entry_numbers
from concordex.match.sidebyside import side_by_side
from concordex.match.sorting import Numbers, argsorted, distinct, mixed, starts
from concordex.model.fields import FIELDS

MERGED = tuple(name for name in FIELDS if name not in ("record_id", "parent"))
LISTS = ("macs", "ips")
_EARLIEST, _LATEST = ("first_seen", "enrolled_at"), ("last_seen",)

#: What the freshest record knows best, where no rule says otherwise.
_FRESHEST = ("os_version", "status", "user")


def merge(
    records: pl.DataFrame,
    order: Sequence[str],
    by_field: Mapping[str, Choose | Sequence[str]] | None = None,
    ruled: pl.DataFrame | None = None,
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """Entries, and for each entry and field the ``row`` of the record that gave the value.

    ``records`` holds ``row``, ``entry``, ``system`` and the fields; serials that mean nothing have
    been made missing.  ``order`` names systems, the most trusted first; ``by_field`` says what differs for
    single fields; ``ruled`` (``entry``, ``field``, ``value``) what people have decided.  Lists are
    joined; the earliest enrolment and the latest sight count.
    """
    called, entry = _coded(records["entry"])
    kept = records.select("row", "system", "mac_keys", *MERGED).with_columns(
        pl.when(pl.col("kind") != "other").then("kind").alias("kind")
    )
    fields = _Records(kept, entry)
    rules = {name: _rule(name, (by_field or {}).get(name), order) for name in MERGED}
    kind = fields.value_of("kind", rules["kind"])[0]

    def valued(name: str) -> tuple[pl.Series, pl.Series]:
        value, source = fields.value_of(name, rules[name])
        for which, own in rules[name].kinds.items():
            other = fields.value_of(name, _rule(name, own, order))
            value, source = (
                pl.select(pl.when(kind == which).then(theirs).otherwise(ours)).to_series()
                for theirs, ours in zip(other, (value, source), strict=True)
            )
        return value.alias(name), source.alias(name)

    values, sources = zip(*side_by_side((partial(valued, name) for name in MERGED), len(entry)), strict=True)
    entries = pl.DataFrame([called, *values]).with_columns(
        pl.col("kind").fill_null("other"), _systems(kept["system"], entry).alias("systems"),
        pl.Series("records", np.bincount(entry, minlength=len(called)), dtype=pl.UInt32),
    )  # fmt: skip
    return _as_ruled(entries, pl.DataFrame([called, *sources]), ruled)


def _coded(names: pl.Series) -> tuple[pl.Series, Numbers]:
    """The different entries by name, and the place of each record's among them.

    By numbers: they sort and group many times as fast as texts.
    """
    number = entry_numbers(names)
    order = argsorted(number)
    begins = starts(number[order])
    called = names.gather(order[begins])
    by_name = called.arg_sort().to_numpy()
    place = np.empty(len(called), dtype=np.int64)
    place[by_name] = np.arange(len(called))
    entry = np.empty(len(number), dtype=np.int64)
    entry[order] = place[np.cumsum(begins) - 1]
    return called.gather(by_name), entry


def _rule(name: str, given: Choose | Sequence[str] | None, order: Sequence[str]) -> Choose:
    if given is None:
        return Choose(by="freshest" if name in _FRESHEST else "order", order=order)
    if isinstance(given, Choose):
        return Choose(by=given.by, order=_filled(given.order, order), kinds=given.kinds)
    return Choose(order=_filled(given, order))


def _filled(first: Sequence[str], order: Sequence[str]) -> Sequence[str]:
    return [*first, *(system for system in order if system not in first)]


@dataclass(frozen=True)
class _Records:
    """Records of which single fields are asked, and the ``entry`` of each as a number from nought, none left out."""

    records: pl.DataFrame
    entry: Numbers
    orders: dict[str, Numbers] = field(default_factory=dict)

    def value_of(self, name: str, rule: Choose) -> tuple[pl.Series, pl.Series]:
        """For each entry the value of a field, and the row of the record that gives it."""
        column = self.records[name]
        if name not in LISTS and column.null_count() == len(column):  # as many fields are
            many = int(self.entry.max(initial=-1)) + 1
            return _nothing(column.dtype, many), _nothing(self.records.schema["row"], many)
        order = self._ordered(name, rule)
        entry = self.entry[order]
        there = (column.list.len() > 0).fill_null(value=False) if name in LISTS else column.is_not_null()
        first = _first(entry, there.to_numpy()[order])
        place = pl.Series(np.where(first < 0, 0, order[first]))
        place = place.set(pl.Series(first < 0), None)
        source = self.records["row"].gather(place)
        if name in LISTS:  # cards that name a device before those that do not
            parts = [self.records[part] for part in (("mac_keys", "macs") if name == "macs" else (name,))]
            return _lists(self.entry, order, parts), source
        if rule.by == "joined" and column.dtype == pl.String:
            return _texts(entry, column.gather(order)), source
        if name in (*_EARLIEST, *_LATEST):
            of = pl.DataFrame({"entry": self.entry, "at": column}).group_by("entry", maintain_order=True)
            latest = of.agg(pl.col("at").max() if name in _LATEST else pl.col("at").min()).sort("entry")
            return latest["at"], source
        return column.gather(place), source

    def _ordered(self, name: str, rule: Choose) -> Numbers:
        """Places of the records, those of one entry together, and the one that a rule prefers first."""
        prime = self._prime(name, rule)
        called = repr((rule.by == "freshest", rule.order, name if prime is not None else None, rule.by))
        if called not in self.orders:
            ranks = dict(zip(rule.order, range(len(rule.order)), strict=True))
            trust = self.records["system"].replace_strict(ranks, default=len(ranks), return_dtype=pl.Int64).to_numpy()
            late = -self.records["last_seen"].to_physical().fill_null(-_NEVER).to_numpy()
            keys = [late, trust] if rule.by != "freshest" else [trust, late]
            keys += [] if prime is None else [prime]
            order = argsorted(self.records["row"].cast(pl.Int64).to_numpy())
            for key in (*keys, self.entry):
                order = order[argsorted(key[order])]
            self.orders[called] = order
        return self.orders[called]

    def _prime(self, name: str, rule: Choose) -> Numbers | None:
        """What counts before trust and freshness: the less, the better."""
        column = self.records[name]
        if rule.by == "agreed":
            values = column.list.sort().list.join(" ") if name in LISTS else column.cast(pl.String).str.to_lowercase()
            frame = pl.DataFrame({"entry": self.entry, "said": values, "system": self.records["system"]})
            many = frame.select(pl.col("system").n_unique().over("entry", "said").cast(pl.Int64)).to_series()
            return np.where(column.is_not_null().to_numpy(), -many.to_numpy(), 0)
        if rule.by == "specific":
            text = column.list.join(" ") if name in LISTS else column.cast(pl.String)
            long: Numbers = -text.str.len_chars().cast(pl.Int64).fill_null(-1).to_numpy()
            return long
        return None


def _nothing(kind: pl.DataType, many: int) -> pl.Series:
    """So many values that are missing."""
    return pl.Series([None], dtype=kind).new_from_index(0, many)


#: Later than any moment.
_NEVER = np.iinfo(np.int64).max


def _first(entry: Numbers, there: npt.NDArray[np.bool_]) -> Numbers:
    """For each entry the first place of its where something is ``there``; -1 for none.  They stand together."""
    begins = np.flatnonzero(starts(entry))
    if not len(begins):
        return begins
    firsts = np.minimum.reduceat(np.where(there, np.arange(len(entry)), len(entry)), begins)
    return np.asarray(np.where(firsts < len(entry), firsts, -1))


def _lists(entry: Numbers, order: Numbers, parts: Sequence[pl.Series]) -> pl.Series:
    """For each entry all that stands in its lists, each value once, those of the first part first.

    The records stand in any order, and are taken in ``order``, those of one entry together.
    """
    rank = np.empty_like(order)
    rank[order] = np.arange(len(order))
    many = [part.list.len().fill_null(0).to_numpy() for part in parts]
    values = pl.concat([part.drop_nulls().explode(empty_as_null=False).rename("value") for part in parts])
    ranks = np.concatenate([np.repeat(rank + at * len(rank), often) for at, often in enumerate(many)])
    owners = np.concatenate([np.repeat(entry, often) for often in many])
    by = argsorted(ranks)
    by = by[argsorted(owners[by])]
    owners, value = owners[by], numbers(values).to_numpy()[by]
    pairs = mixed(owners, value)
    same = argsorted(pairs)
    kept = np.sort(same[starts(pairs[same])])  # of equal ones the first
    listed = pl.DataFrame({"entry": owners[kept], "value": values.gather(by[kept])}).set_sorted("entry")
    return _spread(listed.group_by("entry", maintain_order=True).agg("value"), entry[order], [])


def _texts(entry: Numbers, column: pl.Series) -> pl.Series:
    """For each entry all that its records say, each text once, with commas between."""
    values = pl.DataFrame({"entry": entry, "value": column}).drop_nulls("value")
    values = values.unique(["entry", "value"], keep="first", maintain_order=True)
    return _spread(values.group_by("entry", maintain_order=True).agg(pl.col("value").str.join(", ")), entry, None)


def _spread(values: pl.DataFrame, entry: Numbers, nothing: list[str] | None) -> pl.Series:
    """What is ``values`` of some entries, in the order of all."""
    every = pl.DataFrame({"entry": entry[starts(entry)]})
    value = every.join(values, on="entry", how="left", maintain_order="left")["value"]
    return value if nothing is None else value.fill_null(nothing)


def _systems(system: pl.Series, entry: Numbers) -> pl.Series:
    """The systems that know each entry, by name."""
    names = system.unique().sort()
    code = system.cast(pl.Enum(names)).to_physical().cast(pl.Int64).to_numpy()
    pairs = distinct(entry * len(names) + code)
    known = pl.DataFrame({"entry": pairs // len(names), "system": names.gather(pairs % len(names))})
    known = known.set_sorted("entry")
    return known.group_by("entry", maintain_order=True).agg("system")["system"]


def _as_ruled(
    entries: pl.DataFrame, sources: pl.DataFrame, ruled: pl.DataFrame | None
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """The same with what people decided in its place, which no record is the source of."""
    for name in [] if ruled is None else ruled["field"].unique().sort():
        mine = ruled.filter(pl.col("field") == name).select("entry", pl.col("value").alias("ruled"))  # type: ignore[union-attr]
        decided = pl.col("ruled").is_not_null()
        value = (
            pl.col("ruled").str.split(",").list.eval(pl.element().str.strip_chars())
            if name in LISTS
            else pl.col("ruled")
        )
        entries = entries.join(mine, on="entry", how="left", maintain_order="left")
        entries = entries.with_columns(pl.when(decided).then(value).otherwise(name).alias(name)).drop("ruled")
        sources = sources.join(mine, on="entry", how="left", maintain_order="left")
        sources = sources.with_columns(pl.when(decided).then(None).otherwise(name).alias(name)).drop("ruled")
    return entries, sources
