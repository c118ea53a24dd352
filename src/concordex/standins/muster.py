"""Muster, an endpoint manager.

    POST /oauth/token                 OAuth 2.0 client credentials (RFC 6749)
    GET  /muster/devices?page=100     Bearer token; {"devices": […], "inAll": N, "onward": URL or null}

A page holds 100 at the most.  ``where`` narrows, as ``platform:slate|scanner;seen>2026-11-01T00:00:00Z``:
tests of ``platform``, ``office`` (without regard to case) and ``seen``, all of which must hold.
Tokens are short-lived.
"""

from __future__ import annotations

import secrets
import time
from datetime import datetime
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import parse_qs, urlencode

from fastapi import Request, Response

from concordex.standins.base import Problem, StandIn, only, whole

_CAP = 100


class Muster(StandIn):
    """The endpoint manager."""

    name, title = "muster", "Muster endpoint manager"

    def __init__(self, devices: list[dict[str, Any]], lasts: float = 300) -> None:
        self.devices, self.lasts = devices, lasts
        self.client_secret = secrets.token_urlsafe(24)
        self.tokens: dict[str, float] = {}
        self.places: dict[str, tuple[str, int]] = {}
        super().__init__()

    def secrets(self) -> dict[str, str]:
        """The client's secret."""
        return {"secret": self.client_secret}

    def routes(self) -> None:
        """Add what this system answers to."""
        self.api.post("/oauth/token")(self.token)
        self.api.get("/muster/devices")(self.list_devices)

    async def token(self, request: Request) -> Response:
        """Give a token to the right client."""
        form = {name: values[0] for name, values in parse_qs((await request.body()).decode()).items()}
        if form.get("grant_type") != "client_credentials":
            return self.answer({"error": "unsupported_grant_type"}, 400)
        if form.get("client_id") != "concordex" or form.get("client_secret") != self.client_secret:
            return self.answer({"error": "invalid_client", "error_description": "unknown client or wrong secret"}, 401)
        token = secrets.token_urlsafe(32)
        self.tokens[token] = time.monotonic() + self.lasts
        return self.answer({"access_token": token, "token_type": "Bearer", "expires_in": self.lasts})

    async def list_devices(self, request: Request) -> Response:
        """A page of the devices, and the address of the next."""
        self._admit(request)
        only(request, "page", "where", "mark")
        where, start = request.query_params.get("where", ""), 0
        if mark := request.query_params.get("mark"):
            if mark not in self.places:
                raise Problem(400, "this mark is not one of ours", parameter="mark")
            where, start = self.places[mark]
        size = min(whole(request, "page", _CAP, least=1), _CAP)
        found = [device for device in self.devices if _holds(device, where)] if where else self.devices
        page = found[start : start + size]
        onward = self._onward(request, where, start + size, size) if start + size < len(found) else None
        return self.answer({"devices": self.shorten(request, page), "inAll": len(found), "onward": onward})

    def _onward(self, request: Request, where: str, start: int, size: int) -> str:
        mark = secrets.token_urlsafe(9)
        self.places[mark] = (where, start)
        return f"{request.url.replace(query='')}?{urlencode({'page': size, 'mark': mark})}"

    def _admit(self, request: Request) -> None:
        scheme, _, token = request.headers.get("Authorization", "").partition(" ")
        if scheme != "Bearer" or self.tokens.get(token, 0) < time.monotonic():
            raise Problem(401, "the token is unknown or has expired")


def _holds(device: dict[str, Any], where: str) -> bool:
    for test in where.split(";"):
        name = test.partition(":")[0].partition(">")[0]
        if name == "seen" and test.startswith("seen>"):
            if parsedate_to_datetime(device["lastContact"]) <= datetime.fromisoformat(test[5:]):
                return False
        elif name in ("platform", "office") and ":" in test:
            wanted = test.partition(":")[2].lower().split("|")
            if device[name].lower() not in wanted:
                return False
        else:
            raise Problem(400, f"where: {test!r} is not a test", parameter="where")
    return True
