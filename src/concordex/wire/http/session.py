"""One system, spoken to: signed in, retried where that is safe, in the shape that its dialect says."""

from __future__ import annotations

import asyncio
import contextlib
import itertools
import time
from collections.abc import Awaitable, Callable, Mapping, Sequence, Set
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from email.utils import parsedate_to_datetime
from functools import partial
from types import TracebackType
from typing import Any, Self, TypeVar
from urllib.parse import urlencode

from yarl import URL

from concordex.again import retry_context
from concordex.errors import BadAnswer, ConcordexError, ServerFault, SignInRefused, Unreachable, WireError, Withheld
from concordex.model.members import put_into
from concordex.parallel import all_of
from concordex.unseen import WITHHELD
from concordex.wire import dialect as d
from concordex.wire.dialect.paths import Path
from concordex.wire.dialect.templates import Template, fill, fill_texts
from concordex.wire.http.answers import Answer, Judge, Reply, age_of, wait_asked
from concordex.wire.http.exchange import Exchange
from concordex.wire.http.formats import ACCEPT, TYPES, encode, merged
from concordex.wire.http.recording import Played, PlayedTransport, Recorder, Sending
from concordex.wire.http.signin import Credentials, prepare
from concordex.wire.http.transport import Endpoint, Traffic, Transport, log

__all__ = ["Endpoint", "Request", "Session", "Traffic"]

T = TypeVar("T")


@dataclass(kw_only=True)
class Request:
    """A request, filled in but for what signing in adds."""

    method: str
    path: str
    shape: d.Shape
    query: dict[str, Any] = field(default_factory=dict)
    headers: dict[str, str] = field(default_factory=dict)
    body: Any = None
    form: dict[str, str] | None = None
    rpc: str | None = None
    params: dict[str, Any] = field(default_factory=dict)
    sent_as: d.Shape = field(default_factory=d.JsonShape)
    reader: Callable[[bytes], Any] | None = None  # decodes the answer in its own way, or leaves it with None
    content: tuple[bytes, str] | None = None  # a body as it stands, and its media type

    def put(self, place: str, name: str, value: Any) -> None:
        """Set one more parameter, in the ``query``, the ``body`` or the ``params``."""
        if place == "query":
            self.query[name] = value
        elif place == "body":
            self.body = dict(self.body or {})
            put_into(self.body, name, value)
        else:
            put_into(self.params, name, value)


#: All tries of one read together take no longer than so many time-outs.
_BUDGET = 2
#: How often one request may sign in anew.
_RENEWALS = 4


@dataclass
class _Turn:
    """One try of a request, and the opening of the session with which it left."""

    opening: int | None = None


