"""Fairlead, a campus network controller.

    POST /fl/3/session                 {"operator", "passphrase"} -> {"session": {"key", "seconds"}}
    GET  /fl/3/nodes?from=1&size=100   header Fairlead-Session; {"nodes": […], "count": N}
    GET  /fl/3/ports, /fl/3/attached, /fl/3/cables, /fl/3/updates   the same way
    POST /fl/3/nodes/KEY/label         {"label"} -> 202 {"task": KEY}; also /restart
    GET  /fl/3/tasks/KEY               {"task": {"phase": "running" | "finished" | "failed", "words"}}

    RESTCONF (RFC 8040) at /fl/3/restconf/data/fairlead-charges:charges: devices that are given to it by hand,
    each with name, host, port, user and password; /charge=NAME/through/PATH is a call to one of them.

``from`` counts from 1; no page is longer than 100.  Nodes can be narrowed by ``place``, ``family``
(several with a comma), ``heardAfter`` (milliseconds since 1970) and ``label`` (without regard to case).  Ports
can be narrowed by ``node`` (keys with commas) and ``port``.
"""

from __future__ import annotations

import random
import secrets
import time
from collections.abc import Callable
from typing import Any

import orjson
from fastapi import Request, Response

from concordex.model.scalars import version_parts
from concordex.standins.base import Problem, StandIn, body_of, only, whole

_CAP = 100
_FAULTY, _IDLE = 0.02, 0.1  # shares of the ports that count errors, and of those that are down which nobody shut
_CHARGES = "/fl/3/restconf/data/fairlead-charges:charges"
#: What is shown of a charge.
_SHOWN = ("name", "host", "port", "user", "phase", "words", "platform", "serial", "release")


