"""HTTP message signatures (RFC 9421) with the digest of the body (RFC 9530)."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from http_message_signatures import HTTPMessageSigner, algorithms
from http_message_signatures.digests import ContentDigest
from http_message_signatures.exceptions import HTTPMessageSignaturesException
from http_message_signatures.resolvers import MappingKeyResolver

from concordex.errors import SecretError
from concordex.wire import dialect as d

#: What each algorithm of the standard is in the library.
ALGORITHMS = {
    "ed25519": algorithms.ED25519,
    "ecdsa-p256-sha256": algorithms.ECDSA_P256_SHA256,
    "rsa-pss-sha512": algorithms.RSA_PSS_SHA512,
    "rsa-v1_5-sha256": algorithms.RSA_V1_5_SHA256,
    "hmac-sha256": algorithms.HMAC_SHA256,
}


@dataclass
class Message:
    """A request as the signer sees it."""

    method: str
    url: str
    headers: dict[str, str]


class _Sha512(ContentDigest):
    algorithm = "sha-512"


class Signer:
    """Signs requests with one key."""

    def __init__(self, how: d.SignatureSignIn, key: str, key_id: str) -> None:
        self._how, self._key_id = how, key_id
        keys = MappingKeyResolver(public_keys={}, private_keys={key_id: key.encode()})
        algorithm = ALGORITHMS[how.algorithm]
        try:
            algorithm(private_key=key.encode())  # type: ignore[no-untyped-call]
        except (ValueError, TypeError, HTTPMessageSignaturesException) as error:
            raise SecretError(
                f"the signing key is not a key for {how.algorithm}", advice="is it a private key in PEM, unencrypted?"
            ) from error
        self._signer = HTTPMessageSigner(signature_algorithm=algorithm, key_resolver=keys)
        if how.digest == "sha-512":
            self._signer.content_digest_class = _Sha512

    def sign(
        self, method: str, url: str, headers: dict[str, str], body: bytes | None, moment: datetime | None = None
    ) -> None:
        """Add Signature, Signature-Input and, with a body, Content-Digest to ``headers``."""
        created = moment or datetime.now(UTC)
        self._signer.sign(
            Message(method, url, headers),
            key_id=self._key_id,
            created=created,
            expires=created + timedelta(seconds=self._how.lasts) if self._how.lasts else None,
            label=self._how.label,
            tag=self._how.tag,
            covered_component_ids=self._how.covers,
            body=body,
        )
