"""Rows that people typed, made into records to write: columns named, values read, every mistake found at once."""

from __future__ import annotations

import math
import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import islice
from typing import Any

import polars as pl

from concordex.change.prepare import Form, natural, normalised, said_of
from concordex.change.refer import Record, TargetTable, Unclear, referred
from concordex.model.fields import ALIASES, BY_TYPE, KINDS, Type
from concordex.model.scalars import MISSING_WORDS
from concordex.model.values import CONVERSIONS
from concordex.words import nearest, suggestion


@dataclass(frozen=True, kw_only=True)
class Row:
    """One row: where it stands, what was typed, and what it says of our fields."""

    place: str
    typed: Mapping[str, Any]
    values: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, kw_only=True)
class Mistake:
    """What is wrong with one value."""

    place: str
    column: str
    value: str
    what: str


@dataclass(frozen=True, kw_only=True)
class FieldLimits:
    """What a field may hold."""

    choices: Sequence[str] = ()
    longest: int | None = None


def columns_of(
    columns: Sequence[str], fields: Collection[str], given: Mapping[str, str], ignored: Collection[str] = ()
) -> tuple[dict[str, str], list[Mistake]]:
    """Which of our ``fields`` each column means, by its name or as ``given``; what means none is a mistake."""
    others = {**_HEADINGS, **ALIASES}
    squeezed = {_squeezed(short): name for short, name in others.items() if name in fields}
    squeezed |= {_squeezed(name): name for name in fields}
    meant: dict[str, str] = {}
    mistakes = []
    for column in columns:
        if column in ignored:
            continue
        name = given.get(column) or squeezed.get(_squeezed(column)) or ""
        if name not in fields:
            near = nearest(_squeezed(column), squeezed, 55)
            hint = f'did you mean "{squeezed[near]}"?' if near else f"the table takes: {', '.join(sorted(fields))}"
            mistakes.append(Mistake(place="", column=column, value="", what=f"names no field; {hint}"))
        elif name in meant.values():
            twin = next(other for other, field in meant.items() if field == name)
            mistakes.append(Mistake(place="", column=column, value="", what=f"means {name}, as {twin!r} does"))
        else:
            meant[column] = name
    return meant, mistakes


#: What people head columns with.
_HEADINGS = {
    "serial number": "serial", "serial no": "serial", "s/n": "serial", "hostname": "name", "device": "name",
    "mac address": "macs", "ip address": "ips", "address": "ips", "vendor": "maker", "manufacturer": "maker",
    "inventory number": "asset_tag", "type": "kind", "software": "os_version", "firmware": "os_version",
    "place": "site", "note": "comment", "remark": "comment",
}  # fmt: skip


def _squeezed(name: str) -> str:
    return "".join(c for c in name.lower() if c.isalnum())


def read_values(
    rows: Sequence[Row], meant: Mapping[str, str], types: Mapping[str, Type], limits: Mapping[str, FieldLimits]
) -> tuple[list[Row], list[Mistake]]:
    """The rows with their values read by type; what cannot be read, or is none of the choices, is a mistake."""
    made: list[dict[str, Any]] = [{} for _ in rows]
    mistakes = []
    for column, name in meant.items():
        cells = [row.typed.get(column) for row in rows]
        keys = [cell if cell is None or isinstance(cell, str) else at for at, cell in enumerate(cells)]
        read = _cells(dict(zip(keys, cells, strict=True)), name, types[name], limits.get(name, FieldLimits()))
        for row, values, key in zip(rows, made, keys, strict=True):
            mine, wrong = read[key]
            if wrong:
                mistakes.append(Mistake(place=row.place, column=column, value=wrong[0], what=wrong[1]))
            elif mine:
                values[name] = mine if types[name].is_list else mine[0]
    return [replace(row, values={**row.values, **values}) for row, values in zip(rows, made, strict=True)], mistakes


def _cells(
    cells: Mapping[str | int | None, Any], name: str, kind: Type, limits: FieldLimits
) -> dict[str | int | None, tuple[list[Any], tuple[str, str] | None]]:
    """What different cells of a column hold by its type, and of each what is wrong with which value of it."""
    items = {key: _items(cell, kind) for key, cell in cells.items()}
    converted = iter(_read([item for mine in items.values() for item in mine], kind))
    read: dict[str | int | None, tuple[list[Any], tuple[str, str] | None]] = {}
    for key, said in items.items():
        mine = list(islice(converted, len(said)))
        bad = [item for item, value in zip(said, mine, strict=True) if value is None or not _is_finite(value)]
        what = f"is no {_CALLED[kind]}"
        if kind in (Type.TEXT, Type.TEXTS) and not bad:
            bad = [item for item in said if _CUT_SHORT.fullmatch(item)]
            what = "is a number that a spreadsheet has cut short: keep the column as text"
        if kind in (Type.TEXT, Type.TEXTS) and (odd := _UNSEEN.search("".join(said))):
            bad, what = [one for one in said if odd[0] in one], f"holds what nobody sees: U+{ord(odd[0]):04X}"
        if not bad and len(mine) > 1 and not kind.is_list:
            bad, what = [", ".join(said)], f"are {len(mine)} values, and the field takes one"
        if not bad:
            bad, what = _unfit([str(value) for value in mine], name, limits)
        read[key] = mine, (bad[0], what) if bad else None
    return read


#: What spreadsheets make of long numbers when they write CSV.
_CUT_SHORT = re.compile(r"\d(\.\d+)?E\+\d{2,}")

