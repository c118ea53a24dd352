"""Stowage, a rack-and-asset inventory.

    GET   /v2/LIST?take=100   {"items": […], "total": N, "more": URL or null}
    POST  /v2/LIST            {"items": […]}, at most 100, all or nothing
    PATCH /v2/LIST/NUMBER     the members to alter
    DELETE /v2/LIST/NUMBER    409 while others refer to it

LIST is places, racks, makers, products, duties, programs or gear; every request carries the header Stowage-Key.

Everything refers to everything else by Stowage's own numbers.  A list with one bad item is refused
whole, with ``rejected`` naming each bad item's place, member and reason.
"""

from __future__ import annotations

import secrets
from collections import defaultdict
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Annotated, Any
from urllib.parse import urlencode

from fastapi import Request, Response
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from concordex.standins import places
from concordex.standins.base import Problem, StandIn, body_of, only, whole

_CAP, _MOST = 500, 100  # a page of a list; items made at once
#: What gear may be asked for by.
_ASKED = ("title", "serialNumber")
_RACKED = ("router", "switch", "firewall", "server")
_FULL = 40  # units of a rack that are filled
Record = dict[str, Any]
Text = Annotated[str, Field(max_length=120)]
Named = Annotated[str, Field(min_length=1, max_length=120, pattern=r"^\S")]


class _Form(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)


class Place(_Form):
    """Where things are."""

    code: Named
    label: Text = ""


class Maker(_Form):
    """Who makes things."""

    name: Named


class Product(_Form):
    """What a maker makes."""

    name: Named
    makerId: int  # noqa: N815 - the name on the wire
    height: Annotated[float, Field(ge=0, le=60)] | None = None
    kilograms: Annotated[float, Field(ge=0)] | None = None
    watts: Annotated[float, Field(ge=0)] | None = None
    deep: bool | None = None
    ports: list[Text] = []


class Rack(_Form):
    """A frame to put things into."""

    name: Named
    placeId: int  # noqa: N815
    units: Annotated[int, Field(ge=1, le=60)] = 42
    bears: Annotated[float, Field(ge=0)] | None = None


class Duty(_Form):
    """What a thing is there for."""

    name: Named


class Program(_Form):
    """What a thing runs."""

    name: Named


class Gear(_Form):
    """A thing."""

    title: Named
    serialNumber: Text = ""  # noqa: N815
    tag: Text = ""
    placeId: int  # noqa: N815
    productId: int  # noqa: N815
    rackId: int | None = None  # noqa: N815
    unit: int | None = None
    category: Text = "other"
    state: Annotated[str, Field(pattern="^(planned|in service|stored|retired)$")] = "in service"
    dutyId: int | None = None  # noqa: N815
    programId: int | None = None  # noqa: N815
    side: Annotated[str, Field(pattern="^(fore|aft|)$")] = ""
    air: Annotated[str, Field(pattern="^(fore to aft|aft to fore|still|)$")] = ""
    primaryAddress: Text = ""  # noqa: N815
    hardwareAddress: Annotated[str, Field(pattern=r"^([0-9A-Fa-f]{2}([:-][0-9A-Fa-f]{2}){5})?$")] = ""  # noqa: N815
    softwareRelease: Text = ""  # noqa: N815
    remark: Text = ""
    origin: Text = ""


#: list: its form, its references (member: list), and the members that together must be unique.
LISTS: dict[str, tuple[type[_Form], dict[str, str], tuple[str, ...]]] = {
    "places": (Place, {}, ("code",)),
    "makers": (Maker, {}, ("name",)),
    "racks": (Rack, {"placeId": "places"}, ("placeId", "name")),
    "products": (Product, {"makerId": "makers"}, ("makerId", "name")),
    "duties": (Duty, {}, ("name",)),
    "programs": (Program, {}, ("name",)),
    "gear": (
        Gear,
        {"placeId": "places", "productId": "products", "rackId": "racks", "dutyId": "duties", "programId": "programs"},
        ("title",),
    ),
}


