"""A request as it came, and whether it is one that a call of the dialect makes."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import parse_qsl, unquote

from concordex.model.members import value_at
from concordex.wire import dialect as d
from concordex.wire.dialect.templates import Template


@dataclass(kw_only=True)
class Asked:
    """A request: its path as it came (RFC 3986), headers by small letters, the body decoded where it can be.

    A call of JSON-RPC has a method of its own (``rpc``) and ``params``.
    """

    method: str
    path: str
    url: str = ""
    query: dict[str, str] = field(default_factory=dict)
    headers: Mapping[str, str] = field(default_factory=dict)
    content: bytes = b""
    body: Any = None
    rpc: str | None = None
    params: Any = None

    def parameter(self, place: str, name: str) -> str | None:
        """A parameter as a text, from the ``query``, the ``body`` or the ``params``."""
        if place == "query":
            return self.query.get(name)
        value = value_at(self.params if place == "params" else self.body, name)
        return None if value is None else str(value)


class Pattern:
    """What a request looks like that a call of the dialect makes."""

    def __init__(self, dialect: d.Dialect, call: d.Call, path: str | None = None) -> None:
        """``path`` stands in for the call's own."""
        self.call = call
        own = Template(path) if path is not None else call.path
        if call.rpc and not own and dialect.rpc:
            own = dialect.rpc.path
        where, _, query = own.partition("?")
        base = "" if re.match(r"[A-Za-z]+://", own) else dialect.base.strip("/")
        self._segments = [_segment(part) for part in _split(f"/{base}/{where}")]
        self._query = {
            **{name: Template(text) for name, text in parse_qsl(query, keep_blank_values=True)},
            **call.query,
        }
        self._method = "POST" if call.rpc else call.method
        #: How much of it is said in so many words: of two calls that fit, that is meant which says more.
        self.said = sum(not pattern.groups for pattern, _ in self._segments) * 4 + len(self._query) + len(call.params)

    @property
    def parameters(self) -> set[str]:
        """The parameters of the address that it always has."""
        return set(self._query)

    def match(self, asked: Asked, known: Mapping[str, str]) -> dict[str, Any] | None:
        """What stands for its names, where the request is such a one; ``known`` names must have their values."""
        found: dict[str, Any] = {}
        if asked.method != self._method or asked.rpc != self.call.rpc or not self.fits(asked.path, found):
            return None
        wanted: list[tuple[Any, Any]] = [(self._query, asked.query)]
        if self.call.params:
            wanted.append((self.call.params, asked.params))
        for body in (self.call.json_body, self.call.xml, self.call.form):
            if body:
                wanted.append((body, asked.body))
        if not all(_taken(template, given, found) for template, given in wanted):
            return None
        return found if all(str(found[name]) == text for name, text in known.items() if name in found) else None

    def fits(self, path: str, found: dict[str, Any] | None = None) -> bool:
        """Whether a path is such a one; what its names stand for goes into ``found``."""
        found = {} if found is None else found
        parts = _split(path)
        if len(parts) != len(self._segments):
            return False
        for part, (pattern, names) in zip(parts, self._segments, strict=True):
            match = pattern.fullmatch(unquote(part))
            if match is None:
                return False
            found.update(zip(names, match.groups(), strict=True))
        return True


def _split(path: str) -> list[str]:
    return [part for part in path.split("/") if part]


def _segment(text: str) -> tuple[re.Pattern[str], list[str]]:
    """One part of a path, as a pattern, and the names that stand in it."""
    names, pattern = [], ""
    for part in Template(text).parts:
        if isinstance(part, str):
            pattern += re.escape(unquote(part))
        else:
            names.append(part.name)
            pattern += "(.+)"
    return re.compile(pattern, re.DOTALL), names


def _taken(template: Any, given: Any, found: dict[str, Any]) -> bool:
    """Whether ``given`` says what a template does; what its names stand for goes into ``found``."""
    if isinstance(template, Template):
        if template.alone:
            found[template.alone] = given
            return given is not None
        if not template.names:
            return given is not None and str(given) == str(template.fill({}))
        pattern, names = _segment(str(template))
        match = pattern.fullmatch(unquote(str(given)))
        if match:
            found.update(zip(names, match.groups(), strict=True))
        return match is not None
    if isinstance(template, Mapping):
        return isinstance(given, Mapping) and all(_taken(template[key], given.get(key), found) for key in template)
    if isinstance(template, list):
        same = isinstance(given, list) and len(given) == len(template)
        return same and all(_taken(one, other, found) for one, other in zip(template, given, strict=True))
    return bool(given == template)
