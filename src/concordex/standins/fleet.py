"""The demo fleet: seeded, of any size, with the truth kept beside it.

``build`` makes the devices; ``accounts`` makes what each stand-in says of them, with the hard cases
that real systems show, at the rates of :class:`Rates`.
"""

from __future__ import annotations

import random
import uuid
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from email.utils import format_datetime
from typing import Any

from concordex.standins import places

Record = dict[str, Any]


@dataclass(frozen=True, kw_only=True)
class Rates:
    """How often each hard case occurs, as a share of the devices it can befall."""

    vessel_away: float = 0.3
    stacked: float = 0.12
    docked: float = 0.25
    laptops_to_a_dock: int = 5
    random_mac: float = 0.5
    placeholder_serial: float = 0.03
    cut_name: float = 0.1
    enrolled_twice: float = 0.02
    nameless: float = 0.015
    moved: float = 0.08
    not_recorded: float = 0.12
    spare: float = 0.05
    swapped: float = 0.02
    mistyped_serial: float = 0.02
    no_serial: float = 0.08
    recorded_twice: float = 0.01
    written_otherwise: float = 0.2
    no_mac: float = 0.15
    no_tag: float = 0.1
    old_release: float = 0.1
    wrong_place: float = 0.03
    remark: float = 0.15


@dataclass(kw_only=True)
class Device:
    """One real thing."""

    number: int
    kind: str
    site: str
    name: str
    serial: str
    asset_tag: str
    uuid: str
    mac: str
    wireless_mac: str | None
    ip: str
    maker: str
    model: str
    os: str
    os_version: str
    user: str | None
    last_seen: datetime
    enrolled_at: datetime
    stack: str | None = None
    dock: str | None = None
    shared_mac: str | None = None
    spare: bool = False


@dataclass
class Accounts:
    """What each system says, and the truth: ``(system, record_id) -> device number``."""

    fairlead: list[Record] = field(default_factory=list)
    ports: list[Record] = field(default_factory=list)
    muster: list[Record] = field(default_factory=list)
    stowage: list[Record] = field(default_factory=list)
    truth: dict[tuple[str, str], int] = field(default_factory=dict)


@dataclass
class Fleet:
    """The devices, and the random source that the accounts go on with."""

    devices: list[Device]
    moment: datetime
    random: random.Random
    rates: Rates


def build(size: int = 400, *, moment: datetime, seed: int = 1, rates: Rates | None = None) -> Fleet:
    """A fleet of ``size`` devices as of ``moment``."""
    rates, rng = rates or Rates(), random.Random(seed)
    away = set(rng.sample(places.VESSELS, round(len(places.VESSELS) * rates.vessel_away)))
    maker = _Maker(rng, moment, rates, away)
    devices: list[Device] = []
    for kind, share in places.SHARES.items():
        wanted = max(1, round(size * share))
        devices += [maker.make(len(devices) + at, kind) for at in range(wanted)]
    devices = devices[:size]
    _dock(devices, rng, rates)
    return Fleet(devices, moment, rng, rates)


