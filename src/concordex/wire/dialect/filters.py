"""Filters on a system's own records that a dialect holds, such as which of them are in a bin."""

from __future__ import annotations

from typing import Annotated, Any, Self

from pydantic import PlainSerializer, PlainValidator, WithJsonSchema

from concordex.documents import fault_at
from concordex.errors import QueryError
from concordex.query.parse import parse
from concordex.query.tree import Filter


class FilterExpression(str):
    """A filter, parsed once; it reads as it was written."""

    __slots__ = ("query",)
    query: Filter

    def __new__(cls, text: str) -> Self:
        """Raises QueryError where it is no filter."""
        expression = super().__new__(cls, text)
        expression.query = parse(text)
        return expression


def _read(given: Any) -> FilterExpression:
    if not isinstance(given, str):
        raise ValueError("should be a text")  # noqa: TRY004 - pydantic tells these
    try:
        return FilterExpression(given)
    except QueryError as error:
        raise fault_at((), error.what) from error


#: The same as a part of a document.
FilterText = Annotated[
    FilterExpression,
    PlainValidator(_read),
    WithJsonSchema({"type": "string"}),
    PlainSerializer(str, return_type=str, when_used="json"),
]
