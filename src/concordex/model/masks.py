"""Masks: what systems show in the place of a secret, and what would take its place if it were sent back."""

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
