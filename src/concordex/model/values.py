"""What systems say, made into values that compare: whole columns at a time.

Each conversion takes a text expression and gives an expression of the target type; what cannot be
converted becomes missing, and the caller counts it.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from typing import Any

import orjson
import polars as pl

from concordex.model.fields import Type

#: Ways of saying that nothing is there.
MISSING_WORDS = ("", "-", "--", "n/a", "none", "null", "nil")

Conversion = Callable[[pl.Expr], pl.Expr]


def text(expr: pl.Expr) -> pl.Expr:
    """Trimmed; empty, a dash and N/A are missing."""
    trimmed = expr.str.strip_chars()
    return pl.when(trimmed.str.to_lowercase().is_in(MISSING_WORDS)).then(None).otherwise(trimmed)


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
    digits = expr.str.to_lowercase().str.replace_all(r"[\s:.\-]", "")
    written = digits.str.replace(r"^(..)(..)(..)(..)(..)(..)$", "${1}:${2}:${3}:${4}:${5}:${6}")
    return pl.when(digits.str.contains(r"^[0-9a-f]{12}$")).then(written)


def ip(expr: pl.Expr) -> pl.Expr:
    """An IPv4 or IPv6 address without prefix length or zone, in canonical text (RFC 5952)."""
    bare = expr.str.strip_chars().str.replace(r"[/%].*$", "")
    octet = r"(?:25[0-5]|2[0-4]\d|1\d\d|[1-9]?\d)"
    four = bare.str.contains(rf"^{octet}(?:\.{octet}){{3}}$")
    return pl.when(four).then(bare).otherwise(distinct(pl.when(bare.str.contains(":")).then(bare), _six))


def iso(expr: pl.Expr) -> pl.Expr:
    """An ISO 8601 time or date; UTC where it names no zone."""
    tidy = text(expr).str.replace("[Zz]$", "+00:00").str.replace(r"^(\d{4}-\d\d-\d\d) ", "${1}T")
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
    """A number."""
    return text(expr).cast(pl.Float64, strict=False)


def flag(expr: pl.Expr) -> pl.Expr:
    """Yes or no, as systems write it."""
    said = lower(expr)
    yes, no = said.is_in(["true", "yes", "1", "on"]), said.is_in(["false", "no", "0", "off"])
    return pl.when(yes).then(True).when(no).then(False)


CONVERSIONS: dict[str, Conversion] = {
    "text": text, "lower": lower, "upper": upper, "slug": slug, "version": text, "mac": mac, "ip": ip, "iso": iso,
    "http_date": http_date, "epoch": epoch, "epoch_ms": epoch_ms, "number": number, "flag": flag,
}  # fmt: skip

BY_TYPE: dict[Type, str] = {
    Type.TEXT: "text", Type.VERSION: "version", Type.TIME: "iso", Type.NUMBER: "number", Type.FLAG: "flag",
    Type.MACS: "mac", Type.IPS: "ip", Type.TEXTS: "text",
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


def column(said: Sequence[object], kind: Type, conversion: str) -> tuple[pl.Series, int]:
    """A column of type ``kind`` from what each record said, and how many said values were lost."""
    convert = CONVERSIONS[conversion]
    if kind.is_list:
        return _list_column(said, convert)
    given = pl.Series("v", [_as_text(value) for value in said], dtype=pl.String)
    said_text = _nothing_at_nought(conversion, text(pl.col("v")))
    both = given.to_frame().select(convert(pl.col("v")).alias("out"), said_text.alias("said"))
    out = both["out"].cast(kind.dtype)
    return out, both["said"].count() - out.count()


def version_parts(said: str) -> tuple[tuple[int, int, str], ...]:
    """A version by its parts: numbers as numbers, words as words, ``rc`` and its like before the release.

    ``7.2.9 < 7.2.10``, ``7.2.0-rc1 < 7.2 == 7.2.0 < 7.2a``.
    """
    parts: list[tuple[int, int, str]] = []
    for number, word in re.findall(r"(\d+)|([A-Za-z]+)", said.strip().lower().removeprefix("v")):
        if word:
            _drop_noughts(parts)
            parts.append((-1 if word in _BEFORE_RELEASE else 1, 0, word))
        else:
            parts.append((2, int(number), ""))
    _drop_noughts(parts)
    return (*parts, (0, 0, ""))


_BEFORE_RELEASE = frozenset(["alpha", "beta", "dev", "pre", "preview", "rc"])


def _drop_noughts(parts: list[tuple[int, int, str]]) -> None:
    while parts and parts[-1] == (2, 0, ""):  # 7.2 and 7.2.0 are one version
        parts.pop()


def parse_time(said: str) -> datetime | None:
    """One ISO 8601 time or date as UTC, or None."""
    try:
        moment = datetime.fromisoformat(said)
    except ValueError:
        return None
    return moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment.astimezone(UTC)


def _list_column(said: Sequence[object], convert: Conversion) -> tuple[pl.Series, int]:
    lists = [_as_texts(value) for value in said]
    frame = pl.DataFrame({"v": pl.Series(lists, dtype=pl.List(pl.String))})
    if frame.is_empty():
        return frame["v"], 0
    flat = (
        frame.with_row_index("row")
        .explode("v")
        .with_columns(convert(pl.col("v")).alias("out"), text(pl.col("v")).alias("said"))
    )
    lost = flat["said"].count() - flat.filter(pl.col("said").is_not_null())["out"].count()
    kept = flat.drop_nulls("out").group_by("row", maintain_order=True).agg(pl.col("out").unique(maintain_order=True))
    rows = frame.select(pl.int_range(pl.len(), dtype=pl.get_index_type()).alias("row"))
    return rows.join(kept, on="row", how="left", maintain_order="left")["out"], lost


def _as_text(value: object) -> str | None:
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value) if isinstance(value, int | float) else orjson.dumps(value).decode()


def _as_texts(value: object) -> list[str | None]:
    if value is None:
        return []
    return [_as_text(item) for item in value] if isinstance(value, list) else [_as_text(value)]


def _nothing_at_nought(conversion: str, said: pl.Expr) -> pl.Expr:
    return pl.when(said != "0").then(said) if conversion.startswith("epoch") else said


def _since_1970(expr: pl.Expr, microseconds: int) -> pl.Expr:
    ticks = (text(expr).cast(pl.Float64, strict=False) * microseconds).round(0).cast(pl.Int64, strict=False)
    return pl.when(ticks > 0).then(ticks).cast(pl.Datetime("us")).dt.replace_time_zone("UTC")


def _six(said: str) -> str | None:
    try:
        return str(ipaddress.ip_address(said))
    except ValueError:
        return None
