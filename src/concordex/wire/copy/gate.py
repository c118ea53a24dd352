"""Who is let in: the sign-in that a dialect tells, the other way round, with credentials that only the copy knows."""

from __future__ import annotations

import base64
import hmac
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import timedelta
from secrets import token_urlsafe
from typing import Any
from urllib.parse import parse_qs

from concordex.wire import dialect as d
from concordex.wire.copy.asked import Asked, Pattern
from concordex.wire.copy.declined import Cause, Declined, untold
from concordex.wire.copy.placing import placed, way_to
from concordex.wire.dialect.paths import Path, Source
from concordex.wire.dialect.templates import fill, fill_texts

#: How long a session is said to last, in seconds; it ends with the copy.
_LASTS = 3600
#: How old a signature may be, in seconds, where the dialect says nothing.
_OLDEST = 300


@dataclass
class Opening:
    """What the answer to a sign-in call says: its body, headers and cookies."""

    body: Any = None
    headers: dict[str, str] = field(default_factory=dict)
    cookies: dict[str, str] = field(default_factory=dict)


def made_up(dialect: d.Dialect, plain: Mapping[str, str]) -> tuple[dict[str, str], dict[str, str]]:
    """Credentials for a copy, and what its gate knows them by: nobody's, made anew, but for what is no secret.

    Where requests are signed the first are a private key, and the second its public one.
    """
    ours = {name: token_urlsafe(18) for name, spec in dialect.credentials.items() if spec.secret}
    ours |= {name: plain.get(name) or "rehearsal" for name, spec in dialect.credentials.items() if not spec.secret}
    known = dict(ours)
    how = dialect.sign_in
    if isinstance(how, d.SignatureSignIn) and how.algorithm != "hmac-sha256":
        for name in how.key.names:
            ours[name], known[name] = _key_pair(how.algorithm)
    return ours, known