class Session:
    """An ``async with`` block in which one system can be asked."""

    def __init__(
        self, endpoint: Endpoint, dialect: d.Dialect, recorder: Recorder | None = None, recording: Played | None = None
    ) -> None:
        """What is sent goes to a ``recorder`` too; with a ``recording`` nothing is sent, and that answers."""
        self.endpoint, self.dialect = endpoint, dialect
        self.began = recording.began if recording else datetime.now(UTC)
        self.now_there = recording.now_there if recording else None  # by its own clock, as its first answer was made
        self._ahead: float | None = None  # seconds by which that was ahead of ours
        self._recorder, self.is_played = recorder, recording is not None
        self._wire = PlayedTransport(endpoint, dialect, recording) if recording else Transport(endpoint, dialect)
        self.judge = Judge(endpoint.name, dialect)
        unsigned = recording is not None and isinstance(dialect.sign_in, d.SignatureSignIn)  # no key is at hand
        self._sign_in = prepare(d.NoSignIn() if unsigned else dialect.sign_in, endpoint.credentials)
        self._signing, self._looking = asyncio.Lock(), asyncio.Lock()
        self._gate = asyncio.Semaphore(self._wire.concurrency)
        self._numbers = itertools.count(1)
        self._found: dict[str, Any] = {}
        self._worked: set[int | None] = set()  # openings of the session that have let something in

    @property
    def traffic(self) -> Traffic:
        """What was spent so far."""
        return self._wire.traffic

    @property
    def concurrency(self) -> int:
        """How many requests may be under way at once."""
        return self._wire.concurrency

    @property
    def openings(self) -> int:
        """How often it was signed in to: what a session had staged ends with it."""
        return self._sign_in.openings

    @property
    def skew(self) -> float | None:
        """Seconds by which the system's clock is ahead of ours, by the first Date header (RFC 9110, 6.6.1)."""
        return self._wire.skew

    @property
    def began_there(self) -> datetime | None:
        """When this session began by the system's own clock, or by ours where that is earlier: never too late.

        None where the system does not tell what time it is there.
        """
        return None if self._ahead is None else self.began + timedelta(seconds=min(self._ahead, 0.0))

    async def __aenter__(self) -> Self:
        await self._wire.open()
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            way_out = self._sign_in.way_out
            if way_out is not None:
                asked = self._filled(way_out, self._sign_in.given)
                await asyncio.wait_for(self._send(asked, _Turn()), 5)
        except (ConcordexError, TimeoutError) as failed:
            log.debug("%s: signing out failed: %s", self.endpoint.name, failed)
        finally:
            await self._wire.close()
            if self._recorder:
                self._recorder.close()

    async def asked(self, call: d.Call, values: Mapping[str, Any] | None = None) -> Request:
        """``call`` filled in with the system's credentials, its lookups and ``values``."""
        names = call.names
        for name in names & self.dialect.lookups.keys():
            await self._look_up(name)
        return self._filled(call, values or {}, names)

    async def get(self, call: d.Call, values: Mapping[str, Any] | None = None) -> Answer:
        """The answer to a call that only reads."""
        return await self.read(await self.asked(call, values))

    async def read(self, asked: Request) -> Answer:
        """The answer to a request that only reads, asked again while the fault may pass."""
        return await self._retried(lambda turn: self._send(asked, turn))

    async def read_many(self, many: Sequence[Request]) -> list[Answer]:
        """The answers to several requests; in one, where the system takes JSON-RPC calls in batches."""
        most = self.dialect.rpc.batch if self.dialect.rpc else 1
        if most == 1 or not all(asked.rpc for asked in many):
            return await all_of(self.read(asked) for asked in many)
        bundles = [many[start : start + most] for start in range(0, len(many), most)]
        done = await all_of(self._retried(partial(self._send_bundle, bundle)) for bundle in bundles)
        return [answer for answers in done for answer in answers]

    async def write(self, asked: Request) -> Answer:
        """The answer to a write, which is sent once: whether to send it again, the caller finds out."""
        return await self._admitted(lambda turn: self._send(asked, turn))

    async def exchange(self, asked: Request) -> Exchange:
        """A request that is sent once, and its reply whatever it says; anew where the session had ended."""
        last: list[Exchange] = []

        async def send(turn: _Turn) -> Exchange:
            last[:] = [await self._sent(asked, turn, lambda admitted: self._body(asked, admitted))]
            self._refuse_ended(asked, last[0])
            return last[0]

        try:
            return await self._admitted(send)
        except SignInRefused:
            if not last:
                raise  # it was signing in that was refused
            return last[0]

    async def ready(self, asked: Request) -> tuple[str, dict[str, str], bytes | None]:
        """The address, headers and body with which a request would leave now."""
        admitted = await self._admission()
        body, kind = self._body(asked, admitted)
        url, headers = self._addressed(asked, admitted, kind)
        self._sign_in.sign(asked.method, str(url), headers, body)
        return str(url), headers, body

    def _refuse_ended(self, asked: Request, made: Exchange) -> None:
        """Raise SignInRefused where a reply says that the session has ended."""
        try:
            answer = self.judge.answer(made.reply, asked.path, asked.shape)
            if asked.rpc:
                self.judge.rpc(answer.body, asked.path, made.reply)
        except SignInRefused as refusal:
            if refusal.http != 403:
                raise
        except ConcordexError:
            return  # whoever asked looks at it himself

    async def sign_in(self) -> None:
        """Sign in now, so that a wrong credential is told before anything else."""
        await self._admission()

    def link(self, link: str, path: str) -> str:
        """A link that the answer to ``path`` held, in full (RFC 3986, section 5)."""
        return self._wire.link(link, path)

    def own(self, link: str) -> str:
        """A link with the system's own scheme, host and port."""
        return self._wire.own(link)

    async def _look_up(self, name: str) -> None:
        """Find the value of a lookup, once: the code that belongs to a label."""
        async with self._looking:
            if name in self._found:
                return
            lookup = self.dialect.lookups[name]
            shown = {name: value for name, value in self.endpoint.credentials.items() if isinstance(value, str)}
            wanted = {member: str(text.fill(shown)) for member, text in lookup.match.items()}
            records = (await self.get(lookup)).at(lookup.records)
            records = records if isinstance(records, list) else [records]
            taken = _taken(lookup, records, wanted)
            if len(taken) == 1:
                (self._found[name],) = taken
                return
            sought = " and ".join(f"{member} {text!r}" for member, text in wanted.items())
            what = f"{len(taken)} things with {sought}, and which of them" if taken else f"nothing with {sought}, which"
            there = ", ".join(", ".join(str(member.first(one)) for member in wanted) for one in records[:20])
            raise WireError(
                f"the system has {what} {{{name}}} needs", where=self.endpoint.name,
                advice=f"it has: {there or 'nothing'}",
            )  # fmt: skip

    def _filled(self, call: d.Call, values: Mapping[str, Any], names: Set[str] | None = None) -> Request:
        known = {**self.endpoint.credentials, **self._found, **values}
        path = self.dialect.rpc.path if call.rpc and not call.path and self.dialect.rpc else call.path
        if lacking := (call.names if names is None else names) - known.keys():  # else the name itself would be sent
            raise self._lacking(min(lacking), path)
        try:
            return self._with_all(call, path.fill_path(known), known)
        except LookupError as missing:
            raise self._lacking(missing.args[0], path) from missing
        except ValueError as error:
            raise Withheld(f"{path}: {error}", where=self.endpoint.name) from error

    def _lacking(self, name: str, path: Template) -> Withheld:
        sent = "" if name in path.names else "what is sent to "
        return Withheld(f"there is no value for {{{name}}} in {sent}{path}", where=self.endpoint.name)

    def _with_all(self, call: d.Call, address: str, known: Mapping[str, Any]) -> Request:
        sent_as: d.Shape = self.dialect.shape if self.dialect.shape.by in TYPES else d.JsonShape()
        body = fill(call.json_body, known) if call.json_body is not None else None
        if call.xml is not None:
            spoken = call.shape or self.dialect.shape
            body, sent_as = fill(call.xml, known), spoken if isinstance(spoken, d.XmlShape) else d.XmlShape(by="xml")
        elif call.json_body is not None:
            sent_as = d.JsonShape()
        if call.path.startswith("{") and address.startswith("/"):
            address = self._wire.rooted(address)
        return Request(
            method="POST" if call.rpc else call.method,
            path=address,
            shape=call.shape or self.dialect.shape,
            query=fill_texts(call.query, known),
            headers=fill_texts(call.headers, known),
            body=body,
            form=fill_texts(call.form, known) if call.form is not None else None,
            rpc=call.rpc,
            params=fill(call.params, known),
            sent_as=sent_as,
        )

    async def _admitted(self, send: Callable[[_Turn], Awaitable[T]]) -> T:
        """What ``send`` gives, after signing in anew where the session has ended.

        A refusal is final where two sessions, one after the other, never let anything in: then it is the credential.
        """
        fruitless = 0
        for left in reversed(range(_RENEWALS + 1)):
            turn = _Turn()
            try:
                done = await send(turn)
            except SignInRefused as refusal:
                fruitless += turn.opening not in self._worked
                final = fruitless > 1 or not left
                if turn.opening is None or not self._sign_in.renews or refusal.http == 403 or final:
                    raise
                await self._renew(turn.opening)
            else:
                self._worked.add(turn.opening)
                return done
        raise AssertionError("tries end with an answer or an error")

    async def _admission(self) -> Credentials:
        async with self._signing:
            return await self._sign_in.admission(self._call)

    async def _renew(self, stale: int) -> None:
        async with self._signing:
            if self._sign_in.openings == stale:  # nobody else has signed in anew meanwhile
                self._sign_in.forget()

    async def _call(self, call: d.Call) -> Answer:
        """The call that opens a session: it carries nothing, and goes before those that wait for it."""
        self._wire.forget_cookies()
        try:
            return await self._send(self._filled(call, {}), None)
        except SignInRefused as refusal:
            if refusal.http != 403:
                raise
            raise SignInRefused(
                "the system does not accept the credential", http=403, where=self.endpoint.name, why=refusal.why,
                advice="is the name right, the secret current, and may it sign in?",
            ) from refusal  # fmt: skip

    async def _send(self, asked: Request, turn: _Turn | None) -> Answer:
        made = await self._sent(asked, turn, lambda admitted: self._body(asked, admitted))
        reply, path = made.reply, URL(made.url, encoded=True).path
        answer = self.judge.answer(reply, path, asked.shape, asked.reader)
        if asked.rpc:
            result = self.judge.rpc(answer.body, f"{path} {asked.rpc}", reply)
            return replace(answer, body=result)
        return answer

    def _body(self, asked: Request, admitted: Credentials) -> tuple[bytes | None, str | None]:
        """The bytes to send, and their media type."""
        if asked.content is not None:
            return self._complete(asked.content[0]), asked.content[1]
        if asked.form is not None:
            return self._complete(urlencode(asked.form).encode()), "application/x-www-form-urlencoded"
        if asked.rpc:
            return self._encoded(self._envelope(asked, admitted), d.JsonShape()), TYPES["json"]
        if asked.body is None:
            return None, None
        body = merged(asked.body, admitted.body) if isinstance(asked.body, Mapping) else asked.body
        return self._encoded(body, asked.sent_as), TYPES[asked.sent_as.by]

    def _envelope(self, asked: Request, admitted: Credentials) -> dict[str, Any]:
        call = {"jsonrpc": "2.0", "id": next(self._numbers), "method": asked.rpc}
        params = merged(asked.params, admitted.params)
        return merged(call | ({"params": params} if params else {}), admitted.body)

    def _encoded(self, body: Any, shape: d.Shape) -> bytes:
        """A body as it is sent; not one that was kept without a secret of ours, and would take its place there."""
        return self._complete(encode(body, shape))

    def _complete(self, content: bytes) -> bytes:
        if WITHHELD.encode() not in content:
            return content
        raise Withheld(
            f"not sent: a secret of ours stood in it and was not kept ({WITHHELD})", where=self.endpoint.name,
            advice="prepare it anew from a source that does not repeat what we sign in with",
        )  # fmt: skip

    async def _sent(
        self, asked: Request, turn: _Turn | None, made: Callable[[Credentials], tuple[bytes | None, str | None]]
    ) -> Exchange:
        """Send a request when its turn has come; its pass is taken then, so that it is never a stale one."""
        async with self._gate if turn else contextlib.nullcontext():
            await self._wire.turn()
            admitted = Credentials()
            if turn:
                admitted = await self._admission()
                turn.opening = admitted.opening
            body, kind = made(admitted)
            url, headers = self._addressed(asked, admitted, kind)
            self._sign_in.sign(asked.method, str(url), headers, body)
            begun, ticked = time.time(), time.perf_counter()
            reply = await self._wire.send(asked.method, url, headers, body, gives_secrets=turn is None)
            took = time.perf_counter() - ticked
            dated = self._clock(reply, (begun + time.time()) / 2, own=turn is not None)
            if self._recorder:
                at = datetime.fromtimestamp(begun, UTC) if self.traffic.requests > 1 else self.began
                self._recorder(
                    Sending(method=asked.method, url=str(url), headers=headers, body=body, reply=reply, began=at,
                            took=round(took * 1000, 1), secret=turn is None, dated=dated)
                )  # fmt: skip
            if (wait := wait_asked(reply)) is not None:
                self._wire.hold(min(wait, 60.0))
        await asyncio.sleep(0)  # the next request goes out before this answer is taken apart
        if reply.status < 400 and turn:
            self._sign_in.seen(reply.headers, list(reply.cookies))
        return Exchange(method=asked.method, url=str(url), headers=headers, body=body, reply=reply, seconds=took)

    def _addressed(self, asked: Request, admitted: Credentials, kind: str | None) -> tuple[URL, dict[str, str]]:
        url = self._wire.address(asked.path)
        query = {**asked.query, **admitted.query}
        if query:
            url = url.update_query({name: str(value) for name, value in query.items()})
        headers = {"Accept": ACCEPT.get(asked.shape.by, "*/*"), **self.dialect.headers}
        if asked.method in ("GET", "HEAD") and "cache-control" not in map(str.lower, headers):
            headers["Cache-Control"] = "no-cache"  # what a proxy keeps is of another moment (RFC 9111, section 5.2.1.4)
        if kind:
            headers = {"Content-Type": kind} | headers
        elif "Content-Type" in headers:
            del headers["Content-Type"]
        return url, headers | {**asked.headers, **admitted.headers}

    def _clock(self, reply: Reply, ours: float, *, own: bool) -> datetime | None:
        """What time it is there, where this answer is the first of its own to tell it.

        Who lets us in may be another one, whose clock says nothing of the system's.
        """
        known = self.now_there or (self._wire.skew is not None and not own)
        if self.is_played or known or "Date" not in reply.headers or age_of(reply):
            return None
        try:
            there = parsedate_to_datetime(reply.headers["Date"]).astimezone(UTC)
        except ValueError:
            return None
        skew = there.timestamp() - ours
        self._wire.skew = skew if self._wire.skew is None else self._wire.skew
        if own:
            self.now_there, self._ahead = there, skew
        return self.now_there

    async def _retried(self, send: Callable[[_Turn], Awaitable[T]]) -> T:
        """What ``send`` gives, which only reads: sent again while the fault may pass."""
        attempts = retry_context(
            on=_passing,
            attempts=self.dialect.limits.tries,
            wait_initial=0.2,
            wait_max=10,
            wait_jitter=0.2,
            timeout=_BUDGET * self.dialect.limits.timeout,
        )
        async for attempt in attempts:
            with attempt:
                self.traffic.retries += attempt.num > 1
                return await self._admitted(send)
        raise AssertionError("retries end with an answer or an error")

    async def _send_bundle(self, bundle: Sequence[Request], turn: _Turn) -> list[Answer]:
        """Several JSON-RPC calls in one request; their answers come in any order (JSON-RPC 2.0, section 6)."""
        calls: list[dict[str, Any]] = []

        def made(admitted: Credentials) -> tuple[bytes, str]:
            calls[:] = [self._envelope(asked, admitted) for asked in bundle]
            return self._encoded(calls, d.JsonShape()), TYPES["json"]

        sent = await self._sent(bundle[0], turn, made)
        reply, path = sent.reply, URL(sent.url, encoded=True).path
        answer = self.judge.answer(reply, path, d.JsonShape())
        if not isinstance(answer.body, list):
            self.judge.rpc(answer.body, path, reply)
            raise BadAnswer(f"{path} answered {len(calls)} calls with one answer", where=self.endpoint.name)
        by_id = {item.get("id"): item for item in answer.body if isinstance(item, Mapping)}
        missing = [call for call in calls if call["id"] not in by_id]
        if missing:
            raise BadAnswer(f"{path} left {len(missing)} of {len(calls)} calls unanswered", where=self.endpoint.name)
        return [
            Answer(answer.status, self.judge.rpc(by_id[call["id"]], f"{path} {call['method']}", reply))
            for call in calls
        ]


def _taken(lookup: d.Lookup, records: Sequence[Any], wanted: Mapping[Path, str]) -> list[Any]:
    """What a lookup takes of the records that it means: as they are written, or else whatever the case; each once."""
    for alike in (str, str.casefold):
        taken = [
            lookup.take.first(record)
            for record in records
            if all(alike(str(member.first(record))) == alike(text) for member, text in wanted.items())
        ]
        if told := {str(value): value for value in taken if value is not None}:
            return list(told.values())
    return []


def _passing(error: Exception) -> bool | float:
    """Whether, or after how many seconds, a read may be tried again."""
    if isinstance(error, ServerFault):
        return min(error.wait, 60.0) if error.wait is not None else True
    return (isinstance(error, BadAnswer) and error.cut) or (isinstance(error, Unreachable) and not error.nameless)
