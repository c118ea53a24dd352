"""Answers, and what their statuses and error bodies mean in plain words."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any

import orjson

from concordex.errors import (
    BadAnswer,
    ConcordexError,
    Conflict,
    Duplicate,
    RequestRefused,
    ServerFault,
    SignInRefused,
)
from concordex.unseen import masked
from concordex.wire import dialect as d
from concordex.wire.dialect.paths import Path, Source, at
from concordex.wire.http.formats import NAMES, decode, is_a_page, whole_characters
from concordex.wire.http.links import related


@dataclass(frozen=True)
class Answer:
    """What came back: decoded, with its status and headers."""

    status: int
    body: Any
    headers: Mapping[str, str] = field(default_factory=dict)
    cookies: Sequence[str] = ()
    links: Mapping[str, str] = field(default_factory=dict)  # relation: address (RFC 8288)
    raw: bytes = b""

    def at(self, where: Source | Path) -> Any:
        """The value at a path into the body, or of a header."""
        return where.first(self.body, self.headers) if isinstance(where, Source) else where.first(self.body)

    def has(self, where: Source | Path) -> bool:
        """Whether anything stands there, be it null."""
        return where.shown(self.body, self.headers) if isinstance(where, Source) else where.shown(self.body)


@dataclass(frozen=True)
class Reply:
    """What came back, as it came."""

    status: int
    content: bytes
    headers: Mapping[str, str]
    cookies: Sequence[str] = ()
    links: Sequence[str] = ()  # the header Link, as it came
    url: str = ""


class Judge:
    """Tells what a system's replies mean."""

    def __init__(self, system: str, dialect: d.Dialect) -> None:
        self.system, self.dialect = system, dialect
        self.errors = dialect.errors
        self.mended = 0  # characters of which only a half came
        self.cached = 0  # answers that the system did not give just now

    def answer(self, reply: Reply, path: str, shape: d.Shape, reader: Callable[[bytes], Any] | None = None) -> Answer:
        """The decoded reply; raises where it says that something went wrong.

        A ``reader`` decodes it in its own way, or says None where it cannot.
        """
        if 200 <= reply.status < 300:
            self.cached += age_of(reply) > 0
            body = reader(reply.content) if reader else None
            if body is None or self._is_error(body):  # of an error all is wanted that it says
                body = self._decoded(reply, path, shape)
            if self._is_error(body):
                raise self._refusal(reply, path, body)
            return Answer(reply.status, body, reply.headers, reply.cookies, self._links(reply, path), reply.content)
        if 300 <= reply.status < 400:
            target = reply.headers.get("Location", "nowhere").partition("?")[0]
            raise BadAnswer(
                f"{path} redirects to {target}", where=self.system, advice="give the final url in concordex.yaml"
            )
        raise self._refusal(reply, path, self._attempt(reply, shape))

    def words(self, reply: Reply, shape: d.Shape) -> str:
        """What an error says itself, by the dialect or by RFC 9457 (title, detail), or else nothing.

        Of an answer that came as HTTP 200 it is one where the dialect says how errors are told.
        """
        body = self._attempt(reply, shape)
        if reply.status < 400 and not self._is_error(body):
            return ""
        for path in self.errors.message:
            if (message := path.first(body)) not in (None, "", [], {}):
                return masked("; ".join(map(str, message)) if isinstance(message, list) else str(message))
        kind = reply.headers.get("Content-Type", "").partition(";")[0].strip().lower()
        if isinstance(body, Mapping) and (kind.startswith("application/problem+") or {"title", "status"} <= {*body}):
            return masked(": ".join(str(body[name]) for name in ("title", "detail") if body.get(name)))
        return "an error, by how the dialect knows one" if reply.status < 400 else ""

    def _is_error(self, body: Any) -> bool:
        """Whether an answer that came as HTTP 200 is an error."""
        present = self.errors.present
        return present is not None and present.first(body) not in (None, [], {}, "", False)

    def rpc(self, answer: Any, path: str, reply: Reply) -> Any:
        """The result of a JSON-RPC 2.0 answer; its error as ours."""
        if not isinstance(answer, Mapping) or ("result" in answer) == ("error" in answer):
            raise BadAnswer(f"{path} answered with something other than a JSON-RPC 2.0 response", where=self.system)
        if "error" in answer:
            raise self._refusal(reply, path, answer)
        return answer["result"]

    def _links(self, reply: Reply, path: str) -> Mapping[str, str]:
        try:
            return related(reply.links, reply.url)
        except ValueError as error:
            raise BadAnswer(
                f"the header Link of {path} cannot be read (RFC 8288): {error}", where=self.system, why=str(reply.links)
            ) from error

    def _decoded(self, reply: Reply, path: str, shape: d.Shape) -> Any:
        if not reply.content:  # of lines none is a list too, where it is said that nothing follows (RFC 9112, 6.3)
            said = reply.status == 204 or reply.headers.get("Content-Length") == "0"
            return [] if said and shape.by in ("ndjson", "text", "csv") else None
        kind = reply.headers.get("Content-Type", "").partition(";")[0].strip().lower()
        if is_a_page(kind, reply.content, shape):
            raise BadAnswer(
                f"{path} answered with a web page instead of {NAMES[shape.by]}", where=self.system,
                why=f"Content-Type: {kind}" if kind else "", advice="a proxy or a sign-in page in between?",
            )  # fmt: skip
        try:
            return decode(reply.content, shape)
        except BadAnswer as error:
            mended, halves = whole_characters(reply.content) if shape.by in ("json", "ndjson") else (b"", 0)
            if halves:
                self.mended += halves
                return decode(mended, shape)
            raise BadAnswer(
                f"{path} {error.what}", where=self.system, why=error.why, advice=error.advice, cut=error.cut
            ) from error

    def _attempt(self, reply: Reply, shape: d.Shape) -> Any:
        """The body of an error answer, if it is readable: some systems send errors in another shape."""
        for form in (shape, d.JsonShape()):
            try:
                return decode(reply.content, form)
            except BadAnswer:
                continue
        return None

    def _refusal(self, reply: Reply, path: str, body: Any) -> ConcordexError:
        errors, status = self.errors, reply.status
        is_rpc = isinstance(body, Mapping) and "jsonrpc" in body
        code = _said(errors.code or (at("error.code") if is_rpc else None), body)
        message = _message(errors.message or ([at("error.message")] if is_rpc else []), body)
        text = f"HTTP {status}" if code is None else f"HTTP {status}, code {code}"
        why = f"{text}: {masked(str(message))[:300]}" if message else text
        codes = {str(status), str(code)}

        def among(known: Sequence[str | int]) -> bool:
            return bool(codes & set(map(str, known)))

        if status == 401 or among(errors.expired):
            return SignInRefused(
                "the system does not accept the credential", http=401, where=self.system, why=why,
                advice="is the name right, and the secret current?",
            )  # fmt: skip
        if status == 403:
            return SignInRefused(
                f"the system does not allow {path}", http=403, where=self.system, why=why, advice="ask for the right"
            )
        cannot = status in (501, 505)  # it has no such thing, and will have none the next time (RFC 9110, 15.6.2)
        if status == 429 or (status >= 500 and not cannot) or among(errors.busy):
            busy, wait = status == 429 or among(errors.busy), wait_asked(reply)
            return ServerFault(
                f"the system {'is too busy' if busy else 'failed'} at {path}", http=status,
                wait=wait, where=self.system, why=why, advice="a fault on its side; try again later",
                untouched=busy or (status == 503 and wait is not None),
            )  # fmt: skip
        if status == 408:  # it did not get all of the request, or says so late: nobody knows (RFC 9110, 15.5.9)
            return ServerFault(
                f"the system gave up on {path}", http=status, where=self.system, why=why, advice="try again later"
            )
        kind = Duplicate if among(errors.duplicate) else Conflict if among(errors.conflict) else RequestRefused
        what = "knows no" if status == 404 else "cannot do what is asked at" if cannot else "refused"
        advice = "does the url in concordex.yaml, or the dialect's path, fit this system?" if status == 404 else ""
        return kind(f"the system {what} {path}", http=status, body=body, where=self.system, why=why, advice=advice)


