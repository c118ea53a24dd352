"""Capstan, a switch with a command interface; see docs/guides/capstan.md.

JSON-RPC 2.0 at one path, basic authentication.  What it is told to keep are lines; several are taken as
one: when one fails, none is kept.  The same can be said as a document of sections, which a job settles.
What it shows, it shows as text or as data.
"""

from __future__ import annotations

import base64
import time
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

from fastapi import Request, Response

from concordex.standins.base import StandIn, body_of

Record = dict[str, Any]
Scope = MutableMapping[str, Any]
_WORDS = ("address", "banner", "name", "names at", "segment", "time at", "user")
#: Words of which one line may stand, or one for each of what follows.
_ALONE, _ALONE_FOR = ("banner", "name"), ("address", "segment", "user")
#: Seconds that it is away when its addresses were altered.
_AWAY = 0.4


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
        self.serial = f"CP{number:04}"
        self.lines = [
            f"name sw-new-{number:02}", "segment 10 office", "time at 10.20.0.123", f"address 10 10.20.10.{number}/24",
            "user deck may all",
        ]  # fmt: skip
        self.entered = 0  # how often lines came
        self.settled = 0  # how often sections did
        self.jobs: dict[str, Record] = {}
        self.back_at = 0.0
        super().__init__()

    def routes(self) -> None:
        """Add what this switch answers to."""
        self.api.post("/capstan/rpc")(self.rpc)

    async def rpc(self, request: Request) -> Response:
        """One call; while it starts anew, it is busy with itself."""
        if time.monotonic() < self.back_at:
            return Response("starting", 503, headers={"Retry-After": "1"})
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
        if method == "sections":
            return [self._sections()]
        if method == "settle":
            return self._settle(params["sections"])
        if method == "job":
            return self._job(params["job"])
        raise Refused(-32601, "there is no such method") if method else Refused(-32001, "who is there?")

    def _sections(self) -> Record:
        after = {word: [line.removeprefix(f"{word} ") for line in self.lines if _word(line) == word] for word in _WORDS}
        return {
            "serial": self.serial, "name": (after["name"] or [""])[0], "banner": (after["banner"] or [""])[0],
            "timeServers": after["time at"], "nameServers": after["names at"],
            "users": [dict(zip(("name", "may"), line.split(" may "), strict=True)) for line in after["user"]],
            "segments": [
                {"number": int(line.split()[0]), "label": line.partition(" ")[2]} for line in after["segment"]
            ],
            "addresses": [
                {"segment": int(line.split()[0]), "address": line.partition(" ")[2]} for line in after["address"]
            ],
        }  # fmt: skip

    def _settle(self, sections: Record) -> Record:
        """Put sections in the place of what they were: all, or none; it takes a moment."""
        strange = sorted(sections.keys() - self._sections().keys() | sections.keys() & {"serial"})
        if strange:
            raise Refused(-32602, f"there is no section {strange[0]}")
        self.settled += 1
        number = f"job-{self.settled}"
        self.jobs[number] = {"looks": 2, "sections": sections}
        return {"job": number}

    def _job(self, number: str) -> Record:
        job = self.jobs.get(number)
        if job is None:
            raise Refused(-32030, f"there is no job {number}")
        job["looks"] -= 1
        if job["looks"] > 0:
            return {"state": "at work"}
        wanted = self._sections() | job["sections"]
        numbers = {part["number"] for part in wanted["segments"]}
        lost = [part for part in wanted["addresses"] if part["segment"] not in numbers]
        if lost:
            return {"state": "failed", "why": f"address {lost[0]['address']}: no segment {lost[0]['segment']}"}
        moves = wanted["addresses"] != self._sections()["addresses"]
        self.lines = _lines_of(wanted)
        if moves:  # it starts anew, and knows of no job afterwards
            self.jobs, self.back_at = {}, time.monotonic() + _AWAY
        return {"state": "at work" if moves else "done"}

    def _look(self, line: str, form: str) -> Any:
        tables: dict[str, list[Record]] = {
            "show segments": [
                {"number": int(kept.split()[1]), "label": kept.split(maxsplit=2)[2]}
                for kept in self.lines
                if kept.startswith("segment ")
            ],
            "show version": [{"release": "7.2.1", "serial": self.serial}],
        }
        if line not in tables:
            raise Refused(-32010, f"no such thing to look at: {line}")
        if form == "data":
            return tables[line]
        return "\n".join("  ".join(str(value) for value in row.values()) for row in tables[line])


def _with(lines: list[str], line: str, at: int) -> list[str]:
    """The lines with one more, which takes the place of what it contradicts; ``no …`` takes one away."""
    bare = line.removeprefix("no ")
    word = _word(bare)
    if word is None:
        raise Refused(-32020, f"line {at}: {line!r} is not understood; nothing was kept")
    if line.startswith("no "):
        return [kept for kept in lines if kept != bare]
    alone = " ".join(bare.split()[:2]) if word in _ALONE_FOR else word
    one_only = word in (*_ALONE, *_ALONE_FOR)
    kept = [other for other in lines if other != bare and not (one_only and other.startswith(f"{alone} "))]
    return [*kept, bare]


def _word(line: str) -> str | None:
    """What a line is about."""
    return next((word for word in _WORDS if line.startswith(f"{word} ")), None)


def _lines_of(sections: Record) -> list[str]:
    """Sections as the lines that say the same."""
    return [
        *(f"{word} {sections[word]}" for word in ("name", "banner") if sections[word]),
        *(f"segment {part['number']} {part['label']}" for part in sections["segments"]),
        *(f"time at {part}" for part in sections["timeServers"]),
        *(f"names at {part}" for part in sections["nameServers"]),
        *(f"address {part['segment']} {part['address']}" for part in sections["addresses"]),
        *(f"user {part['name']} may {part['may']}" for part in sections["users"]),
    ]


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
