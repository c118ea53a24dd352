"""Tests that a request asks a system to apply: read out of its parameters, and applied to the rows of a copy."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

import polars as pl

from concordex.model.scalars import parse_time
from concordex.wire import dialect as d
from concordex.wire.copy.asked import Asked
from concordex.wire.copy.declined import Cause, Declined, untold
from concordex.wire.copy.placing import at_path
from concordex.wire.reading.mapping import Mapper
from concordex.wire.reading.records import DecodedRecords

_EQUAL, _AFTER, _BEFORE = {"=", "in"}, {"newer than", ">", ">="}, {"older than", "<", "<="}
#: How the signs of a value are kept apart, undone.
_UNDONE: Mapping[str, Callable[[str], str]] = {
    "doubled": lambda text: re.sub(r"(['\"])\1", r"\1", text),
    "backslash": lambda text: re.sub(r"\\(.)", r"\1", text),
    "percent": lambda text: re.sub(r"%([0-9A-Fa-f]{2})", lambda m: chr(int(m[1], 16)), text),
}


def parameters(table: d.Table) -> set[str]:
    """The names of the parameters that say tests."""
    return {rule.parameter for rule in table.filters if rule.parameter}


def tests(table: d.Table, asked: Asked) -> list[pl.Expr]:
    """What a request asks the system to leave out, as conditions on the rows of ``table``."""
    by_parameter: dict[str, list[d.FilterMap]] = {}
    for rule in table.filters:
        if rule.parameter:
            by_parameter.setdefault(rule.parameter, []).append(rule)
    made = []
    for name, rules in by_parameter.items():
        text = asked.parameter(table.read.place, name)
        if text is None:
            continue
        together = next((rule.together for rule in rules if rule.together), None)
        made += [_test(table, rules, part, name) for part in (text.split(together) if together else [text])]
    return made


def test_in_path(table: d.Table, rule: d.FilterMap, text: str) -> pl.Expr:
    """The same of a test that a path says."""
    return _condition(table, rule, text)


def _test(table: d.Table, rules: Sequence[d.FilterMap], text: str, name: str) -> pl.Expr:
    for rule in sorted(rules, key=lambda rule: -len(rule.write)):
        before, value, after = rule.write.partition("{value}")
        if not value:
            if text == rule.write:
                return _condition(table, rule, "")
        elif text.startswith(before) and text.endswith(after) and len(text) >= len(before) + len(after):
            return _condition(table, rule, text[len(before) : len(text) - len(after)])
    raise untold(f"what {text!r} means in the parameter {name}")


def _condition(table: d.Table, rule: d.FilterMap, text: str) -> pl.Expr:
    column, asks = pl.col(rule.field), set(rule.tests)
    values = text.split(rule.several) if rule.several else [text]
    if rule.escape:
        values = [_UNDONE[rule.escape](value) for value in values]
    if asks & _EQUAL:
        wanted = [str(value) for value in (_ours(table, rule, value) for value in values) if value is not None]
        held = column.cast(pl.String) if not table.type_of(rule.field).is_list else column
        if table.type_of(rule.field).is_list:
            return held.list.eval(_in(pl.element(), wanted)).list.any().fill_null(False)
        return _in(held, wanted).fill_null(False)
    if asks & (_AFTER | _BEFORE):
        moment = _moment(text, rule)
        later = column >= moment if ">=" in asks else column > moment
        earlier = column <= moment if "<=" in asks else column < moment
        return (later if asks & _AFTER else earlier).fill_null(False)
    if "like" in asks:
        signs = {theirs: ours for ours, theirs in (rule.wildcards or {}).items()}
        parts = [re.escape(part) for part in re.split("|".join(map(re.escape, signs)) or r"(?!)", text)]
        found = re.findall("|".join(map(re.escape, signs)) or r"(?!)", text)
        ways = {"*": ".*", "?": "."}
        pattern = parts[0] + "".join(ways[signs[sign]] + part for sign, part in zip(found, parts[1:], strict=True))
        return column.cast(pl.String).str.contains(f"(?is)^{pattern}$").fill_null(False)
    if "present" in asks:
        return column.is_not_null()
    if "missing" in asks:
        return column.is_null()
    raise untold(f"what the test {', '.join(rule.tests)} of {rule.field} finds")


def _in(column: pl.Expr, wanted: Sequence[str]) -> pl.Expr:
    return column.str.to_lowercase().is_in([value.lower() for value in wanted])


def _moment(text: str, rule: d.FilterMap) -> datetime:
    try:
        return moment_of(text, rule.time)
    except (ValueError, OverflowError) as error:
        raise Declined(Cause.WRONG, f"{text!r} is no moment as {rule.parameter} takes it") from error


def moment_of(text: str, form: str) -> datetime:
    """A moment as a request says it; ValueError where it is none."""
    if form in ("epoch", "epoch_ms"):
        return datetime.fromtimestamp(int(text) / (1000 if form == "epoch_ms" else 1), UTC)
    made = parse_time(text)
    if made is None:
        raise ValueError(text)
    return made


def _ours(table: d.Table, rule: d.FilterMap, word: str) -> Any:
    """A word of the system's, as the dialect reads it."""
    spec = table.fields[rule.field]
    if spec.via or not spec.from_ or spec.from_[0].steps is None:
        return word
    mapper = Mapper(
        d.Table(read=table.read, fields={"record_id": spec.model_copy(update={"type": None}), rule.field: spec})
    )
    columns = mapper.empty()
    records = [at_path(spec.from_[0], word)]
    mapper.add(columns, DecodedRecords(records), [b"{}"], None, datetime.now(UTC))
    value = mapper.frame([mapper.taken(columns)])[rule.field][0]
    return value[0] if isinstance(value, pl.Series) and len(value) else value
