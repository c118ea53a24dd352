"""A certificate that signs itself, as such systems have when nobody gave them a better one."""

from __future__ import annotations

import ipaddress
import ssl
import tempfile
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Self

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat


@dataclass(frozen=True)
class Certificate:
    """What a server needs to speak TLS, and the SHA-256 fingerprint by which it can be pinned."""

    context: ssl.SSLContext
    fingerprint: str

    @classmethod
    def made(cls) -> Self:
        """A new one for the loopback address, good for thirty days."""
        key = ec.generate_private_key(ec.SECP256R1())
        name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "masthead.example")])
        now = datetime.now(UTC)
        made = (
            x509.CertificateBuilder()
            .subject_name(name)
            .issuer_name(name)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - timedelta(days=335))
            .not_valid_after(now + timedelta(days=30))
            .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address("127.0.0.1"))]), False)
            .sign(key, hashes.SHA256())
        )
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        with tempfile.TemporaryDirectory() as folder:
            both = Path(folder) / "both.pem"
            both.touch(mode=0o600)
            private = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
            both.write_bytes(private + made.public_bytes(Encoding.PEM))
            context.load_cert_chain(both)
        return cls(context, made.fingerprint(hashes.SHA256()).hex())
