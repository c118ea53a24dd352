"""What a record says of its own identity, made comparable; the raw values stay beside it.

Serials lose case, spaces, labels, leading zeros and the prefixes that the data itself shows to be
optional; UUIDs the byte order in which firmware wrote them (SMBIOS writes the first three parts
little-endian); names their domain.  MACs are told apart into cards that makers numbered and those
that devices make up (IEEE 802, locally administered); a virtual router's (RFC 9568) is nobody's.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
import polars as pl

from concordex.match.sidebyside import side_by_side
from concordex.match.sorting import Numbers, distinct

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

#: A serial of fewer signs is none.
_SHORTEST = 4

#: A prefix counts as optional when this many serials are known with it and without.
_PREFIX_SEEN = 5

#: Of the serials that bear it this share must be, and of their records with it and without this share must agree.
_PREFIX_SHARE, _PREFIX_AGREED = 0.02, 0.5

#: Serials of more records are not compared.
_PREFIX_BEARERS = 20

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
    keys = side_by_side((
        lambda: _serials(records["serial"], nothing),
        lambda: [_uuids(records["uuid"]).alias("uuid_key")],
        lambda: [_tags(records["asset_tag"]).alias("tag_key")],
        lambda: [_names(records["name"]).alias("name_key")],
        lambda: _cards(records["macs"]),
    ), records.height)  # fmt: skip
    return records.with_row_index("row").with_columns(*(key for several in keys for key in several))


def _cards(macs: pl.Series) -> list[pl.Series]:
    """The cards that makers numbered, and those that devices made up."""
    card = pl.element().str
    numbered = card.contains(f"{VIRTUAL}|{_DRAWN}|{_GROUP}").not_()
    drawn = card.contains(_DRAWN) & card.contains(f"{VIRTUAL}|{_NUMBERED}").not_()
    cards = pl.col("macs").list
    columns = macs.alias("macs").to_frame().select(
        cards.filter(numbered).alias("mac_keys"), cards.filter(drawn).alias("drawn_macs")
    )  # fmt: skip
    return columns.get_columns()


def showing(lists: pl.Series, pattern: str) -> Numbers:
    """The places of those ``lists`` of which some text matches ``pattern``, in order."""
    items = lists.drop_nulls().explode(empty_as_null=False)
    matching = items.str.contains(pattern).arg_true().to_numpy()
    ends = np.cumsum(lists.list.len().fill_null(0).to_numpy())
    return distinct(np.searchsorted(ends, matching, side="right"))


def _where_needed(texts: pl.Series, clean: str, rewritten: Callable[[pl.Expr], pl.Expr]) -> pl.Series:
    """``texts`` where it is ``clean`` already, else ``rewritten``: most is, and patterns take their time."""
    unclean = texts.str.contains(clean).not_().fill_null(value=False)
    if not unclean.any():
        return texts
    made = texts.filter(unclean).to_frame("said").select(rewritten(pl.col("said"))).to_series()
    return texts.clone().scatter(unclean.arg_true(), made)  # scatter writes in place


def _serials(serial: pl.Series, nothing: Sequence[str]) -> list[pl.Series]:
    """The record's own serial, and those that it names besides: a stack may speak with one voice."""
    texts = serial.str.to_uppercase().str.strip_chars()
    own = _where_needed(texts, "^[A-Z1-9][A-Z0-9]*$", lambda text: _told(_parts(text).list.first()))
    key = own.to_frame("own").select(pl.when(_meant(nothing)).then("own").alias("serial_key")).to_series()
    several = texts.str.contains(r"[,;|/]").fill_null(value=False)
    rest = texts.to_frame("said").select(pl.when(several).then(pl.col("said")).alias("said"))
    named = rest.select(_parts(pl.col("said")).list.slice(1).list.eval(_told(pl.element()))) if several.any() else None
    members = (
        pl.Series([None], dtype=pl.List(pl.String)).new_from_index(0, len(serial))
        if named is None
        else named.to_series()
    )
    return [key, _unless_empty(members).alias("members")]


def _parts(text: pl.Expr) -> pl.Expr:
    """Several serials in one text, apart; without what says that they are serials."""
    return text.str.replace(_LABEL, "").str.replace_all(_SEVERAL, "|").str.split("|")


def _meant(nothing: Sequence[str]) -> pl.Expr:
    """Whether a serial says something: not a word for nothing, not one sign over and over."""
    own = pl.col("own")
    one_sign = own.str.strip_chars(own.str.slice(0, 1)).str.len_bytes() == 0
    return (own.is_in(nothing) | (own.str.len_chars() < _SHORTEST) | one_sign).not_()


def _unless_empty(lists: pl.Series) -> pl.Series:
    return lists.to_frame("l").select(pl.when(pl.col("l").list.len() > 0).then("l")).to_series()


def _told(text: pl.Expr) -> pl.Expr:
    return text.str.replace_all(r"[^\p{L}\p{N}]", "").str.strip_chars_start("0")


def _tags(tag: pl.Series) -> pl.Series:
    key = _where_needed(tag.str.to_uppercase(), "^[A-Z1-9][A-Z0-9]*$", _told)
    return key.to_frame("k").select(pl.when(pl.col("k").str.len_chars() > 1).then("k")).to_series()


