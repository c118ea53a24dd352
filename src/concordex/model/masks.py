"""Secrets that systems show: in clear text, as their names tell; or as masks, which would take their place."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from concordex.model.members import leaves

#: A run of one sign, or a word in brackets that says so.
_MASK = re.compile(
    r"([*•●∗⁎＊·])\1{2,} | x{6,} | \W?redacted\W? | [<\[({] (hidden|masked|secret|removed|not\ shown) [>\])}]",
    re.IGNORECASE | re.VERBOSE,
)


def is_mask(value: Any) -> bool:
    """Whether a value stands for a secret that is not shown, such as ``********``."""
    return isinstance(value, str) and _MASK.fullmatch(value.strip()) is not None


def masks_in(document: Any, above: str = "") -> Iterator[str]:
    """The dotted paths of the masks in a document, however deep; items of lists stand as ``[0]``."""
    return (path for path, value in leaves(document, above) if is_mask(value))


#: What members of configurations are called that hold secrets: fewer than recordings hide, since a note is to be read.
_CALLED = re.compile(
    r"pass(word|phrase|wd)$|secret$|psk$|pre-?_?shared-?_?key$|private-?_?key$|token$|community$", re.I
)


def clear_secrets(document: Any) -> Iterator[str]:
    """The dotted paths of members that hold a secret in clear text, as their names tell; items of lists as []."""
    for path, value in leaves(document):
        if isinstance(value, str) and value and not is_mask(value) and _CALLED.search(path):
            yield re.sub(r"\[\d+\]", "[]", path)
