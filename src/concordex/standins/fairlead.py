"""Fairlead, a campus network controller.

    POST /fl/3/session                 {"operator", "passphrase"} -> {"session": {"key", "seconds"}}
    GET  /fl/3/nodes?from=1&size=100   header Fairlead-Session; {"nodes": […], "count": N}
    GET  /fl/3/ports?from=1&size=100   {"ports": […], "count": N}

``from`` counts from 1; no page is longer than 100.  Nodes can be narrowed by ``place``, ``family``
(several with a comma), ``heardAfter`` (milliseconds since 1970) and ``label`` (without regard to case).
"""

from __future__ import annotations

import secrets
import time
from typing import Any

from fastapi import Request, Response

from concordex.standins.base import Problem, StandIn, body_of, only, whole

_CAP = 100


class Fairlead(StandIn):
    """The network controller."""

    name, title = "fairlead", "Fairlead campus network controller"

    def __init__(self, nodes: list[dict[str, Any]], ports: list[dict[str, Any]], lasts: float = 900) -> None:
        self.nodes, self.ports, self.lasts = nodes, ports, lasts
        self.passphrase = secrets.token_urlsafe(18)
        self.sessions: dict[str, float] = {}
        super().__init__()

    def secrets(self) -> dict[str, str]:
        """The operator's passphrase."""
        return {"passphrase": self.passphrase}

    def routes(self) -> None:
        """Add what this system answers to."""
        self.api.post("/fl/3/session")(self.sign_in)
        self.api.get("/fl/3/nodes")(self.list_nodes)
        self.api.get("/fl/3/ports")(self.list_ports)

    async def sign_in(self, request: Request) -> Response:
        """Give a session for the right passphrase."""
        body = await body_of(request)
        if body.get("operator") != "inventory" or body.get("passphrase") != self.passphrase:
            raise Problem(401, "operator or passphrase is wrong")
        key = secrets.token_urlsafe(24)
        self.sessions[key] = time.monotonic() + self.lasts
        return self.answer({"session": {"key": key, "seconds": self.lasts}})

    async def list_nodes(self, request: Request) -> Response:
        """The nodes that the query asks for, a page of them."""
        self._admit(request)
        only(request, "from", "size", "place", "family", "heardAfter", "label")
        said = request.query_params
        nodes = self.nodes
        if "place" in said:
            wanted = said["place"].lower().split(",")
            nodes = [node for node in nodes if node["place"] in wanted]
        if "family" in said:
            nodes = [node for node in nodes if node["family"] in said["family"].split(",")]
        if "label" in said:
            nodes = [node for node in nodes if node["label"].lower() == said["label"].lower()]
        if "heardAfter" in said:
            nodes = [node for node in nodes if node["lastHeard"] > whole(request, "heardAfter", 0)]
        return self._page(request, "nodes", nodes)

    async def list_ports(self, request: Request) -> Response:
        """The ports of all nodes, a page of them."""
        self._admit(request)
        only(request, "from", "size")
        return self._page(request, "ports", self.ports)

    def _admit(self, request: Request) -> None:
        if self.sessions.get(request.headers.get("Fairlead-Session", ""), 0) < time.monotonic():
            raise Problem(401, "no session, or it has ended")

    def _page(self, request: Request, name: str, records: list[dict[str, Any]]) -> Response:
        first, size = whole(request, "from", 1, least=1), whole(request, "size", 25, least=1)
        page = records[first - 1 : first - 1 + min(size, _CAP)]
        return self.answer({name: self.shorten(request, page), "count": len(records)})