#: Characters that come along where texts are copied, and make two names of what looks like one: controls of the C0 and
#: C1 sets but tabs and line ends, the soft hyphen, spaces and joiners of no width, a byte order mark.
_UNSEEN = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u00ad\u200b\u2060\ufeff]")

_CALLED = {
    Type.TEXT: "text", Type.VERSION: "version", Type.TIME: "time (ISO 8601)", Type.NUMBER: "number",
    Type.FLAG: "yes or no", Type.MACS: "MAC address", Type.IPS: "address", Type.TEXTS: "text",
}  # fmt: skip


def _items(cell: Any, kind: Type) -> list[str]:
    """What stands in a cell, as texts; nothing where it says nothing."""
    if cell is None:
        return []
    items = cell if isinstance(cell, list) else re.split(r"[,;\n]", str(cell)) if kind.is_list else [cell]
    texts = [_plain(item).strip() for item in items]
    return [text for text in texts if text.lower() not in MISSING_WORDS]


def _plain(item: Any) -> str:
    """Numbers that a sheet kept with a point that nobody typed are whole."""
    return str(int(item)) if isinstance(item, float) and item.is_integer() else str(item)


def _is_finite(value: Any) -> bool:
    return not isinstance(value, float) or math.isfinite(value)


def _read(items: Sequence[str], kind: Type) -> list[Any]:
    frame = pl.DataFrame({"said": pl.Series(items, dtype=pl.String)})
    return frame.select(CONVERSIONS[BY_TYPE[kind]](pl.col("said"))).to_series().to_list()


def _unfit(values: Sequence[str], name: str, limits: FieldLimits) -> tuple[list[str], str]:
    """The values that the field does not take, and why."""
    choices = limits.choices or (KINDS if name == "kind" else ())
    strange = [value for value in values if choices and value.lower() not in choices]
    if strange:
        return strange, f"is none of the choices; {suggestion(strange[0], choices)}"
    long = [value for value in values if limits.longest and len(value) > limits.longest]
    return long, f"is longer than {limits.longest} characters"


def check_rows(rows: Sequence[Row], target: TargetTable) -> tuple[list[Row], list[Mistake]]:
    """The rows with their references completed, and what speaks against each before anything is sent."""
    done, mistakes = [], []
    references: dict[tuple[Any, ...], Record | Unclear | None] = {}
    for given in rows:
        row = given
        for link in target.form.links:
            said = (link.via, *said_of(row.values, link.by.values()))
            if said not in references:  # a thousand devices have one site
                references[said] = referred(row.values, link, target)
            reference = references[said]
            if isinstance(reference, Unclear):
                column = " and ".join(reference.fields)
                mistakes.append(Mistake(place=row.place, column=column, value=reference.value, what=reference.what))
            elif reference:
                row = replace(row, values={**row.values, **reference})
        done.append(row)
        mine = holder(row.values, target)
        mistakes += [*_lacking(row, target, mine), *_torn(row, target, mine)]
    mistakes += _twice(done, target.form)
    return done, mistakes


def _lacking(row: Row, target: TargetTable, mine: str | None) -> list[Mistake]:
    if mine is not None:
        return []  # it is there: what is not said stays as it is
    mistakes = [
        Mistake(place=row.place, column=name, value="", what="is required")
        for name in target.form.required
        if row.values.get(name) is None
    ]
    if not any(natural(row.values, names) for names in target.form.keys):
        names = " or ".join(" and ".join(names) for names in target.form.keys)
        mistakes.append(Mistake(place=row.place, column=names, value="", what="is needed to find the record again"))
    return mistakes


def holder(values: Mapping[str, Any], target: TargetTable) -> str | None:
    """The record that is there already, by the surest natural key."""
    for names in target.form.keys:
        key = natural(values, names)
        if key is not None and key in target.known[target.table].keys:
            return target.known[target.table].keys[key]
    return None


def _torn(row: Row, target: TargetTable, mine: str | None) -> list[Mistake]:
    """Two keys that name two records, or a name that another one has."""
    mistakes = []
    for names in target.form.keys if mine is not None else ():
        key = natural(row.values, names)
        other = target.known[target.table].keys.get(key) if key else None
        if other is not None and other != mine:
            text = " and ".join(str(row.values[name]) for name in names)
            what = f"is record {other} there, while its {' and '.join(target.form.keys[0])} is record {mine}"
            mistakes.append(Mistake(place=row.place, column=" and ".join(names), value=text, what=what))
    for name in target.form.unique:
        value = row.values.get(name)
        taken = target.known[target.table].unique.get(name, {}).get(normalised(value)) if value is not None else None
        if taken is not None and taken != mine and not mistakes:
            mistakes.append(Mistake(place=row.place, column=name, value=str(value), what=f"is taken by record {taken}"))
    return mistakes


def _twice(rows: Sequence[Row], form: Form) -> list[Mistake]:
    """Rows that would be one record."""
    first: dict[tuple[str, ...], Row] = {}
    mistakes = []
    distinct = dict.fromkeys([*map(tuple, form.keys), *((name,) for name in form.unique)])
    for row in rows:
        for names in distinct:
            key = natural(row.values, names)
            if key is None:
                continue
            other = first.setdefault((*names, *key), row)
            if other is not row:
                text = " ".join(str(row.values[name]) for name in names)
                what = f"is in {other.place} too"
                mistakes.append(Mistake(place=row.place, column=" and ".join(names), value=text, what=what))
                break
    return mistakes
