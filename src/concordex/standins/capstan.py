"""Capstan, a switch with a command interface; see docs/guides/capstan.md.

JSON-RPC 2.0 at one path, basic authentication.  What it is told to keep are lines; several are taken as
one: when one fails, none is kept.  What it shows, it shows as text or as data.
"""

from __future__ import annotations

import base64
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

from fastapi import Request, Response

from concordex.standins.base import StandIn, body_of

Record = dict[str, Any]
Scope = MutableMapping[str, Any]
_WORDS = ("banner", "name", "names at", "segment", "time at")


class Refused(Exception):
    """An error object of JSON-RPC 2.0."""

    def __init__(self, code: int, text: str) -> None:
        super().__init__(text)
        self.code, self.text = code, text


class Capstan(StandIn):
    """One switch."""

    name, title = "capstan", "Capstan switch"

    def __init__(self, number: int, password: str) -> None:
        self.password = password
        self.lines = [f"name sw-new-{number:02}", "segment 10 office", "time at 10.20.0.123"]
        self.entered = 0  # how often lines came
        super().__init__()

    def routes(self) -> None:
        """Add what this switch answers to."""
        self.api.post("/capstan/rpc")(self.rpc)

    async def rpc(self, request: Request) -> Response:
        """One call."""
        body = await body_of(request)
        wanted = base64.b64encode(f"deck:{self.password}".encode()).decode()
        try:
            admitted = request.headers.get("Authorization") == f"Basic {wanted}"
            result = self._done(body["method"] if admitted else "", body.get("params", {}))
        except Refused as refused:
            return self.answer(
                {"jsonrpc": "2.0", "id": body.get("id"), "error": {"code": refused.code, "message": refused.text}}
            )
        return self.answer({"jsonrpc": "2.0", "id": body.get("id"), "result": result})

    def _done(self, method: str, params: Record) -> Any:
        if method == "kept":
            return [{"what": "lines", "lines": list(self.lines)}]
        if method == "look":
            return self._look(params["line"], params.get("as", "text"))
        if method in ("enter", "replace"):
            self.entered += 1
            lines = list(self.lines) if method == "enter" else []
            for at, line in enumerate(params["lines"], start=1):
                lines = _with(lines, line, at)
            self.lines = lines
            return {"kept": len(lines)}
        raise Refused(-32601, "there is no such method") if method else Refused(-32001, "who is there?")

    def _look(self, line: str, form: str) -> Any:
        tables: dict[str, list[Record]] = {
            "show segments": [
                {"number": int(kept.split()[1]), "label": kept.split(maxsplit=2)[2]}
                for kept in self.lines
                if kept.startswith("segment ")
            ],
            "show version": [{"release": "7.2.1", "serial": f"CP{len(self.lines):04}"}],
        }
        if line not in tables:
            raise Refused(-32010, f"no such thing to look at: {line}")
        if form == "data":
            return tables[line]
        return "\n".join("  ".join(str(value) for value in row.values()) for row in tables[line])


def _with(lines: list[str], line: str, at: int) -> list[str]:
    """The lines with one more, which takes the place of what it contradicts; ``no …`` takes one away."""
    bare = line.removeprefix("no ")
    word = next((word for word in _WORDS if bare.startswith(f"{word} ")), None)
    if word is None:
        raise Refused(-32020, f"line {at}: {line!r} is not understood; nothing was kept")
    if line.startswith("no "):
        return [kept for kept in lines if kept != bare]
    alone = " ".join(bare.split()[:2]) if word == "segment" else word
    one_only = word in ("banner", "name", "segment")
    kept = [other for other in lines if other != bare and not (one_only and other.startswith(f"{alone} "))]
    return [*kept, bare]


class Deck:
    """Several switches, each at a port of its own; itself what a server runs on all of them."""

    def __init__(self, count: int, password: str) -> None:
        self.password = password
        self.switches = [Capstan(at, password) for at in range(1, count + 1)]
        self.ports: dict[int, Capstan] = {}

    def listen(self, ports: list[int]) -> None:
        """Each switch takes one of ``ports``."""
        self.ports = dict(zip(ports, self.switches, strict=True))

    async def __call__(self, scope: Scope, receive: Callable[..., Awaitable[Any]], send: Callable[..., Any]) -> None:
        """Hand a request to the switch whose port it came to."""
        await self.ports[scope["server"][1]].app(scope, receive, send)
