"""Giving a clause its meaning: which column it asks, of which type, and its values as values."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from concordex.errors import QueryError
from concordex.model.fields import ALIASES, KINDS, Type
from concordex.model.scalars import parse_duration, parse_time, version_parts
from concordex.query.tree import Clause, Filter, Word, clauses_of
from concordex.words import suggestion

_GLOB = {"*": ".*", "?": "."}
_ORDERED = ("<", "<=", ">", ">=")
#: Which tests a type can stand, beside ``missing`` and ``present``.
_TESTS: dict[Type, tuple[str, ...]] = {
    Type.TEXT: ("=", "!=", "in", "like", "matches", *_ORDERED),
    Type.TEXTS: ("=", "!=", "in", "like", "matches"),
    Type.VERSION: ("=", "!=", "in", "like", "matches", *_ORDERED),
    Type.TIME: ("=", "!=", "older than", "newer than", *_ORDERED),
    Type.NUMBER: ("=", "!=", "in", *_ORDERED),
    Type.FLAG: ("=", "!="),
    Type.MACS: ("=", "!=", "in", "within", "like"),
    Type.IPS: ("=", "!=", "in", "within", "like"),
}

#: Every test that can be asked of some field.
OPERATORS = tuple(dict.fromkeys([*(test for tests in _TESTS.values() for test in tests), "missing", "present"]))


@dataclass(frozen=True, kw_only=True)
class Bound:
    """A clause whose field is known and whose values have the field's type.

    ``extra`` is the path into the system's own record, for what is not one of our fields.
    """

    column: str
    type: Type
    operator: str
    values: tuple[Any, ...]
    counted: bool = False
    extra: str | None = None


def beside_it(name: str, known: Collection[str]) -> list[str]:
    """The fields that are called after the same thing as a dotted name: what is none of them is a mistake."""
    above = name.partition(".")[0]
    return [field for field in known if field.startswith(f"{above}.")]


class Binder:
    """Binds clauses to the columns of one table, at one moment."""

    def __init__(
        self,
        query: Filter,
        schema: Mapping[str, Type],
        now: datetime,
        *,
        extra: bool = True,
        closed: Mapping[str, Collection[str]] | None = None,
    ) -> None:
        self.query, self.schema, self.now, self.extra = query, schema, now, extra
        self.closed = {"kind": KINDS} if closed is None else closed  # the only words that a field can hold

    def of(self, query: Filter) -> Binder:
        """A binder of another filter on the same columns at the same moment."""
        return Binder(query, self.schema, self.now, extra=self.extra, closed=self.closed)

    def check(self) -> None:
        """Raise QueryError for the first clause that cannot be meant."""
        for clause in clauses_of(self.query.node):
            self.bind(clause)

    def bind(self, clause: Clause) -> Bound:
        """``clause`` with its meaning."""
        name = ALIASES.get(clause.field.text.lower(), clause.field.text.lower())
        if name in self.schema:
            return self._bind(clause, name, self.schema[name], None)
        path = clause.field.text.removeprefix("extra.")
        beside = beside_it(name, self.schema)
        if self.extra and "." in clause.field.text and not beside:
            return self._bind(clause, clause.field.text, _guess(clause), path)
        raise self._wrong(
            clause.field,
            f'there is no field "{clause.field.text}"',
            suggestion(name, beside or [*self.schema, *ALIASES]),
        )

    def _bind(self, clause: Clause, column: str, kind: Type, extra: str | None) -> Bound:
        operator = clause.operator
        if clause.counted:
            if not kind.is_list:
                raise self._wrong(clause.field, f'"{column}" holds one value; count() is for lists')
            kind = Type.NUMBER
        elif operator in ("missing", "present"):
            return Bound(column=column, type=kind, operator=operator, values=(), extra=extra)
        elif operator not in _TESTS[kind]:
            raise self._wrong(
                clause.field,
                f'"{operator}" cannot be asked of "{column}", which is {_ARTICLE[kind]}',
                f"it can be asked: {', '.join((*_TESTS[kind], 'missing', 'present'))}",
            )
        if column in self.closed and operator in ("=", "!=", "in") and extra is None:
            self._among(clause, column)
        values = tuple(self._value(word, kind, operator) for word in clause.values)
        return Bound(column=column, type=kind, operator=operator, values=values, counted=clause.counted, extra=extra)

    def _among(self, clause: Clause, column: str) -> None:
        for word in clause.values:
            if word.text.lower() not in self.closed[column]:
                hint = suggestion(word.text, self.closed[column])
                raise self._wrong(word, f'there is no {column} "{word.text}"', hint)

    def _value(self, word: Word, kind: Type, operator: str) -> Any:
        if operator in ("like", "matches"):
            return self._pattern(word, operator)
        reader = getattr(self, f"_{kind.value}", None)
        return reader(word, operator) if reader else word.text.lower()

    def _pattern(self, word: Word, operator: str) -> str:
        if operator == "like":
            return "(?is)^" + "".join(_GLOB.get(sign) or re.escape(sign) for sign in word.text) + "$"
        import polars as pl  # as its engine understands it; other filters do without

        pattern = f"(?i){word.text}"
        try:
            pl.Series([""]).str.contains(pattern)
        except pl.exceptions.ComputeError as error:
            reasons = [line.strip() for line in str(error).splitlines() if line.startswith("error:")]
            reason = reasons[0].removeprefix("error: ") if reasons else "it cannot be read"
            raise self._wrong(word, f"not a regular expression that can be used: {reason}") from error
        return pattern

    def _version(self, word: Word, operator: str) -> Any:
        if operator in _ORDERED and not re.search(r"\d", word.text):
            raise self._wrong(word, "not a version: it holds no number")
        return version_parts(word.text)

    def _time(self, word: Word, operator: str) -> datetime:
        lasted = parse_duration(word.text) if operator in ("older than", "newer than") else None
        if lasted is not None:
            return self.now - min(lasted, self.now - datetime.min.replace(tzinfo=UTC))
        moment = parse_time(word.text)
        if moment is None:
            raise self._wrong(word, "not a time: write 30m, 12h, 14d, 6w or a date such as 2026-11-01")
        return moment

    def _number(self, word: Word, _operator: str) -> float:
        try:
            return float(word.text)
        except ValueError as error:
            raise self._wrong(word, "not a number") from error

    def _flag(self, word: Word, _operator: str) -> bool:
        if word.text.lower() not in ("true", "yes", "false", "no"):
            raise self._wrong(word, "write yes or no")
        return word.text.lower() in ("true", "yes")

    def _macs(self, word: Word, operator: str) -> str:
        digits = re.sub(r"[\s:.\-]", "", word.text.lower())
        if not re.fullmatch(r"[0-9a-f]{1,12}", digits) or (operator != "within" and len(digits) != 12):
            what = "a MAC address or the beginning of one" if operator == "within" else "a whole MAC address"
            raise self._wrong(word, f"not {what}", 'for the beginning of one, write: mac within "0a:1b:2c"')
        return ":".join(digits[i : i + 2] for i in range(0, len(digits), 2))

    def _ips(self, word: Word, operator: str) -> Any:
        try:
            if operator == "within":
                return ipaddress.ip_network(word.text, strict=False)
            return str(ipaddress.ip_address(word.text))
        except ValueError as error:
            advice = "write 10.20.0.0/16 or fd00:20::/32" if operator == "within" else ""
            if "/" in word.text and operator != "within":
                advice = f"for a network, write: ip within {word.text}"
            raise self._wrong(word, f"not an address{' range' * (operator == 'within')}", advice) from error

    def _wrong(self, word: Word, what: str, advice: str = "") -> QueryError:
        return QueryError(what, self.query.text, word.start, word.end, advice)


_ARTICLE = {
    Type.TEXT: "a text", Type.TEXTS: "a list of texts", Type.VERSION: "a version", Type.TIME: "a time",
    Type.NUMBER: "a number", Type.FLAG: "a yes or no", Type.MACS: "a list of MAC addresses",
    Type.IPS: "a list of addresses",
}  # fmt: skip


def _guess(clause: Clause) -> Type:
    """The type in which a value of the system's own is compared: by how the person wrote it."""
    if clause.operator in ("older than", "newer than"):
        return Type.TIME
    bare = [word for word in clause.values if not word.quoted]
    numbers = bare and all(re.fullmatch(r"-?\d+(\.\d+)?", word.text) for word in bare)
    return Type.NUMBER if numbers else Type.TEXT
