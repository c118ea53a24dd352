"""Groups in filters: ``group = quay-switches`` stands for what the group says.

A group is a filter, or made of other groups: any of them, all of them, and but those that are in some others.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from concordex.errors import QueryError
from concordex.query.parse import parse
from concordex.query.tree import And, Filter, Node, Not, Or, Span, Word
from concordex.words import suggestion

FIELD = "group"


@dataclass(frozen=True, kw_only=True)
class Group:
    """A named selection: at least one of the first three, less what is in ``but_not``."""

    where: str | None = None
    any_of: Sequence[str] = ()
    all_of: Sequence[str] = ()
    but_not: Sequence[str] = ()


def expand(query: Filter, groups: Mapping[str, Group]) -> Filter:
    """``query`` with every clause on ``group`` replaced by what it stands for."""
    return Filter(query.text, _expanded(query.node, query, groups, ()))


def parsed(text: str, groups: Mapping[str, Group]) -> Filter:
    """``text`` read, with its groups replaced by what they stand for."""
    return expand(parse(text), groups)


def filter_of(name: str, groups: Mapping[str, Group]) -> Filter:
    """The filter that a group stands for."""
    return parsed(f'{FIELD} = "{name}"', groups)


def _expanded(node: Node, query: Filter, groups: Mapping[str, Group], inside: tuple[str, ...]) -> Node:
    if isinstance(node, Not):
        return Not(_expanded(node.part, query, groups, inside), node.span)
    if isinstance(node, And | Or):
        return type(node)(tuple(_expanded(part, query, groups, inside) for part in node.parts), node.span)
    if node.field.text.lower() != FIELD:
        return node
    if node.operator not in ("=", "!=", "in", "not in"):
        raise QueryError(f"a group is asked with = or in, not {node.operator}", query.text, *node.span, "group = NAME")
    expanded = Or(tuple(_meaning(word, query, groups, inside) for word in node.values), node.span)
    return Not(expanded, node.span) if node.operator in ("!=", "not in") else expanded


def _meaning(word: Word, query: Filter, groups: Mapping[str, Group], inside: tuple[str, ...]) -> Node:
    name, span = word.text, (word.start, word.end)
    if name not in groups:
        advice = suggestion(name, groups) if groups else "concordex group add NAME --where …"
        raise QueryError(f"there is no group {name!r}", query.text, *span, advice)
    if name in inside:
        raise QueryError(f"a group is made of itself: {' > '.join((*inside, name))}", query.text, *span)
    group, within = groups[name], (*inside, name)

    def others(names: Sequence[str]) -> tuple[Node, ...]:
        return tuple(_meaning(replace(word, text=other), query, groups, within) for other in names)

    parts: list[Node] = []
    if group.where:
        whole = parse(group.where)
        parts.append(_moved(_expanded(whole.node, whole, groups, within), span))
    if group.any_of:
        parts.append(Or(others(group.any_of), span))
    parts += others(group.all_of)
    parts += [Not(other, span) for other in others(group.but_not)]
    return parts[0] if len(parts) == 1 else And(tuple(parts), span)


def _moved(node: Node, span: Span) -> Node:
    """``node`` as if it stood where the group is named: a mistake in it is shown there."""
    if isinstance(node, Not):
        return Not(_moved(node.part, span), span)
    if isinstance(node, And | Or):
        return type(node)(tuple(_moved(part, span) for part in node.parts), span)
    return replace(node, field=_at(node.field, span), values=tuple(_at(word, span) for word in node.values), span=span)


def _at(word: Word, span: Span) -> Word:
    return replace(word, start=span[0], end=span[1])
