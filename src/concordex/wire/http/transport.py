"""HTTP with one system: bounded, paced, kept to its own host, its faults told in plain words."""

from __future__ import annotations

import asyncio
import base64
import logging
import re
import ssl
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import unquote

from yarl import URL

from concordex.errors import BadAnswer, ForeignHost, Unreachable, Untrusted, WireError
from concordex.spans import span
from concordex.unseen import Secret, masked
from concordex.unseen import headers as shown
from concordex.wire import dialect as d
from concordex.wire.http.answers import Reply
from concordex.wire.http.authorities import aiohttp

#: Seconds after which an idle connection is not used again: a system that closes it just then leaves in doubt
#: whether a write arrived.
_IDLE = 4.0

log = logging.getLogger("concordex.wire")


@dataclass(frozen=True, kw_only=True)
class Endpoint:
    """Where a system is and what it takes to be let in."""

    name: str
    url: str = ""
    folder: Path | None = None  # of a system that is files
    database: str | None = None  # of a system that is a database; a path in it is meant from ``root``
    root: Path | None = None
    credentials: Mapping[str, Secret | str] = field(default_factory=dict)
    ca: str | None = None
    verify: bool = True
    fingerprint: str | None = None  # SHA-256 of the one certificate that is accepted, as hex
    certificate: str | None = None  # our own, for systems that ask for one
    key: str | None = None
    proxy: str | None = None
    proxy_user: str | None = None  # RFC 7617, as HTTP proxies ask for it
    proxy_password: Secret | None = None
    rate: float | None = None
    concurrency: int | None = None
    trusted: frozenset[str] = frozenset()  # tables that are believed though nothing proves them whole


@dataclass
class Traffic:
    """What was spent on talking."""

    requests: int = 0
    retries: int = 0
    received: int = 0  # bytes


