"""How far a system can apply a filter itself.

A dialect declares which tests its system understands.  Only parts that must all hold are handed
over, and the whole filter is applied again to what comes back: the system may send too much, and
must never send too little.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from urllib.parse import quote

from concordex.model.fields import Type
from concordex.query.bind import Binder, Bound
from concordex.query.tree import Clause, Filter, Node


@dataclass(frozen=True, kw_only=True)
class FilterTest:
    """One test of one field that a system applies itself, and how its query says so.

    ``values`` translates our words to the system's; a word of ours may be several of theirs.  Where ``otherwise``
    is set, every word that is not among them means that; else it means itself.  ``any_case`` says that the
    system compares text without regard to case, and addresses without regard to notation, as we do.
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
    escape: str | None = None  # doubled, backslash or percent
    wildcards: Mapping[str, str] | None = None  # how * and ? are written
    values: Mapping[str, Sequence[str]] | None = None
    otherwise: str | None = None


#: A parameter that is longer is not said: what stands before a system may refuse addresses beyond 8,000 octets
#: (RFC 9110, 4.1), and cut what it does not refuse.
_LONGEST = 2_000


@dataclass(frozen=True)
class Reached:
    """The parts of a filter that the system applies, and the query that says them."""

    nodes: tuple[Node, ...] = ()
    parameters: dict[str, str] = field(default_factory=dict)
    path: str | None = None


def reach(query: Filter, binder: Binder, abilities: Sequence[FilterTest]) -> Reached:
    """What of ``query`` the system can be asked to apply."""
    nodes: list[Node] = []
    texts_of: dict[str, list[str]] = defaultdict(list)
    joins: dict[str, str | None] = {}
    path: str | None = None
    for node in query.conjuncts:
        reached = _first(node, binder, abilities)
        if reached is None:
            continue
        ability, text = reached
        if ability.parameter is None:
            if path is None:
                path = (ability.path or "").replace("{value}", quote(text, safe=""))
                nodes.append(node)
            continue  # there is one path only
        if texts_of[ability.parameter] and ability.together is None:
            continue  # the parameter can be given only once
        if sum(map(len, texts_of[ability.parameter])) + len(text) > _LONGEST:
            continue
        texts_of[ability.parameter].append(text)
        joins[ability.parameter] = ability.together
        nodes.append(node)
    parameters = {name: (joins[name] or "").join(texts) for name, texts in texts_of.items() if texts}
    return Reached(tuple(nodes), parameters, path)


def _first(node: Node, binder: Binder, abilities: Sequence[FilterTest]) -> tuple[FilterTest, str] | None:
    if not isinstance(node, Clause):
        return None
    bound = binder.bind(node)
    if bound.counted or bound.extra is not None:
        return None
    for ability in abilities:
        if ability.field == bound.column and bound.operator in ability.tests:
            text = _say(node, bound, ability)
            if text is not None and len(text) <= _LONGEST:
                return ability, text
    return None


def _say(node: Clause, bound: Bound, ability: FilterTest) -> str | None:
    """The clause as the system's query says it, or None where its answer could lack a record."""
    if bound.operator in ("present", "missing"):
        return ability.write if "{value}" not in ability.write else None
    if bound.type is Type.TIME:
        return _time(bound, ability)
    words = _words(node, bound, ability)
    if not words or (len(words) > 1 and ability.several is None):
        return None
    quoted = [_escaped(word, ability) for word in words]
    if any(escaped is None for escaped in quoted):
        return None
    return ability.write.replace(
        "{value}", (ability.several or "").join(escaped for escaped in quoted if escaped is not None)
    )


def _words(node: Clause, bound: Bound, ability: FilterTest) -> list[str] | None:
    """The values in the system's words: all of its words that mean ours, or None."""
    if bound.type is Type.VERSION:
        return None  # 7.2 and 7.2.0 are one version to us, and two texts to it
    words = [word.text for word in node.values]
    if bound.type is Type.FLAG:
        words = ["true" if value else "false" for value in bound.values]
    elif bound.type is Type.NUMBER:
        words = [f"{value:g}" if value != int(value) else str(int(value)) for value in bound.values]
    if ability.values is not None:
        return _theirs(words, ability) if ability.any_case or bound.type is not Type.TEXT else None
    if bound.operator == "like":
        return _patterns(words, ability)
    return words if ability.any_case or bound.type in (Type.FLAG, Type.NUMBER) else None


def _theirs(words: Sequence[str], ability: FilterTest) -> list[str] | None:
    assert ability.values is not None
    known = {ours.lower(): theirs for ours, theirs in ability.values.items()}
    meant = {their.lower() for theirs in ability.values.values() for their in theirs}
    codes: list[str] = []
    for word in words:
        if ability.otherwise is not None and word.lower() == ability.otherwise.lower():
            return None  # every word that is not listed means it
        codes += known.get(word.lower(), [])
        if ability.otherwise is None and word.lower() not in meant:
            codes.append(word)  # a word that is not listed means itself
    return list(dict.fromkeys(codes))


def _patterns(words: Sequence[str], ability: FilterTest) -> list[str] | None:
    marks = ability.wildcards
    if marks is None or not ability.any_case:
        return None
    if any(theirs in word for word in words for ours, theirs in marks.items() if theirs != ours):
        return None
    if any(sign in word and sign not in marks for word in words for sign in "*?"):
        return None
    return ["".join(marks.get(sign, sign) for sign in word) for word in words]


def _escaped(word: str, ability: FilterTest) -> str | None:
    """A value as it may stand in the query's language, or None where nobody says how to escape it."""
    alone = ability.path is not None or (ability.write == "{value}" and not ability.several and not ability.together)
    marks = "".join((ability.wildcards or {}).values())
    if alone or re.fullmatch(rf"[\w .:@/+{re.escape(marks)}-]*", word):
        between = (ability.several, ability.together)
        return word if alone or not any(sign and sign in word for sign in between) else _quoted(word, ability)
    return _quoted(word, ability)


def _quoted(word: str, ability: FilterTest) -> str | None:
    before = ability.write.partition("{value}")[0][-1:]
    mark = before if before in ("'", '"') else ""
    if ability.escape == "percent":
        return quote(word, safe="")
    if not mark:
        return None
    if ability.escape == "doubled":
        return word.replace(mark, mark * 2)
    return word.replace("\\", "\\\\").replace(mark, f"\\{mark}") if ability.escape == "backslash" else None


def _time(bound: Bound, ability: FilterTest) -> str | None:
    """A moment, in whole seconds: moved away from what is wanted, so that nothing of it is lost."""
    if bound.operator in ("=", "!="):
        return None
    moment: datetime = bound.values[0]
    if bound.operator in ("<", "<=", "older than"):
        moment += timedelta(seconds=1)
    elif bound.operator in (">", ">=", "newer than"):
        moment -= timedelta(seconds=1)
    return ability.write.replace("{value}", _moment(moment, ability.time))


def _moment(moment: datetime, form: str) -> str:
    if form == "epoch":
        return str(int(moment.timestamp()))
    if form == "epoch_ms":
        return str(int(moment.timestamp() * 1000))
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ")
