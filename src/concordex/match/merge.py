"""What an entry says: for each field the value of the system that is trusted most, and whose it is."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import polars as pl

from concordex.model.fields import FIELDS

MERGED = tuple(name for name in FIELDS if name not in ("record_id", "parent"))
_LISTS = ("macs", "ips")
_EARLIEST, _LATEST = ("first_seen", "enrolled_at"), ("last_seen",)


def merge(
    records: pl.DataFrame, order: Sequence[str], by_field: Mapping[str, Sequence[str]]
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """Entries, and for each entry and field the ``row`` of the record that gave the value.

    ``records`` holds ``row``, ``entry``, ``system`` and the fields; serials that mean nothing have
    been made missing.  ``order`` names systems, the most trusted first; ``by_field`` the same for
    single fields.  Of two records of one system the one seen last speaks.  Lists are joined; the
    earliest enrolment and the latest sight count.
    """
    specific = records.with_columns(pl.when(pl.col("kind") != "other").then(pl.col("kind")).alias("kind"))
    plain = [name for name in MERGED if name not in by_field]
    values, sources = _spoken(_ranked(specific, order), plain)
    for name in MERGED:
        if name in by_field:
            rest = [system for system in order if system not in by_field[name]]
            value, source = _spoken(_ranked(specific, [*by_field[name], *rest]), [name])
            values = values.join(value, on="entry", maintain_order="left")
            sources = sources.join(source, on="entry", maintain_order="left")
    told = records.group_by("entry", maintain_order=True).agg(
        pl.col("system").unique().sort().alias("systems"), pl.len().cast(pl.UInt32).alias("records")
    )
    entries = told.join(values, on="entry").with_columns(pl.col("kind").fill_null("other"))
    return entries.select("entry", *MERGED, "systems", "records").sort("entry"), sources.sort("entry")


def _ranked(records: pl.DataFrame, order: Sequence[str]) -> pl.DataFrame:
    rank = pl.col("system").replace_strict(list(order), list(range(len(order))), default=len(order))
    by = ["entry", rank, "last_seen", "row"]
    return records.sort(by, descending=[False, False, True, False], nulls_last=True)


def _spoken(ranked: pl.DataFrame, names: Sequence[str]) -> tuple[pl.DataFrame, pl.DataFrame]:
    grouped = ranked.group_by("entry", maintain_order=True)
    values = grouped.agg(_value(name).alias(name) for name in names)
    sources = grouped.agg(pl.col("row").filter(_there(name)).first().alias(name) for name in names)
    return values, sources


def _there(name: str) -> pl.Expr:
    return pl.col(name).list.len() > 0 if name in _LISTS else pl.col(name).is_not_null()


def _value(name: str) -> pl.Expr:
    column = pl.col(name)
    if name == "macs":  # cards that name a device before those that do not
        return _joined(("mac_keys", "macs"))
    if name in _LISTS:
        return _joined((name,))
    if name in _EARLIEST:
        return column.min()
    return column.max() if name in _LATEST else column.drop_nulls().first()


def _joined(names: Sequence[str]) -> pl.Expr:
    parts = [pl.col(name).list.explode(keep_nulls=False, empty_as_null=False) for name in names]
    whole = parts[0] if len(parts) == 1 else parts[0].append(parts[1])
    return whole.unique(maintain_order=True)
