"""How far a system can apply a filter itself.

A dialect declares which tests its system understands.  Only parts that must all hold are handed
over, and the whole filter is applied again to what comes back: the system may send too much, and
must never send too little.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from urllib.parse import quote

from concordex.model.fields import Type
from concordex.query.bind import Binder, Bound
from concordex.query.tree import Clause, Filter, Node


@dataclass(frozen=True, kw_only=True)
class Ability:
    """One test of one field that a system applies itself, and how its query says so.

    ``values`` translates our words to the system's; a word of ours may be several of theirs.
    ``any_case`` says that the system compares text without regard to case, as we do.
    """

    field: str
    tests: tuple[str, ...]
    parameter: str | None = None
    path: str | None = None
    write: str = "{value}"
    several: str | None = None
    together: str | None = None
    time: str = "iso"
    any_case: bool = False
    values: Mapping[str, Sequence[str]] | None = None


@dataclass(frozen=True)
class Reached:
    """The parts of a filter that the system applies, and the query that says them."""

    nodes: tuple[Node, ...] = ()
    parameters: dict[str, str] = field(default_factory=dict)
    path: str | None = None


def reach(query: Filter, binder: Binder, abilities: Sequence[Ability]) -> Reached:
    """What of ``query`` the system can be asked to apply."""
    nodes: list[Node] = []
    said: dict[str, list[str]] = defaultdict(list)
    joins: dict[str, str | None] = {}
    path: str | None = None
    for node in query.conjuncts:
        found = _first(node, binder, abilities)
        if found is None:
            continue
        ability, text = found
        if ability.parameter is None:
            if path is None:
                path = (ability.path or "").replace("{value}", quote(text, safe=""))
                nodes.append(node)
            continue  # there is one path only
        if said[ability.parameter] and ability.together is None:
            continue  # the parameter can be given only once
        said[ability.parameter].append(text)
        joins[ability.parameter] = ability.together
        nodes.append(node)
    parameters = {name: (joins[name] or "").join(texts) for name, texts in said.items() if texts}
    return Reached(tuple(nodes), parameters, path)


def _first(node: Node, binder: Binder, abilities: Sequence[Ability]) -> tuple[Ability, str] | None:
    if not isinstance(node, Clause):
        return None
    bound = binder.bind(node)
    if bound.counted or bound.extra is not None:
        return None
    for ability in abilities:
        if ability.field == bound.column and bound.operator in ability.tests:
            text = _say(node, bound, ability)
            if text is not None:
                return ability, text
    return None


def _say(node: Clause, bound: Bound, ability: Ability) -> str | None:
    if bound.type is Type.TIME:
        return ability.write.replace("{value}", _moment(bound.values[0], ability.time))
    words = [word.text for word in node.values]
    if ability.values is not None:
        known = {key.lower(): theirs for key, theirs in ability.values.items()}
        if any(word.lower() not in known for word in words):
            return None
        words = [theirs for word in words for theirs in known[word.lower()]]
    elif not ability.any_case:
        return None  # the system would leave out what we would have kept
    if not words or (len(words) > 1 and ability.several is None):
        return None
    if any(ability.several and ability.several in word for word in words):
        return None
    return ability.write.replace("{value}", (ability.several or "").join(words))


def _moment(moment: datetime, form: str) -> str:
    if form == "epoch":
        return str(int(moment.timestamp()))
    if form == "epoch_ms":
        return str(int(moment.timestamp() * 1000))
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ")
