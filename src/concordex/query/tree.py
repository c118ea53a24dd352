"""What a filter expression is once it has been read."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

Span = tuple[int, int]


@dataclass(frozen=True, kw_only=True)
class Word:
    """A value as it was written, and where."""

    text: str
    start: int
    end: int
    quoted: bool = False


@dataclass(frozen=True, kw_only=True)
class Clause:
    """One question about one field: ``site = "depot"``."""

    field: Word
    operator: str
    values: tuple[Word, ...] = ()
    counted: bool = False
    span: Span = (0, 0)


@dataclass(frozen=True)
class Not:
    """The opposite of what it holds."""

    part: Node
    span: Span = (0, 0)


@dataclass(frozen=True)
class And:
    """All of its parts."""

    parts: tuple[Node, ...]
    span: Span = (0, 0)


@dataclass(frozen=True)
class Or:
    """Any of its parts."""

    parts: tuple[Node, ...]
    span: Span = (0, 0)


Node = Clause | Not | And | Or


@dataclass(frozen=True)
class Filter:
    """A whole expression, with its text for messages that point into it."""

    text: str
    node: Node

    @property
    def conjuncts(self) -> tuple[Node, ...]:
        """The parts that must all hold, in the order in which they were written."""
        return self.node.parts if isinstance(self.node, And) else (self.node,)

    def written(self, node: Node) -> str:
        """``node`` as the person wrote it."""
        return self.text[slice(*node.span)]


def clauses_of(node: Node) -> Iterator[Clause]:
    """Every clause below ``node``, from left to right."""
    if isinstance(node, Clause):
        yield node
    elif isinstance(node, Not):
        yield from clauses_of(node.part)
    else:
        for part in node.parts:
            yield from clauses_of(part)
