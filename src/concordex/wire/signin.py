"""Signing in: which header a request carries, and how it is renewed.

Each way is a small class that asks the session for at most one call; the session decides when.
"""

from __future__ import annotations

import base64
import re
import time
from collections.abc import Awaitable, Callable, Mapping
from typing import Any

from concordex.errors import BadAnswer
from concordex.wire import dialect as d
from concordex.wire.paths import at
from concordex.wire.secrets import Secret

Headers = dict[str, str]
#: Makes one call that carries no credential of its own, and gives the decoded answer.
MakeCall = Callable[[d.Call], Awaitable[Any]]

#: Seconds before its end at which a token is no longer used.
_MARGIN = 5


def fill(template: Any, values: Mapping[str, Secret | str]) -> Any:
    """``template`` with each ``{name}`` replaced, in texts, lists and mappings."""
    if isinstance(template, str):
        return re.sub(r"\{(\w+)\}", lambda found: _reveal(values, found[1], found[0]), template)
    if isinstance(template, Mapping):
        return {key: fill(value, values) for key, value in template.items()}
    return [fill(item, values) for item in template] if isinstance(template, list) else template


def _reveal(values: Mapping[str, Secret | str], name: str, whole: str) -> str:
    value = values.get(name, whole)
    return value.reveal() if isinstance(value, Secret) else value


class SignIn:
    """No sign-in: requests go as they are."""

    renews = False

    async def headers(self, _call: MakeCall) -> Headers:
        """The headers that a request carries now."""
        return {}

    def forget(self) -> None:
        """Drop what was obtained, since the system no longer takes it."""


class Standing(SignIn):
    """The same header with every request."""

    def __init__(self, header: str, value: str) -> None:
        self._headers = {header: value}

    async def headers(self, _call: MakeCall) -> Headers:
        """The headers that a request carries now."""
        return self._headers


class Renewed(SignIn):
    """A token that a call gives and that runs out."""

    renews = True

    def __init__(self, call: d.Call, token: str, lasts: str | None, header: str, value: str) -> None:
        self._call, self._token, self._lasts = call, at(token), at(lasts) if lasts else None
        self._header, self._value = header, value
        self._headers: Headers | None = None
        self._ends = float("inf")

    async def headers(self, call: MakeCall) -> Headers:
        """The headers that a request carries now, after a sign-in call where one is due."""
        if self._headers is None or time.monotonic() > self._ends:
            begun = time.monotonic()
            answer = await call(self._call)
            token = self._token.first(answer)
            if not isinstance(token, str) or not token:
                raise BadAnswer(f"the sign-in answer holds no token at {self._token.text}")
            lasts = self._lasts.first(answer) if self._lasts else None
            self._ends = begun + float(lasts) - _MARGIN if isinstance(lasts, int | float) else float("inf")
            self._headers = {self._header: fill(self._value, {"token": token})}
        return self._headers

    def forget(self) -> None:
        """Drop the token."""
        self._headers = None


def prepare(sign_in: d.SignIn, credentials: Mapping[str, Secret | str]) -> SignIn:
    """The way to sign in that a dialect declares, with a system's credentials."""
    if isinstance(sign_in, d.BasicSignIn):
        pair = f"{fill(sign_in.user, credentials)}:{fill(sign_in.password, credentials)}"
        return Standing("Authorization", f"Basic {base64.b64encode(pair.encode()).decode()}")
    if isinstance(sign_in, d.HeaderSignIn):
        return Standing(sign_in.header, fill(sign_in.value, credentials))
    if isinstance(sign_in, d.CallSignIn):
        call = sign_in.call.model_copy(
            update={
                "json_body": fill(sign_in.call.json_body, credentials),
                "form": fill(sign_in.call.form, credentials),
            }
        )
        return Renewed(call, sign_in.token, sign_in.lasts, sign_in.header, sign_in.value)
    if isinstance(sign_in, d.ClientCredentials):
        form = {
            "grant_type": "client_credentials",
            "client_id": fill(sign_in.client, credentials),
            "client_secret": fill(sign_in.secret, credentials),
        }
        form |= {"scope": sign_in.scope} if sign_in.scope else {}
        call = d.Call(method="POST", path=sign_in.path, form=form)
        return Renewed(call, "access_token", "expires_in", "Authorization", "Bearer {token}")
    return SignIn()
