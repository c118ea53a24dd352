"""Where a value stands in an answer: plain members fast, anything else by JSONPath (RFC 9535)."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cache
from operator import methodcaller
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from concordex.wire.dialect.jsonpath import Query

#: A member's name: also of XML (`@attribute`, `#text`, `prefix:name`) and of YANG (`module:name`).
_MEMBER = r"[A-Za-z_@#][\w:@#-]*"
_PLAIN = re.compile(rf"(?:\$\.)?({_MEMBER}(?:\.{_MEMBER})*)")


class PathError(ValueError):
    """Not a path."""


class Path:
    """A compiled path: ``label``, ``chassis.serial`` or ``$.ports[*].mac``; ``$`` is the whole."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.steps: tuple[str, ...] | None = None
        self._query: Query | None = None  # where it is JSONPath
        plain = _PLAIN.fullmatch(text)
        if text == "$":
            self.steps = ()
        elif plain:
            self.steps = tuple(plain[1].split("."))
        else:
            self._query = _compiled(text)

    def first(self, value: Any) -> Any:
        """The value at this path, or None; of several, a list of them all."""
        if self.steps is not None:
            for step in self.steps:
                value = value.get(step) if isinstance(value, dict) else None
            return value
        assert self._query
        return _one(self._query.values(value))

    def shown(self, value: Any) -> bool:
        """Whether something stands at this path, be it null."""
        if self._query is not None:
            return bool(self._query.values(value))
        for step in self.steps or ():
            if not isinstance(value, dict) or step not in value:
                return False
            value = value[step]
        return True

    @property
    def above(self) -> Path | None:
        """The path of what holds this, where it is plain and there is such a thing."""
        return at(".".join(self.steps[:-1])) if self.steps and len(self.steps) > 1 else None

    def several(self, value: Any) -> Any:
        """The list at this path, or None where there is none; JSONPath gives all that it finds in what holds them."""
        if self._query is None:
            return self.first(value)
        found = self._query.values(value)
        if not found and not self._query.has_place(value):
            return None  # not an empty list: there is no place for one
        return found[0] if len(found) == 1 and isinstance(found[0], list) else found

    def column(self, records: Sequence[Any]) -> list[Any]:
        """The value at this path in each record, which must be a mapping."""
        if self.steps is not None and len(self.steps) == 1:
            return list(map(methodcaller("get", self.steps[0]), records))
        if self._query is not None:
            return list(map(_one, self._query.column(records)))
        return [self.first(record) for record in records]


@cache
def at(text: str) -> Path:
    """The path that ``text`` says, compiled once."""
    return Path(text)


def _one(found: list[Any]) -> Any:
    return found[0] if len(found) == 1 else found or None


def _compiled(text: str) -> Query:
    from concordex.wire.dialect.jsonpath import Query  # its library is slow to come, and seldom needed

    if not text.startswith("$"):
        raise PathError(f"{text!r} is neither a plain member path nor JSONPath, which begins with $")
    try:
        return Query(text)
    except ValueError as error:
        shown = text if len(text) < 60 else f"{text[:60]}…"
        raise PathError(f"{shown!r} is not JSONPath (RFC 9535): {error}") from error
