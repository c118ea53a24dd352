"""How a console signed in, by its recording: the call that gave what the later ones carried."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from concordex.insight.draft.seen import ApiSeen
from concordex.insight.recorded import GivenCredential, Recorded, is_secret, is_standard

#: A value that is shorter is no key.
_KEY = 8


def add_sign_in(seen: ApiSeen, given: Sequence[GivenCredential], calls: Sequence[Recorded]) -> None:
    """The sign-in of a console: the call whose answer gave what the later ones carried, or what all of them carry."""
    used = [one for one in given if one.call.method == "POST" and one.call.sent is not None]
    if used:
        best = max(used, key=lambda one: one.times)
        mine = [one for one in used if one.call.number == best.call.number and one.times * 2 >= best.times]
        if isinstance(best.call.sent, Mapping) and best.call.sent.get("grant_type") == "client_credentials":
            seen.sign_in = {"by": "client_credentials", "path": best.call.path}
            seen.sign_in_why = "OAuth 2.0, grant_type=client_credentials (RFC 6749, 4.4)"
            seen.credentials = {"client": {}, "secret": {"secret": True}}
            return
        _by_call(seen, best.call, mine)
        return
    for name, value in calls[-1].headers if calls else ():
        if name.lower() == "authorization" and value.lower().startswith("basic "):
            seen.sign_in, seen.sign_in_why = {"by": "basic"}, "every request carried Authorization: Basic (RFC 7617)"
            seen.credentials = {"user": {}, "password": {"secret": True}}
        elif name.lower() == "signature-input":
            told = re.search(r'alg="([\w-]+)"', value)
            seen.sign_in = {"by": "signature", **({"algorithm": told[1]} if told else {})}
            seen.sign_in_why = "requests were signed (RFC 9421)"
            seen.credentials = {"key_id": {}, "key": {"secret": True}}
        elif name.lower() != "cookie" and (is_secret(name) or _with_all(name, value, calls)):
            manner, space, _ = value.partition(" ")
            text = f"{manner} {{token}}" if space else "{token}"
            seen.sign_in = {"by": "header", "header": name, "value": text}
            seen.sign_in_why = f"requests carried the header {name}, and no answer gave what stands in it"
            seen.credentials = {"token": {"secret": True}}
        else:
            continue
        return


def _with_all(name: str, value: str, calls: Sequence[Recorded]) -> bool:
    """Whether a header of no standard stands in every call, the same, and looks like a key."""
    return (
        not is_standard(name) and len(value) >= _KEY
        and all((name, value) in list(call.headers) for call in calls)
    )  # fmt: skip


def _by_call(seen: ApiSeen, call: Recorded, given: Sequence[GivenCredential]) -> None:
    sent = call.sent if isinstance(call.sent, Mapping) else {}
    method = str(sent["method"]) if "jsonrpc" in sent and "method" in sent else None
    named = sent.get("params") if method else sent
    body, credentials = _with_names(named if isinstance(named, Mapping) else {})
    form = any("x-www-form-urlencoded" in value for name, value in call.headers if name.lower() == "content-type")
    gives: dict[str, str] = {}
    carries: dict[str, Any] = {}
    for number, one in enumerate(given):
        kind, _, where = one.carried.partition(" ")
        if kind == "cookie":
            carries["cookies"] = True
            continue
        name = f"given{number or ''}"
        place = one.gives.removeprefix("result.") if method else one.gives
        gives[name] = place.replace("cookie ", "cookie:").replace("header ", "header:")
        header, _, manner = where.partition(" (")
        if kind == "header":
            carries.setdefault("headers", {})[header] = (
                f"{manner.removesuffix(')')} {{{name}}}" if manner else f"{{{name}}}"
            )
        else:
            carries.setdefault("body" if kind == "member" else "query", {})[where] = f"{{{name}}}"
    if method:
        told: dict[str, Any] = {"rpc": method, "params": body}
        seen.rpc = seen.rpc or call.path
    else:
        told = {"path": call.path, **({"method": call.method} if call.method != "POST" else {})}
        told |= {"form" if form else "json": body} if body else {}
    seen.sign_in = {"by": "call", "call": told, **({"gives": gives} if gives else {}), "carries": carries}
    seen.sign_in_why = f"{max(one.times for one in given)} later requests carried what its answer gave"
    seen.credentials = credentials


def _with_names(sent: Mapping[str, Any]) -> tuple[dict[str, Any], dict[str, dict[str, Any]]]:
    """What is sent to sign in, with names in the place of what a person knows; and these names."""
    body: dict[str, Any] = {}
    credentials: dict[str, dict[str, Any]] = {}
    texts = [name for name, value in sent.items() if isinstance(value, str)]
    secret = [name for name in texts if is_secret(name)] or texts[1:]  # of two texts the second is the secret
    for name, value in sent.items():
        if name in texts and re.fullmatch(r"[A-Za-z_]\w*", name):
            credentials[name] = {"secret": True} if name in secret else {}
            body[name] = f"{{{name}}}"
        else:
            body[name] = value
    return body, credentials
