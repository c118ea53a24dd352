"""Texts with ``{name}`` in them, filled with what a system's workspace, lookups or records say."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote

from concordex.wire.secrets import Secret

Values = Mapping[str, Any]
_NAME = re.compile(r"\{([A-Za-z_][\w.-]*)\}")


def fill(template: Any, values: Values) -> Any:
    """``template`` with each ``{name}`` replaced, in texts, lists and mappings.

    A text that is nothing but one name becomes the value itself, so that a number stays one.
    """
    if isinstance(template, str):
        alone = _NAME.fullmatch(template)
        if alone and alone[1] in values:
            return _shown(values[alone[1]])
        return _NAME.sub(lambda found: _text(values, found), template)
    if isinstance(template, Mapping):
        return {key: fill(value, values) for key, value in template.items()}
    return [fill(item, values) for item in template] if isinstance(template, list) else template


def fill_texts(template: Mapping[str, str], values: Values) -> dict[str, str]:
    """The same for a mapping of texts to texts."""
    return {key: str(fill(value, values)) for key, value in template.items()}


def fill_path(path: str, values: Values) -> str:
    """``path`` with each ``{name}`` replaced by one segment of a path (RFC 3986); whole links stay whole."""
    alone = _NAME.fullmatch(path)
    if alone and alone[1] in values:
        return str(_shown(values[alone[1]]))
    return _NAME.sub(
        lambda found: quote(str(_shown(values[found[1]])), safe="") if found[1] in values else found[0], path
    )


def names_in(template: Any) -> set[str]:
    """The names that stand in a template."""
    if isinstance(template, str):
        return set(_NAME.findall(template))
    parts = template.values() if isinstance(template, Mapping) else template if isinstance(template, list) else ()
    return {name for part in parts for name in names_in(part)}


def _text(values: Values, found: re.Match[str]) -> str:
    return str(_shown(values[found[1]])) if found[1] in values else found[0]


def _shown(value: Any) -> Any:
    return value.reveal() if isinstance(value, Secret) else value
