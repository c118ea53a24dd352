"""Where a value stands in an answer: plain members fast, anything else by JSONPath (RFC 9535)."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from functools import cache
from operator import methodcaller
from typing import TYPE_CHECKING, Annotated, Any, Self

from pydantic import PlainSerializer, PlainValidator, WithJsonSchema

from concordex.documents import fault_at
from concordex.model.members import along, stands

if TYPE_CHECKING:
    from concordex.wire.dialect.jsonpath import Query

#: A member's name: also of XML (`@attribute`, `#text`, `prefix:name`) and of YANG (`module:name`).
_MEMBER = r"[A-Za-z_@#][\w:@#-]*"
_PLAIN = re.compile(rf"(?:\$\.)?({_MEMBER}(?:\.{_MEMBER})*)")


class PathError(ValueError):
    """Not a path."""


class Path(str):
    """A path, compiled: ``label``, ``chassis.serial`` or ``$.ports[*].mac``; ``$`` is the whole.

    It reads as its text.
    """

    __slots__ = ("_query", "steps")
    #: The members on the way, where it is plain.
    steps: tuple[str, ...] | None
    _query: Query | None

    def __new__(cls, text: str) -> Self:
        """Raises PathError where ``text`` is neither plain members nor JSONPath."""
        path = super().__new__(cls, text)
        plain = _PLAIN.fullmatch(text)
        path.steps = () if text == "$" else tuple(plain[1].split(".")) if plain else None
        path._query = None if path.steps is not None else _compiled(text)
        return path

    def first(self, value: Any) -> Any:
        """The value at this path, or None; of several, a list of them all."""
        if self.steps is not None:
            return along(value, self.steps)
        assert self._query
        return _one(self._query.values(value))

    def shown(self, value: Any) -> bool:
        """Whether something stands at this path, be it null."""
        if self._query is not None:
            return bool(self._query.values(value))
        return stands(value, self.steps or ())

    @property
    def above(self) -> Path | None:
        """The path of what holds this, where it is plain and there is such a thing."""
        return at(".".join(self.steps[:-1])) if self.steps and len(self.steps) > 1 else None

    def several(self, value: Any) -> Any:
        """The list at this path, or None where there is none; JSONPath gives all that it finds in what holds them."""
        if self._query is None:
            return self.first(value)
        values = self._query.values(value)
        if not values and not self._query.has_place(value):
            return None  # not an empty list: there is no place for one
        return values[0] if len(values) == 1 and isinstance(values[0], list) else values

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


class Source(str):
    """Where an answer says something: a path into its body, ``header:NAME`` or ``cookie:NAME``."""

    __slots__ = ("name", "path")
    #: The path into the body; or else the name of the header, or of the cookie.
    path: Path | None
    name: str

    def __new__(cls, text: str) -> Self:
        """Raises PathError where a path is none."""
        source = super().__new__(cls, text)
        kind, _, name = text.partition(":")
        elsewhere = kind in ("header", "cookie")
        source.name, source.path = name if elsewhere else "", None if elsewhere else Path(text)
        return source

    @property
    def header(self) -> str | None:
        """The header that says it."""
        return self.name if self.startswith("header:") else None

    @property
    def cookie(self) -> str | None:
        """The cookie that says it."""
        return self.name if self.startswith("cookie:") else None

    def first(self, body: Any, headers: Mapping[str, str]) -> Any:
        """What the body or a header says there, or None."""
        if self.path is not None:
            return self.path.first(body)
        return headers.get(self.name) if self.header else None

    def shown(self, body: Any, headers: Mapping[str, str]) -> bool:
        """Whether anything stands there, be it null."""
        return self.path.shown(body) if self.path is not None else self.header in headers


class Member(str):
    """Where something is written: a member, or ``within.members``."""

    __slots__ = ()

    def __new__(cls, text: str) -> Self:
        """Raises PathError where ``text`` names no members."""
        if text.startswith("$") or not all(text.split(".")):
            raise PathError(f"{text!r} cannot be written to: name a member, as in a.b.c")
        return super().__new__(cls, text)


def _read(kind: type[Path | Source | Member], given: Any) -> Any:
    if not isinstance(given, str):
        raise ValueError("should be a text")  # noqa: TRY004 - pydantic tells these
    try:
        return at(given) if kind is Path else kind(given)
    except PathError as error:
        raise fault_at((), str(error)) from error


_TEXT, _SAID = WithJsonSchema({"type": "string"}), PlainSerializer(str, return_type=str, when_used="json")
#: The same as parts of a document: resolved when it is read, and refused with their line where they cannot be.
PathText = Annotated[Path, PlainValidator(lambda given: _read(Path, given)), _TEXT, _SAID]
SourceText = Annotated[Source, PlainValidator(lambda given: _read(Source, given)), _TEXT, _SAID]
MemberText = Annotated[Member, PlainValidator(lambda given: _read(Member, given)), _TEXT, _SAID]


def _one(values: list[Any]) -> Any:
    return values[0] if len(values) == 1 else values or None


def _compiled(text: str) -> Query:
    from concordex.wire.dialect.jsonpath import Query  # its library is slow to come, and seldom needed

    if not text.startswith("$"):
        raise PathError(f"{text!r} is neither a plain member path nor JSONPath, which begins with $")
    try:
        return Query(text)
    except ValueError as error:
        shown = text if len(text) < 60 else f"{text[:60]}…"
        raise PathError(f"{shown!r} is not JSONPath (RFC 9535): {error}") from error
