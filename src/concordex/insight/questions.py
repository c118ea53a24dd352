"""What a document of GraphQL asks, read without its schema (GraphQL specification, October 2021, section 2)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

#: A longer document is none that a person or a console wrote.
_TOKENS = 20_000


@dataclass(frozen=True)
class AskedQuestion:
    """One operation of a document: what it is called, whether it only reads (section 6.2.1), and what it takes.

    ``needed`` are the variables without which it is refused, ``numbers`` those that are numbers; ``fields`` is what
    the members of its answer are called.
    """

    name: str
    reads: bool
    variables: tuple[str, ...]
    needed: frozenset[str]
    numbers: frozenset[str]
    fields: tuple[str, ...]


def question_of(body: Any) -> AskedQuestion | None:
    """What a body asks as GraphQL over HTTP; None where it is no document of it, or does not say which operation."""
    if not isinstance(body, Mapping) or not isinstance(body.get("query"), str):
        return None
    named = body.get("operationName")
    return _parsed(body["query"], named if isinstance(named, str) else "")


@lru_cache(maxsize=512)
def _parsed(document: str, named: str) -> AskedQuestion | None:
    if "{" not in document:
        return None
    import graphql as g

    try:
        told = g.parse(document, no_location=True, max_tokens=_TOKENS)
    except g.GraphQLError:
        return None
    operations = [one for one in told.definitions if isinstance(one, g.OperationDefinitionNode)]
    mine = [one for one in operations if not named or (one.name and one.name.value == named)]
    if len(mine) != 1:
        return None
    own = mine[0]
    fields = [one for one in own.selection_set.selections if isinstance(one, g.FieldNode)]
    given = {one.variable.name.value: one for one in own.variable_definitions or ()}
    return AskedQuestion(
        name=own.name.value if own.name else fields[0].name.value if fields else "query",
        reads=own.operation == g.OperationType.QUERY,
        variables=tuple(given),
        needed=frozenset(n for n, v in given.items() if isinstance(v.type, g.NonNullTypeNode) and not v.default_value),
        numbers=frozenset(name for name, one in given.items() if _bare(one.type) in ("Int", "Float")),
        fields=tuple(one.alias.value if one.alias else one.name.value for one in fields),
    )


def _bare(kind: Any) -> str:
    """The name of a type within its lists and marks."""
    while not hasattr(kind, "name"):
        kind = kind.type
    return str(kind.name.value)
