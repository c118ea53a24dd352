"""Pairs of records that may be one device, and the evidence for and against each.

Candidates come from shared keys, never from all pairs.  One row is one pair, one column one kind
of evidence, so that a score may take the place of today's rules without another loop.
"""

from __future__ import annotations

import polars as pl

#: Keys that more records share than this make no pairs: their number would grow as its square.
MOST_SHARING = 12

EVIDENCE = ("reference", "serial", "uuid", "mac", "name")


def candidates(keyed: pl.DataFrame) -> pl.DataFrame:
    """All pairs ``a < b`` of rows that share a key, with a yes or no for each kind of evidence."""
    tokens = pl.concat([*_tokens(keyed), _references(keyed)])
    sharing = tokens.group_by("evidence", "key").len().filter(pl.col("len").is_between(2, MOST_SHARING))
    grouped = tokens.join(sharing.drop("len"), on=["evidence", "key"])
    joined = grouped.join(grouped, on=["evidence", "key"], suffix="_b").filter(pl.col("row") < pl.col("row_b"))
    said = [(pl.col("evidence") == kind).any().alias(kind) for kind in EVIDENCE]
    return joined.group_by(pl.col("row").alias("a"), pl.col("row_b").alias("b")).agg(said).sort("a", "b")


def with_sides(pairs: pl.DataFrame, keyed: pl.DataFrame) -> pl.DataFrame:
    """``pairs`` with what both records say, and what speaks against them being one."""
    sides = keyed.select("row", "system", "serial_key", "name_key", "mac_keys", "kind")
    full = pairs
    for side in ("a", "b"):
        names = {name: f"{name}_{side}" for name in sides.columns if name != "row"}
        full = full.join(sides.rename(names), left_on=side, right_on="row", how="left", maintain_order="left")
    full = full.with_columns(_serial_distance(full))
    differ = pl.col("serial_key_a") != pl.col("serial_key_b")
    kinds = pl.col("kind_a") != pl.col("kind_b")
    vague = pl.col("kind_a").is_in(["other"]) | pl.col("kind_b").is_in(["other"])
    return full.with_columns(
        same_system=pl.col("system_a") == pl.col("system_b"),
        mistyped=differ.fill_null(False) & (pl.col("distance") <= 1),
        serials_differ=differ.fill_null(False) & (pl.col("distance") > 1),
        names_differ=(pl.col("name_key_a") != pl.col("name_key_b")).fill_null(False) & _neither_begins_the_other(),
        kinds_differ=(kinds & vague.not_()).fill_null(False),
    )


def _tokens(keyed: pl.DataFrame) -> list[pl.DataFrame]:
    named = keyed.drop_nulls("name_key").with_columns(
        pl.coalesce("serial_key", pl.format("row {}", "row")).alias("who")
    )
    unique_names = named.filter(pl.col("who").n_unique().over("system", "name_key") == 1)
    macs = keyed.select("row", pl.col("mac_keys").alias("key")).explode("key").drop_nulls("key")
    found = {
        "serial": keyed.drop_nulls("serial_key").select("row", pl.col("serial_key").alias("key")),
        "uuid": keyed.drop_nulls("uuid_key").select("row", pl.col("uuid_key").alias("key")),
        "mac": macs,
        "name": unique_names.select("row", pl.col("name_key").alias("key")),
    }
    return [
        frame.with_columns(pl.lit(kind).alias("evidence")).select("row", "key", "evidence")
        for kind, frame in found.items()
    ]


def _references(keyed: pl.DataFrame) -> pl.DataFrame:
    """A record that names another by system and id shares a key with it."""
    own = keyed.select("row", pl.format("{}/{}", "system", "record_id").alias("key"))
    named = keyed.drop_nulls("reference").select("row", pl.col("reference").alias("key"))
    meant = own.join(named.select("key").unique(), on="key", how="semi")
    return pl.concat([meant, named]).with_columns(pl.lit("reference").alias("evidence"))


def _serial_distance(full: pl.DataFrame) -> pl.Series:
    """Typing errors (insert, drop, replace, swap neighbours) between the serials of each pair; -1 unknown."""
    both = full.select("serial_key_a", "serial_key_b").with_row_index("at").drop_nulls()
    both = both.filter(pl.col("serial_key_a") != pl.col("serial_key_b"))
    distances = pl.Series("distance", [-1], dtype=pl.Int32).new_from_index(0, full.height)
    if both.is_empty():
        return distances
    from rapidfuzz.distance import OSA
    from rapidfuzz.process import cpdist

    found = cpdist(both["serial_key_a"].to_list(), both["serial_key_b"].to_list(), scorer=OSA.distance)
    return distances.scatter(both["at"], pl.Series(found, dtype=pl.Int32))


def _neither_begins_the_other() -> pl.Expr:
    a, b = pl.col("name_key_a"), pl.col("name_key_b")
    return (a.str.starts_with(b) | b.str.starts_with(a)).not_().fill_null(False)
