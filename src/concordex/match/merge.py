"""What an entry says: for each field one value, chosen by a rule, and whose it is."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

import polars as pl

from concordex.model.fields import FIELDS

MERGED = tuple(name for name in FIELDS if name not in ("record_id", "parent"))
LISTS = ("macs", "ips")
_EARLIEST, _LATEST = ("first_seen", "enrolled_at"), ("last_seen",)

#: What the freshest record knows best, where no rule says otherwise.
_FRESHEST = ("os_version", "status", "user")

By = Literal["order", "freshest", "agreed", "specific", "joined"]


@dataclass(frozen=True, kw_only=True)
class Choose:
    """How a field's value is chosen among an entry's records.

    order     of the system that is trusted most; of two records of one system, the one seen last
    freshest  of the record that was seen last
    agreed    what most systems say
    specific  what says most: the longest, and never ``other``
    joined    all values of a list together, or of a text with commas between them
    """

    by: By = "order"
    order: Sequence[str] = ()
    kinds: Mapping[str, Choose] = field(default_factory=dict)


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
    called = records["entry"].unique().sort()
    # by numbers: they sort and group many times as fast as texts
    entry = pl.col("entry").cast(pl.Enum(called)).to_physical()
    needed = ["row", "system", "mac_keys", *MERGED]
    said = records.select(entry, *needed).with_columns(pl.when(pl.col("kind") != "other").then("kind").alias("kind"))
    rules = {name: _rule(name, (by_field or {}).get(name), order) for name in MERGED}
    plain = Choose(order=order)
    usual = [name for name in MERGED if rules[name] == plain]
    fresh = [name for name in MERGED if rules[name] == Choose(by="freshest", order=order)]
    values, sources = _spoken(_ranked(said, plain), usual, joined=False)
    if fresh:  # all by one order of the records
        slim = said.select({"row", "entry", "system", "last_seen", "mac_keys", *fresh})
        told_by = _spoken(_ranked(slim, rules[fresh[0]], fresh[0]), fresh, joined=False)
        values, sources = (
            part.join(one, on="entry", how="left", maintain_order="left")
            for part, one in zip((values, sources), told_by, strict=True)
        )
    kinds = (
        said.select("entry").unique().join(values.select("entry", "kind"), on="entry", how="left")
        if "kind" in values.columns
        else None
    )
    for name in MERGED:
        if name not in usual and name not in fresh:
            value, source = _by_kind(said, name, rules[name], order, kinds)
            values = values.join(value, on="entry", how="left", maintain_order="left")
            sources = sources.join(source, on="entry", how="left", maintain_order="left")
    told = said.group_by("entry", maintain_order=True).agg(
        pl.col("system").unique().sort().alias("systems"), pl.len().cast(pl.UInt32).alias("records")
    )
    entries = told.join(values, on="entry").with_columns(pl.col("kind").fill_null("other"))
    entries = entries.select("entry", *MERGED, "systems", "records").sort("entry")
    entries, sources = (
        part.with_columns(called.gather(part["entry"]).alias("entry")) for part in (entries, sources.sort("entry"))
    )
    return _as_ruled(entries, sources, ruled)


def _rule(name: str, given: Choose | Sequence[str] | None, order: Sequence[str]) -> Choose:
    if given is None:
        return Choose(by="freshest" if name in _FRESHEST else "order", order=order)
    if isinstance(given, Choose):
        return Choose(by=given.by, order=_filled(given.order, order), kinds=given.kinds)
    return Choose(order=_filled(given, order))


def _filled(first: Sequence[str], order: Sequence[str]) -> Sequence[str]:
    return [*first, *(system for system in order if system not in first)]


def _by_kind(
    said: pl.DataFrame, name: str, rule: Choose, order: Sequence[str], kinds: pl.DataFrame | None
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """One field by its rule, and for the kinds that have one of their own, by that."""
    slim = said.select({"row", "entry", "system", "last_seen", name} | ({"mac_keys"} if name == "macs" else set()))
    value, source = _spoken(_ranked(slim, rule, name), [name], joined=rule.by == "joined")
    if kinds is None:
        return value, source
    for kind, own in rule.kinds.items():
        mine = slim.join(kinds.filter(pl.col("kind") == kind), on="entry", how="semi")
        other = _spoken(_ranked(mine, _rule(name, own, order), name), [name], joined=own.by == "joined")
        value, source = (
            pl.concat([part.join(one, on="entry", how="anti"), one])
            for part, one in zip((value, source), other, strict=True)
        )
    return value, source


def _ranked(records: pl.DataFrame, rule: Choose, name: str | None = None) -> pl.DataFrame:
    rank = pl.col("system").replace_strict(list(rule.order), list(range(len(rule.order))), default=len(rule.order))
    by: list[pl.Expr] = [pl.col("entry"), rank, pl.col("last_seen").to_physical().neg(), pl.col("row")]
    if name is not None and rule.by == "freshest":
        by[1], by[2] = by[2], by[1]
    if name is not None and rule.by == "agreed":
        records = _counted(records, name)
        by.insert(1, pl.col("agreed").neg())
    if name is not None and rule.by == "specific":
        text = pl.col(name).cast(pl.String) if name not in LISTS else pl.col(name).list.join(" ")
        by.insert(1, text.str.len_chars().cast(pl.Int64).neg())
    return records.sort(by, nulls_last=True)


def _counted(records: pl.DataFrame, name: str) -> pl.DataFrame:
    """How many systems of the entry say the same, letters' case aside."""
    plain = (
        pl.col(name).cast(pl.String).str.to_lowercase()
        if name not in LISTS
        else pl.col(name).list.sort().list.join(" ")
    )
    agreed = pl.col("system").n_unique().over("entry", plain).cast(pl.Int64)
    return records.with_columns(pl.when(pl.col(name).is_not_null()).then(agreed).otherwise(0).alias("agreed"))


def _spoken(ranked: pl.DataFrame, names: Sequence[str], *, joined: bool) -> tuple[pl.DataFrame, pl.DataFrame]:
    grouped = ranked.group_by("entry", maintain_order=True)
    values = grouped.agg(_value(name, joined=joined).alias(name) for name in names)
    sources = grouped.agg(pl.col("row").filter(_there(name)).first().alias(name) for name in names)
    return values, sources


def _there(name: str) -> pl.Expr:
    return pl.col(name).list.len() > 0 if name in LISTS else pl.col(name).is_not_null()


def _value(name: str, *, joined: bool) -> pl.Expr:
    column = pl.col(name)
    if name == "macs":  # cards that name a device before those that do not
        return _joined(("mac_keys", "macs"))
    if name in LISTS:
        return _joined((name,))
    if joined and FIELDS[name].dtype == pl.String:
        texts = column.drop_nulls().unique(maintain_order=True)
        return pl.when(texts.len() > 0).then(texts.str.join(", "))
    if name in _EARLIEST:
        return column.min()
    return column.max() if name in _LATEST else column.drop_nulls().first()


def _joined(names: Sequence[str]) -> pl.Expr:
    parts = [pl.col(name).list.explode(keep_nulls=False, empty_as_null=False) for name in names]
    whole = parts[0] if len(parts) == 1 else parts[0].append(parts[1])
    return whole.unique(maintain_order=True)


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
