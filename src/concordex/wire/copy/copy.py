"""A copy of a system: one request in, one answer out, as the system's dialect tells it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import partial
from typing import Any
from urllib.parse import parse_qsl

import orjson
import polars as pl

from concordex.errors import BadAnswer
from concordex.model.members import value_at
from concordex.wire import dialect as d
from concordex.wire.copy.asked import Asked, Pattern
from concordex.wire.copy.declined import Cause, Declined, untold
from concordex.wire.copy.gate import Gate
from concordex.wire.copy.placing import at_path, placed, way_to
from concordex.wire.copy.reading import Reading
from concordex.wire.copy.route import Given, Noted, Route, Sent, Values
from concordex.wire.copy.said import Speech
from concordex.wire.copy.shaping import TYPES, shaped
from concordex.wire.copy.stocks import Stocks
from concordex.wire.copy.writing import Writing
from concordex.wire.http.formats import decode

#: What every lookup finds: it stands in addresses alone, and so any value will do.
_FOUND = "1"


class Copy:
    """A system's newest snapshot, answered for as its dialect tells.

    ``pulled`` are the rows of its tables, with the system's own records; ``known`` what its gate knows credentials by.
    """

    def __init__(self, dialect: d.Dialect, pulled: Mapping[str, pl.DataFrame], known: Mapping[str, str]) -> None:
        self.dialect, self._known = dialect, {**known, **dict.fromkeys(dialect.lookups, _FOUND)}
        self.noted = Noted()
        self.stocks = Stocks(dialect, pulled)
        self._spoken, self._gate = Speech(dialect), Gate(dialect, known)
        self._reading = Reading(self.stocks, lambda: self._address)
        self._writing = Writing(self.stocks, self._spoken, self.noted, lambda: self._address)
        self._rpc = Pattern(dialect, d.Call(path=dialect.rpc.path)) if dialect.rpc else None
        self._address = ""
        self._repeated: dict[str, Given] = {}
        lookups = (Route(Pattern(dialect, how), partial(self._looked_up, how, n)) for n, how in dialect.lookups.items())
        routes = [*self._reading.routes(), *self._writing.routes(), *lookups]
        self._routes = sorted(routes, key=lambda route: -route.pattern.said)

    def answer(
        self, method: str, path: str, query: str, headers: Mapping[str, str], content: bytes, address: str
    ) -> Sent:
        """The answer to one request; ``address`` is what the copy is reached at."""
        self.noted.requests += 1
        self._address = address
        asked = Asked(
            method=method, path=path, query=dict(parse_qsl(query, keep_blank_values=True)),
            url=f"{address}{path}{f'?{query}' if query else ''}", headers=headers, content=content,
        )  # fmt: skip
        try:
            asked.body = _decoded(asked, self.dialect)
        except BadAnswer as error:
            return self._sent(self._fault(Declined(Cause.WRONG, f"the request {error.what}")))
        if self._rpc and method == "POST" and self._rpc.fits(path):
            return self._called(asked)
        return self._sent(self._tried(asked))

    def _called(self, asked: Asked) -> Sent:
        """JSON-RPC 2.0: one call, or several in one request (section 6)."""
        calls = asked.body if isinstance(asked.body, list) else [asked.body]
        answers, cookies = list[Any](), dict[str, str]()
        for each in calls:
            call = each if isinstance(each, dict) else {}
            one = replace(asked, body=call, rpc=str(call.get("method")), params=call.get("params") or {})
            given = self._tried(one)
            cookies |= given.cookies
            known = {"jsonrpc": "2.0", "id": call.get("id")}
            result = {} if given.body is None else given.body
            answers.append(known | (given.body if given.status >= 400 else {"result": result}))
        body = answers if isinstance(asked.body, list) else answers[0]
        return Sent(200, orjson.dumps(body, default=str), {"Content-Type": TYPES["json"]}, cookies)

    def _tried(self, asked: Asked) -> Given:
        try:
            return self._answered(asked)
        except Declined as refused:
            if refused.cause is Cause.UNTOLD:
                self.noted.untold[refused.text] += 1
            return self._fault(refused)

    def _answered(self, asked: Asked) -> Given:
        gate = self._gate
        if gate.call is not None and (said := gate.call.match(asked, {})) is not None:
            opening = gate.open(asked, said)
            return Given(opening.body, 200, opening.headers, opening.cookies, gate.shape)
        gate.admit(asked)
        if gate.way_out is not None and gate.way_out.match(asked, {}) is not None:
            gate.close(asked)
            self._leave()
            return Given()
        for route in self._routes:
            values = route.pattern.match(asked, self._known)
            if values is None:
                continue
            if route.parameters is not None:
                strange = set(asked.query) - route.parameters - route.pattern.parameters
                if strange:
                    raise untold(f"what the parameter {min(strange)} does at {asked.path}")
            return self._once(route, asked, values)
        raise untold(f"what {asked.rpc or f'{asked.method} {asked.path}'} is")

    def _once(self, route: Route, asked: Asked, values: Values) -> Given:
        """The answer of a route; the same again where a write comes with a key that came before."""
        if not route.writes:
            return route.answer(asked, values)
        how = route.pattern.call
        kind, _, name = (getattr(how, "idempotency", None) or "").partition(":")
        key = asked.headers.get(name.lower()) if kind == "header" else value_at(asked.body, kind) if kind else None
        if key is not None and str(key) in self._repeated:
            return self._repeated[str(key)]
        written = self._writing.written
        before = len(written.staged)
        try:
            given = route.answer(asked, values)
        except Declined as refused:
            written.take_back(before)
            if refused.cause is not Cause.UNTOLD:
                self.noted.refused[refused.text] += 1
            raise
        if given.status >= 400:  # a list that was refused with its places
            return given
        self.noted.writes += 1
        if key is not None:
            self._repeated[str(key)] = given
        return given

    def _leave(self) -> None:
        if self.dialect.staging and not self.dialect.staging.outlasts_session:
            self._writing.written.take_back()

    def _sent(self, given: Given) -> Sent:
        shape = given.shape or self.dialect.shape
        if given.body is None:
            return Sent(given.status, b"", given.headers, given.cookies)
        try:
            content = shaped(given.body, shape)
        except Declined as refused:
            self.noted.untold[refused.text] += 1
            given = self._fault(refused)
            shape = given.shape or self.dialect.shape
            content = shaped(given.body, shape)
        kind = {"Content-Type": self.dialect.headers.get("Accept") or TYPES[shape.by]}
        return Sent(given.status, content, kind | given.headers, given.cookies)

    def _fault(self, refused: Declined) -> Given:
        return self._spoken.fault(refused)

    def _looked_up(self, lookup: d.Lookup, name: str, _asked: Asked, _values: Values) -> Given:
        record: Any = None
        for member, text in lookup.match.items():
            record = placed(record, way_to(member), str(text.fill(self._known)))
        record = placed(record, way_to(lookup.take), self._known[name])
        path = lookup.records.path
        if path is None:
            raise untold(f"where {name} stands")
        return Given(at_path(path, [record]), shape=lookup.shape)


def _decoded(asked: Asked, dialect: d.Dialect) -> Any:
    """The body as plain values, by its media type; nothing where there is none."""
    if not asked.content:
        return None
    kind = asked.headers.get("content-type", "")
    if "x-www-form-urlencoded" in kind:
        return dict(parse_qsl(asked.content.decode(errors="replace"), keep_blank_values=True))
    if "xml" in kind:
        return decode(asked.content, dialect.shape if isinstance(dialect.shape, d.XmlShape) else d.XmlShape(by="xml"))
    return decode(asked.content, d.JsonShape())
