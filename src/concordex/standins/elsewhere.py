"""What Masthead, Bollard, Crowsnest, Pilotage, Binnacle and Purser say of the fleet.

Each has a random source of its own, so that one system's words do not change another's.
"""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from datetime import timedelta

from concordex.standins import places
from concordex.standins.fleet import Accounts, Device, Fleet, Record

#: Cards, as people call them, that Purser keeps; and the hosts that Crowsnest watches.
_CARDED = ("laptop", "server", "router", "firewall")
#: Routers that were delivered and are in no portal yet.
_UNBOXED = 4
_WATCHED = ("router", "switch", "server", "firewall")


@dataclass
class Elsewhere:
    """The records of the six."""

    radios: list[Record] = field(default_factory=list)
    radio_sites: list[Record] = field(default_factory=list)
    firewalls: list[Record] = field(default_factory=list)
    objects: dict[str, list[Record]] = field(default_factory=dict)
    hosts: list[Record] = field(default_factory=list)
    groups: list[Record] = field(default_factory=list)
    units: list[Record] = field(default_factory=list)
    router: Record = field(default_factory=dict)
    unboxed: list[Record] = field(default_factory=list)
    cards: list[Record] = field(default_factory=list)


def tell(fleet: Fleet, accounts: Accounts) -> Elsewhere:
    """What the six say; the truth of it goes into ``told.truth``."""
    other = Elsewhere()
    live = [device for device in fleet.devices if not device.spare]
    _masthead(fleet, live, accounts, other)
    _bollard(fleet, live, accounts, other)
    _crowsnest(fleet, live, accounts, other)
    _pilotage(fleet, live, accounts, other)
    _binnacle(live, accounts, other)
    _purser(fleet, accounts, other)
    return other


def source(fleet: Fleet, system: str) -> random.Random:
    """The random source of a system's own, of a fleet that is always the same."""
    return random.Random(f"{system} {len(fleet.devices)} {fleet.devices[0].uuid}")


def site_code(site: str) -> str:
    """Masthead's code for a site, which is not its label."""
    return f"z{places.SITES.index(site) * 7 + 11:03d}"


def _masthead(fleet: Fleet, live: list[Device], accounts: Accounts, other: Elsewhere) -> None:
    rng = source(fleet, "masthead")
    other.radio_sites = [{"code": site_code(s), "label": s.replace("-", " ").title()} for s in places.SITES]
    for device in (d for d in live if d.kind == "access-point"):
        ref = f"R{device.number:06d}"
        other.radios.append({
            "ref": ref, "zone": site_code(device.site), "caption": device.name,
            "state": "away" if fleet.moment - device.last_seen > timedelta(days=2) else "on air",
            "serialCode": device.serial, "baseMac": device.mac.upper(), "addressing": {"v4": device.ip, "v6": None},
            "hardware": device.model, "builtBy": device.maker, "firmware": device.os_version,
            "clients": rng.randrange(60), "channel": rng.choice((1, 6, 11, 36, 44, 100)),
            "heardFrom": int(device.last_seen.timestamp()),
        })  # fmt: skip
        accounts.truth["masthead", ref] = device.number


def _bollard(fleet: Fleet, live: list[Device], accounts: Accounts, other: Elsewhere) -> None:
    rng = source(fleet, "bollard")
    for device in (d for d in live if d.kind == "firewall"):
        ref = f"fw-{device.number}"
        other.firewalls.append({
            "ref": ref, "name": device.name, "berth": device.site, "linked": rng.random() < 0.95,
            "serial": device.serial, "make": device.maker, "series": device.model, "software": device.os,
            "release": device.os_version, "management": device.ip, "mac": device.mac, "sharedMac": device.shared_mac,
            "heard": device.last_seen.strftime("%Y-%m-%d %H:%M:%S"),
            "interfaces": [
                {"name": f"port{at}", "zone": zone, "address": f"10.{200 + at}.{device.number % 250}.1/24"}
                for at, zone in enumerate(("inside", "outside", "kiosks"), 1)
            ],
            "below": _below(device, live),
        })  # fmt: skip
        accounts.truth["bollard", ref] = device.number
    addresses = [
        {"ref": f"a{at}", "name": f"net-{site}", "value": f"10.{20 + at}.0.0/16", "note": ""}
        for at, site in enumerate(places.SITES)
    ]
    services = [
        {"ref": f"s{at}", "name": name, "protocol": protocol, "ports": ports}
        for at, (name, protocol, ports) in enumerate((
            ("ticketing", "tcp", "8443"), ("web", "tcp", "80,443"), ("names", "udp", "53"), ("time", "udp", "123"),
            ("crew-mail", "tcp", "993"), ("cameras", "tcp", "554"),
        ))
    ]  # fmt: skip
    rules = [
        {
            "ref": f"r{at}", "ruleSet": f"set{at % 3}", "place": at // 3 + 1, "name": f"rule {at + 1}",
            "from": rng.choice(addresses)["ref"], "to": rng.choice(addresses)["ref"],
            "service": rng.choice(services)["ref"], "verdict": rng.choice(("pass", "pass", "stop")),
        }
        for at in range(30)
    ]  # fmt: skip
    refs = [firewall["ref"] for firewall in other.firewalls]
    names = ("quay", "ship", "office")
    sets = [{"ref": f"set{at}", "name": name, "targets": refs[at::3]} for at, name in enumerate(names)]
    other.objects = {"address": addresses, "service": services, "rule": rules, "ruleset": sets}


