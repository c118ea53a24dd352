"""Where an answer leads for the next page, where no dialect says it: by standards and by what is commonly done."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from concordex.wire.http.links import related

if TYPE_CHECKING:
    from concordex.wire.http.exchange import Exchange
    from concordex.wire.http.session import Session

#: Members that are called so, but for their spelling, commonly hold the next page's address.
_NEXT = {"next", "nextlink", "nextpage", "nexturl", "nexthref", "odatanextlink"}


@dataclass(frozen=True)
class Onward:
    """The address of the next page, and how it was found."""

    address: str
    how: str


def onward(session: Session, made: Exchange, body: Any) -> Onward | None:
    """The next page of a list; None where an answer tells of none.

    A link to another host is an error when it is asked for: credentials go nowhere else.
    """
    try:
        link = related(made.reply.links, made.url).get("next")
    except ValueError:
        link = None
    if link is not None:
        return Onward(session.link(link, made.url), "the header Link, rel=next (RFC 8288)")
    for name, value in _named(body):
        text = value.get("href") if isinstance(value, Mapping) else value
        if isinstance(text, str) and re.match(r"https?://|/|\?", text):
            return Onward(session.link(text, made.url), f"the member {name}")
    return None


def _named(body: Any, above: str = "") -> Iterator[tuple[str, Any]]:
    """Members that are called so, of an answer and of what it holds, to the second level."""
    if not isinstance(body, Mapping):
        return
    for name, value in body.items():
        if re.sub(r"[^a-z]", "", str(name).lower()) in _NEXT:
            yield f"{above}{name}", value
        elif not above:
            yield from _named(value, f"{name}.")
