"""Which member of a record is which field of ours: by what it is called, how its values look, and whom they name."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from functools import cached_property
from ipaddress import ip_interface
from typing import Any

from concordex.insight.draft.seen import ID, OnlyDescribed, below, members, value_of
from concordex.model.fields import FIELDS, KINDS, Type
from concordex.model.scalars import parse_time

#: Words that members are called by, and how plainly each speaks for a field.
_WORDS: dict[str, dict[str, int]] = {
    "name": {"name": 4, "label": 4, "title": 4, "caption": 4, "heading": 3, "alias": 3, "hostname": 4, "called": 3},
    "serial": {"serial": 5, "sn": 3},
    "asset_tag": {"asset": 3, "tag": 4, "inventory": 2},
    "uuid": {"uuid": 5, "guid": 5},
    "macs": {"mac": 4, "ethernet": 2, "bssid": 3, "hardware": 1, "phys": 2},
    "ips": {"ip": 4, "ipv4": 4, "ipv6": 4, "address": 3, "addr": 3, "management": 2, "v4": 3, "v6": 3},
    "maker": {"maker": 5, "vendor": 5, "manufacturer": 5, "make": 5, "brand": 4, "built": 4, "mfg": 4, "builder": 4},
    "model": {"model": 5, "product": 4, "series": 4, "sku": 3, "hardware": 4, "platform": 1, "type": 2, "part": 1},
    "kind": {"kind": 5, "family": 4, "class": 4, "category": 5, "sort": 4, "type": 3, "platform": 3, "species": 3},
    "site": {
        "site": 5, "place": 4, "office": 4, "berth": 4, "branch": 4, "campus": 4, "building": 4, "zone": 3, "depot": 4,
        "location": 4, "vessel": 3, "station": 3, "premises": 4,
    },
    "os": {"os": 4, "system": 2, "software": 3, "platform": 2},
    "os_version": {"version": 5, "release": 5, "firmware": 5, "build": 2, "rev": 3, "software": 2},
    "status": {
        "status": 5, "state": 5, "health": 4, "phase": 3, "standing": 4, "online": 4, "condition": 4, "linked": 3,
        "reachable": 4, "up": 4, "mood": 2,
    },
    "user": {"user": 5, "owner": 4, "holder": 4, "assigned": 3, "person": 3, "custodian": 4, "assignee": 4},
    "rack": {"rack": 5},
    "position": {"position": 4, "unit": 3},
    "enrolled_at": {"enrolled": 5, "enrolment": 5, "registered": 4, "adopted": 4, "joined": 4, "onboarded": 4},
    "first_seen": {"first": 4, "since": 4, "discovered": 4},
    "last_seen": {"seen": 5, "heard": 5, "contact": 5, "checkin": 5, "last": 2, "checked": 4, "active": 2, "sync": 3},
}  # fmt: skip
_MAC = re.compile(r"(?:[0-9A-Fa-f]{2}[:-]){5}[0-9A-Fa-f]{2}|(?:[0-9A-Fa-f]{4}\.){2}[0-9A-Fa-f]{4}|[0-9A-Fa-f]{12}")
_UUID = re.compile(r"[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}", re.IGNORECASE)
#: An address of something is none of what it leads to.
_ADDRESS = re.compile(r"[a-z][a-z0-9+.-]*://\S+|/\S*", re.IGNORECASE)
_VERSION = re.compile(r"v?\d+(\.\w+)+([-+ ].*)?")
_SERIAL = re.compile(r"(?=.*\d)[A-Za-z0-9-]{5,24}")
#: Kinds of ours, and how systems call them.
_KINDS = {
    "switch": "switch|switching|sw", "router": "router|gateway|gw|routing", "firewall": "firewall|barrier|fw|utm",
    "access-point": "access-?point|ap|radio|wap|wireless", "laptop": "laptop|notebook|portable",
    "desktop": "desktop|workstation|pc|tower", "tablet": "tablet|slate|pad", "phone": "phone|handset|mobile",
    "handheld": "handheld|scanner|rugged", "printer": "printer|mfp", "camera": "camera|cctv", "sensor": "sensor|probe",
    "server": "server|blade", "virtual-machine": "vm|virtual-?machine|guest", "power": "pdu|ups|power",
}  # fmt: skip
#: How much of what a member says must be known for it to tell; and how plainly a guess must speak.
_SHARE, _FEW, _PLAIN, _MAYBE, _MARGIN = 0.3, 3, 4.0, 2.0, 1.0
_NO = -100.0
#: So many values of a member are looked at for how they are written.
_LOOKED_AT = 5_000
#: What holds what a device is, and what holds something else's: a battery's health is not the device's.
_ITS_OWN = {
    "chassis", "hardware", "system", "software", "device", "network", "addressing", "identity", "info", "details",
    "general", "platform", "attributes", "properties", "node", "unit", "os", "site", "place", "location", "net", "core",
}  # fmt: skip
#: The name of what runs on a device, and not the device's.
_SOFTWARE = re.compile(r"(^|\.)(os|system|software|platform|firmware)[._]?name$", re.IGNORECASE)
#: A MAC address that is called so is no device's own.
_NOBODYS = re.compile(r"virtual|shared|vrrp|floating|cluster", re.IGNORECASE)


@dataclass
class Profile:
    """What a member says in all records that were seen."""

    path: str
    values: list[Any] = field(default_factory=list)
    kind: str = ""  # as it is described

    @cached_property
    def texts(self) -> list[str]:
        """Each single value that says something, as text."""
        flat = [item for value in self.values for item in (value if isinstance(value, list) else [value])]
        return [str(value) for value in flat if value not in (None, "") and not isinstance(value, bool)]

    @cached_property
    def distinct(self) -> set[str]:
        """The same, each once."""
        return set(self.texts)


@dataclass
class FieldGuess:
    """A field of ours: where it stands, how it is read, and why that is thought; ``sure``, or one of several."""

    name: str
    path: str
    why: str
    sure: bool
    score: float
    read_as: str | None = None
    values: dict[str, str] = field(default_factory=dict)
    others: list[str] = field(default_factory=list)
    several: list[str] = field(default_factory=list)  # of these the first that says something


def profiles(paths: Mapping[str, list[Any]]) -> list[Profile]:
    """What each member says; ``paths`` are its values by path."""
    made = []
    for path, values in paths.items():
        described = next((value.kind for value in values if isinstance(value, OnlyDescribed)), "")
        made.append(Profile(path, [value for value in values if not isinstance(value, OnlyDescribed)], described))
    return made


def guesses(members: Sequence[Profile], known: Mapping[str, set[str]], without: str) -> list[FieldGuess]:
    """The fields of ours that members are likely to be, each member once; ``without`` is the id.

    ``known`` are values that other systems have of each field, in small letters and figures alone.
    """
    scored: dict[tuple[str, str], tuple[float, str]] = {}
    for profile in members:
        if profile.path == without:
            continue
        for name in _WORDS:
            score, why = _score(profile, name, known.get(name, set()))
            if score >= _MAYBE:
                scored[name, profile.path] = (score, why)
    made, taken = list[FieldGuess](), set[str]()
    by_path = {profile.path: profile for profile in members}
    for (name, path), (score, why) in sorted(scored.items(), key=lambda one: (-one[1][0], one[0])):
        if any(guess.name == name for guess in made) or path in taken:
            continue
        rivals = [
            (other, points)
            for (field_name, other), (points, _) in scored.items()
            if field_name == name and other != path
        ]
        others = [other for other, points in sorted(rivals, key=lambda one: -one[1]) if other not in taken]
        if name in ("macs", "ips") and others and score >= _PLAIN:
            guess = _several(name, path, why, others, by_path)
            made.append(guess)
            taken.update([path, *guess.others])
            continue
        near = [points for other, points in rivals if other not in taken and score - points < _MARGIN]
        sure = score >= _PLAIN and not near and (name != "kind" or _is_known_kind(by_path[path]))
        guess = FieldGuess(name, path, why, sure, score, others=others[:3])
        guess.read_as = _read_as(by_path[path], name)
        if name == "kind":
            guess.values = _kinds(by_path[path])
        made.append(guess)
        taken.add(path)
    return made


def _several(name: str, path: str, why: str, others: Sequence[str], by_path: Mapping[str, Profile]) -> FieldGuess:
    """A field whose values stand in several members: of MACs all are the device's, of addresses the first is taken."""
    order = list(by_path)
    alike = sorted([path, *others], key=order.index)
    if name == "macs" and all("." not in one for one in alike):
        told = ",".join(f"'{one}'" for one in alike)
        return FieldGuess(name, f"$[{told}]", f"{why}; so are the others'", True, 9.0, others=list(others))
    guess = FieldGuess(name, path, why, True, 9.0, others=list(others))
    if name == "ips":
        guess.path, guess.several = alike[0], alike
    return guess