class _Maker:
    """Makes devices one after another."""

    def __init__(self, rng: random.Random, moment: datetime, rates: Rates, away: set[str]) -> None:
        self.rng, self.moment, self.rates, self.away = rng, moment, rates, away
        self.counts: dict[tuple[str, str], int] = {}
        self.stack: tuple[str, str, str, int] | None = None
        self.pair: tuple[str, str, str] | None = None

    def make(self, number: int, kind: str) -> Device:
        rng = self.rng
        maker, model, os, releases = rng.choice(places.PRODUCTS[kind])
        site = self._site(kind)
        self.counts[kind, site] = count = self.counts.get((kind, site), 0) + 1
        name = f"{places.PREFIX[kind]}-{site.removeprefix('mv-')}-{count:02d}"
        if kind == "laptop":
            team = "-ACCOUNTS" if rng.random() < self.rates.cut_name else ""
            name = f"SF-LT{team}-{number:06d}"
        device = Device(
            number=number, kind=kind, site=site, name=name, maker=maker, model=model, os=os,
            serial=f"{maker[:2].upper()}{rng.choice('ABCDEFGH')}{number:07d}{rng.choice('KLMNPRTX')}{rng.randrange(10)}",
            asset_tag=f"SF{number:06d}", uuid=str(uuid.UUID(int=rng.getrandbits(128), version=4)),
            mac=_mac(places.CARDS[maker], number * 2), ip=_address(site, number),
            wireless_mac=self._wireless(kind, maker, number), os_version=rng.choice(releases),
            user=rng.choice(places.PEOPLE) if kind == "laptop" else None,
            last_seen=self._seen(site), enrolled_at=self.moment - timedelta(days=rng.randrange(60, 1200)),
            spare=rng.random() < self.rates.spare,
        )  # fmt: skip
        if kind == "switch":
            self._stacked(device)
        if kind == "firewall":
            self._paired(device)
        return device

    def _site(self, kind: str) -> str:
        if kind == "laptop":
            return self.rng.choice((places.OFFICE, places.OFFICE, places.DEPOT, *places.TERMINALS))
        if kind == "handheld":
            return self.rng.choice(places.VESSELS + places.TERMINALS[:3])
        return self.rng.choice(places.SITES)

    def _wireless(self, kind: str, maker: str, number: int) -> str | None:
        if kind not in ("laptop", "tablet", "handheld"):
            return None
        if kind != "tablet" and self.rng.random() < self.rates.random_mac:
            return _mac(
                f"{self.rng.choice('26ae').rjust(2, '5')}:{self.rng.randrange(256):02x}:7c",
                self.rng.getrandbits(24),
            )
        return _mac(places.CARDS[maker], number * 2 + 1)

    def _seen(self, site: str) -> datetime:
        if site in self.away:
            return self.moment - timedelta(days=self.rng.uniform(8, 40))
        return self.moment - timedelta(minutes=self.rng.expovariate(1 / 400))

    def _stacked(self, device: Device) -> None:
        """Members of a stack share the stack's name, site and address; serial and MAC are their own."""
        if self.stack and self.stack[3] > 0:
            name, site, ip, left = self.stack
            device.stack = device.name = name
            device.site, device.ip, device.spare = site, ip, False
            self.stack = (name, site, ip, left - 1)
        elif self.rng.random() < self.rates.stacked:
            device.stack, device.spare = device.name, False
            self.stack = (device.name, device.site, device.ip, self.rng.choice((1, 2)))

    def _paired(self, device: Device) -> None:
        """Firewalls run in pairs, which share a virtual router's MAC (RFC 9568)."""
        if self.pair:
            name, site, shared = self.pair
            device.name, device.site, device.shared_mac, self.pair = f"{name}-b", site, shared, None
        else:
            device.shared_mac = f"00:00:5e:00:01:{device.number % 256:02x}"
            self.pair = (device.name, device.site, device.shared_mac)
            device.name = f"{device.name}-a"
        device.spare = False


