"""What a system may narrow itself: by parameters whose values all that came had, or that are called as a member is."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from concordex.insight.draft.fields import FieldGuess
from concordex.insight.draft.pages import shaping_of
from concordex.insight.draft.seen import ListSeen, members

#: So many answers of a list, and records of each, are looked at.
_ANSWERS, _RECORDS = 60, 50


@dataclass(frozen=True)
class FilterGuess:
    """A field of ours that a parameter may narrow a list by, and why that is thought."""

    field: str
    parameter: str
    why: str


def filters_of(
    listed: ListSeen, records: str, pages: Mapping[str, Any] | None, fields: Sequence[FieldGuess]
) -> list[FilterGuess]:
    """The parameters of a list that may be filters, each once: by what came first, then by what it is called."""
    plain = {guess.path: guess.name for guess in fields if guess.sure and not guess.several}
    made: dict[str, FilterGuess] = {}
    for guess in (*_by_values(listed, records, pages, plain), *_by_name(listed, pages, plain)):
        made.setdefault(guess.parameter, guess)
    return list(made.values())


def _by_values(
    listed: ListSeen, records: str, pages: Mapping[str, Any] | None, plain: Mapping[str, str]
) -> Iterator[FilterGuess]:
    """Where all that came with a value has it, and other answers hold records that do not."""
    rows = [
        (answer, [{path: str(value) for path, value in members(one)} for one in came[:_RECORDS]])
        for answer in listed.answers[:_ANSWERS] for came in [listed.records_of(answer, records)]
    ]  # fmt: skip
    for answer, came in rows:
        for name in shaping_of(answer.parameters, pages):
            value = answer.parameters[name]
            for path, field in plain.items():
                has = bool(came) and all(_same(row.get(path), value) for row in came)
                others = (row for other, told in rows if other.parameters.get(name) != value for row in told)
                if has and any(not _same(row.get(path), value) for row in others):
                    yield FilterGuess(
                        field, name, f"all that came with {name}={value} has it, and other records do not"
                    )


def _by_name(listed: ListSeen, pages: Mapping[str, Any] | None, plain: Mapping[str, str]) -> Iterator[FilterGuess]:
    called = {_bare(path.rpartition(".")[2]): field for path, field in plain.items()}
    for name in shaping_of(dict.fromkeys(listed.takes, ""), pages):
        held = re.fullmatch(r"\w+\[(\w+)\]", name)
        field = called.get(_bare(held[1] if held else name))
        if field:
            yield FilterGuess(field, name, "it is called as the member is")


def _bare(text: str) -> str:
    return re.sub(r"\W|_", "", text).lower()


def _same(one: str | None, other: str) -> bool:
    return one is not None and one.casefold() == other.casefold()
