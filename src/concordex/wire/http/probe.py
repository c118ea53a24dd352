"""Whether a system can be reached at all: its name, its port, and the certificate that it shows."""

from __future__ import annotations

import asyncio
import socket
import ssl
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from yarl import URL

from concordex.errors import Unreachable, Untrusted
from concordex.wire.http.transport import Endpoint, digest_of

_PATIENCE = 15


@dataclass(frozen=True)
class PeerCertificate:
    """Whose it is, who signed it, until when, and its SHA-256 fingerprint as hex."""

    subject: str
    issuer: str
    ends: datetime
    fingerprint: str


async def resolve(endpoint: Endpoint) -> list[str]:
    """The addresses of the system's name; raises Unreachable."""
    url = URL(endpoint.url)
    try:
        addresses = await asyncio.wait_for(
            asyncio.get_running_loop().getaddrinfo(url.host, url.port, type=socket.SOCK_STREAM), _PATIENCE
        )
    except (OSError, TimeoutError) as error:
        raise Unreachable(
            f"the name {url.host} does not resolve", where=endpoint.name,
            why=getattr(error, "strerror", None) or "no answer",
            advice="check url: in concordex.yaml, and the DNS here",
        ) from error  # fmt: skip
    return list(dict.fromkeys(str(address[4][0]) for address in addresses))


async def connect(endpoint: Endpoint) -> float:
    """Seconds that it takes to connect; raises Unreachable."""
    url, loop = URL(endpoint.url), asyncio.get_running_loop()
    begun = loop.time()
    try:
        _, writer = await asyncio.wait_for(asyncio.open_connection(url.host, url.port), _PATIENCE)
    except (OSError, TimeoutError) as error:
        raise Unreachable(
            f"cannot connect to {url.host} port {url.port}", where=endpoint.name,
            why=getattr(error, "strerror", None) or f"no answer in {_PATIENCE} s",
            advice="is it up, and is a firewall in between? A proxy is named with proxy: in concordex.yaml",
        ) from error  # fmt: skip
    took = loop.time() - begun
    writer.close()
    return took


async def certificate(endpoint: Endpoint) -> PeerCertificate:
    """The certificate that the system shows, whoever signed it; raises Untrusted where it speaks no TLS."""
    url = URL(endpoint.url)
    context = ssl.create_default_context()
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    try:
        _, writer = await asyncio.wait_for(
            asyncio.open_connection(url.host, url.port, ssl=context, server_hostname=url.host), _PATIENCE
        )
    except (OSError, TimeoutError) as error:
        raise Untrusted(
            f"{url.host} port {url.port} does not speak TLS", where=endpoint.name,
            why=getattr(error, "reason", "") or str(error), advice="is it http: instead of https:, or another port?",
        ) from error  # fmt: skip
    shown = writer.get_extra_info("ssl_object").getpeercert(binary_form=True)
    writer.close()
    return _read(shown)


def judged(endpoint: Endpoint, shown: PeerCertificate, now: datetime) -> str | None:
    """Why a certificate would be refused before a pinned fingerprint is even compared, or None."""
    if endpoint.fingerprint and digest_of(endpoint).hex() != shown.fingerprint:
        return "it is not the one that is pinned"
    return "it has expired" if shown.ends < now and endpoint.verify and not endpoint.fingerprint else None


def _read(shown: bytes) -> PeerCertificate:
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes

    certificate = x509.load_der_x509_certificate(shown)
    return PeerCertificate(
        subject=_name(certificate.subject), issuer=_name(certificate.issuer), ends=certificate.not_valid_after_utc,
        fingerprint=certificate.fingerprint(hashes.SHA256()).hex(),
    )  # fmt: skip


def _name(name: Sequence[object] | object) -> str:
    from cryptography import x509

    assert isinstance(name, x509.Name)
    common = name.get_attributes_for_oid(x509.NameOID.COMMON_NAME)
    return str(common[0].value) if common else name.rfc4514_string()
