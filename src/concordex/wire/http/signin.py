"""Signing in: what a request carries, and how that is renewed.

Each way is a small class that asks the session for at most one call; the session decides when.
"""

from __future__ import annotations

import base64
import time
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field
from http.cookies import CookieError, SimpleCookie
from typing import Any

from concordex.errors import BadAnswer, SecretError
from concordex.unseen import UNSEEN, Secret
from concordex.wire import dialect as d
from concordex.wire.dialect.paths import Source
from concordex.wire.dialect.templates import Template, fill, fill_texts
from concordex.wire.http.answers import Answer

#: Makes one call that carries no credential of its own.
MakeCall = Callable[[d.Call], Awaitable[Answer]]

#: Seconds before its end at which a token is no longer used.
_MARGIN = 5
#: Cookies that are as long as that may let somebody in; shorter ones are settings, and words of every day.
_TELLING = 8


@dataclass(frozen=True)
class Credentials:
    """What a request carries to be let in."""

    headers: Mapping[str, str] = field(default_factory=dict)
    query: Mapping[str, str] = field(default_factory=dict)
    body: Mapping[str, Any] = field(default_factory=dict)
    params: Mapping[str, Any] = field(default_factory=dict)
    opening: int = 0  # which sign-in call gave it


class SignIn:
    """No sign-in: requests go as they are."""

    renews = False
    openings = 0  # how often it was signed in

    async def admission(self, _call: MakeCall) -> Credentials:
        """What a request carries now."""
        return Credentials()

    def forget(self) -> None:
        """Drop what was obtained, since the system no longer takes it."""

    def seen(self, headers: Mapping[str, str], cookies: list[str]) -> None:
        """Take over what an answer's headers renew."""

    def sign(self, method: str, url: str, headers: dict[str, str], body: bytes | None) -> None:
        """Sign a request that is ready to be sent, by adding headers."""

    @property
    def way_out(self) -> d.Call | None:
        """The call that ends a session that is open."""
        return None

    @property
    def given(self) -> Mapping[str, Any]:
        """What signing in gave, by the names of the dialect."""
        return {}


class StaticCredentials(SignIn):
    """The same with every request."""

    def __init__(self, admitted: Credentials) -> None:
        self._pass = admitted

    async def admission(self, _call: MakeCall) -> Credentials:
        """What a request carries now."""
        return self._pass


class SessionCredentials(SignIn):
    """A session that a call opens and that runs out."""

    renews = True

    def __init__(self, how: d.CallSignIn, values: Mapping[str, Secret | str]) -> None:
        self._how, self._values = how, values
        UNSEEN.know_parameters(how.carries.query)
        self._given: dict[str, Any] = {}
        self._jar: SimpleCookie = SimpleCookie()
        self._pass: Credentials | None = None
        self._ends = float("inf")
        self.openings = 0

    async def admission(self, call: MakeCall) -> Credentials:
        """What a request carries now, after a sign-in call where one is due."""
        if self._pass is None or time.monotonic() > self._ends:
            begun = time.monotonic()
            self._jar.clear()
            self.openings += 1
            answer = await call(self._how.call)
            self._keep(answer.cookies)
            self._given = {name: self._found(answer, where) for name, where in self._how.gives.items()}
            lasts = answer.at(self._how.lasts) if self._how.lasts else None
            self._ends = begun + float(lasts) - _MARGIN if isinstance(lasts, int | float) else float("inf")
            self._pass = self._made()
        return self._pass

    def _found(self, answer: Answer, where: Source) -> Any:
        value = self._jar[where.cookie].value if where.cookie and where.cookie in self._jar else answer.at(where)
        if not isinstance(value, str | int) or value == "":
            raise BadAnswer(f"the sign-in answer holds nothing at {where}")
        UNSEEN.know([str(value)], passing=True)
        return value

    def _made(self) -> Credentials:
        carries, values = self._how.carries, {**self._values, **self._given}
        headers = fill_texts(carries.headers, values)
        return Credentials(
            headers, fill_texts(carries.query, values), fill(carries.body, values), fill(carries.params, values),
            self.openings,
        )  # fmt: skip

    def seen(self, headers: Mapping[str, str], cookies: list[str]) -> None:
        """Take over cookies, and anti-forgery values in headers, that an answer renews."""
        if self._pass is None:
            return
        self._keep(cookies)
        renewed = False
        for name, where in self._how.gives.items():
            value = headers.get(where.header) if where.header else None
            if where.cookie and where.cookie in self._jar:
                value = self._jar[where.cookie].value
            if value not in (None, self._given.get(name)):
                self._given[name], renewed = value, True
        if renewed:
            UNSEEN.know(map(str, self._given.values()), passing=True)
            self._pass = self._made()

    def _keep(self, cookies: Sequence[str]) -> None:
        for text in cookies:
            try:
                self._jar.load(text)
            except CookieError as error:
                raise BadAnswer("the system sets a cookie that cannot be read (RFC 6265)", why=str(error)) from error
        values = (morsel.value for morsel in self._jar.values())
        UNSEEN.know((value for value in values if len(value) >= _TELLING), passing=True)
        for name in [name for name, morsel in self._jar.items() if morsel["max-age"] == "0" or not morsel.value]:
            del self._jar[name]

    @property
    def given(self) -> Mapping[str, Any]:
        """What signing in gave, by the names of the dialect."""
        return self._given

    def forget(self) -> None:
        """Drop what was given."""
        self._pass = None

    @property
    def way_out(self) -> d.Call | None:
        """The call that ends the session."""
        return self._how.sign_out if self._pass is not None else None