def _dock(devices: list[Device], rng: random.Random, rates: Rates) -> None:
    """Give groups of laptops one dock, whose MAC each of them shows."""
    laptops = [device for device in devices if device.kind == "laptop" and rng.random() < rates.docked]
    for at, laptop in enumerate(laptops):
        laptop.dock = _mac(places.CARDS["dock"], at // rates.laptops_to_a_dock)


def accounts(fleet: Fleet) -> Accounts:
    """What Fairlead, Muster and Stowage say of the fleet."""
    made = Accounts()
    for device in fleet.devices:
        if not device.spare:
            _tell_fairlead(device, fleet, made)
            _tell_muster(device, fleet, made)
        _tell_stowage(device, fleet, made)
    _spoil_names(made)
    for system in (made.fairlead, made.ports, made.muster):
        fleet.random.shuffle(system)
    return made


def _tell_fairlead(device: Device, fleet: Fleet, records: Accounts) -> None:
    rng = fleet.random
    attached = device.kind in ("server", "tablet") or device.dock is not None
    if device.kind in ("laptop", "handheld") and not attached:
        return
    key = f"n{device.number:06x}"
    family = {
        "router": "gateway", "switch": "switching", "access-point": "radio", "firewall": "barrier",
    }.get(device.kind, "attached")  # fmt: skip
    records.fairlead.append({
        "nodeKey": key,
        "label": device.name if not attached or rng.random() < 0.8 else "",
        "family": family,
        "chassis": None if attached else {"maker": device.maker, "product": device.model, "serial": device.serial},
        "place": device.site,
        "address": f"{device.ip}/20",
        "bridgeMac": (device.dock or device.mac).replace(":", "").upper(),
        "virtualMac": device.shared_mac,
        "system": None if attached else {"name": device.os, "release": device.os_version},
        "health": "lost" if fleet.moment - device.last_seen > timedelta(days=2) else "good",
        "lastHeard": int(device.last_seen.timestamp() * 1000),
    })  # fmt: skip
    records.truth["fairlead", key] = device.number
    for port in range(1, 3 if device.kind == "access-point" else 5 if not attached else 1):
        records.ports.append({
            "portKey": f"{key}.{port}", "node": key, "label": f"port {port}",
            "mac": device.mac.replace(":", "-"), "up": rng.random() < 0.7, "mbps": rng.choice((100, 1000, 10000)),
        })  # fmt: skip


def _tell_muster(device: Device, fleet: Fleet, records: Accounts) -> None:
    if device.kind not in ("laptop", "tablet", "handheld"):
        return
    rng, rates = fleet.random, fleet.rates
    nameless = device.kind == "handheld" and rng.random() < rates.nameless * 4
    placeholder = rng.random() < rates.placeholder_serial
    serial = rng.choice(("To be filled", "0000000000", "N/A", "System Serial Number")) if placeholder else device.serial
    site = rng.choice(places.VESSELS) if device.kind == "handheld" and rng.random() < rates.moved else device.site
    record: Record = {
        "deviceId": str(uuid.UUID(int=rng.getrandbits(128), version=4)),
        "displayName": "lintel device" if nameless else device.name[:15],
        "serialNo": None if nameless else serial,
        "hardware": {"vendor": device.maker.upper(), "product": device.model, "uuid": device.uuid},
        "wifiMac": None if nameless else device.wireless_mac,
        "ethernetMac": device.dock or (device.mac if device.kind != "handheld" else None),
        "assetTag": None if nameless else device.asset_tag,
        "platform": {"laptop": "portable", "tablet": "slate", "handheld": "scanner"}[device.kind],
        "platformName": device.os,
        "platformVersion": device.os_version,
        "owner": device.user,
        "office": site.replace("-", " ").title(),
        "networkAddress": device.ip,
        "enrolledOn": device.enrolled_at.strftime("%Y-%m-%dT%H:%M:%SZ"),
        "lastContact": format_datetime(device.last_seen, usegmt=True),
        "battery": {"level": rng.randrange(5, 101), "health": rng.choice(("good", "good", "worn"))},
    }
    record["battery"] |= battery(device, fleet.moment)
    if nameless:
        record["hardware"] = {"vendor": device.maker.upper(), "product": device.model, "uuid": None}
    records.muster.append(record)
    records.truth["muster", record["deviceId"]] = device.number
    if not nameless and not placeholder and rng.random() < rates.enrolled_twice:
        before = device.last_seen - timedelta(days=rng.uniform(30, 300))
        again = record | {
            "deviceId": str(uuid.UUID(int=rng.getrandbits(128), version=4)),
            "lastContact": format_datetime(before, usegmt=True),
        }
        records.muster.append(again)
        records.truth["muster", again["deviceId"]] = device.number


def battery(device: Device, moment: datetime) -> Record:
    """What is told of a device's battery; of one in four the maker's service predicts nothing, and at its ceiling it
    says no more than that."""
    rng = random.Random(f"battery {device.uuid}")
    age = rng.randrange(20, 1500)
    wear = rng.uniform(0.01, 0.05)  # percent a day
    capacity = round(max(35.0, 100 - wear * age), 1)
    left, ceiling, observed = round((capacity - 60) / wear), 730, min(age, rng.choice((3, 9, 40, 200, 600)))
    return {
        "charging": rng.random() < 0.4, "source": rng.choice(("mains", "dock", "battery")),
        "celsius": round(rng.uniform(18, 44), 1), "volts": round(rng.uniform(3.4, 4.3), 2),
        "cycles": round(age * rng.uniform(0.3, 0.9)), "capacity": capacity, "cell": f"C{rng.getrandbits(32):08X}",
        "builtOn": (moment - timedelta(days=age)).strftime("%Y-%m-%d"), "daily": round(wear, 4),
        "daysLeft": None if rng.random() < 0.25 else max(0, min(left, ceiling)), "daysLeftAtMost": ceiling,
        "daysWatched": observed,
    }  # fmt: skip


def _tell_stowage(device: Device, fleet: Fleet, records: Accounts) -> None:
    rng, rates = fleet.random, fleet.rates
    unheard_of = device.site == places.NEWEST_VESSEL or device.maker == places.NEWEST_MAKER
    if not device.spare and (unheard_of or rng.random() < rates.not_recorded):
        return
    number, serial, swapped = device.number, device.serial, False
    if device.kind in ("router", "switch", "access-point") and not device.stack and rng.random() < rates.swapped:
        swapped, number = True, -1 - device.number  # another device, which stood here before
        serial = f"{device.maker[:2].upper()}Z{device.number:07d}Q0"
    elif rng.random() < rates.mistyped_serial:
        serial = _mistyped(serial, rng)
    elif rng.random() < rates.no_serial:
        serial = ""
    elif rng.random() < rates.placeholder_serial:
        serial = rng.choice(("TBD", "n/a", "unknown"))
    title = _titled(device, rng, rates)
    tag = "" if swapped or rng.random() < rates.no_tag else device.asset_tag
    release = rng.choice(("", "1.0")) if rng.random() < rates.old_release else device.os_version
    mac = "" if swapped or rng.random() < rates.no_mac else device.mac.replace(":", "-" if rng.random() < 0.5 else ":")
    record = {
        "title": title, "serialNumber": serial, "tag": tag,
        "place": rng.choice(places.SITES[:-1]) if rng.random() < rates.wrong_place else device.site,
        "maker": device.maker, "product": device.model, "class": device.kind,
        "state": "stored" if device.spare else "in service",
        "primaryAddress": "" if device.spare else device.ip, "hardwareAddress": mac,
        "softwareRelease": release, "origin": "",
        "remark": rng.choice(places.REMARKS) if rng.random() < rates.remark else "",
    }  # fmt: skip
    _record(records, record, number)
    if serial and rng.random() < rates.recorded_twice:
        _record(records, record | {"title": f"{title} (old)", "remark": "", "tag": ""}, number)


def _record(records: Accounts, record: Record, number: int) -> None:
    records.stowage.append(record)
    records.truth["stowage", str(len(records.stowage))] = number


def _titled(device: Device, rng: random.Random, rates: Rates) -> str:
    """The name as somebody typed it; Stowage takes no name twice, so members of a stack are numbered."""
    if device.stack:
        return f"{device.name}/{device.number}"
    if rng.random() >= rates.written_otherwise:
        return device.name
    return rng.choice((device.name.upper(), f"{device.name}.ferries.example", f"{device.name} "))


def _mistyped(serial: str, rng: random.Random) -> str:
    at = rng.randrange(3, len(serial) - 1)
    swapped = serial[:at] + serial[at + 1] + serial[at] + serial[at + 2 :]
    return swapped if swapped != serial else serial[:at] + "O" + serial[at + 1 :]


def _spoil_names(records: Accounts) -> None:
    """A few names as an unkind person would choose them."""
    bad = ("\x1b[31mred\x1b[0m", "=1+1", "<b>bold</b> [bold]", "../../etc/passwd")
    for record, name in zip(records.muster[7::29], bad, strict=False):
        record["displayName"] = name


def _mac(card: str, number: int) -> str:
    return f"{card}:{number >> 16 & 255:02x}:{number >> 8 & 255:02x}:{number & 255:02x}"


def _address(site: str, number: int) -> str:
    """An address in the site's own /16; beyond 65,000 devices addresses repeat, as they do in life."""
    return f"10.{20 + places.SITES.index(site)}.{number >> 8 & 255}.{number & 255}"


def truth_lines(records: Accounts) -> Iterator[str]:
    """The truth as NDJSON: which device each record speaks of."""
    for (system, record_id), number in records.truth.items():
        yield f'{{"system":"{system}","record_id":"{record_id}","device":{number}}}\n'
