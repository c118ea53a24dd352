"""Routers fresh from the box, each at a port of its own, in no portal yet.

Each speaks as Binnacle does, and shows the one-time code by which Pilotage adopts it.
"""

from __future__ import annotations

import secrets
from collections.abc import Awaitable, Callable, MutableMapping
from functools import partial
from typing import Any

from concordex.standins.binnacle import Binnacle
from concordex.standins.pilotage import Pilotage

Record = dict[str, Any]
Scope = MutableMapping[str, Any]


class Afloat:
    """The routers; itself what a server runs on all of their ports."""

    def __init__(self, routers: list[Record], portal: Pilotage) -> None:
        self.password = secrets.token_urlsafe(18)
        for router in routers:
            portal.expect(router)
        self.routers = [Binnacle(router, self.password, partial(portal.shown, router["serial"])) for router in routers]
        self.ports: dict[int, Binnacle] = {}

    def listen(self, ports: list[int]) -> None:
        """Each router takes one of ``ports``."""
        self.ports = dict(zip(ports, self.routers, strict=True))

    @property
    def rows(self) -> list[dict[str, str]]:
        """What a person has typed of them: where each is, and what it is called."""
        return [
            {"address": f"127.0.0.1:{port}", "name": router.router["name"], "site": router.router["site"]}
            for port, router in self.ports.items()
        ]

    async def __call__(self, scope: Scope, receive: Callable[..., Awaitable[Any]], send: Callable[..., Any]) -> None:
        """Hand a request to the router whose port it came to."""
        await self.ports[scope["server"][1]].app(scope, receive, send)