def _below(firewall: Device, live: list[Device]) -> list[Record]:
    """What a firewall runs itself: a switch and some access points of its site, behind its ports."""
    mine = [d for d in live if d.site == firewall.site and d.kind in ("switch", "access-point") and not d.stack]
    chosen = [*[d for d in mine if d.kind == "switch"][:1], *[d for d in mine if d.kind == "access-point"][:3]]
    return [
        {"mark": f"b{at}", "name": d.name, "serial": d.serial, "mac": d.mac, "port": f"port{at}", "series": d.model,
         "sort": "switch" if d.kind == "switch" else "radio", "release": d.os_version,
         "state": "lost" if firewall.last_seen - d.last_seen > timedelta(days=2) else "attached"}
        for at, d in enumerate(chosen, start=1)
    ]  # fmt: skip


def _crowsnest(fleet: Fleet, live: list[Device], accounts: Accounts, other: Elsewhere) -> None:
    rng = source(fleet, "crowsnest")
    for device in (d for d in live if d.kind in _WATCHED and not d.stack):
        if rng.random() < 0.08:
            continue  # nobody set it to be watched
        number = str(len(other.hosts) + 1001)
        away = fleet.moment - device.last_seen > timedelta(days=2)
        other.hosts.append({
            "number": number, "name": device.name, "address": device.ip, "class": device.kind,
            "card": device.mac if rng.random() < 0.9 else "", "berth": device.site,
            "state": "down" if away else rng.choice(("up", "up", "up", "up", "unsure")),
            "checked": device.last_seen.strftime("%Y-%m-%dT%H:%M:%SZ"), "load": round(rng.random() * 100, 1),
        })  # fmt: skip
        accounts.truth["crowsnest", number] = device.number
    other.groups = [
        {"number": "1", "name": "all quays", "kinds": [], "groups": ["2", "3"]},
        {"number": "2", "name": "network", "kinds": ["router", "switch"], "groups": []},
        {"number": "3", "name": "machines", "kinds": ["server"], "groups": []},
    ]


def _pilotage(fleet: Fleet, live: list[Device], accounts: Accounts, other: Elsewhere) -> None:
    rng = source(fleet, "pilotage")
    for device in (d for d in live if d.kind == "router" and d.site in places.VESSELS):
        unit = f"u-{rng.getrandbits(40):010x}"
        other.units.append({
            "unit": unit, "alias": device.name, "serial": device.serial, "vessel": device.site.removeprefix("mv-"),
            "hardware": {"make": device.maker, "type": device.model, "mac": device.mac},
            "software": {"name": device.os, "version": device.os_version},
            "uplink": rng.choice(("satellite", "cellular", "harbour")), "address": device.ip,
            "mode": rng.choice(("read-only", "control")), "contact": device.last_seen.isoformat(timespec="seconds"),
            "position": {"lat": round(50 + rng.random() * 5, 4), "lon": round(-6 + rng.random() * 9, 4)},
        })  # fmt: skip
        accounts.truth["pilotage", unit] = device.number


def _binnacle(live: list[Device], accounts: Accounts, other: Elsewhere) -> None:
    router = next((d for d in live if d.kind == "router" and d.site == places.OFFICE), None)
    router = router or next(d for d in live if d.kind == "router")
    other.router = {
        "name": router.name, "serial": router.serial, "maker": router.maker, "model": router.model, "mac": router.mac,
        "ip": router.ip, "os": router.os, "version": router.os_version, "site": router.site,
        "booted": (router.last_seen - timedelta(days=41)).isoformat(timespec="seconds"),
    }  # fmt: skip
    accounts.truth["binnacle", "chassis"] = router.number
    for at, vessel in enumerate(places.VESSELS[:_UNBOXED], start=1):
        other.unboxed.append(other.router | {
            "name": f"rt-{vessel}-{90 + at}", "serial": f"UB{at:02d}{router.number:05d}", "site": vessel,
            "mac": f"02:5a:17:00:00:{at:02x}", "ip": f"10.90.{at}.1",
        })  # fmt: skip


def _purser(fleet: Fleet, accounts: Accounts, other: Elsewhere) -> None:
    rng = source(fleet, "purser")
    for device in (d for d in fleet.devices if d.kind in _CARDED):
        if rng.random() < 0.15:
            continue
        card = f"CI{len(other.cards) + 1:07d}"
        other.cards.append({
            "card": card, "heading": device.name.upper() if rng.random() < 0.2 else device.name,
            "serialNumber": "" if rng.random() < 0.06 else device.serial, "tag": device.asset_tag,
            "sort": device.kind, "berth": device.site, "standing": "spare" if device.spare else "in use",
            "make": device.maker, "type": device.model, "holder": device.user or "", "foreignRef": "",
            "amended": fleet.moment.strftime("%d/%m/%Y"),
        })  # fmt: skip
        accounts.truth["purser", card] = device.number
