"""Bollard, a firewall manager; see docs/guides/bollard.md.

JSON-RPC 2.0 at one path, up to 20 calls in a batch.  What is written is staged for the warden who wrote it,
put into effect by a commit (a job), and refused when somebody else committed meanwhile.  A rule set is
installed on its targets only.
"""

from __future__ import annotations

import copy
import secrets
import time
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from fastapi import Request, Response

from concordex.standins.base import StandIn, body_of

_CAP, _BATCH = 100, 20
_FIRST_ANSWER = 1.0
_KINDS = ("address", "service", "rule", "ruleset")
_WARDEN, _RELIEF = "warden", "relief"  # two people, who have the password
_BRIEF = ("ref", "name", "berth", "linked")
Record = dict[str, Any]


class Denied(Exception):
    """An error object of JSON-RPC 2.0."""

    def __init__(self, code: int, text: str, data: Any = None) -> None:
        super().__init__(text)
        self.code, self.text, self.data = code, text, data


class Bollard(StandIn):
    """The firewall manager."""

    name, title = "bollard", "Bollard firewall manager"

    def __init__(self, firewalls: list[Record], objects: dict[str, list[Record]], lasts: float = 600) -> None:
        self.firewalls = {firewall["ref"]: firewall for firewall in firewalls}
        self.objects = {kind: {o["ref"]: o for o in objects.get(kind, [])} for kind in _KINDS}
        self.lasts, self.revision, self.waits = lasts, 1, 1
        self.notes: list[str] = []  # what was said with each commit
        self.calls: list[str] = []  # the methods that were called
        self.refuses: dict[str, str] = {}  # methods, and with what words they are refused
        #: What happens just before a method is done; it may raise Denied.
        self.meanwhile: Callable[[str, Any], None] = lambda _method, _params: None
        self.keeps = True  # what is staged when its session has ended; as older ones do not
        self.password = secrets.token_urlsafe(18)
        self.sessions: dict[str, float] = {}
        self.staged: dict[str, tuple[int, dict[str, dict[str, Record]]]] = {}
        self.jobs: dict[str, dict[str, Any]] = {}
        self.calling: dict[str, float] = {}
        self.first_answer = _FIRST_ANSWER
        self.who: dict[str, str] = {}
        self.bases: dict[str, dict[str, dict[str, Record]]] = {}
        self.since: dict[str, str] = {}
        super().__init__()

    def secrets(self) -> dict[str, str]:
        """The warden's password."""
        return {"password": self.password}

    def plain(self) -> dict[str, str]:
        """The warden's name."""
        return {"user": _WARDEN}

    def routes(self) -> None:
        """Add what this system answers to."""
        self.api.post("/bollard/rpc")(self.rpc)

    async def rpc(self, request: Request) -> Response:
        """One call, or a batch of them."""
        body = await body_of(request)
        if isinstance(body, list):
            if not 1 <= len(body) <= _BATCH:
                return self.answer(_error(None, Denied(-32600, f"a batch holds 1 to {_BATCH} calls")))
            return self.answer([self._answered(request, call) for call in reversed(body)])
        return self.answer(self._answered(request, body))

    def _handler(self, method: str) -> Callable[[Bollard, str, Any], Any]:
        if method in self.refuses:
            return lambda *_: _refuse(self.refuses[method])
        return self._METHODS.get(method, _unknown)

    def _answered(self, request: Request, call: Any) -> Record:
        if not isinstance(call, dict) or call.get("jsonrpc") != "2.0" or not isinstance(call.get("method"), str):
            return _error(None, Denied(-32600, "not a JSON-RPC 2.0 call"))
        number, method, params = call.get("id"), call["method"], call.get("params", {})
        self.calls.append(method)
        try:
            if method == "session.open":
                return {"jsonrpc": "2.0", "id": number, "result": self._open(params)}
            session = self._admit(request, call)
            if method == "session.close":
                return {"jsonrpc": "2.0", "id": number, "result": self._close(session)}
            self.meanwhile(method, params)
            handler, who = self._handler(method), self.who[session] if self.keeps else session
            return {"jsonrpc": "2.0", "id": number, "result": handler(self, who, params)}
        except Denied as fault:
            return _error(number, fault)
        except (KeyError, TypeError) as error:
            return _error(number, Denied(-32602, f"a parameter is missing or of the wrong kind: {error}"))

    def _admit(self, request: Request, call: Record) -> str:
        session = call.get("session", "")
        expired = self.faults.strikes("expire", request.method, request.url.path)
        if expired or self.sessions.get(session, 0) < time.monotonic():
            self.sessions.pop(session, None)
            raise Denied(-32001, "the session is unknown or has ended")
        return str(session)

    def _open(self, params: Record) -> Record:
        if params.get("user") not in (_WARDEN, _RELIEF) or params.get("password") != self.password:
            raise Denied(-32001, "user or password is wrong")
        session = secrets.token_urlsafe(18)
        self.sessions[session] = time.monotonic() + self.lasts
        self.who[session] = params["user"]
        return {"session": session, "seconds": self.lasts}

    def _close(self, session: str) -> bool:
        self.sessions.pop(session, None)
        self.staged.pop(session, None)  # where it is the session's own
        return True

    def _list_firewalls(self, _session: str, params: Record) -> Record:
        self._call_up()
        brief = [{name: firewall[name] for name in _BRIEF} for firewall in self.firewalls.values()]
        return _page("firewalls", brief, params)

    def _one_firewall(self, _session: str, params: Record) -> Record:
        if params["ref"] not in self.firewalls:
            raise Denied(-32004, f"there is no firewall {params['ref']}")
        return {
            key: value for key, value in self.firewalls[params["ref"]].items() if key not in ("interfaces", "below")
        }

    def _interfaces(self, _session: str, params: Record) -> list[Record]:
        if params["ref"] not in self.firewalls:
            raise Denied(-32004, f"there is no firewall {params['ref']}")
        return list(self.firewalls[params["ref"]]["interfaces"])

    def _below(self, _session: str, params: Record) -> list[Record]:
        if params["ref"] not in self.firewalls:
            raise Denied(-32004, f"there is no firewall {params['ref']}")
        return list(self.firewalls[params["ref"]].get("below", []))

    def _add_firewall(self, _session: str, params: Record) -> Record:
        """Take a firewall on; it is heard of when the job has ended, and what hangs below it a little later."""
        given = params["firewall"]
        if any(f["name"] == given["name"] or f["management"] == given["management"] for f in self.firewalls.values()):
            raise Denied(-32009, f"{given['name']} or {given['management']} is managed already")
        ref = f"fw-{secrets.token_hex(4)}"
        self.firewalls[ref] = {
            "ref": ref, "name": given["name"], "berth": given.get("berth", ""), "linked": False,
            "serial": given.get("serial", ""), "make": "", "series": "", "software": "", "release": "",
            "management": given["management"], "mac": "", "sharedMac": "", "heard": "", "interfaces": [],
        }  # fmt: skip
        self.calling[ref] = time.monotonic()
        return {"job": self._job("done", f"{given['name']} is taken on"), "ref": ref}

    def _call_up(self) -> None:
        """Firewalls that were taken on a moment ago answer, with what hangs below them."""
        for ref in [ref for ref, since in self.calling.items() if time.monotonic() - since > self.first_answer]:
            del self.calling[ref]
            number, like = len(self.jobs) + len(self.calling), next(iter(self.firewalls.values()))
            self.firewalls.get(ref, {}).update({
                **{name: like[name] for name in ("make", "series", "software", "release")},
                "linked": True, "serial": f"FW{number:06d}", "heard": datetime.now(UTC).strftime("%Y-%m-%d %H:%M:%S"),
                "interfaces": [
                    {"name": f"port{at}", "zone": zone, "address": f"10.{200 + at}.{number % 250}.1/24"}
                    for at, zone in enumerate(("inside", "outside", "kiosks"), 1)
                ],
            })  # fmt: skip

    def _remove_firewall(self, _session: str, params: Record) -> bool:
        if self.firewalls.pop(params["ref"], None) is None:
            raise Denied(-32004, f"there is no firewall {params['ref']}")
        return True

    def _list_objects(self, session: str, params: Record) -> Record:
        held = self.staged[session][1] if session in self.staged else self.objects
        return _page("objects", list(self._of(held, params["kind"]).values()), params)

    def _of(self, held: dict[str, dict[str, Record]], kind: str) -> dict[str, Record]:
        if kind not in held:
            raise Denied(-32602, f"kind should be one of {', '.join(_KINDS)}")
        return held[kind]

    def _candidate(self, session: str) -> dict[str, dict[str, Record]]:
        if session not in self.staged:
            self.staged[session] = (self.revision, copy.deepcopy(self.objects))
            self.bases[session] = self.objects  # a commit puts others in its place
            self.since[session] = datetime.now(UTC).strftime("%Y-%m-%d %H:%M")
        return self.staged[session][1]

    def _add(self, session: str, params: Record) -> list[str]:
        objects = self._of(self._candidate(session), params["kind"])
        names = {(o.get("ruleSet"), o["name"]) for o in objects.values()}
        for given in params["objects"]:
            if (given.get("ruleSet"), given["name"]) in names:
                raise Denied(-32009, f"{params['kind']} {given['name']} is there already", {"name": given["name"]})
            names.add((given.get("ruleSet"), given["name"]))
        made = [f"{params['kind'][0]}{secrets.token_hex(4)}" for _ in params["objects"]]
        objects.update({ref: {"ref": ref, **given} for ref, given in zip(made, params["objects"], strict=True)})
        return made

    def _add_several(self, session: str, params: Record) -> dict[str, list[str]]:
        """Objects of several kinds: all, or none; they may refer to those of the same call that came before."""
        before = copy.deepcopy(self.staged.get(session))
        made: dict[str, list[str]] = {}
        try:
            for kind, listed in params["objects"].items():
                places = {f"#{other}/{at}": ref for other, refs in made.items() for at, ref in enumerate(refs)}
                objects = [{name: places.get(str(value), value) for name, value in obj.items()} for obj in listed]
                made[kind] = self._add(session, {"kind": kind, "objects": objects})
        except Denied:
            self.staged.pop(session, None)
            if before:
                self.staged[session] = before
            raise
        return made

    def _alter(self, session: str, params: Record) -> bool:
        objects = self._of(self._candidate(session), params["kind"])
        if params["ref"] not in objects:
            raise Denied(-32004, f"there is no {params['kind']} {params['ref']}")
        objects[params["ref"]] |= params["object"]
        return True

    def _remove(self, session: str, params: Record) -> bool:
        held = self._candidate(session)
        objects = self._of(held, params["kind"])
        stay = [rule for ref, rule in held["rule"].items() if ref not in params["refs"]]
        used = {rule.get(member) for rule in stay for member in ("from", "to", "service", "ruleSet")}
        for ref in params["refs"]:
            if ref not in objects:
                raise Denied(-32004, f"there is no {params['kind']} {ref}")
            if ref in used:
                raise Denied(-32012, f"{ref} is used by a rule")
            on = [f["name"] for f in self.firewalls.values() if objects[ref]["name"] in f.get("installed", ())]
            if params["kind"] == "ruleset" and on:
                raise Denied(-32012, f"{objects[ref]['name']} is installed on {on[0]}")
        for ref in params["refs"]:
            del objects[ref]
        return True

    def _commit(self, session: str, params: Record) -> Record:
        if session not in self.staged:
            return {"job": self._job("done", "nothing was staged")}
        base, held = self.staged[session]
        if base != self.revision:  # what is staged stays, until it is discarded
            raise Denied(-32010, f"revision {base} was altered by somebody else; this is revision {self.revision}")
        del self.staged[session]
        self.objects, self.revision = held, self.revision + 1
        self.notes.append(str(params.get("note", "")))
        return {"job": self._job("done", f"revision {self.revision}")}

    def _pending(self, session: str, _params: Record) -> list[Record]:
        """What is staged, by whom, since when."""
        pending = []
        for holder, (_, held) in self.staged.items():
            for kind in _KINDS:
                base = self.bases[holder][kind]
                for ref in sorted(held[kind].keys() | base.keys()):
                    was, now = base.get(ref), held[kind].get(ref)
                    if was != now:
                        what = "added" if was is None else "removed" if now is None else "altered"
                        pending.append({"who": self.who.get(holder, holder), "since": self.since[holder],
                                     "yours": holder == session,
                                     "what": f"{kind} {(now or was or {})['name']} {what}"})  # fmt: skip
        return pending

    def _discard(self, session: str, _params: Record) -> bool:
        return self.staged.pop(session, None) is not None

    def stage(self, who: str, kind: str, ref: str, **members: Any) -> None:
        """Somebody alters an object in a session of their own, and forgets to commit."""
        session = f"of {who}"
        self.who[session] = who
        self._candidate(session)[kind][ref] |= members

    def _install(self, _session: str, params: Record) -> Record:
        rules = self.objects["ruleset"].get(params["ruleset"])
        if rules is None:
            raise Denied(-32004, f"there is no rule set {params['ruleset']}")
        strange = [ref for ref in params["firewalls"] if ref not in rules["targets"]]
        if strange:
            raise Denied(-32011, f"{strange[0]} is not a target of {rules['name']}")
        unlinked = [ref for ref in params["firewalls"] if not self.firewalls[ref]["linked"]]
        if unlinked:
            return {"job": self._job("failed", f"{unlinked[0]} is not linked")}
        for ref in params["firewalls"]:
            held = self.firewalls[ref].setdefault("installed", [])
            held += [rules["name"]] if rules["name"] not in held else []
        return {"job": self._job("done", f"installed on {len(params['firewalls'])}")}

    def _uninstall(self, _session: str, params: Record) -> Record:
        rules = self.objects["ruleset"].get(params["ruleset"])
        if rules is None:
            raise Denied(-32004, f"there is no rule set {params['ruleset']}")
        for ref in params["firewalls"]:
            held = self.firewalls[ref].setdefault("installed", [])
            self.firewalls[ref]["installed"] = [name for name in held if name != rules["name"]]
        return {"job": self._job("done", f"taken off {len(params['firewalls'])}")}

    def _job(self, ends: str, text: str) -> str:
        number = f"j{len(self.jobs) + 1}"
        self.jobs[number] = {"left": self.waits, "ends": ends, "text": text}
        return number

    def _look(self, _session: str, params: Record) -> Record:
        job = self.jobs.get(params["job"])
        if job is None:
            raise Denied(-32004, f"there is no job {params['job']}")
        job["left"] -= 1
        ended = job["left"] < 0
        state, text = (job["ends"], job["text"]) if ended else ("running", "")
        return {"job": params["job"], "state": state, "text": text}

    _METHODS = {  # noqa: RUF012 - a table of methods, never altered
        "firewall.list": _list_firewalls, "firewall.detail": _one_firewall,
        "firewall.interfaces": _interfaces, "firewall.below": _below, "object.list": _list_objects, "object.add": _add,
        "object.alter": _alter, "object.remove": _remove, "candidate.commit": _commit,
        "firewall.add": _add_firewall, "firewall.remove": _remove_firewall, "object.add_several": _add_several,
        "candidate.pending": _pending, "candidate.discard": _discard,
        "ruleset.install": _install, "ruleset.uninstall": _uninstall, "job.look": _look,
    }  # fmt: skip


def _refuse(why: str) -> Any:
    raise Denied(-32602, why)


def _unknown(_bollard: Bollard, _session: str, _params: Record) -> Any:
    raise Denied(-32601, "there is no such method")


def _page(name: str, records: list[Record], params: Record) -> Record:
    start, count = params.get("from", 0), min(params.get("count", 50), _CAP)
    if not isinstance(start, int) or not isinstance(count, int) or start < 0 or count < 1:
        raise Denied(-32602, "from and count should be whole numbers")
    return {name: records[start : start + count], "inAll": len(records)}


def _error(number: Any, fault: Denied) -> Record:
    error: Record = {"code": fault.code, "message": fault.text}
    return {"jsonrpc": "2.0", "id": number, "error": error | ({"data": fault.data} if fault.data else {})}