def _uuids(uuid: pl.Series) -> pl.Series:
    """The UUID without signs, in the lesser of its two byte orders; other texts as they are."""
    plain = _where_needed(uuid.str.to_lowercase(), "^[0-9a-z]+$", lambda text: text.str.replace_all(r"[^0-9a-z]", ""))
    key = pl.col("k")
    pieces = [key.str.slice(at, 2) for at in (6, 4, 2, 0, 10, 8, 14, 12)]
    turned = pl.when(key.str.len_bytes() == 32).then(pl.concat_str(*pieces, key.str.slice(16))).otherwise(key)
    empty = key.str.contains("^(?:0*|f*)$")
    return plain.to_frame("k").select(pl.when(empty.not_()).then(pl.min_horizontal(key, turned))).to_series()


def _names(name: pl.Series) -> pl.Series:
    """The short name in small letters, its words joined by dashes: a domain says where, not which."""
    texts = name.str.to_lowercase().str.strip_chars()
    key = _where_needed(texts, "^[a-z0-9-]+$", _short)
    return key.to_frame("k").select(pl.when(pl.col("k").str.len_bytes() > 0).then("k")).to_series()


def _short(text: pl.Expr) -> pl.Expr:
    text = text.str.replace(r"\s*\([^)]*\)$", "")
    address = text.str.contains(r"^[0-9]+\.[0-9]+\.[0-9]+\.[0-9]+$")
    short = text.str.replace(r"^([^.\s/]+)(?:\.[a-z0-9-]+)*\.[a-z][a-z0-9-]*\.?$", "${1}")
    return pl.when(address.not_()).then(short.str.replace_all(r"[_\s]+", "-"))


def optional_prefixes(keyed: pl.DataFrame) -> list[str]:
    """The prefixes that some systems write before a serial and others leave out, the longest first.

    A prefix is optional when many serials that bear it are known without it as well: most of them; or some, whose
    records with it and without agree in name, UUID or card.  ``keyed`` is as of :func:`identities`.
    """
    distinct = keyed.select("serial_key").drop_nulls().unique().rename({"serial_key": "serial"})
    seen = [_seen_without(distinct, length) for length in range(1, 6)]
    prefixes = [prefix for both in seen for prefix in _optional(both, keyed)]
    return sorted(prefixes, key=lambda prefix: (-len(prefix), prefix))


def without(keyed: pl.DataFrame, prefixes: Sequence[str]) -> pl.DataFrame:
    """``keyed`` with serials compared without those ``prefixes``, where enough is left of them."""
    if not prefixes:
        return keyed
    serial = pl.col("serial_key")
    rest = pl.coalesce(
        pl.when(serial.str.starts_with(prefix)).then(serial.str.slice(len(prefix)).str.strip_chars_start("0"))
        for prefix in prefixes
    )
    return keyed.with_columns(
        pl.when(rest.str.len_chars() >= _SHORTEST).then(rest).otherwise(serial).alias("serial_key")
    )


def _seen_without(distinct: pl.DataFrame, length: int) -> pl.DataFrame:
    """Serials that are known without their first letters as well: ``prefix``, ``serial``, ``rest``, and how many bear
    the prefix at all."""
    serial = pl.col("serial")
    letters = serial.str.contains(rf"^\p{{L}}{{{length}}}")  # a digit cut off a running number leaves another
    cut = distinct.lazy().filter(letters & (serial.str.len_chars() > length + 3))
    cut = cut.select(
        serial, serial.str.slice(0, length).alias("prefix"),
        serial.str.slice(length).str.strip_chars_start("0").alias("rest"),
    ).with_columns(pl.len().over("prefix").alias("n"))  # fmt: skip
    both = cut.join(distinct.lazy(), left_on="rest", right_on="serial", how="semi")
    return both.filter(pl.len().over("prefix") >= _PREFIX_SEEN).collect()


def _optional(both: pl.DataFrame, keyed: pl.DataFrame) -> list[str]:
    some = both.filter(pl.len().over("prefix") > pl.col("n") * _PREFIX_SHARE)
    if some.is_empty():
        return []
    keys = keyed.select("serial_key", "name_key", "uuid_key", pl.col("mac_keys").list.first().alias("card"))
    keys = keys.filter(pl.len().over("serial_key") <= _PREFIX_BEARERS)
    bare = keys.join(some.select("rest"), left_on="serial_key", right_on="rest", how="semi")
    pairs = some.join(keys, left_on="serial", right_on="serial_key").join(
        bare, left_on="rest", right_on="serial_key", suffix="_bare"
    )
    agree = [pl.col(name) == pl.col(f"{name}_bare") for name in ("name_key", "uuid_key", "card")]
    counts = pairs.group_by("prefix").agg(
        pl.any_horizontal(agree).mean().alias("agree"), pl.any_horizontal(agree).count().alias("compared")
    )
    counted = (
        some.group_by("prefix").agg(pl.len().alias("both"), pl.col("n").first()).join(counts, on="prefix", how="left")
    )
    sure = (pl.col("compared") >= _PREFIX_SEEN) & (pl.col("agree") > _PREFIX_AGREED)
    unknown = (pl.col("compared").fill_null(0) < _PREFIX_SEEN) & (pl.col("both") * 3 > pl.col("n"))
    return counted.filter(sure | unknown)["prefix"].to_list()