def _message(paths: Sequence[Path], body: Any) -> str:
    """What an error answer says: at the places that the dialect names, or else in its own words."""
    for path in paths:
        message = path.first(body)
        if message not in (None, "", [], {}):
            return "; ".join(map(str, message)) if isinstance(message, list) else str(message)
    if body in (None, "", [], {}):
        return ""
    return body if isinstance(body, str) else orjson.dumps(body, default=str).decode()


def _said(path: Path | None, body: Any) -> Any:
    return path.first(body) if path else None


def age_of(reply: Reply) -> int:
    """How many seconds ago the system gave, or last confirmed, an answer out of a cache (RFC 9111, section 5.1)."""
    text = reply.headers.get("Age", "").strip()
    return int(text) if text.isascii() and text.isdecimal() else 0


def wait_asked(reply: Reply) -> float | None:
    """Seconds that Retry-After asks for, as a number or a date (RFC 9110, section 10.2.3).

    A date is one of the system's own clock, and so is that of the answer.
    """
    text = reply.headers.get("Retry-After", "").strip()
    if not text or reply.status < 400:
        return None
    if text.isascii() and text.isdecimal():
        return float(text)
    try:
        until = parsedate_to_datetime(text)
        now = parsedate_to_datetime(reply.headers["Date"]) if "Date" in reply.headers else datetime.now(UTC)
        return max(0.0, (until - now).total_seconds())
    except (ValueError, TypeError):
        return None