def _score(profile: Profile, name: str, known: set[str]) -> tuple[float, str]:
    """How plainly a member speaks for a field, and by what."""
    words = _words(profile.path)
    named = max((points for word, points in _WORDS[name].items() if word in words[0]), default=0.0)
    if not named:
        named = max((points * 0.4 for word, points in _WORDS[name].items() if word in words[1]), default=0.0)
    if _SOFTWARE.search(profile.path):
        named = 5.0 if name == "os" else 0.0 if name == "name" else named
    looks, look = _looks(profile, name)
    if looks == _NO:
        return _NO, ""
    plain = {bare(text) for text in profile.distinct}
    shared = len(plain & known) / len(plain) if plain else 0.0
    if words[1] and not words[1] & _ITS_OWN:
        looks -= 2.5
    if name in ("macs", "ips") and _NOBODYS.search(profile.path):
        return _NO, ""
    points, why = float(named) + looks, [f"it is called so ({profile.path})"] if named else []
    if shared >= _SHARE and len(plain & known) >= _FEW:
        points += 2 + 5 * shared
        why.append(f"{shared:.0%} of its values are known as {name} elsewhere")
    elif not named and look == "":
        return _NO, ""
    if look:
        why.append(look)
    return points, "; ".join(why)


def _words(path: str) -> tuple[set[str], set[str]]:
    """The words of a member's own name, and of what holds it."""
    parts = [
        {word.lower() for word in re.findall(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+\d*|\d+", part)} for part in path.split(".")
    ]
    joined = {re.sub(r"\W", "", part).lower() for part in path.split(".")[-1:]}
    return parts[-1] | joined, {word for part in parts[:-1] for word in part}


def _looks(profile: Profile, name: str) -> tuple[float, str]:  # noqa: C901, PLR0911, PLR0912 - one for each sort of value
    """How the values speak for a field, or that they cannot be that."""
    texts, kind = profile.texts, FIELDS[name]
    if not texts:
        only_flags = bool(profile.values) and all(isinstance(value, bool | None) for value in profile.values)
        if only_flags:
            return (0.0, "") if name == "status" else (_NO, "")
        return _described(profile.kind, name)
    share = _share(texts)
    if name == "macs":
        return (4.0, "its values are MAC addresses") if share(_MAC.fullmatch) > 0.9 else (_NO, "")
    if name == "ips":
        return (3.0, "its values are IP addresses") if share(_is_ip) > 0.9 else (_NO, "")
    if kind is Type.TIME:
        return (1.5, "") if time_form(profile) else (_NO, "")
    if share(_MAC.fullmatch) > 0.9 or share(_is_ip) > 0.9 or time_form(profile):
        return _NO, ""
    if name == "uuid":
        return (5.0, "its values are UUIDs") if share(_UUID.fullmatch) > 0.9 else (_NO, "")
    numbers = all(isinstance(value, int | float | None) for value in profile.values)
    if name == "position":
        return (0.0, "") if numbers else (_NO, "")
    if numbers or share(_UUID.fullmatch) > 0.9 or share(_ADDRESS.fullmatch) > 0.9:
        return _NO, ""
    varied = len(profile.distinct) / len(texts)
    if name == "os_version":
        return (2.0, "") if share(_VERSION.fullmatch) > 0.8 else (-2.0, "")
    if share(_VERSION.fullmatch) > 0.8:
        return -3.0, ""
    if name == "serial":
        return (1.0, "") if share(_SERIAL.fullmatch) > 0.8 and varied > 0.8 else (-2.0, "")
    if name == "name":
        return (1.0, "") if varied > 0.8 else (0.0, "")
    if name in ("kind", "status"):
        few = len(profile.distinct) <= max(12, len(texts) // 4)
        return (1.0 + (2.0 if name == "kind" and _is_known_kind(profile) else 0.0), "") if few else (-3.0, "")
    return 0.0, ""


def _described(kind: str, name: str) -> tuple[float, str]:
    """What a description says of a member that was not seen."""
    if not kind:
        return -1.0, ""
    time = "date-time" in kind or "(date)" in kind
    if FIELDS[name] is Type.TIME:
        return (1.0, "") if time or "integer" in kind or "string" in kind else (_NO, "")
    if time or kind.startswith(("boolean", "object")):
        return (0.0, "") if kind.startswith("boolean") and name == "status" else (_NO, "")
    if name == "position":
        return (0.0, "") if kind.startswith(("integer", "number")) else (_NO, "")
    return (_NO, "") if kind.startswith(("integer", "number")) else (0.0, "")


def _share(texts: Sequence[str]) -> Any:
    looked_at = texts[:_LOOKED_AT]
    return lambda test: sum(bool(test(text)) for text in looked_at) / len(looked_at)


def _is_ip(text: str) -> bool:
    if not re.search(r"[.:]", text) or text.isdecimal():
        return False
    try:
        ip_interface(text)
    except ValueError:
        return False
    return True


def time_form(profile: Profile) -> str | None:
    """How a member writes moments (``iso``, ``epoch``, ``epoch_ms``, ``http_date``); None where it does not."""
    values = [value for value in profile.values if value not in (None, "", 0)]
    if not values:
        return None
    if all(isinstance(value, int | float) and not isinstance(value, bool) for value in values):
        forms = {"epoch": 1.0, "epoch_ms": 1000.0}
        return next((form for form, by in forms.items() if all(_plausible(value / by) for value in values)), None)
    if not all(isinstance(value, str) for value in values):
        return None
    if all(re.match(r"\d{4}-\d\d-\d\d", value) and parse_time(value) for value in values):
        return "iso"
    return "http_date" if all(_http_date(value) for value in values) else None


def _plausible(seconds: float) -> bool:
    return datetime(2001, 1, 1, tzinfo=UTC).timestamp() < seconds < datetime(2100, 1, 1, tzinfo=UTC).timestamp()


def _http_date(text: str) -> bool:
    if not re.match(r"[A-Z][a-z]{2}, \d", text):
        return False
    try:
        parsedate_to_datetime(text)
    except ValueError:
        return False
    return True


def _read_as(profile: Profile, name: str) -> str | None:
    if FIELDS[name] is Type.TIME:
        form = time_form(profile)
        return form if form != "iso" else None
    if name == "site" and profile.texts:
        if any(re.search(r"\s", text) for text in profile.texts):
            return "slug"
        return "lower" if any(text != text.lower() for text in profile.texts) else None
    return None


def _kinds(profile: Profile) -> dict[str, str]:
    """The words of a member that are kinds of ours, where most of them are."""
    made = {}
    for word in profile.distinct:
        ours = [kind for kind, called in _KINDS.items() if re.fullmatch(called, word, re.IGNORECASE)]
        if ours and ours[0] != word:
            made[word] = ours[0]
    return dict(sorted(made.items())) if _is_known_kind(profile) else {}


def _is_known_kind(profile: Profile) -> bool:
    """Whether half of a member's words are kinds as systems call them; of what is only described nobody knows."""
    called = [*_KINDS.values(), *map(re.escape, KINDS)]
    plain = sum(any(re.fullmatch(one, word, re.IGNORECASE) for one in called) for word in profile.distinct)
    return plain * 2 >= len(profile.distinct)


def bare(text: str) -> str:
    """A value by its letters and figures alone, in small letters."""
    return re.sub(r"[\W_]", "", text).lower()


def id_of(groups: Sequence[Sequence[Mapping[str, Any]]]) -> tuple[str | None, str, list[str]]:
    """The member that tells the records of each answer apart, by its path, why, and what else does.

    Only where none of a record's own members is called like an id, those of what it holds are looked at.
    """
    groups = [group for group in groups if group]
    own = list(dict.fromkeys(below("", str(name)) for group in groups for record in group for name in record))
    found = _id_among(own, groups)
    if found[0] is None or not ID.search(_last(found[0])):
        within = list(dict.fromkeys(path for group in groups for record in group for path, _ in members(record)))
        called = [path for path in within if path not in own and ID.search(_last(path))]
        inner = _id_among(called, groups)
        found = inner if inner[0] is not None else found
    return found


def _id_among(names: Sequence[str], groups: Sequence[Sequence[Mapping[str, Any]]]) -> tuple[str | None, str, list[str]]:
    told = [name for name in names if all(_apart(name, group) for group in groups)]
    if any(isinstance(value_of(record, name), OnlyDescribed) for name in names for group in groups for record in group):
        named = [name for name in names if ID.search(_last(name))]
        return (named[0], "it is called so", named[1:4]) if named else (None, "", [])
    count = max((len(group) for group in groups), default=0)
    named = [name for name in told if ID.search(_last(name))]
    if named:
        best = sorted(named, key=lambda name: (_last(name).lower() not in ("id", "@id"), names.index(name)))[0]
        others = [name for name in named if name != best]
        return best, f"it is called so, and different in each of {count} records", others[:3]
    if told and count > 1:
        return told[0], f"different in each of {count} records", told[1:4]
    return None, "", []


def _last(path: str) -> str:
    """The member's own name; of one that stands in quotes the whole."""
    return path if path.startswith("$") else path.rpartition(".")[2]


def _apart(name: str, group: Sequence[Mapping[str, Any]]) -> bool:
    """Whether a member is another single value in each record, and no moment."""
    values = [value_of(record, name) for record in group]
    single = all(isinstance(value, str | int) and not isinstance(value, bool) and value != "" for value in values)
    return single and len(set(map(str, values))) == len(values) and not time_form(Profile(name, values))
