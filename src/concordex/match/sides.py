"""Two accounts of the same devices side by side: only here, only there, different field by field, equal."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from concordex.model.fields import FIELDS

#: What two accounts are compared by, unless other fields are named: ids, sights and each system's own words
#: for a status differ by nature.
COMPARED = (
    "name", "serial", "asset_tag", "uuid", "macs", "ips", "maker", "model", "kind", "role", "site", "location",
    "rack", "position", "os", "os_version", "user",
)  # fmt: skip

STATES = ("only here", "only there", "different", "equal")


def side_by_side(
    here: pl.DataFrame, there: pl.DataFrame, key: Sequence[str], fields: Sequence[str] = COMPARED
) -> pl.DataFrame:
    """One row for each device that is not equal in every field that both name, one for each that is.

    ``here`` and ``there`` hold ``key`` (each at most once) and fields.  The result holds ``state`` (see
    ``STATES``), the key, ``name``, and for a difference the ``field`` and what is said ``here`` and ``there``.
    """
    both = [name for name in fields if name in here.columns and name in there.columns]
    keys = list(key)
    slim = [_texts(side, keys, both) for side in (here, there)]
    met = slim[0].join(slim[1], on=keys, suffix=" there")
    plain = {name: [pl.col(f"{name}{side}").str.to_lowercase() for side in ("", " there")] for name in both}
    differs = {
        name: one.ne_missing(other) & one.is_not_null() & other.is_not_null() for name, (one, other) in plain.items()
    }
    parts = [_alone(slim[0], slim[1], keys, "only here"), _alone(slim[1], slim[0], keys, "only there")]
    parts += [
        met.filter(differs[name]).select(
            pl.lit("different").alias("state"), *keys, _name(met), pl.lit(name).alias("field"),
            pl.col(name).alias("here"), pl.col(f"{name} there").alias("there"),
        )
        for name in both
    ]  # fmt: skip
    same = met.filter(pl.any_horizontal(differs.values()).not_()) if both else met
    parts.append(same.select(pl.lit("equal").alias("state"), *keys, _name(met), *_nothing()))
    order = pl.col("state").replace_strict(list(STATES), range(len(STATES)), return_dtype=pl.Int8)
    rank = pl.col("field").replace_strict(list(FIELDS), range(len(FIELDS)), default=99, return_dtype=pl.Int8)
    return pl.concat(parts, how="vertical_relaxed").sort(order, *keys, rank, nulls_last=True)


def _texts(side: pl.DataFrame, keys: list[str], fields: Sequence[str]) -> pl.DataFrame:
    names = dict.fromkeys([*fields, "name"])
    lists = [name for name in names if isinstance(side.schema.get(name), pl.List)]
    columns = [
        pl.col(name).list.sort().list.join(", ").replace("", None).alias(name) if name in lists
        else pl.col(name).cast(pl.String) if name in side.columns else pl.lit(None, dtype=pl.String).alias(name)
        for name in names
    ]  # fmt: skip
    return side.select(*keys, *columns)


def _alone(side: pl.DataFrame, other: pl.DataFrame, keys: list[str], state: str) -> pl.DataFrame:
    return side.join(other, on=keys, how="anti").select(pl.lit(state).alias("state"), *keys, "name", *_nothing())


def _nothing() -> list[pl.Expr]:
    return [pl.lit(None, dtype=pl.String).alias(name) for name in ("field", "here", "there")]


def _name(met: pl.DataFrame) -> pl.Expr:
    return pl.coalesce("name", "name there").alias("name") if "name there" in met.columns else pl.col("name")