class Transport:
    """The connections to one system."""

    def __init__(self, endpoint: Endpoint, dialect: d.Dialect) -> None:
        self.endpoint, self.dialect = endpoint, dialect
        limits = dialect.limits
        self.concurrency = min(endpoint.concurrency or limits.concurrency, 64)
        rates = [rate for rate in (endpoint.rate, limits.rate) if rate]
        self._pause = 1 / min(rates) if rates else 0.0
        self._next = 0.0
        self.traffic = Traffic()
        self.skew: float | None = None  # seconds by which the system's clock is ahead of ours
        self._origin = URL(endpoint.url).origin() if endpoint.url else URL()
        below = URL(endpoint.url).raw_path.strip("/") if endpoint.url else ""
        self._prefix = "".join(f"/{part}" for part in (below, dialect.base.strip("/")) if part)
        self._cookies = dialect.keeps_cookies
        password = endpoint.proxy_password.reveal() if endpoint.proxy_password else ""
        pair = base64.b64encode(f"{endpoint.proxy_user}:{password}".encode()).decode()  # RFC 7617
        self._to_proxy = {"Proxy-Authorization": f"Basic {pair}"} if endpoint.proxy_user else {}
        self._client: aiohttp.ClientSession

    async def open(self) -> None:
        """Make ready; nothing is sent yet."""
        client_side = _certified(self.endpoint)
        self._client = aiohttp.ClientSession(
            timeout=aiohttp.ClientTimeout(total=self.dialect.limits.timeout, connect=15),
            connector=aiohttp.TCPConnector(
                ssl=_trusted(self.endpoint, client_side), limit=self.concurrency, keepalive_timeout=_IDLE
            ),
            cookie_jar=aiohttp.CookieJar(unsafe=True, quote_cookie=False)
            if self._cookies
            else aiohttp.DummyCookieJar(),
            headers={"User-Agent": "concordex"},
            read_bufsize=1 << 20,  # a page comes in a few pieces, not in dozens
        )
        self._client._retry_connection = False  # it would send PUT and DELETE again by itself, without a word
        self._tls: ssl.SSLContext | None = client_side if self.endpoint.fingerprint else None

    async def close(self) -> None:
        """Close every connection."""
        await self._client.close()

    def forget_cookies(self) -> None:
        """Drop what an earlier session set."""
        self._client.cookie_jar.clear()

    def link(self, link: str, path: str) -> str:
        """A link that the answer to ``path`` held, in full (RFC 3986, section 5)."""
        try:
            return str(self.address(path).join(URL(link, encoded=True)))
        except ValueError as error:
            raise BadAnswer(f"the system gave a link that is none: {link[:200]!r}", where=self.endpoint.name) from error

    def own(self, link: str) -> str:
        """``link`` with the system's own scheme, host and port: for systems that know themselves by another name."""
        url = URL(link, encoded=True)
        return str(self._origin.join(URL.build(path=url.raw_path, query_string=url.raw_query_string, encoded=True)))

    def address(self, path: str) -> URL:
        """The full address of a path below the system's, or of a link that it gave; never on another host.

        Built from its parts (RFC 3986), so that nothing in a path can change where it leads.
        """
        if re.match(r"[A-Za-z][A-Za-z0-9+.-]*://", path):
            return self._kept_here(path)
        if any(part in (".", "..") for part in unquote(path.partition("?")[0]).split("/")):
            raise BadAnswer(
                f"the address {path} holds '.' or '..', and would mean another one", where=self.endpoint.name
            )
        begin = "" if not path or path.startswith("?") else "/"
        where = f"{self._prefix}{begin}{path.removeprefix('/')}" or "/"
        return self._kept_here(f"{self._origin}{where if where.startswith('/') else f'/{where}'}", encoded=False)

    def rooted(self, path: str) -> str:
        """A path from the root of the system, in full: what a link without a host means."""
        return f"{self._origin}/{path.lstrip('/')}" if not path.startswith("//") else self.link(path, "")

    def _kept_here(self, text: str, *, encoded: bool = True) -> URL:
        """The finished address, if it is on the system's own host and carries nobody's name."""
        try:
            url = URL(text, encoded=encoded)
            origin = url.origin()
        except ValueError as error:
            raise BadAnswer(f"{text[:200]!r} is not an address", where=self.endpoint.name, why=str(error)) from error
        if origin != self._origin or url.raw_user is not None or url.raw_password is not None:
            named = "" if url.raw_user is None and url.raw_password is None else ", with a user's name in it"
            raise ForeignHost(
                f"the system gave a link to another host: {origin}{named}",
                where=self.endpoint.name,
                advice=f"credentials go to {self._origin} only; correct the url in concordex.yaml if that is its name",
            )
        return url

    async def send(
        self, method: str, url: URL, headers: Mapping[str, str], body: bytes | None, *, gives_secrets: bool = False
    ) -> Reply:
        """One request and its reply, read whole; what may give secrets is not shown when all is."""
        begun = time.perf_counter()
        self.traffic.requests += 1
        if url.scheme == "http":  # the proxy reads the request itself; else it is told when it is asked to connect
            headers = {**headers, **self._to_proxy}
        told = span(
            method, http__request__method=method, server__address=url.host or "", url__path=url.path,
            concordex__system=self.endpoint.name,
        )  # fmt: skip
        try:
            with told as note:
                answer, content = await self._answered(method, url, headers, body)
                note("http.response.status_code", answer.status)
        except (aiohttp.ClientError, TimeoutError, OSError) as error:
            raise self._network_fault(error) from error
        except ValueError as error:  # nothing has left: a header cannot hold the end of a line (RFC 9110, section 5.5)
            raise Unreachable(
                "the request cannot be said in HTTP", where=self.endpoint.name, why=str(error), untouched=True,
                advice="does a credential hold the end of a line, or a sign that no header takes?",
            ) from error  # fmt: skip
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
        if log.isEnabledFor(logging.DEBUG):
            self._tell(method, url, headers, body, b"(what signing in gave)" if gives_secrets else content)
        return Reply(
            answer.status, content, answer.headers, answer.headers.getall("Set-Cookie", []),
            answer.headers.getall("Link", []), str(url),
        )  # fmt: skip

    async def _answered(
        self, method: str, url: URL, headers: Mapping[str, str], body: bytes | None
    ) -> tuple[aiohttp.ClientResponse, bytes]:
        """An answer, read whole."""
        async with self._client.request(
            method, url, headers=headers, data=body, allow_redirects=False, proxy=self.endpoint.proxy,
            proxy_headers=self._to_proxy, ssl=self._tls or True,
        ) as answer:  # fmt: skip
            if answer.status == 407 and self.endpoint.proxy:  # it is the proxy that says so (RFC 9110, 15.5.8)
                raise self._kept_out(407)
            return answer, await self._content(answer)

    def _tell(self, method: str, url: URL, headers: Mapping[str, str], body: bytes | None, content: bytes) -> None:
        """The whole request as a person could repeat it, and how the answer begins; secrets masked."""
        lines = [f"> {method} {masked(str(url))}", *(f"> {line}" for line in shown(headers))]
        if body:
            lines += [">", *(f"> {line}" for line in masked(body.decode(errors="replace"))[:4_000].splitlines())]
        body_lines = masked(content[:2_000].decode(errors="replace")).splitlines()[:20]
        log.debug("%s", "\n".join([*lines, *(f"< {line[:300]}" for line in body_lines)]))

    async def turn(self) -> None:
        """Wait for our turn, where the system bears only so many requests a second or asked us to wait."""
        now = asyncio.get_running_loop().time()
        mine = max(now, self._next)
        self._next = mine + self._pause
        if mine > now:
            await asyncio.sleep(mine - now)

    def hold(self, seconds: float) -> None:
        """Send nothing for so long: the system asked for it."""
        self._next = max(self._next, asyncio.get_running_loop().time() + seconds)

    async def _content(self, answer: aiohttp.ClientResponse) -> bytes:
        """The body, unpacked; a bomb is stopped when what it unpacks to grows too large."""
        most, size, pieces = self.dialect.limits.answer, 0, []
        async for piece in answer.content.iter_any():
            size += len(piece)
            if size > most:
                raise BadAnswer(
                    f"the answer is larger than {most:,} bytes", where=self.endpoint.name,
                    advice="ask for smaller pages, or raise limits: {answer: …} in the dialect",
                )  # fmt: skip
            pieces.append(piece)
        self.traffic.received += size
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)

    def _kept_out(self, status: int, phrase: str = "") -> Unreachable:
        """The proxy does not let us through: nothing of ours has come to the system."""
        why, advice = f"HTTP {status} {phrase}".strip(), "does it let requests to this host and port through?"
        if status == 407:
            why = "not with this name" if self.endpoint.proxy_user else "it asks for a name and a password"
            advice = "proxy: {url: …, user: …, password: env:NAME}, in concordex.yaml"
        return Unreachable(
            f"the proxy {self.endpoint.proxy} does not let us through", where=self.endpoint.name, why=why,
            advice=advice, untouched=True,
        )  # fmt: skip

    def _network_fault(self, error: Exception) -> WireError:  # noqa: PLR0911 - one for each kind
        where, host = self.endpoint.name, self._origin.host
        if isinstance(error, aiohttp.ServerFingerprintMismatch):
            return Untrusted(
                f"the certificate of {host} is not the one that is pinned", where=where,
                why=f"its SHA-256 fingerprint is {error.got.hex()}",
                advice="if it was renewed on purpose, put the new fingerprint into concordex.yaml",
            )  # fmt: skip
        if isinstance(error, aiohttp.ClientConnectorCertificateError | aiohttp.ClientConnectorSSLError | ssl.SSLError):
            cause = getattr(error, "certificate_error", None) or getattr(error, "os_error", None) or error
            if isinstance(cause, ssl.SSLError) and not isinstance(cause, ssl.SSLCertVerificationError):
                return _no_tls(cause, where, host)
            reason = getattr(cause, "verify_message", "") or str(cause)
            advice = "name the CA that signed it, or pin its fingerprint: `concordex system check` shows both"
            return Untrusted(f"the certificate of {host} is not trusted", where=where, why=reason, advice=advice)
        if isinstance(error, TimeoutError):
            early = isinstance(error, aiohttp.ConnectionTimeoutError)
            what = "no connection in 15 s" if early else f"no answer in {self.dialect.limits.timeout:g} s"
            return Unreachable(what, where=where, untouched=early)
        if isinstance(error, aiohttp.ClientConnectorDNSError):
            return Unreachable(
                f"the name {host} does not resolve", where=where, advice="check url: in concordex.yaml", nameless=True
            )
        if isinstance(error, aiohttp.ClientHttpProxyError):  # to CONNECT, which asks it for a way to an https: system
            return self._kept_out(error.status, error.message)
        if isinstance(error, aiohttp.ClientProxyConnectionError):
            return Unreachable(
                f"the proxy {self.endpoint.proxy} does not let us through", where=where, why=str(error), untouched=True
            )
        if isinstance(error, aiohttp.ClientConnectorError):
            reason = error.os_error.strerror or str(error.os_error)
            advice = "is it up, and is a proxy or a firewall in between?"
            return Unreachable(
                f"cannot connect to {self._origin}", where=where, why=reason, advice=advice, untouched=True
            )
        return Unreachable("the connection was cut", where=where, why=str(error) or type(error).__name__)