def _key_pair(algorithm: str) -> tuple[str, str]:
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa

    private: Any
    if algorithm == "ed25519":
        private = ed25519.Ed25519PrivateKey.generate()
    elif algorithm.startswith("ecdsa"):
        private = ec.generate_private_key(ec.SECP256R1())
    else:
        private = rsa.generate_private_key(public_exponent=65537, key_size=2048)
    pem = serialization.Encoding.PEM
    ours = private.private_bytes(pem, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    theirs = private.public_key().public_bytes(pem, serialization.PublicFormat.SubjectPublicKeyInfo)
    return ours.decode(), theirs.decode()


class Gate:
    """Lets in who carries what the dialect says."""

    def __init__(self, dialect: d.Dialect, known: Mapping[str, str]) -> None:
        self._how, self._known = dialect.sign_in, known
        self._sessions: list[dict[str, str]] = []  # what each sign-in gave
        self._call: d.Call | None = None
        if isinstance(self._how, d.CallSignIn):
            self._call = self._how.call
        elif isinstance(self._how, d.ClientCredentials):
            self._call = d.Post(path=self._how.path, shape=d.JsonShape())
        self.call = Pattern(dialect, self._call) if self._call else None
        self.way_out = None
        if isinstance(self._how, d.CallSignIn) and self._how.sign_out:
            self.way_out = Pattern(dialect, self._how.sign_out)
        self._verifier = _verifier(self._how, known) if isinstance(self._how, d.SignatureSignIn) else None

    @property
    def shape(self) -> d.Shape | None:
        """Of the answer to the sign-in call, where that has its own."""
        return self._call.shape if self._call else None

    def open(self, asked: Asked, said: Mapping[str, Any]) -> Opening:
        """The answer to a sign-in call that says such things; refused where they are not what the copy knows."""
        if isinstance(self._how, d.ClientCredentials):
            return self._token(self._how, asked)
        assert isinstance(self._how, d.CallSignIn)
        good = all(_same(str(said[name]), self._known[name]) for name in said if name in self._known)
        for name, text in fill_texts(self._how.call.headers, self._known).items():
            good = good and _same(asked.headers.get(name.lower(), ""), text)
        if not good:
            raise Declined(Cause.DENIED, "the credential is not the one of this copy")
        given = {name: token_urlsafe(18) for name in self._how.gives}
        self._sessions.append(given)
        made = Opening()
        for name, where in self._how.gives.items():
            _say(made, where, given[name])
        if self._how.lasts:
            _say(made, self._how.lasts, _LASTS)
        if self._how.carries.cookies and not made.cookies:
            given["cookie"] = made.cookies["copy-session"] = token_urlsafe(18)
        return made

    def _token(self, how: d.ClientCredentials, asked: Asked) -> Opening:
        """RFC 6749, sections 4.4 and 5."""
        form = {name: values[0] for name, values in parse_qs(asked.content.decode(errors="replace")).items()}
        client, secret = str(how.client.fill(self._known)), str(how.secret.fill(self._known))
        good = _same(form.get("client_id", ""), client) and _same(form.get("client_secret", ""), secret)
        if how.send == "basic":
            good = _same(asked.headers.get("authorization", ""), basic(client, secret))
        if form.get("grant_type") != "client_credentials" or not good:
            raise Declined(Cause.DENIED, "the credential is not the one of this copy")
        given = {"token": token_urlsafe(18)}
        self._sessions.append(given)
        return Opening({"access_token": given["token"], "token_type": "Bearer", "expires_in": _LASTS})

    def close(self, asked: Asked) -> None:
        """End the session that a request carries."""
        self._sessions = [given for given in self._sessions if not self._carries(asked, given)]

    def admit(self, asked: Asked) -> None:
        """Refuse a request that does not carry what it should; what signing in adds to it is taken out."""
        how = self._how
        if isinstance(how, d.BasicSignIn):
            user, word = str(how.user.fill(self._known)), str(how.password.fill(self._known))
            good = _same(asked.headers.get("authorization", ""), basic(user, word))
        elif isinstance(how, d.HeaderSignIn):
            good = _same(asked.headers.get(how.header.lower(), ""), str(how.value.fill(self._known)))
        elif isinstance(how, d.QuerySignIn):
            good = _same(asked.query.pop(how.parameter, ""), str(how.value.fill(self._known)))
        elif isinstance(how, d.SignatureSignIn):
            good = self._verifier is not None and self._verifier(asked)
        elif isinstance(how, d.NoSignIn):
            good = True
        else:
            good = any(self._carries(asked, given) for given in self._sessions)
            self._without_pass(asked)
        if not good:
            raise Declined(Cause.DENIED, "nobody is signed in here with what this request carries")

    def _carries(self, asked: Asked, given: Mapping[str, str]) -> bool:
        if isinstance(self._how, d.ClientCredentials):
            return _same(asked.headers.get("authorization", ""), f"Bearer {given['token']}")
        assert isinstance(self._how, d.CallSignIn)
        carries, values = self._how.carries, {**self._known, **given}
        good = all(
            _same(asked.headers.get(name.lower(), ""), text)
            for name, text in fill_texts(carries.headers, values).items()
        )
        good = good and all(
            _same(asked.query.get(name, ""), text) for name, text in fill_texts(carries.query, values).items()
        )
        for told, where in ((carries.body, asked.body), (carries.params, asked.params)):
            if told and isinstance(where, Mapping):
                good = good and all(_same(str(where.get(n)), str(v)) for n, v in fill(told, values).items())
        if carries.cookies:
            cookies = dict(part.strip().partition("=")[::2] for part in asked.headers.get("cookie", "").split(";"))
            set_here = {n: v for n, v in given.items() if n == "cookie"}
            set_here |= {n: given[n] for n, where in self._how.gives.items() if where.cookie}
            good = good and set(set_here.values()) <= set(cookies.values())
        return good

    def _without_pass(self, asked: Asked) -> None:
        if not isinstance(self._how, d.CallSignIn):
            return
        for name in self._how.carries.query:
            asked.query.pop(name, None)
        for told, where in ((self._how.carries.body, asked.body), (self._how.carries.params, asked.params)):
            if isinstance(where, dict):
                for name in told:
                    where.pop(name, None)


def basic(user: str, password: str) -> str:
    """RFC 7617."""
    return f"Basic {base64.b64encode(f'{user}:{password}'.encode()).decode()}"


def _same(one: str, other: str) -> bool:
    return hmac.compare_digest(one.encode(), other.encode())


def _say(made: Opening, where: Source | Path, value: Any) -> None:
    if isinstance(where, Source) and where.header:
        made.headers[where.header] = str(value)
    elif isinstance(where, Source) and where.cookie:
        made.cookies[where.cookie] = str(value)
    else:
        path = where.path if isinstance(where, Source) else where
        if path is None:
            raise untold(f"how {where} is said")
        made.body = placed(made.body, way_to(path), value)


@dataclass
class _Message:
    method: str
    url: str
    headers: Mapping[str, str]


def _verifier(how: d.SignatureSignIn, known: Mapping[str, str]) -> Callable[[Asked], bool]:
    """Whether a request is signed with the copy's key (RFC 9421), and its body is what was signed (RFC 9530)."""
    from http_message_signatures import HTTPMessageVerifier
    from http_message_signatures.exceptions import HTTPMessageSignaturesException
    from http_message_signatures.resolvers import MappingKeyResolver

    from concordex.wire.http.signature import ALGORITHMS

    key, key_id = str(how.key.fill(known)).encode(), str(how.key_id.fill(known))
    both = how.algorithm == "hmac-sha256"
    keys = MappingKeyResolver(public_keys={key_id: key}, private_keys={key_id: key} if both else {})
    verifier = HTTPMessageVerifier(signature_algorithm=ALGORITHMS[how.algorithm], key_resolver=keys)

    def holds(asked: Asked) -> bool:
        wanted = (*how.covers, "content-digest") if asked.content else tuple(how.covers)
        message = _Message(asked.method, asked.url, dict(asked.headers))
        try:
            verifier.verify(
                message, max_age=timedelta(seconds=how.lasts or _OLDEST), require_components=wanted,
                body=asked.content or None,
            )  # fmt: skip
        except (HTTPMessageSignaturesException, ValueError, KeyError):
            return False
        return True

    return holds
