"""Muster, an endpoint manager.

    POST /oauth/token                 OAuth 2.0 client credentials (RFC 6749)
    GET  /muster/devices?page=100     Bearer token; {"devices": […], "inAll": N, "onward": URL or null}

    GET  /muster/readings?since=SECONDS&until=SECONDS   {"readings": […]}, 200 at the most; so /muster/events;
                                                        of some devices with &device=ID,ID (as they are written)
    GET  /muster/roles, /muster/policies                 {"roles": […]}; POST, PATCH and DELETE as well
    POST /muster/devices/ID/retire, …/wipe                202

A page holds 100 at the most.  ``members=displayName,serialNo`` narrows what is sent of each device, and
``touchedAfter`` to what was altered since, with the ids of what is gone since in ``gone``.  ``where``
narrows, as ``platform:slate|scanner;seen>2026-11-01T00:00:00Z``: tests of ``platform``, ``office``
(without regard to case) and ``seen``, all of which must hold.  Tokens are short-lived.
"""

from __future__ import annotations

import secrets
import time
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import parse_qs, urlencode

from fastapi import Request, Response

from concordex.standins.base import Problem, StandIn, body_of, only, whole

_CAP, _MOST_READINGS = 100, 200
_ROLES = {
    "crew": ("sign-in", "see-devices"),
    "office": ("sign-in", "see-devices", "see-readings", "alter-policies", "restart"),
    "kiosk": ("sign-in",),
    "machines": ("sign-in", "see-devices", "see-readings", "alter-objects"),  # what a client like us may do
}


def _touched(record: dict[str, Any], by: str = "harbour master") -> dict[str, Any]:
    return record | {"altered": datetime.now(UTC).isoformat(timespec="seconds"), "alteredBy": by}


