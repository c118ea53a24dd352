"""What a record says of its own identity, made comparable, and how far it can be trusted.

A serial that stands for "nothing", a MAC that was made up by its device (IEEE 802, locally
administered), belongs to a virtual router (RFC 9568) or is shown by several devices, a name that
several records of one system bear: none of these tells devices apart, and none is used.
"""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

#: Serials that mean "nothing", as they are compared: capitals, letters and digits only.
PLACEHOLDERS = frozenset(
    [
        "NA", "NONE", "NULL", "NIL", "TBD", "TBA", "UNKNOWN", "DEFAULT", "DEFAULTSTRING", "EMPTY", "INVALID",
        "NOTAPPLICABLE", "NOTAVAILABLE", "NOTSPECIFIED", "NOSERIAL", "SERIAL", "SERIALNUMBER", "SYSTEMSERIALNUMBER",
        "CHASSISSERIALNUMBER", "TOBEFILLED", "TOBEFILLEDBYOEM", "0123456789", "123456789", "1234567890",
    ]
)  # fmt: skip

#: A value that more records of one system bear than this names no device.
MOST_BEARERS = 3


def identities(records: pl.DataFrame, placeholders: Sequence[str] = ()) -> pl.DataFrame:
    """One row for each record, numbered by ``row``, with the keys by which it may be recognised.

    ``serial_key``, ``uuid_key``, ``name_key`` are texts or missing; ``mac_keys`` is a list.
    """
    extra = [_bare(word) for word in placeholders]
    keyed = records.with_row_index("row").with_columns(
        _serial_key(extra).alias("serial_key"),
        pl.col("uuid").str.to_lowercase().alias("uuid_key"),
        _name_key().alias("name_key"),
        pl.col("macs").list.eval(pl.element().filter(_assigned(pl.element()))).alias("mac_keys"),
    )
    return _without_shared_macs(_without_common(_without_common(keyed, "serial_key"), "uuid_key"))


def _bare(word: str) -> str:
    return "".join(sign for sign in word.upper() if sign.isalnum())


def _serial_key(extra: Sequence[str]) -> pl.Expr:
    bare = pl.col("serial").str.to_uppercase().str.replace_all(r"[^\p{L}\p{N}]", "")
    nothing = bare.is_in([*PLACEHOLDERS, *extra]) | (bare.str.len_chars() < 4)
    one_sign = bare.str.strip_chars(bare.str.slice(0, 1)).str.len_chars() == 0
    return pl.when(nothing | one_sign).then(None).otherwise(bare)


def _name_key() -> pl.Expr:
    """The short name in small letters: a domain behind it says where, not which."""
    return pl.col("name").str.to_lowercase().str.strip_chars().str.replace(r"^([^.\s/]+)(\.[a-z][a-z0-9-]*)+$", "${1}")


def _assigned(mac: pl.Expr) -> pl.Expr:
    """Universally administered, to one card, and not a virtual router's."""
    local_or_group = mac.str.contains(r"^.[13579bdf2367ae]")
    virtual = mac.str.contains(r"^00:00:5e:00:0[12]:") | mac.is_in(["00:00:00:00:00:00"])
    return (local_or_group | virtual).not_()


def _without_common(keyed: pl.DataFrame, key: str) -> pl.DataFrame:
    """Drop keys that several differently named records of one system bear."""
    common = (
        keyed.drop_nulls(key)
        .group_by("system", key)
        .agg(pl.col("name_key").n_unique().alias("names"))
        .filter(pl.col("names") >= MOST_BEARERS)
    )
    return keyed.with_columns(
        pl.when(pl.col(key).is_in(common[key].implode())).then(None).otherwise(pl.col(key)).alias(key)
    )


def _without_shared_macs(keyed: pl.DataFrame) -> pl.DataFrame:
    """Drop MACs that several devices of one system show: docks, adapters, bases of stacks.

    Records of one system with the same serial are one device enrolled twice and may share.
    """
    who = pl.coalesce(pl.col("serial_key"), pl.format("row {}", "row"))
    shown = (
        keyed.select("row", "system", who.alias("who"), pl.col("mac_keys").alias("mac"))
        .explode("mac")
        .drop_nulls("mac")
    )
    shared = (
        shown.group_by("system", "mac").agg(pl.col("who").n_unique().alias("bearers")).filter(pl.col("bearers") > 1)
    )
    own = (
        shown.join(shared.select("mac").unique(), on="mac", how="anti")
        .group_by("row")
        .agg(pl.col("mac").unique(maintain_order=True))
    )
    return (
        keyed.drop("mac_keys")
        .join(own.rename({"mac": "mac_keys"}), on="row", how="left", maintain_order="left")
        .with_columns(pl.col("mac_keys").fill_null(pl.lit([], dtype=pl.List(pl.String))))
    )
