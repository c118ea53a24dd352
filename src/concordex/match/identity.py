"""What a record says of its own identity, made comparable; the raw values stay beside it.

Serials lose case, spaces, labels, leading zeros and the prefixes that the data itself shows to be
optional; UUIDs the byte order in which firmware wrote them (SMBIOS writes the first three parts
little-endian); names their domain.  MACs are told apart into cards that makers numbered and those
that devices make up (IEEE 802, locally administered); a virtual router's (RFC 9568) is nobody's.
"""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

#: Serials that mean "nothing", as they are compared: capitals, letters and digits only.
PLACEHOLDERS = frozenset(
    [
        "NA", "NONE", "NULL", "NIL", "TBD", "TBA", "UNKNOWN", "DEFAULT", "DEFAULTSTRING", "EMPTY", "INVALID",
        "NOTAPPLICABLE", "NOTAVAILABLE", "NOTSPECIFIED", "NOSERIAL", "SERIAL", "SERIALNUMBER", "SYSTEMSERIALNUMBER",
        "CHASSISSERIALNUMBER", "TOBEFILLED", "TOBEFILLEDBYOEM", "123456789", "1234567890", "1234567", "12345678",
        "123456", "12345", "1234",
    ]
)  # fmt: skip

#: Names are cut at this length by what follows NetBIOS (RFC 1001: fifteen characters and a suffix).
CUT = 15

#: A prefix counts as optional when this many serials are known with it and without.
_PREFIX_SEEN = 5

_LABEL = r"^(?:S\s*/\s*N|SN|SERIAL(?:\s*(?:NO|NUMBER))?)\s*[:#.\s]\s*"
_SEVERAL = r"\s*[,;|]\s*|\s+/\s+"
#: Addresses of virtual routers (VRRP, RFC 9568), and those that are none.
VIRTUAL = r"^(?:00:00:5e:00:0[12]:|00:00:00:00:00:00$|ff:ff:ff:ff:ff:ff$)"
_DRAWN = r"^.[26ae]"
#: Numbered by hand or by default, as virtual cards are: many machines have the same.
_NUMBERED = r"(?:00:){3}"
_GROUP = r"^.[13579bdf]"


def identities(records: pl.DataFrame, placeholders: Sequence[str] = ()) -> pl.DataFrame:
    """One row for each record, numbered by ``row``, with the keys by which it may be recognised.

    ``serial_key``, ``uuid_key``, ``tag_key``, ``name_key`` are texts or missing; ``mac_keys`` (cards that
    makers numbered) and ``drawn_macs`` (that devices made up) are lists; ``members`` holds the
    serials that a record names beside its own.
    """
    nothing = [*PLACEHOLDERS, *("".join(s for s in word.upper() if s.isalnum()) for word in placeholders)]
    cards = pl.col("macs").list
    keyed = records.with_row_index("row").with_columns(
        *_serials(nothing),
        _uuid().alias("uuid_key"),
        _bare("asset_tag").alias("tag_key"),
        _name().alias("name_key"),
        cards.filter(pl.element().str.contains(f"{VIRTUAL}|{_DRAWN}|{_GROUP}").not_()).alias("mac_keys"),
        cards.filter(
            pl.element().str.contains(_DRAWN) & pl.element().str.contains(f"{VIRTUAL}|{_NUMBERED}").not_()
        ).alias("drawn_macs"),
    )  # fmt: skip
    return _without_prefixes(keyed)


def _serials(nothing: Sequence[str]) -> list[pl.Expr]:
    """The record's own serial, and those that it names besides: a stack may speak with one voice."""
    said = pl.col("serial").str.to_uppercase().str.strip_chars().str.replace(_LABEL, "")
    parts = said.str.replace_all(_SEVERAL, "|").str.split("|")
    several = said.str.contains(_SEVERAL)
    own = _told(pl.when(several).then(parts.list.first()).otherwise(said))
    one_sign = own.str.strip_chars(own.str.slice(0, 1)).str.len_chars() == 0
    meant = (own.is_in(nothing) | (own.str.len_chars() < 4) | one_sign).not_()
    rest = parts.list.slice(1).list.eval(_told(pl.element()))
    return [pl.when(meant).then(own).alias("serial_key"), pl.when(several).then(rest).alias("members")]


def _told(said: pl.Expr) -> pl.Expr:
    return said.str.replace_all(r"[^\p{L}\p{N}]", "").str.strip_chars_start("0")


def _bare(column: str) -> pl.Expr:
    key = _told(pl.col(column).str.to_uppercase())
    return pl.when(key.str.len_chars() > 1).then(key)


def _uuid() -> pl.Expr:
    """The UUID without signs, in the lesser of its two byte orders; other texts as they are."""
    plain = pl.col("uuid").str.to_lowercase().str.replace_all(r"[^0-9a-z]", "")
    turned = plain.str.replace("^(..)(..)(..)(..)(..)(..)(..)(..)(.{16})$", "${4}${3}${2}${1}${6}${5}${8}${7}${9}")
    empty = plain.str.contains("^(?:0*|f*)$")
    return pl.when(empty.not_()).then(pl.min_horizontal(plain, turned))


def _name() -> pl.Expr:
    """The short name in small letters, its words joined by dashes: a domain says where, not which."""
    said = pl.col("name").str.to_lowercase().str.strip_chars().str.replace(r"\s*\([^)]*\)$", "")
    address = said.str.contains(r"^\d+\.\d+\.\d+\.\d+$")
    short = said.str.replace(r"^([^.\s/]+)(?:\.[a-z0-9-]+)*\.[a-z][a-z0-9-]*\.?$", "${1}")
    key = short.str.replace_all(r"[_\s]+", "-")
    return pl.when(address.not_() & (key.str.len_chars() > 0)).then(key)


def _without_prefixes(keyed: pl.DataFrame) -> pl.DataFrame:
    """Take off the prefixes that some systems write before a serial and others leave out.

    They are learned: a prefix is optional when many serials that bear it, and most of them, are
    known without it as well.
    """
    distinct = keyed.select(pl.col("serial_key").drop_nulls().unique().alias("serial"))
    optional = [prefix for length in range(1, 6) for prefix in _optional(distinct, length)]
    if not optional:
        return keyed
    rest = pl.coalesce(
        pl.when(pl.col("serial_key").str.starts_with(prefix)).then(
            pl.col("serial_key").str.slice(len(prefix)).str.strip_chars_start("0")
        )
        for prefix in sorted(optional, key=lambda prefix: (-len(prefix), prefix))
    )
    known = keyed.select("row", rest.alias("rest")).join(distinct, left_on="rest", right_on="serial", how="semi")
    told = keyed.join(known, on="row", how="left", maintain_order="left")
    return told.with_columns(serial_key=pl.coalesce("rest", "serial_key")).drop("rest")


def _optional(distinct: pl.DataFrame, length: int) -> list[str]:
    serial = pl.col("serial")
    letters = serial.str.contains(rf"^\p{{L}}{{{length}}}")  # a digit cut off a running number leaves another
    cut = distinct.lazy().filter(letters & (serial.str.len_chars() > length + 3))
    cut = cut.select(
        serial.str.slice(0, length).alias("prefix"), serial.str.slice(length).str.strip_chars_start("0").alias("rest")
    )
    with_both = cut.join(distinct.lazy(), left_on="rest", right_on="serial", how="semi").group_by("prefix").len("both")
    seen = with_both.filter(pl.col("both") >= _PREFIX_SEEN).join(cut.group_by("prefix").len("n"), on="prefix")
    return seen.filter(pl.col("both") * 3 > pl.col("n")).collect()["prefix"].to_list()
