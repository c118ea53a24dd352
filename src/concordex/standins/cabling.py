"""What Fairlead sees on its ports: hosts, and cables between its nodes, each told from both ends, with a few lies."""

from __future__ import annotations

import random
from collections import defaultdict
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any

from concordex.standins import places
from concordex.standins.fleet import Accounts, Device, Fleet, Record
from concordex.standins.wrong import Wrong

#: So many of each sort of lie are told, where there are cables enough.
_LIES = 2


@dataclass
class Cabling:
    """The hosts, both ends of each cable, what is not so as it is told, and the sites that hang on one way."""

    attached: list[Record] = field(default_factory=list)
    cables: list[Record] = field(default_factory=list)
    wrong: list[Wrong] = field(default_factory=list)


def lay(fleet: Fleet, accounts: Accounts) -> Cabling:
    """Lay cables within each site, and from each to the head office; every other site has one to the depot as well."""
    laid = _Laying(fleet, random.Random(f"cabling {len(fleet.devices)} {fleet.devices[0].uuid}"))
    at: dict[str, dict[str, list[Device]]] = defaultdict(lambda: defaultdict(list))
    for device in fleet.devices:
        if not device.spare:
            at[device.site][device.kind].append(device)
    cores = {site: core for site in places.SITES if (core := laid.site(at[site])) is not None}
    for number, (site, core) in enumerate(cores.items()):
        for hub in (places.OFFICE, places.DEPOT)[: 1 + number % 2]:
            if hub in cores and site not in (places.OFFICE, places.DEPOT):
                laid.cable(core, cores[hub])
    if {places.OFFICE, places.DEPOT} <= cores.keys():
        laid.cable(cores[places.DEPOT], cores[places.OFFICE])
    laid.lie()
    laid.ports(accounts)
    return laid.made


class _Laying:
    """Lays cables one after another, each into the next free port of both its ends."""

    def __init__(self, fleet: Fleet, rng: random.Random) -> None:
        self.fleet, self.rng, self.made = fleet, rng, Cabling()
        self.taken: dict[int, int] = defaultdict(int)
        self.devices: dict[str, Device] = {}

    def site(self, kinds: dict[str, list[Device]]) -> Device | None:
        """Lay the cables of a site; the device at which it is linked with others, if it has one."""
        trunk = [*kinds["switch"][:1], *kinds["router"], *kinds["firewall"]]
        if not trunk:
            return None
        near = kinds["switch"] or trunk
        for device in [*kinds["switch"][1:], *kinds["router"], *kinds["firewall"]]:
            if near[0] is not device:
                self.cable(device, near[0])
        for device in kinds["access-point"]:
            self.cable(device, self.rng.choice(near))
        for device in [*kinds["laptop"], *kinds["tablet"], *kinds["server"]]:
            self.host(device, self.rng.choice(near))
        return kinds["router"][0] if kinds["router"] else trunk[0]

    def cable(self, near: Device, far: Device) -> None:
        mbps = self.rng.choice((1000, 10000))
        up, since = self.rng.random() < 0.95, self.fleet.moment - timedelta(days=self.rng.randrange(5, 400))
        ends = [(device, self._port(device)) for device in (near, far)]
        for (mine, port), (other, their_port) in (ends, ends[::-1]):
            self.devices[_key(mine)] = mine
            self.made.cables.append({
                "cableKey": f"c{mine.number:06x}.{port}", "near": _key(mine), "nearPort": f"port {port}",
                "far": _key(other), "farPort": f"port {their_port}", "farLabel": other.name, "farAddress": other.ip,
                "mbps": mbps, "duplex": "full", "up": up, "since": int(since.timestamp() * 1000),
            })  # fmt: skip

    def host(self, device: Device, near: Device) -> None:
        rng = self.rng
        self.devices[_key(near)] = near
        since = device.last_seen - timedelta(hours=rng.randrange(1, 200))
        self.made.attached.append({
            "hostKey": f"h{device.number:06x}", "node": _key(near), "port": f"port {self._port(near)}",
            "mac": (device.dock or device.mac).replace(":", ""), "address": device.ip, "label": device.name,
            "user": device.user or "", "segment": rng.choice((10, 20, 30)), "since": int(since.timestamp() * 1000),
            "lastHeard": int(device.last_seen.timestamp() * 1000),
        })  # fmt: skip

    def _port(self, device: Device) -> int:
        self.taken[device.number] += 1
        return self.taken[device.number]

    def lie(self) -> None:
        """Tell some ends otherwise than they are: of each sort a few, on cables that no other lie is about."""
        ends = list(range(0, len(self.made.cables), 2))
        self.rng.shuffle(ends)
        for what, tell in (
            ("disputed", self._elsewhere), ("contradicted", self._misnamed), ("unknown", self._strange),
            ("uneven", self._halved),
        ):  # fmt: skip
            for _ in range(_LIES):
                if len(ends) > 1:
                    first, second = self.made.cables[(at := ends.pop())], self.made.cables[at + 1]
                    tell(first, second)
                    self.made.wrong.append((what, frozenset([first["cableKey"], second["cableKey"]])))

    def _elsewhere(self, end: dict[str, Any], back: dict[str, Any]) -> None:
        """An end that was replugged, and still tells of where it was: the other one tells the truth."""
        near = self.devices[back["near"]]
        others = [d for d in self.devices.values() if d.site == near.site and d.number != near.number]
        other = self.rng.choice([d for d in others if _key(d) != end["near"]] or others or [near])
        back |= {"far": _key(other), "farPort": "port 1", "farLabel": other.name, "farAddress": other.ip}

    def _misnamed(self, end: dict[str, Any], _back: dict[str, Any]) -> None:
        end |= {"farLabel": f"old-{end['farLabel']}", "farAddress": end["farAddress"]}

    def _strange(self, end: dict[str, Any], _back: dict[str, Any]) -> None:
        end |= {"far": f"n{0xF00000 + len(self.made.wrong):06x}", "farLabel": "somebody", "farAddress": "192.0.2.9"}

    def _halved(self, end: dict[str, Any], _back: dict[str, Any]) -> None:
        end["duplex"] = "half"

    def ports(self, accounts: Accounts) -> None:
        """Ports that cables are in and that the nodes do not tell of yet."""
        known = {port["portKey"] for port in accounts.ports}
        for number, count in self.taken.items():
            device = self.devices[f"n{number:06x}"]
            for port in range(1, count + 1):
                key = f"n{number:06x}.{port}"
                if key not in known:
                    accounts.ports.append({
                        "portKey": key, "node": _key(device), "label": f"port {port}",
                        "mac": device.mac.replace(":", "-"), "up": True, "mbps": 1000,
                    })  # fmt: skip


def _key(device: Device) -> str:
    return f"n{device.number:06x}"
