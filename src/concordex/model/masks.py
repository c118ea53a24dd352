"""Secrets that systems show: in clear text, as their names tell; or as masks, which would take their place."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

#: A run of one sign, or a word in brackets that says so.
_MASK = re.compile(
    r"([*•●∗⁎＊·])\1{2,} | x{6,} | \W?redacted\W? | [<\[({] (hidden|masked|secret|removed|not\ shown) [>\])}]",
    re.IGNORECASE | re.VERBOSE,
)


def is_mask(value: Any) -> bool:
    """Whether a value stands for a secret that is not shown, such as ``********``."""
    return isinstance(value, str) and _MASK.fullmatch(value.strip()) is not None


def masks_in(value: Any, above: str = "") -> Iterator[str]:
    """The dotted paths of the masks in a document, however deep; items of lists stand as ``[0]``."""
    if isinstance(value, Mapping):
        for name, below in value.items():
            yield from masks_in(below, f"{above}.{name}" if above else str(name))
    elif isinstance(value, list):
        for at, item in enumerate(value):
            yield from masks_in(item, f"{above}[{at}]")
    elif is_mask(value):
        yield above


#: What members are called that hold secrets.
_CALLED = re.compile(
    r"pass(word|phrase|wd)$|secret$|psk$|pre-?_?shared-?_?key$|private-?_?key$|token$|community$", re.I
)


def secrets_in(value: Any, above: str = "") -> Iterator[str]:
    """The dotted paths of members that hold a secret in clear text, as their names tell; items of lists as []."""
    if isinstance(value, Mapping):
        for name, below in value.items():
            path = f"{above}.{name}" if above else str(name)
            if isinstance(below, str) and below and not is_mask(below) and _CALLED.search(str(name)):
                yield path
            else:
                yield from secrets_in(below, path)
    elif isinstance(value, list):
        for item in value:
            yield from secrets_in(item, f"{above}[]")
