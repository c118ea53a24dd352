"""Binnacle, a single router; see docs/guides/binnacle.md.

RESTCONF (RFC 8040) with the models of RFC 7317 (system), RFC 8343 (interfaces) and RFC 8348 (hardware).
"""

from __future__ import annotations

import base64
import hashlib
import secrets
from collections.abc import Callable
from typing import Any
from urllib.parse import quote

import orjson
from fastapi import Request, Response

from concordex.standins.base import Problem, StandIn, body_of, only

_YANG = "application/yang-data+json"
_LOOPBACK = "iana-if-type:softwareLoopback"
#: What stands at the top of its data, and the modules that say so, with those that only lend them types.
_TOP = ("ietf-hardware:hardware", "ietf-system:system", "ietf-interfaces:interfaces", "saltmarsh-portal:portal")
_MODULES = {
    "ietf-hardware": "2018-03-13", "ietf-system": "2014-08-06", "ietf-interfaces": "2018-02-20",
    "ietf-ip": "2018-02-22", "iana-hardware": "2018-03-13", "iana-if-type": "2014-05-08",
    "saltmarsh-portal": "2026-05-04",
}  # fmt: skip
Record = dict[str, Any]


class Binnacle(StandIn):
    """The router."""

    name, title = "binnacle", "Binnacle router"

    def __init__(
        self, router: Record, password: str | None = None, code: Callable[[], str | None] | None = None
    ) -> None:
        self.router = router
        self.password = password or secrets.token_urlsafe(18)
        self.portal = {"access": "closed", "proxy": ""}
        self.code = code or (lambda: None)
        self.settings: Record = {
            "contact": "the harbour office",
            "ntp": {"enabled": True, "server": [{"name": "time-1", "udp": {"address": "10.20.0.123"}}]},
            "dns-resolver": {"search": ["saltmarsh.example"], "server": [
                {"name": "names-1", "udp-and-tcp": {"address": "10.20.0.53"}},
                {"name": "names-2", "udp-and-tcp": {"address": "10.21.0.53"}},
            ]},
            "authentication": {"user": [{"name": "steer"}, {"name": "watch"}]},
        }  # fmt: skip
        self.interfaces = {
            f"quay{at}/0": {
                "name": f"quay{at}/0", "description": text, "type": "iana-if-type:ethernetCsmacd", "enabled": at < 3,
                "oper-status": "up" if at < 3 else "down", "phys-address": router["mac"],
                "ietf-ip:ipv4": {"address": [{"ip": router["ip"], "prefix-length": 20}]} if at == 0 else {},
            }
            for at, text in enumerate(("uplink", "office", "kiosks", "spare"))
        }  # fmt: skip
        super().__init__()

    @property
    def describes(self) -> str:
        """RESTCONF tells it itself."""
        return "restconf:/restconf"

    def secrets(self) -> dict[str, str]:
        """The steersman's password."""
        return {"password": self.password}

    def plain(self) -> dict[str, str]:
        """The steersman's name."""
        return {"user": "steer"}

    def routes(self) -> None:
        """Add what this system answers to."""
        self.api.get("/.well-known/host-meta")(self.host_meta)
        self.api.get("/restconf/data")(self.top)
        self.api.get("/restconf/operations")(self.operations)
        self.api.get("/restconf/data/ietf-yang-library:yang-library")(self.library)
        self.api.get("/restconf/data/ietf-hardware:hardware")(self.hardware)
        self.api.get("/restconf/data/ietf-system:system")(self.system)
        self.api.patch("/restconf/data/ietf-system:system")(self.alter_system)
        self.api.get("/restconf/data/ietf-interfaces:interfaces")(self.list_interfaces)
        self.api.get("/restconf/data/ietf-interfaces:interfaces/interface={name:path}")(self.one_interface)
        self.api.patch("/restconf/data/ietf-interfaces:interfaces/interface={name:path}")(self.alter)
        self.api.post("/restconf/data/ietf-interfaces:interfaces")(self.create)
        self.api.delete("/restconf/data/ietf-interfaces:interfaces/interface={name:path}")(self.remove)
        self.api.get("/restconf/data/saltmarsh-portal:portal")(self.show_portal)
        self.api.patch("/restconf/data/saltmarsh-portal:portal")(self.alter_portal)

    async def host_meta(self) -> Response:
        """Where RESTCONF begins (RFC 8040, section 3.1)."""
        xrd = "<XRD xmlns='http://docs.oasis-open.org/ns/xri/xrd-1.0'><Link rel='restconf' href='/restconf'/></XRD>"
        return Response(xrd, media_type="application/xrd+xml")

    async def top(self, request: Request) -> Response:
        """What stands at the top of the data, one level deep (RFC 8040, section 4.8.2)."""
        self._admit(request)
        only(request, "depth")
        if request.query_params.get("depth") != "1":
            raise Problem(400, "the whole is given one level deep only: depth=1")
        return self._yang({"ietf-restconf:data": {name: {} for name in _TOP}})

    async def operations(self, request: Request) -> Response:
        """There are none (RFC 8040, section 3.3.2)."""
        self._admit(request)
        return self._yang({"ietf-restconf:operations": {}})

    async def library(self, request: Request) -> Response:
        """Which modules it has (RFC 8525)."""
        self._admit(request)
        modules = [{"name": name, "revision": revision} for name, revision in _MODULES.items()]
        return self._yang({
            "ietf-yang-library:yang-library": {"module-set": [{"name": "all", "module": modules}], "content-id": "1"}
        })  # fmt: skip

    async def hardware(self, request: Request) -> Response:
        """The chassis (RFC 8348)."""
        self._admit(request)
        chassis = {
            "name": "chassis", "class": "iana-hardware:chassis", "mfg-name": self.router["maker"],
            "model-name": self.router["model"], "serial-num": self.router["serial"],
            "software-rev": self.router["version"], "alias": self.router["name"],
        }  # fmt: skip
        fan = {"name": "fan 1", "class": "iana-hardware:fan", "parent": "chassis"}
        return self._yang({"ietf-hardware:hardware": {"component": [chassis, fan]}})

    async def system(self, request: Request) -> Response:
        """Name, place and clock (RFC 7317)."""
        self._admit(request)
        return self._yang({
            "ietf-system:system": {
                "hostname": self.router["name"], "location": self.router["site"], **self.settings,
                "platform": {"os-name": self.router["os"], "os-release": self.router["version"]},
                "clock": {"boot-datetime": self.router["booted"]},
            }
        })  # fmt: skip

    async def alter_system(self, request: Request) -> Response:
        """A plain patch of several sections at once: all or none."""
        self._admit(request)
        given = (await body_of(request)).get("ietf-system:system")
        if not isinstance(given, dict) or set(given) - {"location", *self.settings}:
            raise Problem(400, f"only location, {', '.join(self.settings)} can be altered")
        self.router["site"] = given.pop("location", self.router["site"])
        self.settings |= given
        return Response(status_code=204)

    async def list_interfaces(self, request: Request) -> Response:
        """All interfaces (RFC 8343)."""
        self._admit(request)
        only(request, "depth", "fields", "content")
        return self._yang({"ietf-interfaces:interfaces": {"interface": list(self.interfaces.values())}})

    async def one_interface(self, request: Request, name: str) -> Response:
        """One of them."""
        self._admit(request)
        answer = self._yang({"ietf-interfaces:interface": [self._interface(name)]})
        answer.headers["ETag"] = self._tag(name)
        return answer

    async def alter(self, request: Request, name: str) -> Response:
        """A plain patch (RFC 8040, section 4.6.1)."""
        self._admit(request)
        if request.headers.get("Content-Type") != _YANG:
            raise Problem(415, f"send {_YANG}")
        known = self._interface(name)
        self._match(request, name)
        given = await self._given(request)
        if known["type"] != _LOOPBACK and set(given) - {"name", "description", "enabled"}:
            raise Problem(400, "only description and enabled can be altered")
        known.update(given)
        return Response(status_code=204)

    async def create(self, request: Request) -> Response:
        """A new interface, which must be a loopback (RFC 8040, section 4.4.1)."""
        self._admit(request)
        given = await self._given(request)
        if given.get("type") != _LOOPBACK or not given.get("name"):
            raise Problem(400, f"only an interface with a name and the type {_LOOPBACK} can be made")
        if given["name"] in self.interfaces:
            raise Problem(409, f"there is an interface {given['name']} already")
        self.interfaces[given["name"]] = {"enabled": True, **given, "oper-status": "up", "phys-address": ""}
        name = quote(given["name"], safe="")
        where = {"Location": f"/restconf/data/ietf-interfaces:interfaces/interface={name}"}
        return Response(status_code=201, headers=where)

    async def remove(self, request: Request, name: str) -> Response:
        """No more of a loopback."""
        self._admit(request)
        self._match(request, name)
        if self._interface(name)["type"] != _LOOPBACK:
            raise Problem(400, "what is built in stays")
        del self.interfaces[name]
        return Response(status_code=204)

    async def _given(self, request: Request) -> Record:
        """One entry of a list, as RFC 7951 writes it."""
        body = await body_of(request)
        listed = body.get("ietf-interfaces:interface") if isinstance(body, dict) else None
        if not isinstance(listed, list) or len(listed) != 1 or not isinstance(listed[0], dict):
            raise Problem(400, "send ietf-interfaces:interface with one entry")
        return dict(listed[0])

    def _tag(self, name: str) -> str:
        return f'"{hashlib.sha256(orjson.dumps(self._interface(name))).hexdigest()[:16]}"'

    def _match(self, request: Request, name: str) -> None:
        wanted = request.headers.get("If-Match")
        if wanted not in (None, "*", self._tag(name)):
            raise Problem(412, f"{name} is not as it was when you read it")

    async def show_portal(self, request: Request) -> Response:
        """What a fleet portal needs to know; the one-time code shows only while a portal has access."""
        self._admit(request)
        code = self.code() if self.portal["access"] != "closed" else None
        portal = {"serial-num": self.router["serial"], "alias": self.router["name"], **self.portal}
        return self._yang({"saltmarsh-portal:portal": portal | ({"one-time-code": code} if code else {})})

    async def alter_portal(self, request: Request) -> Response:
        """A plain patch of access and proxy."""
        self._admit(request)
        given = (await body_of(request)).get("saltmarsh-portal:portal")
        if not isinstance(given, dict) or set(given) - set(self.portal):
            raise Problem(400, "only access and proxy can be altered")
        if given.get("access", "closed") not in ("closed", "read-only", "control"):
            raise Problem(400, "access is closed, read-only or control")
        self.portal |= {name: value or "" for name, value in given.items()}
        return Response(status_code=204)

    def _interface(self, name: str) -> Record:
        if name not in self.interfaces:
            raise Problem(404, f"there is no interface {name}")
        return self.interfaces[name]

    def _admit(self, request: Request) -> None:
        wanted = base64.b64encode(f"steer:{self.password}".encode()).decode()
        if request.headers.get("Authorization") != f"Basic {wanted}":
            raise Problem(401, "user or password is wrong")
        accepted = request.headers.get("Accept", "")
        if _YANG not in accepted and "*/*" not in accepted:
            raise Problem(406, f"this router speaks {_YANG}")

    def _yang(self, body: Record) -> Response:
        answer = self.answer(body)
        answer.headers["Content-Type"] = _YANG
        return answer

    def _problem(self, _request: Request, problem: Exception) -> Response:
        """Errors as RFC 8040, section 7.1, has them."""
        assert isinstance(problem, Problem)
        tags = {401: "access-denied", 404: "invalid-value", 400: "malformed-message"}
        fault = {"error-type": "application", "error-tag": tags.get(problem.status, "operation-failed"),
                 "error-message": problem.body["text"]}  # fmt: skip
        answer = self.answer({"ietf-restconf:errors": {"error": [fault]}}, problem.status)
        answer.headers["Content-Type"] = _YANG
        return answer
