"""What systems say, made into values that compare: whole columns at a time.

Each conversion takes a text expression and gives an expression of the target type; what cannot be
converted becomes missing, and the caller counts it.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import Any

import orjson
import polars as pl

from concordex.model.fields import Type
from concordex.model.scalars import MISSING_WORDS, NO, YES

_MISSING = sorted({form(word) for word in MISSING_WORDS for form in (str.lower, str.upper, str.title, str.capitalize)})

Conversion = Callable[[pl.Expr], pl.Expr]


def text(expr: pl.Expr) -> pl.Expr:
    """Trimmed; empty, a dash and N/A are missing."""
    trimmed = expr.str.strip_chars()
    return pl.when(trimmed.is_in(_MISSING).not_()).then(trimmed)


def lower(expr: pl.Expr) -> pl.Expr:
    """Text in small letters."""
    return text(expr).str.to_lowercase()


def upper(expr: pl.Expr) -> pl.Expr:
    """Text in capitals."""
    return text(expr).str.to_uppercase()


def slug(expr: pl.Expr) -> pl.Expr:
    """A label as a code: ``Cobble Quay`` becomes ``cobble-quay``."""
    return lower(expr).str.replace_all(r"[^\p{L}\p{N}]+", "-").str.strip_chars("-")


def mac(expr: pl.Expr) -> pl.Expr:
    """A MAC address (IEEE EUI-48) in any notation, as ``0a:1b:2c:3d:4e:5f``."""
    digits = expr.str.to_lowercase()
    for separator in (":", "-", ".", " "):
        digits = digits.str.replace_all(separator, "", literal=True)
    written = digits.str.replace(r"^(..)(..)(..)(..)(..)(..)$", "${1}:${2}:${3}:${4}:${5}:${6}")
    return pl.when(digits.str.contains(r"^[0-9a-f]{12}$")).then(written)


def ip(expr: pl.Expr) -> pl.Expr:
    """An IPv4 or IPv6 address without prefix length or zone, in canonical text (RFC 5952)."""
    bare = expr.str.strip_chars().str.replace(r"[/%].*$", "")
    six = distinct(pl.when(bare.str.contains(":", literal=True)).then(bare), _six)
    return pl.when(bare.str.contains(_FOUR)).then(bare).otherwise(six)


#: Digits are those of ASCII, here as in all these patterns: those of any script take three times as long to prepare.
_OCTET = r"(?:25[0-5]|2[0-4][0-9]|1[0-9][0-9]|[1-9]?[0-9])"
_FOUR = rf"^{_OCTET}(?:\.{_OCTET}){{3}}$"
_CARD = r"^[0-9a-f]{2}(?::[0-9a-f]{2}){5}$"


def unless_all(pattern: str, convert: Conversion) -> Conversion:
    """``convert``, skipped where every value is written as ``pattern`` asks already."""

    def apply(series: pl.Series) -> pl.Series:
        if series.str.contains(pattern).all():
            return series
        return series.to_frame("v").select(convert(pl.col("v"))).to_series().alias(series.name)

    return lambda expr: expr.map_batches(apply, return_dtype=pl.String(), is_elementwise=True)


def iso(expr: pl.Expr) -> pl.Expr:
    """An ISO 8601 time or date; UTC where it names no zone."""
    tidy = text(expr).str.replace("[Zz]$", "+00:00").str.replace(r"^([0-9]{4}-[0-9][0-9]-[0-9][0-9]) ", "${1}T")
    zoned = tidy.str.to_datetime("%Y-%m-%dT%H:%M:%S%.f%z", strict=False, time_unit="us", time_zone="UTC")
    bare = tidy.str.to_datetime("%Y-%m-%dT%H:%M:%S%.f", strict=False, time_unit="us")
    date = tidy.str.to_datetime("%Y-%m-%d", strict=False, time_unit="us")
    return pl.coalesce(zoned, bare.dt.replace_time_zone("UTC"), date.dt.replace_time_zone("UTC"))


def http_date(expr: pl.Expr) -> pl.Expr:
    """The date of mail and HTTP: ``Mon, 23 Nov 2026 07:22:19 GMT`` (RFC 1123, RFC 9110)."""
    tidy = text(expr).str.replace(r"^[A-Za-z]{3}, ", "").str.replace(r"(?:GMT|UTC|UT)$", "+0000")
    return tidy.str.to_datetime("%d %b %Y %H:%M:%S %z", strict=False, time_unit="us", time_zone="UTC")


def epoch(expr: pl.Expr) -> pl.Expr:
    """Seconds since 1970, whole or not; nought is missing."""
    return _since_1970(expr, 1_000_000)


def epoch_ms(expr: pl.Expr) -> pl.Expr:
    """Milliseconds since 1970; nought is missing."""
    return _since_1970(expr, 1_000)


def number(expr: pl.Expr) -> pl.Expr:
    """A number, with or without commas between thousands; what is none, or not finite, is missing."""
    texts = text(expr)
    grouped = texts.str.contains(r"^[+-]?[0-9]{1,3}(,[0-9]{3})+(\.[0-9]+)?$")
    bare = pl.when(grouped).then(texts.str.replace_all(",", "", literal=True)).otherwise(texts)
    value = bare.cast(pl.Float64, strict=False)
    return pl.when(value.is_finite()).then(value)


def flag(expr: pl.Expr) -> pl.Expr:
    """Yes or no, as systems write it."""
    texts = lower(expr)
    return pl.when(texts.is_in(YES)).then(True).when(texts.is_in(NO)).then(False)


CONVERSIONS: dict[str, Conversion] = {
    "text": text, "lower": lower, "upper": upper, "slug": slug, "version": text, "mac": unless_all(_CARD, mac),
    "ip": unless_all(_FOUR, ip), "iso": iso,
    "http_date": http_date, "ago": iso, "epoch": epoch, "epoch_ms": epoch_ms, "number": number, "flag": flag,
}  # fmt: skip


def distinct(expr: pl.Expr, function: Callable[[Any], Any], dtype: pl.DataType | None = None) -> pl.Expr:
    """``function`` of each value, called once for each distinct value; a missing one stays missing.

    For what no expression can say, on columns that hold few distinct values.
    """
    target = dtype or pl.String()

    def apply(series: pl.Series) -> pl.Series:
        words = series.unique().drop_nulls()
        if words.is_empty():
            return pl.Series(series.name, [None], dtype=target).new_from_index(0, len(series))
        answers = pl.Series([function(word) for word in words], dtype=target)
        return series.replace_strict(words, answers, default=None, return_dtype=target)

    return expr.map_batches(apply, return_dtype=target, is_elementwise=True)


def as_texts(values: Sequence[object]) -> pl.Series:
    """What each record said of one field, as text: numbers and flags as JSON writes them."""
    first = next((value for value in values if value is not None), None)
    try:
        if isinstance(first, str):
            return pl.Series(values, dtype=pl.String)
        if type(first) is int and bool not in set(map(type, values)):  # a flag among numbers is none
            return pl.Series(values, dtype=pl.Int64).cast(pl.String)
    except (TypeError, OverflowError):
        pass  # of several kinds: one by one
    return pl.Series([_as_text(value) for value in values], dtype=pl.String)


def said_something(name: str, conversion: str) -> pl.Expr:
    """Whether the text in column ``name`` says anything that ``conversion`` should have read."""
    texts = text(pl.col(name))
    return (texts.is_not_null() & (texts != "0")) if conversion.startswith("epoch") else texts.is_not_null()


@lru_cache(1_000)  # each page of a list asks for the same
def converted(name: str, kind: Type, conversion: str) -> pl.Expr:
    """The text in column ``name`` as a value of type ``kind``; of a list type, a list of one."""
    value = CONVERSIONS[conversion](pl.col(name))
    if kind.is_list:  # as one step: an expression that says the value twice converts it twice
        return value.map_batches(_as_lists, return_dtype=kind.dtype, is_elementwise=True).alias(name)
    return value.cast(kind.dtype).alias(name)


def _as_lists(values: pl.Series) -> pl.Series:
    each = pl.col("value")
    return values.to_frame("value").select(pl.when(each.is_not_null()).then(pl.concat_list(each))).to_series()


def list_column(cells: Sequence[object], conversion: str) -> tuple[pl.Series, int]:
    """A column of lists from what each record said, and how many said values could not be read."""
    rows: list[int] = []
    values: list[str | None] = []
    for row, value in enumerate(cells):
        if value is not None:
            items = value if isinstance(value, list) else [value]
            rows += [row] * len(items)
            values += [_as_text(item) for item in items]
    flat = pl.DataFrame({"row": pl.Series(rows, dtype=pl.Int64), "said": pl.Series(values, dtype=pl.String)})
    flat = flat.select("row", CONVERSIONS[conversion](pl.col("said")).alias("out"), text(pl.col("said")).alias("said"))
    lost = flat["said"].count() - flat.drop_nulls("said")["out"].count()
    lists = flat.drop_nulls("out").group_by("row").agg(pl.col("out").unique(maintain_order=True))
    every = pl.DataFrame({"row": pl.int_range(len(cells), dtype=pl.Int64, eager=True)})
    return every.join(lists, on="row", how="left", maintain_order="left")["out"], lost


def _as_text(value: object) -> str | None:
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value) if isinstance(value, int | float) else orjson.dumps(value).decode()


def _since_1970(expr: pl.Expr, microseconds: int) -> pl.Expr:
    ticks = (text(expr).cast(pl.Float64, strict=False) * microseconds).round(0).cast(pl.Int64, strict=False)
    return pl.when(ticks > 0).then(ticks).cast(pl.Datetime("us")).dt.replace_time_zone("UTC")


def _six(address: str) -> str | None:
    try:
        return str(ipaddress.ip_address(address))
    except ValueError:
        return None
