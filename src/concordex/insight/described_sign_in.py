"""How a description says that one signs in, as a dialect says it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

from concordex.insight.described import Described


@dataclass(frozen=True)
class DescribedSignIn:
    """What a dialect says under ``sign_in`` and ``credentials``, and what the description calls it."""

    name: str
    how: dict[str, Any]
    credentials: dict[str, Any]


def sign_in_of(told: Described) -> DescribedSignIn | None:
    """The first way of signing in that is described and that a dialect can say; None where there is none."""
    for name, scheme in told.security.items():
        found = _scheme(scheme)
        if found is not None:
            return DescribedSignIn(name, *found)
    return None


def _scheme(told: Mapping[str, Any]) -> tuple[dict[str, Any], dict[str, Any]] | None:
    kind, scheme = str(told.get("type")), str(told.get("scheme") or "").lower()
    if kind == "basic" or (kind == "http" and scheme == "basic"):
        return {"by": "basic"}, {"user": {}, "password": {"secret": True}}
    if kind == "http" and scheme == "bearer":
        how = {"by": "header", "header": "Authorization", "value": "Bearer {token}"}
        return how, {"token": {"secret": True}}
    if kind == "apiKey" and told.get("in") in ("header", "query"):
        header = told["in"] == "header"
        how = {"by": told["in"], "header" if header else "parameter": str(told.get("name")), "value": "{key}"}
        return how, {"key": {"secret": True}}
    flows = told.get("flows") if isinstance(told.get("flows"), Mapping) else {}
    flow = flows.get("clientCredentials") if flows else (told if told.get("flow") == "application" else None)
    if kind == "oauth2" and isinstance(flow, Mapping) and flow.get("tokenUrl"):
        path = urlsplit(str(flow["tokenUrl"])).path
        return {"by": "client_credentials", "path": path or "/"}, {"client": {}, "secret": {"secret": True}}
    return None