class Stowage(StandIn):
    """The inventory."""

    name, title = "stowage", "Stowage rack-and-asset inventory"
    openapi = "/v2/openapi.json"

    def __init__(self, gear: list[Record]) -> None:
        #: Faults of its own: why it takes an item of a list not at all, and what it makes of one that is new.
        self.objects_to: Callable[[str, Record], tuple[str, str] | None] = lambda _kind, _record: None
        self.makes_of_it: Callable[[str, Record], Record] = lambda _kind, record: record
        self.key = secrets.token_urlsafe(30)
        self.lists: dict[str, dict[int, Record]] = {name: {} for name in LISTS}
        self.taken: dict[str, dict[tuple[Any, ...], int]] = {name: {} for name in LISTS}
        self.last = dict.fromkeys(LISTS, 0)
        #: How many units of each place are filled, its racks one upon another.
        self.filled: defaultdict[int, int] = defaultdict(int)
        self._stock(gear)
        for name in ("backbone", "office floor"):
            self.keep("duties", {"name": name})
        self.keep("programs", {"name": "PierOS"})
        super().__init__()

    def secrets(self) -> dict[str, str]:
        """The key."""
        return {"key": self.key}

    def routes(self) -> None:
        """Add what this system answers to."""
        self.api.get("/v2/{kind}")(self.read)
        self.api.post("/v2/{kind}")(self.create)
        self.api.patch("/v2/{kind}/{number}")(self.alter)
        self.api.delete("/v2/{kind}/{number}")(self.remove)

    async def read(self, request: Request, kind: str) -> Response:
        """A page of a list."""
        self._admit(request, kind)
        params = dict(request.query_params)
        asked = {name: params[name].lower().split(",") for name in _ASKED if name in params and kind == "gear"}
        only(request, "take", "past", *asked)
        size, past = min(whole(request, "take", _CAP, least=1), _CAP), whole(request, "past", 0)
        items = [
            item for item in self.lists[kind].values()
            if all(str(item[name]).lower() in wanted for name, wanted in asked.items())
        ]  # fmt: skip
        page = items[past : past + size]
        more = None
        if past + size < len(items):
            more = f"{request.url.replace(query='')}?{urlencode({**params, 'take': size, 'past': past + size})}"
        return self.answer({"items": self.shorten(request, page), "total": len(items), "more": more})

    async def create(self, request: Request, kind: str) -> Response:
        """Make all items of a list, or none."""
        self._admit(request, kind)
        body = await body_of(request)
        items = body.get("items") if isinstance(body, dict) else None
        if not isinstance(items, list) or not 1 <= len(items) <= _MOST:
            raise Problem(400, f"items should be a list of 1 to {_MOST}")
        checked, rejected, within = [], [], set[tuple[Any, ...]]()
        for at, item in enumerate(items):
            record, faults = self._check(kind, item)
            if record and self._unique(kind, record) in within:
                faults.append(("", "stands twice in this list"))
            if record:
                within.add(self._unique(kind, record))
                checked.append(record)
            rejected += [{"item": at, "member": member, "reason": reason} for member, reason in faults]
        if rejected:
            raise Problem(422, f"{len(rejected)} faults, nothing was made", rejected=rejected)
        return self.answer({"items": [self.keep(kind, self.makes_of_it(kind, record)) for record in checked]}, 201)

    async def alter(self, request: Request, kind: str, number: int) -> Response:
        """Alter one item."""
        self._admit(request, kind)
        if number not in self.lists[kind]:
            raise Problem(404, f"{kind} has no number {number}")
        body = await body_of(request)
        kept = {k: v for k, v in self.lists[kind][number].items() if k not in ("id", "editedOn")}
        record, faults = self._check(kind, kept | body if isinstance(body, dict) else None, number)
        if faults or record is None:
            raise Problem(422, "; ".join(f"{member}: {reason}" for member, reason in faults))
        self.taken[kind].pop(self._unique(kind, kept), None)
        return self.answer(self.keep(kind, record, number))

    async def remove(self, request: Request, kind: str, number: int) -> Response:
        """Remove one item that nothing refers to."""
        self._admit(request, kind)
        if number not in self.lists[kind]:
            raise Problem(404, f"{kind} has no number {number}")
        for other, (_, references, _unique) in LISTS.items():
            members = [member for member, referred in references.items() if referred == kind]
            users = [r["id"] for r in self.lists[other].values() if any(r[member] == number for member in members)]
            if users:
                raise Problem(409, f"{len(users)} in {other} refer to it, such as {users[0]}")
        gone = self.lists[kind].pop(number)
        self.taken[kind].pop(self._unique(kind, gone), None)
        return Response(status_code=204)

    def _admit(self, request: Request, kind: str) -> None:
        if request.headers.get("Stowage-Key") != self.key:
            raise Problem(401, "the key is unknown or was withdrawn")
        if kind not in self.lists:
            raise Problem(404, f"there is no list {kind}")

    def _check(self, kind: str, item: Any, number: int | None = None) -> tuple[Record | None, list[tuple[str, str]]]:
        form, references, unique = LISTS[kind]
        try:
            record = form.model_validate(item).model_dump()
        except ValidationError as error:
            return None, [(".".join(map(str, fault["loc"])), fault["msg"]) for fault in error.errors()]
        faults = [
            (member, f"{other} has no number {record[member]}")
            for member, other in references.items()
            if record[member] is not None and record[member] not in self.lists[other]
        ]
        holder = self.taken[kind].get(self._unique(kind, record))
        if holder is not None and holder != number:
            faults.append((unique[-1], f"{record[unique[-1]]!r} is taken by number {holder}"))
        if (objection := self.objects_to(kind, record)) is not None:
            faults.append(objection)
        return record, faults

    def _unique(self, kind: str, record: Record) -> tuple[Any, ...]:
        values = (record[member] for member in LISTS[kind][2])
        return tuple(value.strip().lower() if isinstance(value, str) else value for value in values)

    def keep(self, kind: str, record: Record, number: int | None = None) -> Record:
        """Take a record in, be it a new one, as it stands; as by this API, or as somebody typed it."""
        if number is None:
            number = self.last[kind] = self.last[kind] + 1  # a number is never given twice
        kept = {"id": number, **record, "editedOn": datetime.now(UTC).isoformat(timespec="seconds")}
        self.lists[kind][number] = kept
        self.taken[kind][self._unique(kind, record)] = number
        return kept

    def _stock(self, gear: list[Record]) -> None:
        """Fill the lists with what people have typed so far."""
        for item in gear:
            place = self._find("places", {"code": item["place"], "label": item["place"].replace("-", " ").title()})
            maker = self._find("makers", {"name": item["maker"]})
            height, kilograms, watts, deep = places.BODIES.get(item["product"], (None, None, None, None))
            product = self._find("products", {
                "name": item["product"], "makerId": maker, "height": height, "kilograms": kilograms, "watts": watts,
                "deep": deep, "ports": [],
            })  # fmt: skip
            rest = {key: item[key] for key in item if key not in ("place", "maker", "product", "class")}
            racked = self._racked(place, item)
            record = Gear.model_validate(
                {"placeId": place, "productId": product, "category": item["class"], **rest, **racked}
            ).model_dump()
            self.keep("gear", record)

    def _racked(self, place: int, item: Record) -> Record:
        """Where it stands: the racks of a place are filled from below; what is shallow looks to the front."""
        if item["class"] not in _RACKED or item["state"] != "in service":
            return {}
        height, _, _, deep = places.BODIES[item["product"]]
        rack, unit = divmod(self.filled[place], _FULL)
        if unit + height > _FULL:
            rack, unit = rack + 1, 0
        self.filled[place] = rack * _FULL + unit + height
        name = f"{item['place']} rack {rack + 1}"
        number = self._find("racks", {"name": name, "placeId": place, "units": 42, "bears": 600.0})
        return {"rackId": number, "unit": unit + 1, "side": "" if deep else "fore"}

    def _find(self, kind: str, record: Record) -> int:
        known = self.taken[kind].get(self._unique(kind, record))
        return known if known is not None else self.keep(kind, record)["id"]