def _no_tls(error: ssl.SSLError, where: str, host: str | None) -> Unreachable:
    """The certificate was not even looked at: there is no manner of TLS that both sides speak, or it is none."""
    reason = error.reason or str(error)
    advice = "it speaks no version of TLS that is safe: 1.2 or 1.3"
    if reason in ("WRONG_VERSION_NUMBER", "HTTP_REQUEST", "RECORD_LAYER_FAILURE"):
        advice = "does it speak http: there?"
    elif "CERTIFICATE" in reason:
        advice = "it asks for a certificate of ours: tls: {certificate: FILE, key: FILE}"
    return Unreachable(
        f"no TLS with {host}", where=where, why=reason.lower().replace("_", " "), untouched=True, advice=advice
    )


def _certified(endpoint: Endpoint) -> ssl.SSLContext | None:
    """How the system's certificate is judged, with our own for a system that asks for one."""
    if not endpoint.url.startswith("https:"):
        return None
    try:
        context = ssl.create_default_context(cafile=endpoint.ca)
        if endpoint.certificate:
            context.load_cert_chain(endpoint.certificate, endpoint.key)
    except (OSError, ssl.SSLError) as error:
        files = ", ".join(filter(None, [endpoint.ca, endpoint.certificate, endpoint.key]))
        raise Untrusted(
            f"a TLS file cannot be used: {files}", where=endpoint.name, why=getattr(error, "reason", "") or str(error),
            advice="they should be PEM files, the key without a passphrase",
        ) from error  # fmt: skip
    if not endpoint.verify or endpoint.fingerprint:
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
    return context


