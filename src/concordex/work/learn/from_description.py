"""What an OpenAPI description, or what is read as one, says of an API."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from urllib.parse import urlsplit

from concordex.insight.described import Described
from concordex.insight.draft.seen import AnswerSeen, ApiSeen, ListSeen, WriteSeen, lists


def of_description(told: Described) -> ApiSeen:
    """What a description says: its lists, by the answers that it describes, what may be written, how one signs in."""
    seen = ApiSeen(title=told.title, notes=list(told.notes))
    for operation in told.operations:
        if operation.deprecated:
            continue
        if operation.method != "GET":
            sends = [one.name for one in operation.parameters if one.stands == "body"]
            seen.writes.append(WriteSeen(method=operation.method, path=operation.path, sends=sends))
            continue
        body = operation.returns
        takes = [one.name for one in operation.parameters if one.stands == "query"]
        listed = ListSeen(path=operation.path, takes=takes, about=operation.about, from_="the description")
        if body is not None:
            listed.answers = [AnswerSeen(parameters={}, body=body)]
            listed.records = next((path for path, _ in lists(body)), None)
        seen.lists.append(listed)
    for name, scheme in told.security.items():
        if (found := _scheme(scheme)) is not None:
            seen.sign_in, seen.credentials = found
            seen.sign_in_why = f"the description says so ({name})"
            break
    return seen


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
