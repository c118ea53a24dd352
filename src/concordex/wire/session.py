"""One system, spoken to: signed in, retried where that is safe, bounded, and kept to its own host."""

from __future__ import annotations

import asyncio
import logging
import ssl
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from types import TracebackType
from typing import Any, Self

import aiohttp
import orjson
import stamina
from yarl import URL

from concordex.errors import (
    BadAnswer,
    ForeignHost,
    RequestRefused,
    ServerFault,
    SignInRefused,
    Unreachable,
    Untrusted,
    WireError,
)
from concordex.wire import dialect as d
from concordex.wire.paths import at
from concordex.wire.secrets import Secret
from concordex.wire.signin import Headers, prepare

log = logging.getLogger("concordex.wire")

stamina.instrumentation.set_on_retry_hooks([])  # we log retries ourselves, with the system's name


@dataclass(frozen=True, kw_only=True)
class Endpoint:
    """Where a system is and what it takes to be let in."""

    name: str
    url: str
    credentials: Mapping[str, Secret | str] = field(default_factory=dict)
    ca: str | None = None
    verify: bool = True


@dataclass
class Traffic:
    """What was spent on talking."""

    requests: int = 0
    retries: int = 0
    received: int = 0  # bytes


class Session:
    """An ``async with`` block in which one system can be asked."""

    def __init__(self, endpoint: Endpoint, dialect: d.Dialect) -> None:
        self.endpoint, self.dialect = endpoint, dialect
        self.traffic = Traffic()
        self._origin = URL(endpoint.url).origin()
        self._base = endpoint.url.rstrip("/") + dialect.base
        self._sign_in = prepare(dialect.sign_in, endpoint.credentials)
        self._signing = asyncio.Lock()
        self._gate = asyncio.Semaphore(dialect.limits.concurrency)
        self._client: aiohttp.ClientSession

    async def __aenter__(self) -> Self:
        timeout = aiohttp.ClientTimeout(total=self.dialect.limits.timeout, connect=15)
        connector = aiohttp.TCPConnector(ssl=_tls(self.endpoint), limit=self.dialect.limits.concurrency)
        self._client = aiohttp.ClientSession(
            timeout=timeout,
            connector=connector,
            cookie_jar=aiohttp.DummyCookieJar(),
            headers={"User-Agent": "concordex", "Accept": "application/json"},
        )
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self._client.close()

    async def read(self, path: str, query: Mapping[str, str] | None = None) -> Any:
        """The decoded answer to a GET, asked again while the fault may pass."""
        attempts = stamina.retry_context(
            on=_passing,
            attempts=self.dialect.limits.tries,
            wait_initial=0.2,
            wait_max=10,
            wait_jitter=0.2,
            timeout=None,
        )
        async for attempt in attempts:
            with attempt:
                self.traffic.retries += attempt.num > 1
                return await self._signed("GET", path, query=query)
        raise AssertionError("the retries end by an answer or an error")

    async def write(self, method: str, path: str, body: object) -> Any:
        """The decoded answer to a write, which is sent once: whether to send it again, the caller finds out."""
        return await self._signed(method, path, body=orjson.dumps(body))

    async def sign_in(self) -> None:
        """Sign in now, so that a wrong credential is told before anything else."""
        async with self._gate:
            await self._credentials()

    async def _signed(
        self, method: str, path: str, *, query: Mapping[str, str] | None = None, body: bytes | None = None
    ) -> Any:
        async with self._gate:
            headers = await self._credentials()
            try:
                return await self._send(method, path, headers, query=query, body=body)
            except SignInRefused as refusal:
                if not self._sign_in.renews or refusal.http == 403:
                    raise
            await self._renew(headers)
            return await self._send(method, path, await self._credentials(), query=query, body=body)

    async def _credentials(self) -> Headers:
        async with self._signing:
            return await self._sign_in.headers(self._call)

    async def _renew(self, stale: Headers) -> None:
        async with self._signing:
            if await self._sign_in.headers(self._call) is stale:  # nobody else has renewed it meanwhile
                self._sign_in.forget()

    async def _call(self, call: d.Call) -> Any:
        if call.form is not None:
            form = aiohttp.FormData(call.form)
            return await self._send(call.method, call.path, {}, form=form)
        body = orjson.dumps(call.json_body) if call.json_body is not None else None
        return await self._send(call.method, call.path, {}, body=body)

    def link(self, link: str, path: str) -> str:
        """A link that the answer to ``path`` held, in full (RFC 3986, section 5)."""
        return str(URL(self._base + path).join(URL(link, encoded=True)))

    def address(self, path: str) -> URL:
        """The full address of a path, or of a link that the system gave; never on another host."""
        if "://" not in path:
            return URL(self._base + path)
        link = URL(path, encoded=True)
        if link.origin() != self._origin:
            raise ForeignHost(
                f"the system gave a link to another host: {link.origin()}",
                where=self.endpoint.name,
                advice=f"credentials go to {self._origin} only; correct the url in concordex.yaml if that is its name",
            )
        return link

    async def _send(
        self,
        method: str,
        path: str,
        headers: Headers,
        *,
        query: Mapping[str, str] | None = None,
        body: bytes | None = None,
        form: aiohttp.FormData | None = None,
    ) -> Any:
        url = self.address(path)
        sent = headers | ({"Content-Type": "application/json"} if body is not None else {})
        begun = time.perf_counter()
        self.traffic.requests += 1
        try:
            async with self._client.request(
                method, url, params=query, headers=sent, data=form if form else body, allow_redirects=False
            ) as answer:
                content = await self._content(answer)
        except (aiohttp.ClientError, TimeoutError, OSError) as error:
            raise self._network_fault(error) from error
        took = (time.perf_counter() - begun) * 1000
        log.debug(
            "%s: %s %s -> %s, %d bytes, %.0f ms",
            self.endpoint.name,
            method,
            url.path,
            answer.status,
            len(content),
            took,
        )
        return self._judge(answer, content, url)

    async def _content(self, answer: aiohttp.ClientResponse) -> bytes:
        most, size, pieces = self.dialect.limits.answer, 0, []
        async for piece in answer.content.iter_any():
            size += len(piece)
            if size > most:
                raise BadAnswer(f"the answer is larger than {most:,} bytes", where=self.endpoint.name)
            pieces.append(piece)
        self.traffic.received += size
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)

    def _judge(self, answer: aiohttp.ClientResponse, content: bytes, url: URL) -> Any:
        status, where = answer.status, self.endpoint.name
        if 200 <= status < 300:
            return self._decode(content, url) if content else None
        if 300 <= status < 400:
            target = answer.headers.get("Location", "nowhere")
            raise BadAnswer(
                f"{url.path} redirects to {target}",
                where=where,
                advice="give the final url in concordex.yaml",
            )
        said = self._message(content)
        reason = f"HTTP {status}{f': {said}' if said else ''}"
        if status in (401, 403):
            what = "does not accept the credential" if status == 401 else "does not allow this"
            advice = (
                "is the secret current? `concordex system check` tries it" if status == 401 else "ask for the right"
            )
            raise SignInRefused(f"the system {what}", http=status, where=where, why=reason, advice=advice)
        if status == 429 or status >= 500:
            wait = answer.headers.get("Retry-After", "")
            what = "is too busy" if status == 429 else "failed"
            raise ServerFault(
                f"the system {what} at {url.path}", http=status, wait=float(wait) if wait.isdigit() else None,
                where=where, why=reason, advice="a fault on its side; try again later",
            )  # fmt: skip
        what = "knows no" if status == 404 else "refused"
        advice = "does the url in concordex.yaml, or the dialect's path, fit this system?" if status == 404 else ""
        raise RequestRefused(
            f"the system {what} {url.path}", http=status, body=_decoded(content),
            where=where, why=reason, advice=advice,
        )  # fmt: skip

    def _decode(self, content: bytes, url: URL) -> Any:
        try:
            return orjson.loads(content)
        except orjson.JSONDecodeError as error:
            head = content.lstrip()[:200]
            if head.startswith(b"<"):
                what, advice = (
                    "answered with a page instead of JSON",
                    "a proxy or a sign-in page in between?",
                )
            elif error.pos >= len(content.rstrip()) - 1:
                what, advice = f"sent JSON that is cut off after {len(content):,} bytes", ""
            else:
                what, advice = f"sent what is not JSON (RFC 8259), at byte {error.pos:,}", ""
            raise BadAnswer(f"{url.path} {what}", where=self.endpoint.name, advice=advice) from error

    def _message(self, content: bytes) -> str:
        body = _decoded(content)
        found = at(self.dialect.message).first(body) if self.dialect.message else None
        return str(found)[:300] if found else ""

    def _network_fault(self, error: Exception) -> WireError:
        where, host = self.endpoint.name, self._origin.host
        if isinstance(error, aiohttp.ClientConnectorCertificateError | aiohttp.ClientConnectorSSLError | ssl.SSLError):
            cause = getattr(error, "certificate_error", error)
            reason = getattr(cause, "verify_message", "") or str(cause)
            advice = "name the CA that signed it in concordex.yaml: tls: {ca: FILE}"
            return Untrusted(f"the certificate of {host} is not trusted", where=where, why=reason, advice=advice)
        if isinstance(error, TimeoutError):
            return Unreachable(f"no answer in {self.dialect.limits.timeout:g} s", where=where)
        if isinstance(error, aiohttp.ClientConnectorDNSError):
            return Unreachable(f"the name {host} does not resolve", where=where, advice="check url: in concordex.yaml")
        if isinstance(error, aiohttp.ClientConnectorError):
            reason = error.os_error.strerror or str(error.os_error)
            advice = "is it up, and is a proxy or a firewall in between?"
            return Unreachable(f"cannot connect to {self._origin}", where=where, why=reason, advice=advice)
        return Unreachable("the connection was cut", where=where, why=str(error) or type(error).__name__)


def _passing(error: Exception) -> bool | float:
    """Whether, or after how many seconds, a read may be tried again."""
    if isinstance(error, ServerFault):
        return min(error.wait, 60.0) if error.wait is not None else True
    cut = isinstance(error, BadAnswer) and "cut off" in error.what
    return cut or (isinstance(error, Unreachable) and "resolve" not in error.what)


def _tls(endpoint: Endpoint) -> ssl.SSLContext | bool:
    if not endpoint.url.startswith("https:"):
        return True
    if not endpoint.verify:
        return False
    try:
        return ssl.create_default_context(cafile=endpoint.ca)
    except (OSError, ssl.SSLError) as error:
        raise Untrusted(f"the CA file {endpoint.ca} cannot be used", where=endpoint.name, why=str(error)) from error


def _decoded(content: bytes) -> Any:
    try:
        return orjson.loads(content)
    except orjson.JSONDecodeError:
        return None
