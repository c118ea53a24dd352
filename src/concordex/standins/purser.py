"""Purser, a register of configuration items; see docs/guides/purser.md.

Cards have numbers of Purser's own and a spare member for somebody else's id.  How many there are is
told by a call of its own.
"""

from __future__ import annotations

import base64
import secrets
from datetime import UTC, datetime
from typing import Any

from fastapi import Request, Response

from concordex.standins.base import Problem, StandIn, body_of, only, whole

_CAP = 100
_MEMBERS = (
    "heading", "serialNumber", "tag", "sort", "berth", "standing", "make", "type", "holder", "foreignRef",
)  # fmt: skip
Record = dict[str, Any]


class Purser(StandIn):
    """The register."""

    name, title = "purser", "Purser register of configuration items"

    def __init__(self, cards: list[Record]) -> None:
        self.cards = {card["card"]: card for card in cards}
        self.password = secrets.token_urlsafe(18)
        super().__init__()

    def secrets(self) -> dict[str, str]:
        """The clerk's password."""
        return {"password": self.password}

    def plain(self) -> dict[str, str]:
        """The clerk's name."""
        return {"user": "clerk"}

    def routes(self) -> None:
        """Add what this system answers to."""
        self.api.get("/purser/cards")(self.list_cards)
        self.api.get("/purser/tally")(self.tally)
        self.api.post("/purser/cards")(self.create)
        self.api.patch("/purser/cards/{number}")(self.alter)
        self.api.delete("/purser/cards/{number}")(self.remove)

    async def list_cards(self, request: Request) -> Response:
        """A sheet of cards."""
        self._admit(request)
        only(request, "sheet", "lines")
        sheet, lines = whole(request, "sheet", 1, least=1), min(whole(request, "lines", 20, least=1), _CAP)
        page = list(self.cards.values())[(sheet - 1) * lines : sheet * lines]
        return self.answer(self.shorten(request, page))

    async def tally(self, request: Request) -> Response:
        """How many cards there are."""
        self._admit(request)
        return self.answer({"cards": len(self.cards)})

    async def create(self, request: Request) -> Response:
        """Make a card."""
        self._admit(request)
        given = self._checked(await body_of(request))
        if not given.get("heading"):
            raise Problem(422, "a card has a heading", code="incomplete")
        self._refuse_twins(given, None)
        number = f"CI{max([0, *(int(card[2:]) for card in self.cards)]) + 1:07d}"
        self.cards[number] = {"card": number, **dict.fromkeys(_MEMBERS, ""), **given, "amended": _today()}
        return self.answer({"made": number}, 201)

    async def alter(self, request: Request, number: str) -> Response:
        """Alter a card by a list of operations (RFC 6902): add and replace."""
        self._admit(request)
        if request.headers.get("Content-Type") != "application/json-patch+json":
            raise Problem(415, "a card is altered by application/json-patch+json")
        card, operations = self._card(number), await body_of(request)
        altered: Record = {}
        for operation in operations if isinstance(operations, list) else []:
            if operation.get("op") not in ("add", "replace"):
                raise Problem(422, f"{operation.get('op')} is not done here")
            altered[str(operation.get("path", "")).removeprefix("/")] = operation.get("value")
        altered = self._checked(altered)
        self._refuse_twins(card | altered, number)
        card.update(altered | {"amended": _today()})
        return Response(status_code=204)

    async def remove(self, request: Request, number: str) -> Response:
        """Throw a card away."""
        self._admit(request)
        self._card(number)
        del self.cards[number]
        return Response(status_code=204)

    def _card(self, number: str) -> Record:
        if number not in self.cards:
            raise Problem(404, f"there is no card {number}")
        return self.cards[number]

    def _checked(self, given: Any) -> Record:
        if not isinstance(given, dict):
            raise Problem(422, "a card is an object")
        strange = sorted(set(given) - set(_MEMBERS))
        if strange:
            raise Problem(422, f"a card has no {strange[0]}", code="unknown-member")
        if any(not isinstance(value, str) or len(value) > 200 for value in given.values()):
            raise Problem(422, "the members of a card are texts of at most 200 characters", code="not-text")
        return given

    def _refuse_twins(self, given: Record, number: str | None) -> None:
        for member in ("serialNumber", "foreignRef"):
            for known in self.cards.values():
                if given.get(member) and known[member] == given[member] and known["card"] != number:
                    raise Problem(409, f"{member} {given[member]} is on card {known['card']}", code="twin")

    def _admit(self, request: Request) -> None:
        wanted = base64.b64encode(f"clerk:{self.password}".encode()).decode()
        if request.headers.get("Authorization") != f"Basic {wanted}":
            raise Problem(401, "user or password is wrong")


def _today() -> str:
    return datetime.now(UTC).strftime("%d/%m/%Y")
