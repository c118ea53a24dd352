"""Pilotage, a cloud portal for a fleet of routers; see docs/guides/pilotage.md.

Every request is signed with Ed25519 (RFC 9421), a body by its digest (RFC 9530).  The next page is in
the header Link (RFC 8288), the count in a header.  A unit is adopted with its serial number and the
one-time code that only the unit itself shows; a key may only read, or control.
"""

from __future__ import annotations

import secrets
import time
import zlib
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any
from urllib.parse import urlencode

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from fastapi import Request, Response
from http_message_signatures import HTTPMessageVerifier, algorithms
from http_message_signatures.exceptions import HTTPMessageSignaturesException
from http_message_signatures.resolvers import MappingKeyResolver

from concordex.standins.base import Problem, StandIn, body_of, only, whole

_CAP = 50
_COVERED = ("@method", "@authority", "@path", "@query")
_OLDEST = 300
_FIRST_REPORT = 1.0
Record = dict[str, Any]


@dataclass
class _Seen:
    method: str
    url: str
    headers: Mapping[str, str]


class Pilotage(StandIn):
    """The portal."""

    name, title = "pilotage", "Pilotage fleet portal"
    openapi = "/pilot/openapi.json"

    def __init__(self, units: list[Record]) -> None:
        self.units = {unit["unit"]: unit for unit in units}
        self.codes: dict[str, str] = {}
        self.code_lives: float | None = None  # seconds for which a code holds, where that is not for ever
        self.expected: dict[str, Record] = {}
        self.adopted: dict[str, float] = {}
        self.key = Ed25519PrivateKey.generate()
        self.rights = "control"
        #: Above the units: houses, and the lines that each of them runs; a unit sails for a line.
        self.houses = {"h1": "Saltmarsh Ferries", "h2": "Night Boats"}
        self.lines = {
            "l1": {"house": "h1", "label": "inner harbour"}, "l2": {"house": "h1", "label": "outer islands"},
            "l3": {"house": "h2", "label": "outer islands"},
        }  # fmt: skip
        keys = MappingKeyResolver(public_keys={"saltmarsh-1": self.key.public_key()}, private_keys={})
        self.verifier = HTTPMessageVerifier(signature_algorithm=algorithms.ED25519, key_resolver=keys)
        super().__init__()

    def secrets(self) -> dict[str, str]:
        """The private key."""
        return {"key": self.key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()}

    def plain(self) -> dict[str, str]:
        """The name of the key."""
        return {"key_id": "saltmarsh-1"}

    def new_unit(self, serial: str) -> str:
        """A unit that is switched on for the first time: the one-time code on its own display."""
        self.codes[serial] = f"{secrets.randbelow(10**6):06d}"
        return self.codes[serial]

    def shown(self, serial: str) -> str | None:
        """The code that a unit shows now."""
        if serial in self.codes and self.code_lives:
            age = int(time.monotonic() / self.code_lives)
            return f"{zlib.crc32(f'{self.codes[serial]} {age}'.encode()) % 10**6:06d}"
        return self.codes.get(serial)

    def expect(self, router: Record) -> None:
        """A unit that will report of itself a moment after it is adopted."""
        self.new_unit(router["serial"])
        self.expected[router["serial"]] = router

    def routes(self) -> None:
        """Add what this system answers to."""
        self.api.get("/pilot/houses")(self.list_houses)
        self.api.get("/pilot/lines")(self.list_lines)
        self.api.get("/pilot/units")(self.list_units)
        self.api.post("/pilot/units")(self.enrol)
        self.api.patch("/pilot/units/{unit}")(self.alter)
        self.api.delete("/pilot/units/{unit}")(self.release)
        self.api.post("/pilot/units/{unit}/restart")(self.restart)

    async def list_units(self, request: Request) -> Response:
        """A page of the units."""
        await self._admit(request)
        only(request, "many", "mark", "vessel")
        many, mark = min(whole(request, "many", _CAP, least=1), _CAP), whole(request, "mark", 0)
        vessel = request.query_params.get("vessel")
        self._hear()
        every = [unit for unit in self.units.values() if vessel in (None, unit["vessel"])]
        answer = self.answer(self.shorten(request, every[mark : mark + many]))
        answer.headers["Pilot-Count"] = str(len(every))
        if mark + many < len(every):
            query = {"many": many, "mark": mark + many} | ({"vessel": vessel} if vessel else {})
            answer.headers["Link"] = f'</pilot/units?{urlencode(query)}>; rel="next"'
        return answer

    async def list_houses(self, request: Request) -> Response:
        """All houses."""
        await self._admit(request)
        return self.answer([{"house": key, "label": label} for key, label in self.houses.items()])

    async def list_lines(self, request: Request) -> Response:
        """All lines, each with the house that runs it."""
        await self._admit(request)
        return self.answer([{"line": key, **line} for key, line in self.lines.items()])

    async def enrol(self, request: Request) -> Response:
        """Take a unit into the fleet."""
        await self._admit(request, control=True)
        body = await body_of(request)
        serial = body.get("serial")
        if any(unit["serial"] == serial for unit in self.units.values()):
            raise Problem(409, f"{serial} is in a fleet already", code="adopted")
        if body.get("line") not in (None, *self.lines):
            raise Problem(422, f"there is no line {body['line']}", code="no-line")
        if self.shown(str(serial)) is None or self.shown(str(serial)) != body.get("code"):
            raise Problem(422, "the code is not the one that the unit shows", code="wrong-code")
        del self.codes[serial]
        self.adopted[serial] = time.monotonic()
        unit = f"u-{secrets.token_hex(5)}"
        self.units[unit] = {
            "unit": unit, "alias": body.get("alias") or serial, "serial": serial, "vessel": body.get("vessel") or "",
            "hardware": {"make": "", "type": "", "mac": ""}, "software": {"name": "", "version": ""}, "uplink": "",
            "address": "", "mode": "read-only", "contact": None, "position": None, "line": body.get("line"),
            "enrolled": datetime.now(UTC).isoformat(timespec="milliseconds"),
        }  # fmt: skip
        return self.answer(self.units[unit], 201)

    async def alter(self, request: Request, unit: str) -> Response:
        """Alter a unit's alias, vessel or mode by a merge patch (RFC 7396)."""
        await self._admit(request, control=True)
        if request.headers.get("Content-Type") != "application/merge-patch+json":
            raise Problem(415, "a unit is altered by application/merge-patch+json")
        body, known = await body_of(request), self._unit(unit)
        strange = sorted(set(body) - {"alias", "vessel", "mode"})
        if strange:
            raise Problem(422, f"{strange[0]} cannot be altered")
        known.update(body)
        return self.answer(known)

    async def release(self, request: Request, unit: str) -> Response:
        """Let a unit go."""
        await self._admit(request, control=True)
        self._unit(unit)
        del self.units[unit]
        return Response(status_code=204)

    async def restart(self, request: Request, unit: str) -> Response:
        """Restart a unit."""
        await self._admit(request, control=True)
        if self._unit(unit)["mode"] != "control":
            raise Problem(409, f"{unit} is read-only", code="read-only")
        return Response(status_code=202)

    def _hear(self) -> None:
        """Units that were adopted a moment ago report what they are."""
        for unit in self.units.values():
            router = self.expected.get(unit["serial"])
            heard = time.monotonic() - self.adopted.get(unit["serial"], time.monotonic()) > _FIRST_REPORT
            if router and heard and unit["contact"] is None:
                unit |= {
                    "hardware": {"make": router["maker"], "type": router["model"], "mac": router["mac"]},
                    "software": {"name": router["os"], "version": router["version"]}, "address": router["ip"],
                    "uplink": "satellite", "contact": datetime.now(UTC).isoformat(timespec="seconds"),
                }  # fmt: skip

    def _unit(self, unit: str) -> Record:
        if unit not in self.units:
            raise Problem(404, f"there is no unit {unit}")
        return self.units[unit]

    async def _admit(self, request: Request, *, control: bool = False) -> None:
        body = await request.body()
        seen = _Seen(request.method, str(request.url), dict(request.headers))
        wanted = (*_COVERED, "content-digest") if body else _COVERED
        try:
            self.verifier.verify(seen, max_age=timedelta(seconds=_OLDEST), require_components=wanted, body=body or None)
        except (HTTPMessageSignaturesException, ValueError, KeyError) as error:
            raise Problem(401, f"the signature does not hold: {error}") from error
        if control and self.rights != "control":
            raise Problem(403, "this key may only read")
