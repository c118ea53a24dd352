"""What was seen of an API, from whatever source: its lists with answers that they gave, and how it lets one in."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class OnlyDescribed:
    """A member that is described and was not seen: its ``kind``, such as *string (date-time)*."""

    kind: str


@dataclass(kw_only=True)
class AnswerSeen:
    """One answer of a list: what was asked, what stood for the names in its path, and what came.

    ``url`` is the path with its parameters, as it was asked.
    """

    parameters: Mapping[str, str]
    body: Any
    values: Mapping[str, str] = field(default_factory=dict)
    headers: Mapping[str, str] = field(default_factory=dict)
    url: str = ""


@dataclass(kw_only=True)
class ListSeen:
    """A list that an API has: its path with names in braces, or its method of JSON-RPC; and the answers that it gave.

    ``takes`` are parameters that are described, ``records`` where a description has the list.  Variables of a document
    are parameters called ``variables.NAME``.
    """

    path: str
    rpc: str | None = None
    answers: list[AnswerSeen] = field(default_factory=list)
    takes: Sequence[str] = ()
    records: str | None = None
    about: str = ""
    from_: str = ""
    params: Mapping[str, Any] = field(default_factory=dict)  # of JSON-RPC, the same with every call
    words: Sequence[str] = ()  # that a guide has beside it: what may stand for a name in its path
    query: Mapping[str, str] = field(default_factory=dict)  # without which its records do not come as they should
    headers: Mapping[str, str] = field(default_factory=dict)  # that every call of it had, and no browser adds
    posts: Mapping[str, Any] | None = None  # a body that asks for it: a document of GraphQL with its variables
    called: str = ""  # what it is called, where its path does not say

    @property
    def always(self) -> dict[str, str]:
        """The parameters that every call had, each with the same value: they may shape the list, or narrow it."""
        first, *others = [answer.parameters for answer in self.answers] or [{}]
        return {name: value for name, value in first.items() if all(one.get(name) == value for one in others)}

    @property
    def where(self) -> tuple[str, str | None, str, str]:
        """What tells it from other lists: its path, its method, its document, and the words that it is asked with."""
        document = f"{self.posts['query']} {self.called}" if self.posts else ""
        return self.path, self.rpc, document, str(sorted((str(n), str(v)) for n, v in self.params.items()))

    def records_of(self, answer: AnswerSeen, path: str) -> list[Mapping[str, Any]]:
        """The records of an answer."""
        value = at(answer.body, path)
        return [item for item in value if isinstance(item, Mapping)] if isinstance(value, list) else []

    def came(self, answer: AnswerSeen, path: str) -> int:
        """How many records an answer held, also where not all of them are kept."""
        value = at(answer.body, path)
        return int(getattr(value, "total", len(value))) if isinstance(value, list) else 0


@dataclass(kw_only=True)
class OneSeen:
    """One record by itself, at a path that ends with its id, or by a method of JSON-RPC with its id alone.

    ``values`` are what stood for the names, ``body`` is what came.
    """

    path: str
    values: Mapping[str, str]
    body: Any
    rpc: str | None = None


@dataclass(kw_only=True)
class WriteSeen:
    """A request that may alter something: its method, its path, and the members that it sends."""

    method: str
    path: str
    sends: Sequence[str] = ()


@dataclass(kw_only=True)
class ApiSeen:
    """All that was seen of an API."""

    title: str = ""
    shape: str = "json"
    rpc: str | None = None  # the path of all calls of JSON-RPC
    lists: list[ListSeen] = field(default_factory=list)
    ones: list[OneSeen] = field(default_factory=list)
    writes: list[WriteSeen] = field(default_factory=list)
    sign_in: Mapping[str, Any] | None = None
    sign_in_why: str = ""
    credentials: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    error: str | None = None  # where an error answer says what is wrong
    notes: list[str] = field(default_factory=list)


#: A member that is called so is likely what a record is known by.
ID = re.compile(
    r"^(_?id|key|ref|uid|uuid|no|number|code|handle|oid)$|(Id|ID|Key|_id|_key|Ref|Number|No)$|^@?(id|number)$"
)


def known_by(record: Mapping[str, Any]) -> Any:
    """What a record is known by, whatever of it moves: what is called like an id, or else all its texts."""
    named = [value for name, value in record.items() if ID.search(str(name)) and isinstance(value, str | int)]
    held = [value for value in record.values() if isinstance(value, Mapping)]
    if not named and len(held) == 1:
        return known_by(held[0])
    return named or [value for value in record.values() if isinstance(value, str)]


#: A member that stands in a dotted path as it is.
_PLAIN = re.compile(r"[A-Za-z_@#][\w:@#-]*")


def below(above: str, name: str) -> str:
    """The path of a member: dotted as far as its names allow, else JSONPath (RFC 9535)."""
    if _PLAIN.fullmatch(name) and not above.startswith("$"):
        return f"{above}.{name}" if above else name
    steps = [] if not above or above.startswith("$") else above.split(".")
    root = above if above.startswith("$") else "$" + "".join(f"['{step}']" for step in steps)
    quoted = name.replace("\\", "\\\\").replace("'", "\\'")
    return f"{root}['{quoted}']"


def at(value: Any, path: str) -> Any:
    """The value at a dotted path; ``$`` is the whole."""
    for name in [] if path == "$" else path.split("."):
        value = value.get(name) if isinstance(value, Mapping) else None
    return value


def value_of(record: Mapping[str, Any], path: str) -> Any:
    """The single value at a path that :func:`members` gives; None where there is none."""
    return record[path] if path in record else dict(members(record)).get(path)


def members(record: Any, above: str = "") -> Iterator[tuple[str, Any]]:
    """The members of a record by their dotted paths: single values, and lists of such."""
    for name, value in record.items():
        path = below(above, str(name))
        if isinstance(value, Mapping):
            yield from members(value, path)
        elif not isinstance(value, list) or not any(isinstance(item, Mapping | list) for item in value):
            yield path, value


#: What a link says of itself (RFC 8288, section 3, and as JSON commonly has it).
_OF_LINKS = {
    "href", "rel", "rev", "type", "title", "hreflang", "media", "anchor", "length", "templated", "method", "name",
    "profile",
}  # fmt: skip


def are_links(records: Sequence[Any]) -> bool:
    """Whether a list holds links to other documents, and no records."""
    return all(isinstance(one, Mapping) and {"href", "rel"} <= one.keys() <= _OF_LINKS for one in records)


def lists(value: Any, path: str = "$", depth: int = 0) -> Iterator[tuple[str, list[Any]]]:
    """Each list of records in an answer, by its path, to the fourth level."""
    if isinstance(value, list):
        if value and all(isinstance(item, Mapping) for item in value) and not are_links(value):
            yield path, value
    elif isinstance(value, Mapping) and depth < 4:
        for name, held in value.items():
            if _PLAIN.fullmatch(str(name)):
                yield from lists(held, f"{path}.{name}" if path != "$" else str(name), depth + 1)


def around(value: Any, without: str, path: str = "") -> Iterator[tuple[str, Any]]:
    """Each single value of an answer beside its list of records, by its path."""
    if path == without or (without == "$" and isinstance(value, list)):
        return
    if isinstance(value, Mapping):
        for name, held in value.items():
            yield from around(held, without, below(path, str(name)))
    elif not isinstance(value, list) and value is not None:
        yield path, value
