"""What all stand-ins share: an application, its faults, and answers that are quick to make."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import orjson
from fastapi import FastAPI, Request, Response

from concordex.standins.faults import Faults, Message, Receive, Send


class Problem(Exception):
    """An answer that says what is wrong."""

    def __init__(self, status: int, text: str, **more: Any) -> None:
        super().__init__(text)
        self.status, self.body = status, {"text": text, **more}


class StandIn:
    """One simulated system: ``app`` is what a server runs, ``faults`` how it misbehaves."""

    name: str
    title: str
    #: Whether it is served over TLS, with a certificate that it signed itself.
    tls = False
    #: Where it describes itself by OpenAPI, if it does.
    openapi: str | None = None

    def __init__(self) -> None:
        self.app = Faults(self._served)

    @cached_property
    def api(self) -> FastAPI:
        """What answers; made when it is first asked, for of a whole harbour few are."""
        made = FastAPI(
            title=self.title, openapi_url=self.openapi, docs_url=None, redoc_url=None,
            generate_unique_id_function=lambda route: route.name.replace(" ", "_"),
        )  # fmt: skip
        made.add_exception_handler(Problem, self._problem)
        self.__dict__["api"] = made
        self.routes()
        return made

    async def _served(self, scope: Message, receive: Receive, send: Send) -> None:
        await self.api(scope, receive, send)

    @property
    def faults(self) -> Faults:
        """The switch for misbehaviour."""
        return self.app

    def routes(self) -> None:
        """Add what this system answers to."""
        raise NotImplementedError

    def secrets(self) -> dict[str, str]:
        """What a workspace needs to sign in, by the names that the dialect gives."""
        raise NotImplementedError

    @property
    def dialect(self) -> str:
        """The dialect that it speaks."""
        return type(self).name

    @property
    def describes(self) -> str | None:
        """Where it says what can be called, as a workspace names it."""
        return self.openapi

    def plain(self) -> dict[str, str]:
        """The credentials that are no secrets."""
        return {}

    def answer(self, body: object, status: int = 200) -> Response:
        """``body`` as JSON."""
        return Response(orjson.dumps(body), status, media_type="application/json")

    def shorten(self, request: Request, records: list[dict[str, Any]]) -> list[dict[str, Any]]:
        """``records``, less the last one where the fault ``short`` is on."""
        return records[:-1] if self.faults.strikes("short", request.method, request.url.path) else records

    def _problem(self, _request: Request, problem: Exception) -> Response:
        assert isinstance(problem, Problem)
        return self.answer({"fault": problem.body}, problem.status)


async def body_of(request: Request) -> Any:
    """The JSON body of a request, or a 400."""
    try:
        return orjson.loads(await request.body())
    except orjson.JSONDecodeError as error:
        raise Problem(400, f"the body is not JSON: {error}") from error


def whole(request: Request, name: str, default: int, *, least: int = 0) -> int:
    """A whole number from the query, or a 400."""
    text = request.query_params.get(name, str(default))
    if not text.isdecimal() or int(text) < least:
        raise Problem(400, f"{name} should be a whole number from {least}", parameter=name)
    return int(text)


def only(request: Request, *known: str) -> None:
    """Refuse a parameter that this system does not know, as strict systems do."""
    strange = sorted(set(request.query_params) - set(known))
    if strange:
        raise Problem(400, f"unknown parameter {strange[0]}", parameter=strange[0], known=sorted(known))
