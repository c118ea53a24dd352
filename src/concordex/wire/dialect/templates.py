"""Texts with ``{name}`` in them, filled with what a system's workspace, lookups or records say."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from datetime import datetime
from typing import Annotated, Any, NamedTuple, Self
from urllib.parse import quote

from pydantic import PlainSerializer, PlainValidator, WithJsonSchema

from concordex.unseen import Secret

Values = Mapping[str, Any]
#: A name, or JSONPath (RFC 9535) into the record at hand; or what is doubled to mean itself: ``{{name}}`` is the text
#: ``{name}``.
_PLACES = re.compile(r"\{\{(?P<literal>[^{}]*)\}\}|\{(?P<name>[A-Za-z_@][\w.@:-]*|\$[^{}]*)\}")


class Placeholder(NamedTuple):
    """A name in a template; ``quoted`` where it stands in quotes within a longer text."""

    name: str
    quoted: bool


class Template(str):
    """A text with ``{name}`` in it, taken apart once; it reads as it was written."""

    __slots__ = ("_parts", "names")
    #: The names that stand in it.
    names: frozenset[str]
    _parts: tuple[str | Placeholder, ...]

    def __new__(cls, text: str) -> Self:
        """Any text is one."""
        template = super().__new__(cls, text)
        parts, end = list[str | Placeholder](), 0
        for match in _PLACES.finditer(text):
            parts.append(text[end : match.start()])
            quoted = text[: match.start()].endswith('"') and text[match.end() :].startswith('"')
            parts.append(f"{{{match['literal']}}}" if match["name"] is None else Placeholder(match["name"], quoted))
            end = match.end()
        template._parts = tuple(part for part in (*parts, text[end:]) if part != "")
        template.names = frozenset(part.name for part in template._parts if isinstance(part, Placeholder))
        return template

    @classmethod
    def literal(cls, text: str) -> Self:
        """A text in which nothing is filled in, whatever it holds."""
        template = super().__new__(cls, text)
        template._parts, template.names = (text,) if text else (), frozenset()
        return template

    @property
    def parts(self) -> tuple[str | Placeholder, ...]:
        """Its texts and names, in their order."""
        return self._parts

    @property
    def alone(self) -> str | None:
        """The name, where it is nothing but one."""
        part = self._parts[0] if len(self._parts) == 1 else None
        return part.name if isinstance(part, Placeholder) else None

    def fill(self, values: Values) -> Any:
        """The text with its names replaced; those without a value stay as they are.

        One that is nothing but a name becomes the value itself, so that a number stays one.  Raises LookupError where
        a value that is to stand in a longer text is null.
        """
        if self.alone is not None and self.alone in values:
            return _shown(values[self.alone])
        return self.as_text(values)

    def as_text(self, values: Values) -> str:
        """The same, and a text in any case.  Raises LookupError where a value is null."""
        return "".join(part if isinstance(part, str) else _filled(part, values) for part in self._parts)

    def fill_path(self, values: Values) -> str:
        """The same with each name replaced by one segment of a path (RFC 3986, section 3.3).

        A path that is nothing but one name may be a link, whole or from the root; anything else that it holds is
        a segment.  Raises LookupError where a name has no value, ValueError where a value can be no segment.
        """
        if self.alone is not None and is_link(text := str(_found(values, self.alone))):
            return text
        return "".join(
            part if isinstance(part, str) else _segment(_in_text(_found(values, part.name))) for part in self._parts
        )


def compiled(given: Any) -> Any:
    """Texts, also those in lists and mappings, as templates."""
    if isinstance(given, Template):
        return given
    if isinstance(given, str):
        return Template(given)
    if isinstance(given, Mapping):
        return {key: compiled(value) for key, value in given.items()}
    return [compiled(item) for item in given] if isinstance(given, list) else given


def fill(template: Any, values: Values) -> Any:
    """Templates filled, also those in lists and mappings; anything else stays as it is."""
    if isinstance(template, Template):
        return template.fill(values)
    if isinstance(template, Mapping):
        return {key: fill(value, values) for key, value in template.items()}
    return [fill(item, values) for item in template] if isinstance(template, list) else template


def fill_texts(template: Mapping[str, Template], values: Values) -> dict[str, str]:
    """The same for a mapping of texts to texts."""
    return {key: text.as_text(values) for key, text in template.items()}


def names_in(template: Any) -> set[str]:
    """The names that stand in a template, or in templates in lists and mappings."""
    if isinstance(template, Template):
        return set(template.names)
    parts = template.values() if isinstance(template, Mapping) else template if isinstance(template, list) else ()
    return {name for part in parts for name in names_in(part)}


def is_link(text: str) -> bool:
    """Whether a value is an address, whole or from the root, and no plain id."""
    return text.startswith("/") or re.match(r"[A-Za-z][A-Za-z0-9+.-]*://", text) is not None


def _filled(place: Placeholder, values: Values) -> str:
    if place.name not in values:
        return f"{{{place.name}}}"
    text = _in_text(_found(values, place.name))
    # a value that stands in quotes within a longer text, as in a query, cannot end them (RFC 8259, section 7)
    return json.dumps(text, ensure_ascii=False)[1:-1] if place.quoted else text


def _in_text(value: Any) -> str:
    """A value as JSON and its like write it (RFC 8259, RFC 3339): not as Python does."""
    if isinstance(value, datetime):
        return value.isoformat()
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return json.dumps(value, default=str) if isinstance(value, bool | list | Mapping) else str(value)


def _segment(text: str) -> str:
    if text in ("", ".", ".."):
        raise ValueError(f"{text!r} cannot stand in an address: it would mean another one")
    return quote(text, safe="")


def _found(values: Values, name: str) -> Any:
    if values.get(name) is None:
        raise LookupError(name)
    return _shown(values[name])


def _shown(value: Any) -> Any:
    return value.reveal() if isinstance(value, Secret) else value


def _text(given: Any) -> Template:
    if not isinstance(given, str):
        raise ValueError("should be a text")  # noqa: TRY004 - pydantic tells these
    return given if isinstance(given, Template) else Template(given)


#: The same as parts of a document.
TemplateText = Annotated[
    Template,
    PlainValidator(_text),
    WithJsonSchema({"type": "string"}),
    PlainSerializer(str, return_type=str, when_used="json"),
]
