"""Crowsnest, a monitoring system; see docs/guides/crowsnest.md.

XML both ways, basic authentication.  How hosts are doing is a list of its own; what is added waits in
a queue; groups are made of kinds and of other groups.  A host is asked with one of the logins that are kept
here by their labels, and called by its address, by what the name service says, or by a name of its own.
"""

from __future__ import annotations

import base64
import secrets
from typing import Any
from xml.parsers.expat import ExpatError

import xmltodict
from fastapi import Request, Response

from concordex.standins.base import Problem, StandIn, only, whole

_SPACE = "urn:example:crowsnest:2"
_CAP = 200
_LOGINS = ("deck switches", "bridge routers", "kiosks, read only")
_WATCHES = ("close", "usual", "loose")
_CALLED = ("address", "dns", "own")
Record = dict[str, Any]


class Crowsnest(StandIn):
    """The monitoring system."""

    name, title = "crowsnest", "Crowsnest monitoring"

    def __init__(self, hosts: list[Record], groups: list[Record], changes: list[Record] | None = None) -> None:
        self.hosts = {host["number"]: host for host in hosts}
        self.groups, self.changes = groups, changes or []
        #: What of the changes was asked for: from when, until when, of which hosts.
        self.asked: list[tuple[str, str, str]] = []
        self.password = secrets.token_urlsafe(18)
        self.queue: dict[str, Record] = {}
        self.waits = 1
        self.logins = {str(at): label for at, label in enumerate(_LOGINS, start=1)}
        super().__init__()

    def secrets(self) -> dict[str, str]:
        """The lookout's password."""
        return {"password": self.password}

    def plain(self) -> dict[str, str]:
        """The lookout's name."""
        return {"user": "lookout"}

    def routes(self) -> None:
        """Add what this system answers to."""
        self.api.get("/nest/hosts")(self.list_hosts)
        self.api.post("/nest/hosts")(self.add_host)
        self.api.put("/nest/hosts/{number}")(self.alter_host)
        self.api.delete("/nest/hosts/{number}")(self.remove_host)
        self.api.get("/nest/states")(self.list_states)
        self.api.get("/nest/changes")(self.list_changes)
        self.api.get("/nest/logins")(self.list_logins)
        self.api.get("/nest/groups")(self.list_groups)
        self.api.get("/nest/groups/{number}/hosts")(self.list_members)
        self.api.post("/nest/groups")(self.add_group)
        self.api.patch("/nest/groups/{number}")(self.alter_group)
        self.api.delete("/nest/groups/{number}")(self.remove_group)
        self.api.get("/nest/queue/{number}")(self.look)

    async def list_hosts(self, request: Request) -> Response:
        """A page of the hosts: who they are, and not how they do."""
        self._admit(request)
        only(request, "begin", "many")
        begin, many = whole(request, "begin", 0), min(whole(request, "many", 50, least=1), _CAP)
        every = list(self.hosts.values())
        page = self.shorten(request, every[begin : begin + many])
        hosts = [
            {"@number": h["number"], "name": h["name"], "address": h["address"], "class": h["class"],
             "card": h["card"], "berth": h["berth"], "login": h.get("login", ""), "watch": h.get("watch", "usual"),
             "called": h.get("called", "own")}
            for h in page
        ]  # fmt: skip
        return self.xml({"hosts": {"@xmlns": _SPACE, "@inAll": str(len(every)), "host": hosts}})

    async def list_states(self, request: Request) -> Response:
        """How every host is doing."""
        self._admit(request)
        only(request)
        states = [
            {"@host": h["number"], "@is": h["state"], "checked": h["checked"], "load": str(h["load"])}
            for h in self.hosts.values()
        ]
        return self.xml({"states": {"@xmlns": _SPACE, "@inAll": str(len(states)), "state": states}})

    async def list_changes(self, request: Request) -> Response:
        """A page of how the states of hosts moved, the earliest first: in a span of time, of some hosts."""
        self._admit(request)
        only(request, "begin", "many", "after", "before", "host")
        after, before, hosts = (request.query_params.get(name, "") for name in ("after", "before", "host"))
        self.asked.append((after, before, hosts))
        begin, many = whole(request, "begin", 0), min(whole(request, "many", 50, least=1), _CAP)
        every = [
            change for change in self.changes
            if (not after or change["at"] > after) and (not before or change["at"] < before)
            and (not hosts or change["host"] in hosts.split("+"))
        ]  # fmt: skip
        page = self.shorten(request, every[begin : begin + many])
        changes = [
            {"@number": c["number"], "@host": c["host"], "@at": c["at"], "was": c["was"], "is": c["is"]} for c in page
        ]
        return self.xml({"changes": {"@xmlns": _SPACE, "@inAll": str(len(every)), "change": changes}})

    async def list_groups(self, request: Request) -> Response:
        """All groups."""
        self._admit(request)
        groups = [
            {"@number": g["number"], "name": g["name"], "kind": g["kinds"], "group": g["groups"]} for g in self.groups
        ]
        return self.xml({"groups": {"@xmlns": _SPACE, "group": groups}})

    async def list_logins(self, request: Request) -> Response:
        """The logins that hosts can be asked with: what each is called, and not what it is."""
        self._admit(request)
        logins = [{"@number": number, "label": label} for number, label in self.logins.items()]
        return self.xml({"logins": {"@xmlns": _SPACE, "login": logins}})

    async def list_members(self, request: Request, number: str) -> Response:
        """The hosts that belong to a group now, by its kinds and those of the groups that it is made of."""
        self._admit(request)
        kinds = self._kinds(self._known_group(number))
        members = [{"@number": h["number"], "name": h["name"]} for h in self.hosts.values() if h["class"] in kinds]
        return self.xml({"members": {"@xmlns": _SPACE, "@inAll": str(len(members)), "member": members}})

    def _kinds(self, group: Record) -> set[str]:
        below = [self._kinds(self._known_group(other)) for other in group["groups"]]
        return set(group["kinds"]).union(*below)

    async def add_host(self, request: Request) -> Response:
        """Put a host into the queue; it is there when the queue says so."""
        self._admit(request)
        host = await self._host(request)
        number = str(len(self.queue) + 1)
        taken = any(known["name"].lower() == host["name"].lower() for known in self.hosts.values())
        taken = taken or any(known["address"] == host["address"] for known in self.hosts.values())
        self.queue[number] = {"left": self.waits, "host": host, "taken": taken, "made": ""}
        return self.xml({"queued": {"@xmlns": _SPACE, "@number": number}}, 202, {"Location": f"/nest/queue/{number}"})

    async def add_group(self, request: Request) -> Response:
        """Make a group."""
        self._admit(request)
        group = await self._group(request)
        number = str(max((int(known["number"]) for known in self.groups), default=0) + 1)
        self.groups.append({"number": number, **group})
        return self.xml({"made": {"@xmlns": _SPACE, "@number": number}}, 201)

    async def alter_group(self, request: Request, number: str) -> Response:
        """Alter the members that are given."""
        self._admit(request)
        self._known_group(number).update(await self._group(request, number))
        return self.xml({"altered": {"@xmlns": _SPACE, "@number": number}})

    async def remove_group(self, request: Request, number: str) -> Response:
        """Remove a group that no other is made of."""
        self._admit(request)
        group = self._known_group(number)
        users = [other["name"] for other in self.groups if number in other["groups"]]
        if users:
            raise Problem(409, f"{users[0]} is made of it")
        self.groups.remove(group)
        return Response(status_code=204)

    def _known_group(self, number: str) -> Record:
        known = next((group for group in self.groups if group["number"] == number), None)
        if known is None:
            raise Problem(404, f"there is no group {number}")
        return known

    async def _group(self, request: Request, number: str | None = None) -> Record:
        lists = ("kind", "group")
        given = (xmltodict.parse(await request.body(), force_list=lists) or {}).get("group") or [{}]
        body = given[0] if isinstance(given, list) else given
        group = {"name": body.get("name"), "kinds": body.get("kind"), "groups": body.get("group")}
        group = {name: [item for item in value if item] if isinstance(value, list) else value
                 for name, value in group.items() if value is not None}  # fmt: skip
        if number is None and not group.get("name"):
            raise Problem(422, "a group has a name")
        if any(known["name"] == group.get("name") and known["number"] != number for known in self.groups):
            raise Problem(409, f"there is a group {group['name']} already")
        strange = set(group.get("groups", ())) - {known["number"] for known in self.groups}
        if strange:
            raise Problem(422, f"there is no group {min(strange)}")
        return group if number else {"kinds": [], "groups": [], **group}

    async def look(self, request: Request, number: str) -> Response:
        """How an entry of the queue stands."""
        self._admit(request)
        entry = self.queue.get(number)
        if entry is None:
            raise Problem(404, f"the queue has no entry {number}")
        entry["left"] -= 1
        state = "waiting" if entry["left"] >= 0 else "refused" if entry["taken"] else "done"
        if state == "done" and not entry["made"]:
            entry["made"] = str(max([1000, *map(int, self.hosts)]) + 1)
            fresh = {"number": entry["made"], "state": "unsure", "checked": "", "load": 0.0}
            self.hosts[entry["made"]] = fresh | entry["host"]
        reason = f"{entry['host']['name']} is watched already" if state == "refused" else ""
        return self.xml({"entry": {"@xmlns": _SPACE, "@is": state, "reason": reason, "host": entry["made"]}})

    async def alter_host(self, request: Request, number: str) -> Response:
        """Put a host in the place of what was there."""
        self._admit(request)
        if number not in self.hosts:
            raise Problem(404, f"there is no host {number}")
        self.hosts[number] |= await self._host(request)
        return self.xml({"altered": {"@xmlns": _SPACE, "@number": number}})

    async def remove_host(self, request: Request, number: str) -> Response:
        """Watch a host no longer."""
        self._admit(request)
        if self.hosts.pop(number, None) is None:
            raise Problem(404, f"there is no host {number}")
        return Response(status_code=204)

    def xml(self, body: Record, status: int = 200, headers: dict[str, str] | None = None) -> Response:
        """``body`` as XML."""
        return Response(xmltodict.unparse(body), status, headers, media_type="application/xml")

    def _problem(self, _request: Request, problem: Exception) -> Response:
        assert isinstance(problem, Problem)
        return self.xml({"trouble": {"@xmlns": _SPACE, "text": problem.body["text"]}}, problem.status)

    def _admit(self, request: Request) -> None:
        wanted = base64.b64encode(f"lookout:{self.password}".encode()).decode()
        if request.headers.get("Authorization") != f"Basic {wanted}":
            raise Problem(401, "name or password is wrong")

    async def _host(self, request: Request) -> Record:
        if "xml" not in request.headers.get("Content-Type", ""):
            raise Problem(415, "a host is sent as application/xml")
        try:
            given = (xmltodict.parse(await request.body()) or {}).get("host")
        except ExpatError as error:
            raise Problem(400, f"not XML: {error}") from error
        if not isinstance(given, dict) or not given.get("address"):
            raise Problem(422, "a host has an address")
        names = ("name", "address", "class", "card", "berth", "login", "watch", "called")
        strange = set(given) - {*names, "@xmlns"}
        if strange:
            raise Problem(422, f"a host has no {min(strange)}")
        host = {name: given.get(name) or "" for name in names}
        host["watch"], host["called"] = host["watch"] or "usual", host["called"] or "own"
        if host["watch"] not in _WATCHES or host["called"] not in _CALLED:
            raise Problem(422, f"watch is one of {', '.join(_WATCHES)}, called one of {', '.join(_CALLED)}")
        if host["login"] and host["login"] not in self.logins:
            raise Problem(422, f"there is no login {host['login']}")
        if host["called"] == "own" and not host["name"]:
            raise Problem(422, "a host that is called by a name of its own has a name")
        if host["called"] == "address":
            host["name"] = host["address"]
        elif host["called"] == "dns":
            host["name"] = f"h{host['address'].replace('.', '-')}.saltmarsh.example"
        return host
