"""Where a value stands in an answer: plain members fast, anything else by JSONPath (RFC 9535)."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from functools import cache
from operator import methodcaller
from typing import Any

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
        self._find: Callable[[Any], list[Any]] | None = None
        self._holder: Callable[[Any], list[Any]] | None = None  # of JSONPath, all but its last step
        plain = _PLAIN.fullmatch(text)
        if text == "$":
            self.steps = ()
        elif plain:
            self.steps = tuple(plain[1].split("."))
        else:
            self._find, self._holder = _compiled(text)

    def first(self, value: Any) -> Any:
        """The value at this path, or None; of several, a list of them all."""
        if self.steps is not None:
            for step in self.steps:
                value = value.get(step) if isinstance(value, dict) else None
            return value
        assert self._find
        found = self._find(value)
        return found[0] if len(found) == 1 else found or None

    def shown(self, value: Any) -> bool:
        """Whether something stands at this path, be it null."""
        if self._find is not None:
            return bool(self._find(value))
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
        if self._find is None:
            return self.first(value)
        found = self._find(value)
        if not found and self._holder and not self._holder(value):
            return None  # not an empty list: there is no place for one
        return found[0] if len(found) == 1 and isinstance(found[0], list) else found

    def column(self, records: Sequence[Any]) -> list[Any]:
        """The value at this path in each record, which must be a mapping."""
        if self.steps is not None and len(self.steps) == 1:
            return list(map(methodcaller("get", self.steps[0]), records))
        return [self.first(record) for record in records]


@cache
def at(text: str) -> Path:
    """The path that ``text`` says, compiled once."""
    return Path(text)


def _compiled(text: str) -> tuple[Callable[[Any], list[Any]], Callable[[Any], list[Any]]]:
    import jsonpath_rfc9535 as jsonpath

    if not text.startswith("$"):
        raise PathError(f"{text!r} is neither a plain member path nor JSONPath, which begins with $")
    try:
        query = jsonpath.compile(text)
    except jsonpath.JSONPathError as error:
        raise PathError(f"{text!r} is not JSONPath (RFC 9535): {str(error).splitlines()[0]}") from error
    holder = type(query)(env=query.env, segments=query.segments[:-1])
    return lambda value: list(query.find(value).values()), lambda value: list(holder.find(value).values())
