"""The header Link (RFC 8288): every relation that an answer tells, in any form that the standard allows."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from yarl import URL

_NAME = r"[!#$%&'*+.^_`|~0-9A-Za-z-]+"  # RFC 9110, section 5.6.2
_TARGET = re.compile(r"<([^<>]*)>")
_PARAMETER = re.compile(rf'[ \t]*;[ \t]*(?:({_NAME})[ \t]*(?:=[ \t]*(?:"((?:[^"\\]|\\.)*)"|([^\s;,"]+))?)?)?')
_BETWEEN = re.compile(r"[ \t]*(?:,[ \t,]*|$)")


def related(headers: Sequence[str], url: str = "") -> dict[str, str]:
    """The first target of each relation, in small letters; of links whose context is ``url`` itself.

    Raises ValueError for what is no Link header.
    """
    targets: dict[str, str] = {}
    for header in headers:
        for target, parameters in _links(header):
            if "anchor" in parameters and not _is_here(parameters["anchor"], url):
                continue
            for relation in parameters.get("rel", "").lower().split():
                targets.setdefault(relation, target)
    return targets


def _links(header: str) -> Iterator[tuple[str, dict[str, str]]]:
    """Each link's target, and its parameters: of several of one name, the first (section 3)."""
    at = re.compile(r"[ \t,]*").match(header).end()  # type: ignore[union-attr]  # a list may begin with empty elements
    while at < len(header):
        target = _TARGET.match(header, at)
        if target is None:
            raise ValueError(f"no <address> at character {at + 1}")
        at, parameters = target.end(), dict[str, str]()
        while match := _PARAMETER.match(header, at):
            at = match.end()
            name, quoted, token = match.groups()
            if name:
                value = re.sub(r"\\(.)", r"\1", quoted) if quoted is not None else token or ""
                parameters.setdefault(name.lower(), value)
        between = _BETWEEN.match(header, at)
        if between is None:
            raise ValueError(f"neither a parameter nor another link at character {at + 1}")
        at = between.end()
        yield target[1].strip(), parameters


def _is_here(anchor: str, url: str) -> bool:
    """Whether a link's context is the very resource that was asked for (section 3.2)."""
    try:
        here = URL(url).with_fragment(None)
        return here.join(URL(anchor)).with_fragment(None) == here if anchor else True
    except ValueError:
        return False
