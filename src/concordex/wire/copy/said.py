"""What is refused, said as the dialect tells errors."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from concordex.wire import dialect as d
from concordex.wire.copy.declined import Cause, Declined
from concordex.wire.copy.placing import placed, way_to
from concordex.wire.copy.route import Given

#: HTTP statuses (RFC 9110, section 15), where the dialect has no other.
_STATUS = {
    Cause.DENIED: 401, Cause.WRONG: 400, Cause.ABSENT: 404, Cause.TAKEN: 409, Cause.ALTERED: 412, Cause.PAST: 404,
    Cause.UNTOLD: 501,
}  # fmt: skip
#: Codes of JSON-RPC 2.0 (section 5.1): its own for what is wrong or not known, else one of those left to servers.
_RPC = {Cause.WRONG: -32602, Cause.UNTOLD: -32601}
_SERVER = -32099


class Speech:
    """How one system says what is wrong."""

    def __init__(self, dialect: d.Dialect) -> None:
        self._dialect, self._errors = dialect, dialect.errors

    def fault(self, refused: Declined, rules: d.Refusals | None = None) -> Given:
        """The answer that refuses; of a list, with its places by ``rules``."""
        code, text = self._code(refused.cause), _words(refused)
        if self._dialect.rpc:
            number = code if isinstance(code, int) else _RPC.get(refused.cause, _SERVER)
            return Given({"error": {"code": number, "message": text, **self._data(refused, rules)}}, 400)
        status = _STATUS[refused.cause]
        if refused.cause is Cause.PAST:
            status = self._past_end() or status
        if isinstance(code, int) and 400 <= code < 600:
            status = code
        body: Any = None
        if self._errors.message:
            body = placed(body, way_to(self._errors.message[0]), text)
        else:  # RFC 9457
            body = {"title": _title(refused.cause), "detail": text, "status": status}
        if self._errors.code and code is not None:
            body = placed(body, way_to(self._errors.code), code)
        if rules and refused.places:
            body = placed(body, way_to(rules.records), self._places(refused, rules))
        if self._dialect.shape.by == "xml" and len(body) != 1:
            body = {"fault": body}
        return Given(body, status, shape=None if self._dialect.shape.by in ("json", "xml") else d.JsonShape())

    def _code(self, cause: Cause) -> str | int | None:
        told: dict[Cause, Sequence[str | int]] = {
            Cause.TAKEN: self._errors.duplicate, Cause.ALTERED: self._errors.conflict,
            Cause.DENIED: [code for code in self._errors.expired if self._dialect.rpc or code == 401],
        }  # fmt: skip
        return next(iter(told.get(cause, ())), None)

    def _past_end(self) -> int | None:
        for table in self._dialect.tables.values():
            past = getattr(table.read.pages, "past_end", None)
            if isinstance(past, int):
                return past
            if isinstance(table.read.pages, d.RangePages):
                return 416
        return None

    def _data(self, refused: Declined, rules: d.Refusals | None) -> dict[str, Any]:
        return {"data": self._places(refused, rules)} if rules and refused.places else {}

    def _places(self, refused: Declined, rules: d.Refusals) -> Any:
        if rules.index is not None:
            return [
                placed(placed(None, way_to(rules.index), place), way_to(rules.reason), one.text)
                for place, one in refused.places.items()
            ]
        return {str(place): placed(None, way_to(rules.reason), one.text) for place, one in refused.places.items()}


def _words(refused: Declined) -> str:
    if refused.cause is Cause.UNTOLD:
        return f"this copy does not know {refused.text}: its dialect does not tell it"
    return refused.text


def _title(cause: Cause) -> str:
    return "not told by the dialect" if cause is Cause.UNTOLD else cause.value
