"""What a description (OpenAPI 2.0, 3.0, 3.1) says can be called, and how; it is believed to lie, and asks no host."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any
from urllib.parse import unquote, urlsplit

from concordex.insight.draft.seen import OnlyDescribed

_METHODS = ("get", "put", "post", "delete", "options", "head", "patch", "trace")
#: How deep an example goes, and how many values it has.
_DEEP, _MOST = 5, 300


@dataclass(frozen=True, kw_only=True)
class DescribedParameter:
    """A parameter of an operation: where it ``stands`` (path, query, header, body), its type, and if it must be."""

    name: str
    stands: str
    kind: str
    required: bool
    about: str
    example: Any = None


@dataclass(frozen=True, kw_only=True)
class Operation:
    """One thing that can be called: ``name`` as the description calls it, or by its method and path.

    What it takes is worked out when it is asked for: a description may hold thousands.
    """

    name: str
    section: str
    method: str
    path: str
    about: str
    deprecated: bool
    reader: _Reader = field(repr=False, compare=False)
    told: Mapping[str, Any] = field(repr=False, compare=False)
    shared: Sequence[Any] = field(repr=False, compare=False)

    @cached_property
    def parameters(self) -> list[DescribedParameter]:
        """What it takes, the members of a JSON body among them."""
        return self.reader.parameters(self.told, self.shared)

    @property
    def question(self) -> str:
        """What is asked in a body, where all is asked at one path: a document of GraphQL."""
        return str(self.told.get("x-question") or "")

    @cached_property
    def body(self) -> str:
        """The media type of its body; empty where it has none."""
        return self.reader.body(self.told)[0]

    @cached_property
    def example(self) -> Any:
        """A body as it might be; None where nothing is known of one."""
        schema = self.reader.body(self.told)[1]
        return self.reader.example(schema) if schema else None

    @cached_property
    def returns(self) -> Any:
        """What a good answer is made of, as it is described: each value an :class:`OnlyDescribed`."""
        return self.reader.returns(self.told)

    @cached_property
    def answers(self) -> dict[str, str]:
        """What each status means."""
        return self.reader.answers(self.told)


@dataclass(frozen=True, kw_only=True)
class Described:
    """A whole description: its operations in their order, and what of it could not be followed."""

    title: str
    form: str
    operations: Sequence[Operation]
    reader: _Reader = field(repr=False, compare=False)

    @property
    def notes(self) -> list[str]:
        """What of it could not be followed so far."""
        return [*self.reader.notes]

    @property
    def security(self) -> Mapping[str, Any]:
        """The ways of signing in that are described, by their names."""
        return self.reader.security

    def named(self, name: str) -> Operation | None:
        """The operation of that name, without regard to case."""
        return next((one for one in self.operations if one.name.lower() == name.lower()), None)

    def about(self, words: Sequence[str]) -> list[Operation]:
        """The operations of which every word stands somewhere."""
        lower = [word.lower() for word in words]
        return [
            one for one in self.operations
            if all(word in f"{one.name} {one.section} {one.method} {one.path} {one.about}".lower() for word in lower)
        ]  # fmt: skip


class NotDescribed(ValueError):
    """A document that is no OpenAPI description."""


def described(document: Any) -> Described:
    """The description in a document; raises NotDescribed where there is none."""
    if not isinstance(document, Mapping) or not isinstance(document.get("paths"), Mapping):
        raise NotDescribed("has no `paths`: it is no OpenAPI description")
    told_by = str(document.get("x-told-by") or "")
    form = str(document.get("openapi") or document.get("swagger") or "")
    if not form.startswith(("2.", "3.")):
        raise NotDescribed(f"is of no form that is known: openapi {form or 'is not said'}")
    reader = _Reader(document, form)
    operations = list(reader.operations())
    title = str(_mapping(document.get("info")).get("title") or "")
    return Described(title=title, form=told_by or f"OpenAPI {form}", operations=operations, reader=reader)


class _Reader:
    def __init__(self, document: Mapping[str, Any], form: str) -> None:
        self.document, self.form = document, form
        self.notes: dict[str, None] = {}

    def operations(self) -> Iterator[Operation]:
        """Each of them, in the order of the document."""
        base = self._base()
        for path, item in self.document["paths"].items():
            held = self._met(item)
            for method in _METHODS:
                told = held.get(method)
                if isinstance(told, Mapping):
                    yield self._operation(method.upper(), f"{base}{path}", told, _list(held.get("parameters")))

    def _base(self) -> str:
        if self.form.startswith("2."):
            return str(self.document.get("basePath") or "").rstrip("/")
        servers = _list(self.document.get("servers"))
        url = str(_mapping(servers[0]).get("url") or "") if servers else ""
        return urlsplit(re.sub(r"\{[^{}]*\}", "", url)).path.rstrip("/")

    def _operation(self, method: str, path: str, told: Mapping[str, Any], shared: Sequence[Any]) -> Operation:
        sections = _list(told.get("tags"))
        return Operation(
            name=str(told.get("operationId") or f"{method} {path}"), method=method, path=path,
            about=_about(told), deprecated=bool(told.get("deprecated")),
            section=str(sections[0]) if sections else _section(path), reader=self, told=told, shared=shared,
        )  # fmt: skip

    def parameters(self, told: Mapping[str, Any], shared: Sequence[Any]) -> list[DescribedParameter]:
        """Those of an operation, which go before those that its path shares, and the members of its body."""
        given = (self._parameter(one) for one in (*shared, *_list(told.get("parameters"))))
        own = {(one.stands, one.name): one for one in given if one is not None}
        return [*own.values(), *self._members(self.body(told)[1])]

    def answers(self, told: Mapping[str, Any]) -> dict[str, str]:
        """What each status of an operation means."""
        responses = _mapping(told.get("responses"))
        return {str(code): _short(self._met(answer).get("description")) for code, answer in responses.items()}

    def returns(self, told: Mapping[str, Any]) -> Any:
        """The skeleton of an operation's good answer; None where nothing is described."""
        responses = _mapping(told.get("responses"))
        good = next((self._met(responses[code]) for code in map(str, responses) if code.startswith("2")), {})
        content = _mapping(good.get("content"))
        kind = next((kind for kind in content if "json" in kind), None)
        schema = _mapping(content[kind]).get("schema") if kind is not None else good.get("schema")  # of 2.0: beside it
        return self._skeleton(schema, 0, [_MOST]) if schema is not None else None

    def _skeleton(self, given: Any, depth: int, left: list[int]) -> Any:
        schema = self._met(given)
        left[0] -= 1
        if depth > _DEEP or left[0] < 0:
            return OnlyDescribed("")
        if parts := next((p for way in ("allOf", "oneOf", "anyOf") if (p := _list(schema.get(way)))), None):
            made = [self._skeleton(part, depth + 1, left) for part in (parts if "allOf" in schema else parts[:1])]
            whole = [part for part in made if isinstance(part, Mapping)]
            return {name: value for part in whole for name, value in part.items()} if whole else made[0]
        if "properties" in schema:
            held = _mapping(schema.get("properties"))
            return {str(name): self._skeleton(one, depth + 1, left) for name, one in held.items()}
        if schema.get("type") == "array":
            return [self._skeleton(schema.get("items"), depth + 1, left)]
        return OnlyDescribed(self._kind(schema))

    @property
    def security(self) -> Mapping[str, Any]:
        """The ways of signing in that are described, by their names."""
        of_3 = _mapping(_mapping(self.document.get("components")).get("securitySchemes"))
        found = of_3 or _mapping(self.document.get("securityDefinitions"))
        return {str(name): self._met(one) for name, one in found.items()}

    def body(self, told: Mapping[str, Any]) -> tuple[str, Mapping[str, Any]]:
        """The media type of an operation's body, and its schema; of 2.0 it is a parameter."""
        content = _mapping(self._met(told.get("requestBody")).get("content"))
        kind = next((kind for kind in content if "json" in kind), next(iter(content), ""))
        if kind:
            return str(kind), self._met(_mapping(content[kind]).get("schema"))
        bodies = (self._met(given) for given in _list(told.get("parameters")))
        whole = next((body for body in bodies if body.get("in") == "body"), None)
        return ("application/json", self._met(whole.get("schema"))) if whole is not None else ("", {})

    def _members(self, schema: Mapping[str, Any]) -> list[DescribedParameter]:
        required = _list(schema.get("required"))
        held = {str(name): self._met(one) for name, one in _mapping(schema.get("properties")).items()}
        return [
            DescribedParameter(name=name, stands="body", kind=self._kind(one), required=name in required,
                               about=_short(one.get("description")))
            for name, one in held.items()
        ]  # fmt: skip

    def _parameter(self, given: Any) -> DescribedParameter | None:
        told = self._met(given)
        if not told.get("name") or told.get("in") in (None, "body"):
            return None
        schema = self._met(told.get("schema")) or told  # of 2.0 the type stands in the parameter itself
        stands = str(told["in"])
        return DescribedParameter(
            name=str(told["name"]), stands=stands, kind=self._kind(schema), about=_short(told.get("description")),
            required=bool(told.get("required")) or stands == "path",
            example=told["example"] if "example" in told else self.example(schema),
        )  # fmt: skip

    def _kind(self, schema: Mapping[str, Any]) -> str:
        if choices := _list(schema.get("enum")):
            return " | ".join(map(str, choices[:8])) + (" | …" if len(choices) > 8 else "")
        kind = schema.get("type")
        told = " or ".join(map(str, kind)) if isinstance(kind, list) else str(kind or "")
        if told == "array":
            return f"list of {self._kind(self._met(schema.get('items'))) or 'anything'}"
        return told + (f" ({schema['format']})" if isinstance(schema.get("format"), str) else "")

    def example(self, given: Any) -> Any:
        """A value as a schema says, of bounded size: what describes itself within itself has no end."""
        return self._example(given, 0, [_MOST])

    def _example(self, given: Any, depth: int, left: list[int]) -> Any:
        schema = self._met(given)
        left[0] -= 1
        told = [schema[name] for name in ("example", "default") if name in schema]
        told += _list(schema.get("examples"))[:1] + _list(schema.get("enum"))[:1]
        if told or depth > _DEEP or left[0] < 0:
            return told[0] if told else None
        if parts := next((p for way in ("allOf", "oneOf", "anyOf") if (p := _list(schema.get(way)))), None):
            made = [self._example(part, depth + 1, left) for part in (parts if "allOf" in schema else parts[:1])]
            whole = [part for part in made if isinstance(part, Mapping)]
            return {name: value for part in whole for name, value in part.items()} if whole else made[0]
        kinds = schema.get("type")
        kind = kinds[0] if isinstance(kinds, list) and kinds else kinds
        if kind == "object" or "properties" in schema:
            held = _mapping(schema.get("properties"))
            return {str(name): self._example(one, depth + 1, left) for name, one in held.items()}
        if kind == "array":
            return [self._example(schema.get("items"), depth + 1, left)]
        return {"integer": 1, "number": 1.0, "boolean": True, "string": "text"}.get(str(kind))

    def _met(self, given: Any) -> Mapping[str, Any]:
        """What a reference means, through as many as there are; one to another document is not followed."""
        seen: set[str] = set()
        while isinstance(given, Mapping) and isinstance(given.get("$ref"), str):
            ref = given["$ref"]
            if not ref.startswith("#/") or ref in seen:
                self.notes[f"{ref} is not followed: {'it means itself' if ref in seen else 'another document'}"] = None
                return {}
            seen.add(ref)
            given = self._at(ref)
        return _mapping(given)

    def _at(self, ref: str) -> Any:
        value: Any = self.document
        for part in ref[2:].split("/"):  # JSON Pointer (RFC 6901) in a fragment
            name = unquote(part).replace("~1", "/").replace("~0", "~")
            value = value.get(name) if isinstance(value, Mapping) else None
        if value is None:
            self.notes[f"{ref} means nothing"] = None
        return value


def _list(given: Any) -> list[Any]:
    return given if isinstance(given, list) else []


def _mapping(given: Any) -> Mapping[str, Any]:
    return given if isinstance(given, Mapping) else {}


def _about(told: Mapping[str, Any]) -> str:
    """What an operation is for: its summary, unless that says its name once more."""
    bare = [re.sub(r"[\W_]", "", str(told.get(name) or "")).lower() for name in ("summary", "operationId")]
    first, second = ("description", "summary") if bare[0] == bare[1] else ("summary", "description")
    return _short(told.get(first)) or _short(told.get(second))


def _short(text: Any) -> str:
    return str(text or "").strip().split("\n")[0][:160]


def _section(path: str) -> str:
    """What stands first in a path that is no variable and no version."""
    return next((part for part in path.split("/") if part and not re.match(r"\{|v?\d", part)), "")