class Signed(SignIn):
    """Every request signed (RFC 9421), its body by its digest (RFC 9530)."""

    def __init__(self, how: d.SignatureSignIn, values: Mapping[str, Secret | str]) -> None:
        try:
            from concordex.wire.http.signature import Signer  # few systems need it
        except ImportError as error:
            raise SecretError(
                "signed requests need a further package", advice="pip install 'concordex[signatures]'"
            ) from error
        self._signer = Signer(how, str(how.key.fill(values)), str(how.key_id.fill(values)))

    def sign(self, method: str, url: str, headers: dict[str, str], body: bytes | None) -> None:
        """Add the headers of the signature."""
        self._signer.sign(method, url, headers, body)


def prepare(sign_in: d.SignIn, credentials: Mapping[str, Secret | str]) -> SignIn:
    """The way to sign in that a dialect declares, with a system's credentials."""
    made: SignIn = SignIn()
    if isinstance(sign_in, d.BasicSignIn):
        made = StaticCredentials(Credentials({"Authorization": _basic(sign_in.user, sign_in.password, credentials)}))
    elif isinstance(sign_in, d.HeaderSignIn):
        made = StaticCredentials(Credentials({sign_in.header: str(sign_in.value.fill(credentials))}))
    elif isinstance(sign_in, d.QuerySignIn):
        UNSEEN.know_parameters([sign_in.parameter])
        made = StaticCredentials(Credentials(query={sign_in.parameter: str(sign_in.value.fill(credentials))}))
    elif isinstance(sign_in, d.CallSignIn):
        made = SessionCredentials(sign_in, credentials)
    elif isinstance(sign_in, d.ClientCredentials):
        made = SessionCredentials(_as_call(sign_in, credentials), credentials)
    elif isinstance(sign_in, d.SignatureSignIn):
        made = Signed(sign_in, credentials)
    return made


def _basic(user: Template, password: Template, credentials: Mapping[str, Secret | str]) -> str:
    pair = f"{user.fill(credentials)}:{password.fill(credentials)}"
    packed = base64.b64encode(pair.encode()).decode()
    UNSEEN.know([packed])
    return f"Basic {packed}"


def _as_call(how: d.ClientCredentials, credentials: Mapping[str, Secret | str]) -> d.CallSignIn:
    form = {"grant_type": "client_credentials", **how.more}
    headers = {}
    if how.send == "basic":
        headers["Authorization"] = _basic(how.client, how.secret, credentials)
    else:
        form |= {"client_id": how.client, "client_secret": how.secret}
    form |= {"scope": how.scope} if how.scope else {}
    return d.CallSignIn(
        by="call",
        call=d.Post(path=how.path, form=form, headers=headers, shape=d.JsonShape()),
        gives={"token": "access_token"},
        lasts="expires_in",
        carries=d.Carried(headers={"Authorization": "Bearer {token}"}),
    )
