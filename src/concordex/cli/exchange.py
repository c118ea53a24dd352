"""A call and its answer for people: the address taken apart, the status with its meaning, the body readable."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote, unquote_plus, urlsplit

from concordex.cli import draw
from concordex.unseen import headers as shown
from concordex.unseen import in_data, is_credential, masked
from concordex.wire.http.exchange import meaning

if TYPE_CHECKING:
    from concordex.work.call.call import Called

#: Headers of an answer that help to understand it (RFC 9110, RFC 9111, RFC 8288, RFC 9745, RFC 8594).
_TELLING = (
    "content-type", "location", "link", "allow", "etag", "last-modified", "retry-after", "www-authenticate",
    "accept-ranges", "content-range", "deprecation", "sunset", "warning",
)  # fmt: skip


def draw_address(method: str, url: str, base: str) -> None:
    """The address, and its parts as they are sent and as they read."""
    draw.note(f"{method} {masked(url)}", "bold")
    parts = urlsplit(url)
    below = parts.path.removeprefix(urlsplit(base).path.rstrip("/")) if base else parts.path
    rows = [("base", base.rstrip("/"))] if base else []
    rows.append(("path", _both(below, unquote(below))))
    for pair in filter(None, parts.query.split("&")):
        name, _, value = pair.partition("=")
        rows.append((unquote_plus(name), _both(value, unquote_plus(value))))
    width = max(len(name) for name, _ in rows)
    for name, value in rows:
        draw.note(f"  {name:<{width}}  {masked(value)}", "dim")


def _both(sent: str, reads: str) -> str:
    return reads if reads == sent else f"{reads}   ({sent})"


def draw_answer(called: Called) -> None:
    """The status, what it means, and what the answer says of itself."""
    reply, took = called.exchange.reply, called.exchange.seconds
    style = "green" if called.ok else "red"
    told = meaning(reply.status) if called.ok or reply.status >= 400 else "as if it were done, and yet an error"
    draw.note(f"{reply.status} {told}; {took * 1000:,.0f} ms, {len(reply.content):,} bytes", style)
    if called.words:
        draw.note(f"  it says: {called.words}", style)
    sent = [line for name, line in zip(called.exchange.headers, shown(called.exchange.headers), strict=True)
            if is_credential(name)]  # fmt: skip
    for line in sent:
        draw.note(f"  sent {line}", "dim")
    for line in shown({name: reply.headers[name] for name in reply.headers if name.lower() in _TELLING
                       or name.lower().startswith("ratelimit")}):  # fmt: skip
        draw.note(f"  {line}", "dim")


def draw_body(called: Called) -> None:
    """The body: readable on a terminal, as it came in a pipe; without our secrets."""
    content = called.exchange.reply.content
    if not content:
        return
    if not draw.is_terminal(sys.stdout):
        try:
            sys.stdout.write(in_data(content.decode()))
        except UnicodeDecodeError:
            sys.stdout.flush()
            sys.stdout.buffer.write(content)
        return
    kind = called.exchange.reply.headers.get("Content-Type", "")
    if _is_json(called.body, content):
        _draw_json(called.body)
    elif "\0" in content[:1000].decode("latin-1"):
        draw.note(f"{len(content):,} bytes of {kind or 'no kind that is told'}; -o FILE keeps them")
    else:
        sys.stdout.write(draw.harmless(content.decode(errors="replace")) + "\n")


def _is_json(body: Any, content: bytes) -> bool:
    return isinstance(body, dict | list) and content.lstrip()[:1] in (b"{", b"[")


def _draw_json(body: Any) -> None:
    from rich.console import Console
    from rich.json import JSON

    Console(highlight=False, soft_wrap=True).print(JSON.from_data(in_data(body), indent=2, ensure_ascii=False))
