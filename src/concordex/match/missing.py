"""What is missing in an inventory, or at managers; and what is not called missing, since something is like it."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from concordex.match.finding import NOBODY, NOTHING, Scope, shaped
from concordex.match.lookalikes import both_ways


def missing(
    records: pl.DataFrame,
    entries: pl.DataFrame,
    scope: Scope,
    resting: pl.Series | None,
    sighting: Sequence[str],
    alike: pl.DataFrame,
    of_two: pl.DataFrame,
) -> list[pl.DataFrame]:
    """Findings of what is missing somewhere; and what is not called missing, since something ``alike`` is there.

    Pairs that other findings have ``of_two`` are neither.
    """
    pairs = both_ways(of_two.select("entry", pl.col("about").alias("other")))
    pairs = pairs.with_columns(pl.lit(value=True).alias("told"))
    alike = alike.join(pairs, on=["entry", "other"], how="left", maintain_order="left")
    passing = pl.lit([*scope.inventories, *sighting], dtype=pl.List(pl.String))
    systems = entries.select("entry", "systems", pl.col("systems").list.set_difference(passing).alias("managers"))
    known = alike.join(systems, on="entry").join(systems.rename({"entry": "other"}), on="other", suffix="_other")
    # what one manager holds twice is two devices there
    known = known.filter(pl.col("managers").list.set_intersection("managers_other").list.len() == 0)
    parts, seen = list[pl.DataFrame](), [NOBODY]
    for inventory in scope.inventories:
        lacking = _missing_in(entries, inventory, scope, passing)
        there = known.filter(pl.col("systems_other").list.contains(inventory)).join(lacking, on="entry", how="semi")
        likely, hint = _divided(there)
        absent = lacking.join(likely, on="entry", how="anti", maintain_order="left")
        parts += [
            shaped(
                absent.join(_nearest(entries, hint), on="entry", how="left", maintain_order="left"),
                "missing_in_inventory",
                pl.format("known to {}, not to {}", pl.col("systems").list.join(", "), pl.lit(inventory)) + _HINT,
                about=pl.lit(inventory), resembling=True,
            ),
            _alike(entries, likely, pl.lit(f"not known to {inventory}"), pl.lit(inventory)),
        ]  # fmt: skip
        seen.append(likely.select("entry", "other"))
    unmanaged = _unmanaged(records, entries, scope, resting, passing)
    managed = entries.filter(pl.col("systems").list.set_difference(passing).list.len() > 0).select("entry")
    there = alike.join(unmanaged, on="entry", how="semi").join(
        managed.rename({"entry": "other"}), on="other", how="semi"
    )
    pairs = both_ways(pl.concat(seen)).with_columns(pl.lit(value=True).alias("seen"))
    there = there.join(pairs, on=["entry", "other"], how="left", maintain_order="left")
    # addresses in an inventory are often old, and lent to others since
    sure = (pl.col("likely") & (pl.col("share") != "address")) | pl.col("seen").is_not_null()
    likely, hint = _divided(there.with_columns(sure.alias("likely")))
    untold = likely.filter(pl.col("seen").is_null())
    unlike = unmanaged.join(likely, on="entry", how="anti", maintain_order="left")
    unlike = unlike.join(_nearest(entries, hint), on="entry", how="left", maintain_order="left")
    weak = _weak(records, unlike, scope)
    return [
        *parts, _missing_at_managers(unlike.join(weak, on="entry", how="anti", maintain_order="left"), scope),
        _little_known(unlike.join(weak, on="entry", maintain_order="left")),
        _alike(entries, untold, pl.lit("known to no manager"), pl.col("other")),
    ]  # fmt: skip


#: By what a manager may know a device, and what it is called.
_SIGNS = {"serial_key": "serial", "uuid_key": "UUID", "card": "network card", "name_key": "name"}

#: So many signs make it likely that a device would be recognised.
_SEVERAL = 2


def _weak(records: pl.DataFrame, unmanaged: pl.DataFrame, scope: Scope) -> pl.DataFrame:
    """Of what is ``unmanaged`` that with too few ``signs`` to be recognised at a manager.

    Two are enough, or one where an inventory seldom says more: a list of purchases may know serials alone.
    """
    there = {"card": pl.col("mac_keys").list.first(), **{key: pl.col(key) for key in _SIGNS if key != "card"}}
    signs = records.select("entry", "system", *(expr.is_not_null().alias(key) for key, expr in there.items()))
    usual = signs.filter(pl.col("system").is_in(list(scope.inventories))).group_by("system")
    enough = usual.agg(pl.sum_horizontal(*_SIGNS).median().clip(1, _SEVERAL).alias("enough"))
    mine = signs.join(unmanaged.select("entry"), on="entry", how="semi").join(enough, on="system", how="left")
    known = mine.group_by("entry").agg(pl.col(*_SIGNS).any(), pl.col("enough").max())
    named = pl.concat_list(pl.when(pl.col(key)).then(pl.lit(word)) for key, word in _SIGNS.items())
    weak = known.filter(pl.sum_horizontal(*_SIGNS) < pl.col("enough"))
    return weak.select("entry", named.list.drop_nulls().alias("signs"))


def _little_known(weak: pl.DataFrame) -> pl.DataFrame:
    """What may be known to managers, and nobody can tell."""
    seen = pl.format(
        "only in {}, with {}", pl.col("systems").list.join(", "),
        pl.when(pl.col("signs").list.len() > 0).then(pl.format("a {} alone", pl.col("signs").list.join(", ")))
        .otherwise(pl.lit("no serial, UUID, network card or name")),
    )  # fmt: skip
    return shaped(weak, "little_known", seen + _HINT, resembling=True)


def _missing_at_managers(unmanaged: pl.DataFrame, scope: Scope) -> pl.DataFrame:
    """What no manager knows, and enough is said of to be recognised."""
    inventories = pl.lit(list(scope.inventories), dtype=pl.List(pl.String))
    passing = pl.col("systems").list.set_difference(inventories).list.sort()
    seen = pl.format(
        "only in {}, as {}{}", pl.col("systems").list.set_intersection(inventories).list.sort().list.join(", "),
        pl.col("status").fill_null("of no status"),
        pl.when(passing.list.len() > 0)
        .then(pl.format("; {} only saw it", passing.list.join(", "))).otherwise(pl.lit("")),
    )  # fmt: skip
    return shaped(unmanaged, "missing_at_managers", seen + _HINT, resembling=True)


def _alike(entries: pl.DataFrame, there: pl.DataFrame, what: pl.Expr, about: pl.Expr) -> pl.DataFrame:
    """One finding for each entry that has look-alikes nobody has ``told`` of: of the nearest, and how many more."""
    if there.is_empty():
        return NOTHING
    nearest = _nearest(entries, there).join(
        entries.select("entry", "name", "systems"), on="entry", maintain_order="left"
    )
    return shaped(nearest, "look_alike", pl.format("{}, and {}", what, _RESEMBLED), about=about, resembling=True)


def _divided(there: pl.DataFrame) -> tuple[pl.DataFrame, pl.DataFrame]:
    """The look-alikes of entries of which one is likely, or was ``told``; and those of the others, which are a hint."""
    sure = there.filter(pl.col("likely") | pl.col("told").is_not_null())
    return sure, there.join(sure, on="entry", how="anti", maintain_order="left")


def _nearest(entries: pl.DataFrame, there: pl.DataFrame) -> pl.DataFrame:
    """Of each ``entry`` the first ``other`` nobody has ``told`` of: what it is ``called``, what they ``share``, and
    how ``many`` there are.
    """
    named = entries.lazy().select(pl.col("entry").alias("other"), pl.col("name").alias("called"))
    return (
        there.lazy()
        .filter(pl.col("told").is_null())
        .sort("entry", "other")
        .group_by("entry", maintain_order=True)
        .agg(pl.col("other", "share").first(), pl.len().alias("many"))
        .join(named, on="other", maintain_order="left")
        .collect()
    )


#: What is said of the nearest, and nothing where there is none.
_RESEMBLED = pl.format(
    "{} ({}) has the same {}{}", "other", pl.col("called").fill_null("without a name"), "share",
    pl.when(pl.col("many") > 1).then(pl.format("; {} more", pl.col("many") - 1)).otherwise(pl.lit("")),
)  # fmt: skip
_HINT = pl.when(pl.col("other").is_not_null()).then(pl.format("; {}", _RESEMBLED)).otherwise(pl.lit(""))


def _missing_in(entries: pl.DataFrame, inventory: str, scope: Scope, passing: pl.Expr) -> pl.DataFrame:
    """What an inventory lacks, as far as another system than one that only sights devices knows it."""
    return entries.filter(
        pl.col("systems").list.set_difference(passing).list.len() > 0,
        pl.col("systems").list.contains(inventory).not_(), scope.expected.get(inventory, pl.lit(value=True)),
    )  # fmt: skip


def _unmanaged(
    records: pl.DataFrame, entries: pl.DataFrame, scope: Scope, resting: pl.Series | None, passing: pl.Expr
) -> pl.DataFrame:
    """What is in inventories, at no manager but those that only sight devices, and not at rest."""
    inventories = pl.lit(list(scope.inventories), dtype=pl.List(pl.String))
    unmanaged = entries.filter(
        pl.col("systems").list.set_difference(passing).list.len() == 0,
        pl.col("systems").list.set_intersection(inventories).list.len() > 0,
    )
    if not scope.all_managers or not scope.managers:
        return unmanaged.clear()
    if resting is not None:
        at_rest = records.filter(resting)["entry"].unique()
        unmanaged = unmanaged.filter(pl.col("entry").is_in(at_rest.implode()).not_())
    return unmanaged
