"""Misbehaviour on demand: what real systems do on a bad day, so that promises are tested."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, MutableMapping
from dataclasses import dataclass, field
from typing import Any, Literal

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Message, Receive, Send], Awaitable[None]]

Kind = Literal["slow", "busy", "fail", "fail_after", "page", "cut", "drop", "short", "expire"]


@dataclass
class Fault:
    """One fault: what happens, to which requests, how often, and after how many it begins."""

    kind: Kind
    path: str = "/"
    method: str | None = None
    times: int = 1_000_000
    after: int = 0
    seconds: float = 0.0

    def strikes(self, method: str, path: str) -> bool:
        """Whether this request is struck; counts it."""
        if not path.startswith(self.path) or self.method not in (None, method) or self.times <= 0:
            return False
        if self.after > 0:
            self.after -= 1
            return False
        self.times -= 1
        return True


@dataclass
class Faults:
    """Stands before a stand-in and does to its requests what it was told to.

    slow        answers after some seconds
    busy        429 with Retry-After
    fail        500, and nothing was done
    fail_after  500, although it was done
    page        a web page instead of JSON
    cut         half of the JSON
    drop        the connection is closed without an answer
    expire      sessions end (the stand-in asks for this one itself)
    short       lists lack their last record, without a word (the stand-in asks for this one itself)
    """

    app: App
    rules: list[Fault] = field(default_factory=list)
    requests: list[tuple[str, str]] = field(default_factory=list)
    latency: float = 0.0

    def add(self, kind: Kind, path: str = "/", **more: Any) -> Fault:
        """A further fault, which strikes from now on."""
        fault = Fault(kind, path, **more)
        self.rules.append(fault)
        return fault

    def clear(self) -> None:
        """Behave again, and forget the requests counted so far."""
        self.rules.clear()
        self.requests.clear()

    def strikes(self, kind: Kind, method: str, path: str) -> Fault | None:
        """The first fault of this kind that strikes the request."""
        return next((rule for rule in self.rules if rule.kind == kind and rule.strikes(method, path)), None)

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        """Serve one request (ASGI)."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        method, path = scope["method"], scope["path"]
        query = scope["query_string"].decode()
        self.requests.append((method, f"{path}?{query}" if query else path))
        if self.latency:
            await asyncio.sleep(self.latency)
        if slow := self.strikes("slow", method, path):
            await asyncio.sleep(slow.seconds)
            if slow not in self.rules:  # told to behave again meanwhile: whoever asked has long gone
                raise ConnectionResetError("as told")
        if self.strikes("busy", method, path):
            await _answer(send, 429, b'{"fault":{"text":"slow down"}}', (b"retry-after", b"0"))
        elif self.strikes("fail", method, path):
            await _answer(send, 500, b'{"fault":{"text":"out of order"}}')
        elif self.strikes("page", method, path):
            await _answer(send, 200, b"<!doctype html><title>Sign in</title>", (b"content-type", b"text/html"))
        elif self.strikes("drop", method, path):
            raise ConnectionResetError("as told")
        else:
            await self.app(scope, receive, self._spoiled(method, path, send))

    def _spoiled(self, method: str, path: str, send: Send) -> Send:
        cut, fail = self.strikes("cut", method, path), self.strikes("fail_after", method, path)
        if not cut and not fail:
            return send

        async def spoil(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = [pair for pair in message["headers"] if pair[0] != b"content-length"]
                await send({**message, "headers": headers, "status": 500 if fail else message["status"]})
            else:
                body = message.get("body", b"")
                await send({**message, "body": b"{}" if fail else body[: len(body) // 2]})

        return spoil


async def _answer(send: Send, status: int, body: bytes, *headers: tuple[bytes, bytes]) -> None:
    length = (b"content-length", str(len(body)).encode())
    kind = () if any(name == b"content-type" for name, _ in headers) else ((b"content-type", b"application/json"),)
    await send({"type": "http.response.start", "status": status, "headers": [length, *kind, *headers]})
    await send({"type": "http.response.body", "body": body})