def _trusted(endpoint: Endpoint, context: ssl.SSLContext | None) -> ssl.SSLContext | aiohttp.Fingerprint | bool:
    if context is None:
        return True
    return aiohttp.Fingerprint(digest_of(endpoint)) if endpoint.fingerprint else context


def digest_of(endpoint: Endpoint) -> bytes:
    """The pinned fingerprint as bytes."""
    digits = re.sub(r"^sha256[:=]|[^0-9a-fA-F]", "", (endpoint.fingerprint or "").lower())
    if len(digits) != 64:
        raise Untrusted(
            "the fingerprint in concordex.yaml is not a SHA-256 fingerprint", where=endpoint.name,
            advice="it has 64 hexadecimal digits; `concordex system check` shows it",
        )  # fmt: skip
    return bytes.fromhex(digits)


async def reach(endpoint: Endpoint) -> None:
    """One connection, certificate and all, with nothing asked; raises Untrusted or Unreachable."""
    url = URL(endpoint.url)
    try:
        _, writer = await asyncio.open_connection(
            url.host, url.port, ssl=_certified(endpoint), server_hostname=url.host if url.scheme == "https" else None
        )
    except ssl.SSLCertVerificationError as error:
        why = error.verify_message or str(error.reason)
        raise Untrusted(f"the certificate of {url.host} is not trusted", where=endpoint.name, why=why) from error
    except ssl.SSLError as error:
        raise _no_tls(error, endpoint.name, url.host) from error
    except OSError as error:
        raise Unreachable(f"cannot connect to {url.host}", where=endpoint.name, why=str(error)) from error
    writer.close()
