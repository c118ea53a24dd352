"""Two states in, their differences out: what a target holds against what it should hold."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, date, datetime
from decimal import Decimal
from typing import Any

import polars as pl

from concordex.change.reasons import Reasons, Why, because
from concordex.model.folded import BETWEEN, folded
from concordex.model.scalars import parse_time

Owners = Mapping[str, str]
#: For each entry the fields that differ: what is there, and what shall be.
Differences = dict[str, dict[str, tuple[Any, Any]]]


def differences(wanted: pl.DataFrame, actual: pl.DataFrame, owners: Owners) -> Differences:
    """For each entry that both hold: the fields to be written, as ``{field: (was, shall)}``.

    Both frames have ``entry`` and the fields.  A field that is ``theirs`` or ``when_made`` is never
    compared; one that is ``when_empty`` differs only where nothing stands.  A value that we do not have is no
    reason to erase theirs.  Of a list, each value that the target holds and we know is right.
    """
    compared = [name for name, owner in owners.items() if owner not in ("theirs", "when_made")]
    sides = [frame.select("entry", *(n for n in compared if n in frame.columns)) for frame in (wanted, actual)]
    both = sides[0].join(sides[1], on="entry", suffix="_was")
    differing: Differences = {}
    for field in compared:
        if field not in wanted.columns or f"{field}_was" not in both.columns:
            continue
        differs = _differs(both, field)
        if owners[field] == "when_empty":
            differs &= _empty(both, f"{field}_was")
        rows = both.filter(differs).select("entry", f"{field}_was", field)
        for entry, before, desired in rows.iter_rows():
            differing.setdefault(entry, {})[field] = (before, desired)
    return differing


def parted(
    differing: Differences, written: Mapping[str, Mapping[str, Any]]
) -> tuple[Differences, dict[str, dict[str, tuple[Any, Any, Any]]]]:
    """The differences that are ours to write, and those where somebody else has written since we did.

    ``written`` holds for each entry what we wrote last, as it was read back.  A field that we wrote and that
    is no longer so was altered by others: ``{field: (written, is, shall)}``.
    """
    if not written:
        return differing, {}
    ours: Differences = {}
    edited: dict[str, dict[str, tuple[Any, Any, Any]]] = {}
    for entry, fields in differing.items():
        last = written.get(entry, {})
        for name, (now, desired) in fields.items():
            if name in last and not same(now, last[name]):
                edited.setdefault(entry, {})[name] = (last[name], now, desired)
            else:
                ours.setdefault(entry, {})[name] = (now, desired)
    return ours, edited


def _is_list(frame: pl.DataFrame, name: str) -> bool:
    return isinstance(frame.schema[name], pl.List)


def _empty(frame: pl.DataFrame, name: str) -> pl.Expr:
    missing = pl.col(name).is_null()
    return missing | (pl.col(name).list.len() == 0) if _is_list(frame, name) else missing


def _differs(both: pl.DataFrame, field: str) -> pl.Expr:
    desired, before = pl.col(field), pl.col(f"{field}_was")
    if _is_list(both, field):
        known = before.list.set_difference(desired).list.len() == 0
        return _empty(both, field).not_() & (known & _empty(both, f"{field}_was").not_()).fill_null(False).not_()
    if both.schema[field] == pl.String:
        desired, before = _folded(desired), _folded(before)
    return desired.is_not_null() & desired.ne_missing(before)


def _folded(text: pl.Expr) -> pl.Expr:
    """Texts of a column as :func:`.folded` has them."""
    return text.str.to_lowercase().str.normalize("NFC").str.replace_all(BETWEEN, " ").str.strip_chars()


def same(there: Any, ours: Any) -> bool:
    """Whether a record holds what it should: text regardless of case, of a list at least one value."""
    if there == ours and there not in (None, "", []):
        return True
    there, ours = _values(there), _values(ours)
    return bool(there & ours) if there and ours else there == ours


def _values(value: Any) -> set[str]:
    items = value if isinstance(value, list) else [value]
    return {folded(_text(item)) for item in items if item is not None and str(item).strip()}


def as_compared(value: Any) -> str:
    """A value as it is compared: nothing as an empty text, a flag as 1 or 0, a moment as ISO 8601."""
    if isinstance(value, list):
        return ", ".join(map(as_compared, value))
    if value is None or isinstance(value, bool):
        return "" if value is None else str(int(value))
    return _text(value)


def _text(value: Any) -> str:
    """A value as it is compared: a moment as ISO 8601, however it is kept; 7.0 is 7."""
    if isinstance(value, str) and len(value) >= len("2026-01-01T00:00") and value[:4].isdigit():
        value = parse_time(value) or value
    if isinstance(value, datetime):
        return (value if value.tzinfo else value.replace(tzinfo=UTC)).astimezone(UTC).isoformat()
    if isinstance(value, date):
        return datetime(value.year, value.month, value.day, tzinfo=UTC).isoformat()
    if isinstance(value, Decimal):
        value = float(value)
    return str(int(value)) if isinstance(value, float) and value.is_integer() else str(value)


def verdict(desired: Mapping[str, Any], before: Mapping[str, Any], there: Mapping[str, Any]) -> Reasons:
    """What a record did not take of what was written, and what the system wrote in its own way."""
    wrong: dict[str, dict[str, Any]] = {}
    own: dict[str, Any] = {}
    for name, value in desired.items():
        if name not in there or there[name] == value or same(there[name], value):
            continue
        if alike_but_for_signs(there[name], value):
            own[name] = there[name]
        elif name in before and same(there[name], before[name]):
            wrong[name] = {"now": there[name], "still": True}
        else:
            wrong[name] = {"now": there[name], "desired": value}
    return (
        *(because(Why.DIFFERS, fields=wrong) if wrong else ()), *(because(Why.OWN_WAY, fields=own) if own else ())
    )  # fmt: skip


def alike_but_for_signs(there: Any, ours: Any) -> bool:
    """Whether two values differ only in capitals, signs and leading noughts."""
    return _squeezed(there) == _squeezed(ours)


def _squeezed(value: Any) -> set[str]:
    """What is left when signs, spaces and leading noughts do not count."""
    return {"".join(c for c in item if c.isalnum()).lstrip("0") for item in _values(value)} - {""}
