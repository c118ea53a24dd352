"""Masthead, a wireless controller; see docs/guides/masthead.md.

A session is a cookie, and every request after signing in gives back the anti-forgery value that came
with it.  Zones have codes that are not their labels, and a list holds little: the rest is told radio
by radio.
"""

from __future__ import annotations

import secrets
import time
from typing import Any
from urllib.parse import parse_qs

from fastapi import Request, Response

from concordex.standins.base import Problem, StandIn, body_of, only, whole

_CAP = 50
_BRIEF = ("ref", "caption", "state")
_ALTERABLE = ("caption", "channel")


class Masthead(StandIn):
    """The wireless controller."""

    name, title = "masthead", "Masthead wireless controller"
    tls = True

    def __init__(self, zones: list[dict[str, Any]], radios: list[dict[str, Any]], lasts: float = 600) -> None:
        self.zones, self.radios, self.lasts = zones, radios, lasts
        self.by_zone = {zone["code"]: [r for r in radios if r["zone"] == zone["code"]] for zone in zones}
        self.by_ref = {radio["ref"]: radio for radio in radios}
        self.word = secrets.token_urlsafe(18)
        self.sessions: dict[str, tuple[str, float]] = {}
        super().__init__()

    def secrets(self) -> dict[str, str]:
        """The watchman's word."""
        return {"word": self.word}

    def plain(self) -> dict[str, str]:
        """The watchman's name."""
        return {"user": "watch"}

    def routes(self) -> None:
        """Add what this system answers to."""
        self.api.post("/mast/enter")(self.enter)
        self.api.post("/mast/leave")(self.leave)
        self.api.get("/mast/zones")(self.list_zones)
        self.api.get("/mast/zones/{code}/radios")(self.list_radios)
        self.api.get("/mast/zones/{code}/radios/{ref}")(self.one_radio)
        self.api.put("/mast/zones/{code}/radios/{ref}")(self.alter_radio)
        self.api.post("/mast/zones/{code}/radios/{ref}/restart")(self.restart)

    async def enter(self, request: Request) -> Response:
        """Open a session: a cookie, and an anti-forgery value in a header."""
        form = {name: values[0] for name, values in parse_qs((await request.body()).decode()).items()}
        if form.get("user") != "watch" or form.get("word") != self.word:
            raise Problem(401, "nobody of that name and word")
        session, guard = secrets.token_urlsafe(24), secrets.token_urlsafe(16)
        self.sessions[session] = (guard, time.monotonic() + self.lasts)
        answer = self.answer({"welcome": "watch"})
        answer.set_cookie("mast_watch", session, httponly=True, secure=True, samesite="strict")
        answer.headers["Mast-Guard"] = guard
        return answer

    async def leave(self, request: Request) -> Response:
        """End the session."""
        self._admit(request)
        self.sessions.pop(request.cookies.get("mast_watch", ""), None)
        return Response(status_code=204)

    async def list_zones(self, request: Request) -> Response:
        """All zones."""
        self._admit(request)
        only(request)
        return self.answer({"zones": self.zones})

    async def list_radios(self, request: Request, code: str) -> Response:
        """A page of a zone's radios, with little of each."""
        self._admit(request)
        only(request, "page", "per")
        radios = self._zone(code)
        page, per = whole(request, "page", 1, least=1), min(whole(request, "per", 20, least=1), _CAP)
        brief = [{name: radio[name] for name in _BRIEF} for radio in radios[(page - 1) * per : page * per]]
        return self.answer({"radios": self.shorten(request, brief), "page": page, "inZone": len(radios)})

    async def one_radio(self, request: Request, code: str, ref: str) -> Response:
        """All of one radio."""
        self._admit(request)
        return self.answer({"radio": self._radio(code, ref)})

    async def alter_radio(self, request: Request, code: str, ref: str) -> Response:
        """Put a radio in the place of what was there: all its members must be given."""
        self._admit(request)
        radio = self._radio(code, ref)
        given = (await body_of(request)).get("radio")
        if not isinstance(given, dict) or given.keys() != radio.keys():
            raise Problem(422, "a radio is put whole: give all of its members")
        strange = [name for name, value in given.items() if value != radio[name] and name not in _ALTERABLE]
        if strange:
            raise Problem(422, f"{strange[0]} cannot be altered")
        radio.update(given)
        return self.answer({"radio": radio})

    async def restart(self, request: Request, code: str, ref: str) -> Response:
        """Restart a radio."""
        self._admit(request)
        self._radio(code, ref)["state"] = "restarting"
        return Response(status_code=204)

    def _admit(self, request: Request) -> None:
        guard, ends = self.sessions.get(request.cookies.get("mast_watch", ""), ("", 0.0))
        if self.faults.strikes("expire", request.method, request.url.path):
            ends = 0.0
        if ends < time.monotonic():
            raise Problem(401, "no watch is kept, or it is over")
        if request.headers.get("Mast-Guard") != guard:
            raise Problem(403, "the guard value is missing or wrong")

    def _zone(self, code: str) -> list[dict[str, Any]]:
        if code not in self.by_zone:
            raise Problem(404, f"there is no zone {code}; zones are named by code, not by label")
        return self.by_zone[code]

    def _radio(self, code: str, ref: str) -> dict[str, Any]:
        self._zone(code)
        radio = self.by_ref.get(ref)
        if radio is None or radio["zone"] != code:
            raise Problem(404, f"zone {code} has no radio {ref}")
        return radio