class Fairlead(StandIn):
    """The network controller."""

    name, title = "fairlead", "Fairlead campus network controller"

    def __init__(
        self,
        nodes: list[dict[str, Any]],
        ports: list[dict[str, Any]],
        attached: list[dict[str, Any]],
        cables: list[dict[str, Any]],
        lasts: float = 900,
    ) -> None:
        self.nodes, self.ports, self.attached, self.cables, self.lasts = nodes, ports, attached, cables, lasts
        #: The nodes and the port, of whose ports was asked.
        self.ports_asked: list[tuple[str, str]] = []
        self.tasks: dict[str, dict[str, Any]] = {}
        self.waits = 1
        self.updates: list[dict[str, Any]] = []
        #: Counters of ports: by which clock, since when; of ports that were restarted, since when those.
        self.clock: Callable[[], float] = time.time
        self.began = time.time() - 86_400
        self.counting_since: dict[str, float] = {}
        #: What is published for each system that nodes run, and why.
        self.releases = {"TideOS": {"7.2.10": "mends", "7.2.11": "security"}, "Ostrel Base": {"4.10.3": "security"}}
        self.passphrase = secrets.token_urlsafe(18)
        self.sessions: dict[str, float] = {}
        self.charges: dict[str, dict[str, Any]] = {}
        #: What answers at an address and port: its user and password, what it is, and after how long it is ready.
        self.reachable: dict[tuple[str, int], dict[str, Any]] = {}
        super().__init__()

    def secrets(self) -> dict[str, str]:
        """The operator's passphrase."""
        return {"passphrase": self.passphrase}

    def plain(self) -> dict[str, str]:
        """The operator's name."""
        return {"operator": "inventory"}

    def routes(self) -> None:
        """Add what this system answers to."""
        self.api.post("/fl/3/session")(self.sign_in)
        self.api.get("/fl/3/nodes")(self.list_nodes)
        self.api.get("/fl/3/ports")(self.list_ports)
        self.api.get("/fl/3/attached")(self.list_attached)
        self.api.get("/fl/3/cables")(self.list_cables)
        self.api.get("/fl/3/updates")(self.list_updates)
        self.api.post("/fl/3/nodes/{key}/{deed}")(self.begin)
        self.api.get("/fl/3/tasks/{key}")(self.look)
        self.api.get(_CHARGES)(self.list_charges)
        self.api.post(_CHARGES)(self.take_charge)
        self.api.delete(f"{_CHARGES}/charge={{name}}")(self.let_go)
        self.api.get(f"{_CHARGES}/charge={{name}}/through/{{path:path}}")(self.through)

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
        query = request.query_params
        nodes = self.nodes
        if "place" in query:
            wanted = query["place"].lower().split(",")
            nodes = [node for node in nodes if node["place"] in wanted]
        if "family" in query:
            families = query["family"].lower().split(",")
            nodes = [node for node in nodes if node["family"].lower() in families]
        if "label" in query:
            nodes = [node for node in nodes if node["label"].lower() == query["label"].lower()]
        if "heardAfter" in query:
            nodes = [node for node in nodes if node["lastHeard"] > whole(request, "heardAfter", 0)]
        return self._page(request, "nodes", nodes)

    async def list_ports(self, request: Request) -> Response:
        """The ports of all nodes, or of some, a page of them."""
        self._admit(request)
        only(request, "from", "size", "node", "port")
        nodes, name = request.query_params.get("node"), request.query_params.get("port", "").lower()
        self.ports_asked.append((nodes or "", name))
        ports = self.ports if nodes is None else [port for port in self.ports if port["node"] in nodes.split(",")]
        ports = [port for port in ports if port["label"].lower() == name] if name else ports
        first, size = whole(request, "from", 1, least=1), whole(request, "size", 25, least=1)
        page = ports[first - 1 : first - 1 + min(size, _CAP)]
        counted = [port | self._counters(port["portKey"], up=port["up"]) for port in page]
        return self.answer({"ports": self.shorten(request, counted), "count": len(ports)})

    def _counters(self, key: str, *, up: bool) -> dict[str, Any]:
        """Whether a port is enabled, as few are that are down; what it counted: octets in 64 bits, others in 32."""
        rng = random.Random(key)
        since = self.counting_since.get(key, self.began)
        passed = self.clock() - since
        octets, faulty = rng.randrange(10_000, 2_000_000), rng.random() < _FAULTY
        errors = rng.uniform(0.1, 0.6) if faulty else 0.0  # a second
        begun = rng.getrandbits(32) if key not in self.counting_since else 0
        return {
            "countingSince": int(since * 1000), "enabled": up or rng.random() < _IDLE,
            "inOctets": (begun * 4096 + int(octets * passed)) % 2**64,
            "outOctets": (begun * 2048 + int(octets * 0.6 * passed)) % 2**64,
            "inErrors": (begun + int(errors * passed)) % 2**32, "outErrors": int(errors * passed / 10) % 2**32,
            "inDropped": int(errors * passed / 3) % 2**32, "outDropped": 0,
        }  # fmt: skip

    async def list_attached(self, request: Request) -> Response:
        """The hosts on the ports, a page of them."""
        self._admit(request)
        only(request, "from", "size")
        return self._page(request, "attached", self.attached)

    async def list_cables(self, request: Request) -> Response:
        """The cables between nodes, a page of them."""
        self._admit(request)
        only(request, "from", "size")
        return self._page(request, "cables", self.cables)

    async def list_updates(self, request: Request) -> Response:
        """Releases that could be put on nodes, by what they run now; a page of them."""
        self._admit(request)
        only(request, "from", "size")
        if whole(request, "from", 1, least=1) == 1 or not self.updates:
            self.updates = self._published()
        return self._page(request, "updates", self.updates)

    def _published(self) -> list[dict[str, Any]]:
        """What could be put on each node, as its first page is asked for."""
        return [
            {"updateKey": f"{node['nodeKey']}.{release}", "node": node["nodeKey"], "release": release, "reason": reason}
            for node in self.nodes
            if node["system"]
            for release, reason in self.releases.get(node["system"]["name"], {}).items()
            if version_parts(release) > version_parts(node["system"]["release"])
        ]

    async def begin(self, request: Request, key: str, deed: str) -> Response:
        """Begin to label or restart a node; a task tells how it goes."""
        self._admit(request)
        node = next((node for node in self.nodes if node["nodeKey"] == key), None)
        if node is None or deed not in ("label", "restart"):
            raise Problem(404, f"there is no {deed} of {key}")
        label = (await body_of(request)).get("label") if deed == "label" else None
        if deed == "label" and not (isinstance(label, str) and 0 < len(label) <= 63):
            raise Problem(400, "a label is a text of 1 to 63 characters")
        number = f"t{len(self.tasks) + 1:05d}"
        self.tasks[number] = {"left": self.waits, "node": node, "label": label}
        return self.answer({"task": number}, 202)

    async def look(self, request: Request, key: str) -> Response:
        """How a task goes."""
        self._admit(request)
        task = self.tasks.get(key)
        if task is None:
            raise Problem(404, f"there is no task {key}")
        task["left"] -= 1
        phase, words = "running", ""
        if task["left"] < 0 and task["node"]["health"] == "lost":
            phase, words = "failed", "the node cannot be reached"
        elif task["left"] < 0:
            phase = "finished"
            if task["label"]:
                task["node"]["label"] = task["label"]
        return self.answer({"task": {"key": key, "phase": phase, "words": words}})

    async def list_charges(self, request: Request) -> Response:
        """The devices that it was given, as they stand; never their passwords."""
        self._admit(request)
        shown = [
            {n: v for n, v in self._as_it_stands(charge).items() if n in _SHOWN} for charge in self.charges.values()
        ]
        return self._yang({"fairlead-charges:charges": {"charge": shown}})

    async def take_charge(self, request: Request) -> Response:
        """Take a device: it is listed at once, and looked after from when it has answered."""
        self._admit(request)
        body = await body_of(request)
        given = (body.get("fairlead-charges:charge") or [{}])[0]
        missing = [name for name in ("name", "host", "port", "user", "password") if not given.get(name)]
        if missing:
            raise Problem(400, f"{missing[0]} is missing")
        if given["name"] in self.charges:
            raise Problem(409, f"there is a charge {given['name']} already")
        self.charges[given["name"]] = {**given, "since": time.monotonic()}
        return Response(status_code=201, headers={"Location": f"{_CHARGES}/charge={given['name']}"})

    async def let_go(self, request: Request, name: str) -> Response:
        """Look after a device no longer."""
        self._admit(request)
        if self.charges.pop(name, None) is None:
            raise Problem(404, f"there is no charge {name}")
        return Response(status_code=204)

    async def through(self, request: Request, name: str, path: str) -> Response:
        """What a device answers, by way of the controller."""
        self._admit(request)
        if name not in self.charges:
            raise Problem(404, f"there is no charge {name}")
        charge = self._as_it_stands(self.charges[name])
        if charge["phase"] != "ready":
            raise Problem(409, f"{name} is {charge['phase']}: {charge['words']}")
        return self._yang({path: {"hostname": charge["platform"]}})

    def _as_it_stands(self, charge: dict[str, Any]) -> dict[str, Any]:
        there = self.reachable.get((charge["host"], int(charge["port"])))
        waited = time.monotonic() - charge["since"]
        if there is None:
            state = {"phase": "asked", "words": "nothing answers there"}
        elif waited < there.get("after", 0.5):
            state = {"phase": "asked", "words": "being read"}
        elif (there["user"], there["password"]) != (charge["user"], charge["password"]):
            state = {"phase": "failed", "words": "user or password is wrong"}
        else:
            state = {"phase": "ready", "words": "", **{n: there[n] for n in ("platform", "serial", "release")}}
        return {**charge, **state}

    def _yang(self, body: object) -> Response:
        return Response(orjson.dumps(body), media_type="application/yang-data+json")

    def _admit(self, request: Request) -> None:
        if self.faults.strikes("expire", request.method, request.url.path):
            self.sessions.clear()
        if self.sessions.get(request.headers.get("Fairlead-Session", ""), 0) < time.monotonic():
            raise Problem(401, "no session, or it has ended")

    def _page(self, request: Request, name: str, records: list[dict[str, Any]]) -> Response:
        first, size = whole(request, "from", 1, least=1), whole(request, "size", 25, least=1)
        page = records[first - 1 : first - 1 + min(size, _CAP)]
        return self.answer({name: self.shorten(request, page), "count": len(records)})
