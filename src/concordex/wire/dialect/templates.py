"""Texts with ``{name}`` in them, filled with what a system's workspace, lookups or records say."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote

from concordex.unseen import Secret

Values = Mapping[str, Any]
#: A name, or JSONPath (RFC 9535) into the record at hand.
_NAME = re.compile(r"\{([A-Za-z_@][\w.@:-]*|\$[^{}]*)\}")
#: The same, and what is doubled to mean itself: ``{{name}}`` is the text ``{name}``.
_PLACES = re.compile(rf"\{{\{{([^{{}}]*)\}}\}}|{_NAME.pattern}")


def fill(template: Any, values: Values) -> Any:
    """``template`` with each ``{name}`` replaced, in texts, lists and mappings.

    A text that is nothing but one name becomes the value itself, so that a number stays one.
    """
    if isinstance(template, str):
        alone = _NAME.fullmatch(template)
        if alone and alone[1] in values:
            return _shown(values[alone[1]])
        return _PLACES.sub(lambda found: _literal(found) or _escaped(_text(values, found), found, template), template)
    if isinstance(template, Mapping):
        return {key: fill(value, values) for key, value in template.items()}
    return [fill(item, values) for item in template] if isinstance(template, list) else template


def _escaped(said: str, found: re.Match[str], template: str) -> str:
    """A value that stands in quotes within a longer text, as in a query: it cannot end them (RFC 8259, section 7)."""
    quoted = template[: found.start()].endswith('"') and template[found.end() :].startswith('"')
    return json.dumps(said, ensure_ascii=False)[1:-1] if quoted else said


def fill_texts(template: Mapping[str, str], values: Values) -> dict[str, str]:
    """The same for a mapping of texts to texts."""
    return {key: str(fill(value, values)) for key, value in template.items()}


def fill_path(path: str, values: Values) -> str:
    """``path`` with each ``{name}`` replaced by one segment of a path (RFC 3986, section 3.3).

    A path that is nothing but one name may be a link, whole or from the root; anything else that it holds is
    a segment.  Raises LookupError where a name has no value, ValueError where a value can be no segment.
    """
    alone = _NAME.fullmatch(path)
    if alone and is_link(said := str(_shown(_found(values, alone)))):
        return said
    return _PLACES.sub(lambda found: _literal(found) or _segment(str(_shown(_found(values, found)))), path)


def is_link(said: str) -> bool:
    """Whether a value is an address, whole or from the root, and no plain id."""
    return said.startswith("/") or re.match(r"[A-Za-z][A-Za-z0-9+.-]*://", said) is not None


def _segment(said: str) -> str:
    if said in ("", ".", ".."):
        raise ValueError(f"{said!r} cannot stand in an address: it would mean another one")
    return quote(said, safe="")


def names_in(template: Any) -> set[str]:
    """The names that stand in a template."""
    if isinstance(template, str):
        return {name for literal, name in _PLACES.findall(template) if name}
    parts = template.values() if isinstance(template, Mapping) else template if isinstance(template, list) else ()
    return {name for part in parts for name in names_in(part)}


def _literal(found: re.Match[str]) -> str:
    return "" if found[2] else f"{{{found[1]}}}"


def _name(found: re.Match[str]) -> str:
    return str(found[found.re.groups])


def _found(values: Values, found: re.Match[str]) -> Any:
    name = _name(found)
    if values.get(name) is None:
        raise LookupError(name)
    return values[name]


def _text(values: Values, found: re.Match[str]) -> str:
    return str(_shown(values[_name(found)])) if _name(found) in values else found[0]


def _shown(value: Any) -> Any:
    return value.reveal() if isinstance(value, Secret) else value