class Muster(StandIn):
    """The endpoint manager."""

    name, title = "muster", "Muster endpoint manager"
    openapi = "/muster/openapi.json"

    def __init__(
        self,
        devices: list[dict[str, Any]],
        readings: list[dict[str, Any]] | None = None,
        lasts: float = 300,
        *,
        pilot: bool = False,
    ) -> None:
        #: What happened to devices, in the order in which it did.
        self.events: list[dict[str, Any]] = []
        #: A fault of its own: where its pages lead on to, in place of the next.
        self.leads_to = ""
        if pilot:
            self.name, self.title = "pilot", "Muster endpoint manager, on which policies are tried first"
        self.devices, self.readings, self.lasts = devices, readings or [], lasts
        #: The spans of time, and the devices, of which readings and events were asked for.
        self.spans: list[tuple[int, int, str]] = []
        self.touched: dict[str, float] = {}
        self.gone: dict[str, float] = {}
        self.objects: dict[str, dict[str, dict[str, Any]]] = {"roles": {}, "policies": {}}
        for at, (name, rights) in enumerate(_ROLES.items()):
            self.objects["roles"][f"role-{at}"] = _touched({"id": f"role-{at}", "name": name, "rights": list(rights)})
        for at, (name, least) in enumerate((("handhelds", "13.0"), ("laptops", "23.1.0"), ("handhelds", "12.1"))):
            policy: dict[str, Any] = {
                "id": f"policy-{at}", "name": name, "leastRelease": least, "encrypted": at != 2,
                "platforms": ["scanner"] if name == "handhelds" else ["slate", "desk"],
                "lock": {"afterMinutes": 5 + 5 * at, "leastDigits": 6}, "assignedTo": ["everybody on watch"][:at],
                "steps": [{"after": "1d", "do": "tell"}, {"after": "7d", "do": "block"}],
            }  # fmt: skip
            self.objects["policies"][policy["id"]] = _touched(policy)
        if pilot:
            self.objects["policies"]["policy-1"] |= {
                "leastRelease": "24.0.0",
                "lock": {"afterMinutes": 3, "leastDigits": 8},
            }
            self.objects["policies"]["policy-9"] = _touched({
                "id": "policy-9", "name": "quay kiosks", "leastRelease": "15.0", "encrypted": True,
                "platforms": ["slate"], "lock": {"afterMinutes": 1, "leastDigits": 6}, "assignedTo": ["two on trial"],
                "steps": [{"after": "1d", "do": "tell"}],
            })  # fmt: skip
        self.client_secret = secrets.token_urlsafe(24)
        self.tokens: dict[str, float] = {}
        self.places: dict[str, tuple[tuple[str, str, str], int]] = {}
        super().__init__()

    def secrets(self) -> dict[str, str]:
        """The client's secret."""
        return {"secret": self.client_secret}

    def plain(self) -> dict[str, str]:
        """The client's id."""
        return {"client": "concordex"}

    def touch(self, device: dict[str, Any], moment: float | None = None) -> None:
        """Note that a device's record was altered."""
        self.touched[device["deviceId"]] = moment or time.time()

    def drop(self, device: dict[str, Any]) -> None:
        """Forget a device."""
        self.devices.remove(device)
        self.gone[device["deviceId"]] = time.time()

    def routes(self) -> None:
        """Add what this system answers to."""
        self.api.post("/oauth/token")(self.token)
        self.api.get("/muster/devices")(self.list_devices)
        self.api.post("/muster/devices/{number}/{deed}")(self.do)
        self.api.get("/muster/readings")(self.list_readings)
        self.api.get("/muster/events")(self.list_events)
        for kind in self.objects:
            self._object_routes(kind)

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
        only(request, "page", "where", "mark", "members", "touchedAfter")
        query = request.query_params
        asked, start = (query.get("where", ""), query.get("members", ""), query.get("touchedAfter", "")), 0
        if mark := query.get("mark"):
            if mark not in self.places:
                raise Problem(400, "this mark is not one of ours", parameter="mark")
            asked, start = self.places[mark]
        where, members, touched = asked
        size = min(whole(request, "page", _CAP, least=1), _CAP)
        devices = [device for device in self.devices if _holds(device, where)] if where else self.devices
        after = _moment(touched, "touchedAfter")
        if after is not None:
            devices = [device for device in devices if self.touched.get(device["deviceId"], 0) >= after]
        page = [_only_members(device, members) for device in devices[start : start + size]]
        onward = self._onward(request, asked, start + size, size) if start + size < len(devices) else None
        body = {"devices": self.shorten(request, page), "inAll": len(devices), "onward": onward}
        if after is not None:
            body["gone"] = [number for number, moment in self.gone.items() if moment >= after]
        return self.answer(body)

    def _onward(self, request: Request, asked: tuple[str, str, str], start: int, size: int) -> str:
        mark = secrets.token_urlsafe(9)
        self.places[mark] = (asked, start)
        if self.leads_to:
            return self.leads_to
        return f"{request.url.replace(query='')}?{urlencode({'page': size, 'mark': mark})}"

    async def list_readings(self, request: Request) -> Response:
        """The battery readings of a span of time; only the first 200 of them."""
        self._admit(request)
        return self.answer({"readings": self._span(request, self.readings, "takenAt")})

    async def list_events(self, request: Request) -> Response:
        """What happened in a span of time; only the first 200 of it."""
        self._admit(request)
        return self.answer({"events": self._span(request, self.events, "happenedAt")})

    def _span(self, request: Request, records: list[dict[str, Any]], at: str) -> list[dict[str, Any]]:
        only(request, "since", "until", "device")
        since, until = whole(request, "since", 0), whole(request, "until", 2**40)
        asked = request.query_params.get("device", "")
        devices = set(asked.split(",")) if asked else None
        self.spans.append((since, until, asked))
        span = [record for record in records if since <= record[at] < until]
        return [record for record in span if devices is None or record["deviceId"] in devices][:_MOST_READINGS]

    async def do(self, request: Request, number: str, deed: str) -> Response:
        """Retire or wipe a device."""
        self._admit(request)
        device = next((device for device in self.devices if device["deviceId"] == number), None)
        if device is None or deed not in ("retire", "wipe"):
            raise Problem(404, f"there is no {deed} of {number}")
        if deed == "retire":
            self.drop(device)
        return Response(status_code=202)

    def _object_routes(self, kind: str) -> None:
        """Policies may bear one name twice, roles may not."""
        held = self.objects[kind]

        async def read(request: Request) -> Response:
            self._admit(request)
            only(request)
            return self.answer({kind: list(held.values())})

        async def create(request: Request) -> Response:
            self._admit(request, alters=True)
            given = await body_of(request)
            if not isinstance(given, dict) or not given.get("name"):
                raise Problem(422, "a name is required")
            if kind == "roles" and any(known["name"] == given["name"] for known in held.values()):
                raise Problem(409, f"there is a role {given['name']} already")
            made = _touched({"id": secrets.token_hex(6), **given}, "concordex")
            held[made["id"]] = made
            return self.answer(made, 201)

        async def alter(request: Request, number: str) -> Response:
            self._admit(request, alters=True)
            given = await body_of(request)
            if number not in held:
                raise Problem(404, f"there is none with the id {number}")
            held[number] = _touched(held[number] | given, "concordex")
            return self.answer(held[number])

        async def remove(request: Request, number: str) -> Response:
            self._admit(request, alters=True)
            if held.pop(number, None) is None:
                raise Problem(404, f"there is none with the id {number}")
            return Response(status_code=204)

        self.api.get(f"/muster/{kind}", name=f"list {kind}")(read)
        self.api.post(f"/muster/{kind}", name=f"create {kind}")(create)
        self.api.patch(f"/muster/{kind}/{{number}}", name=f"alter {kind}")(alter)
        self.api.delete(f"/muster/{kind}/{{number}}", name=f"remove {kind}")(remove)

    def _admit(self, request: Request, *, alters: bool = False) -> None:
        if self.faults.strikes("expire", request.method, request.url.path):
            self.tokens.clear()
        scheme, _, token = request.headers.get("Authorization", "").partition(" ")
        if scheme != "Bearer" or self.tokens.get(token, 0) < time.monotonic():
            raise Problem(401, "the token is unknown or has expired")
        ours: list[str] = next(
            (role["rights"] for role in self.objects["roles"].values() if role["name"] == "machines"), []
        )
        if alters and "alter-objects" not in ours:
            raise Problem(403, "the role machines may not alter objects")


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


def _moment(text: str, parameter: str) -> float | None:
    try:
        return datetime.fromisoformat(text).timestamp() if text else None
    except ValueError as error:
        raise Problem(400, f"{parameter} should be an ISO 8601 time", parameter=parameter) from error


def _only_members(device: dict[str, Any], members: str) -> dict[str, Any]:
    if not members:
        return device
    strange = [name for name in members.split(",") if name not in device]
    if strange:
        raise Problem(400, f"a device has no {strange[0]}", parameter="members")
    return {name: device[name] for name in members.split(",")}
