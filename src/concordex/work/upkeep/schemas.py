"""JSON Schemas (2020-12) of the files that people write into a workspace, for editors and for who makes such files."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

#: The schema language that they are written in.
_LANGUAGE = "https://json-schema.org/draft/2020-12/schema"


def _workspace() -> dict[str, Any]:
    from concordex.work.workspace.config import WorkspaceConfig

    body = WorkspaceConfig.model_json_schema(by_alias=True)
    parts = body["$defs"]
    parts["System"].pop("required", None)  # what is required may be shared
    person = parts["Person"]  # one grant may stand by itself
    person["properties"] |= parts["Grant"]["properties"]
    person.pop("required", None)
    person["anyOf"] = [{"required": ["grants"]}, {"required": ["may"]}]
    parts["Proxy"] = {"anyOf": [{"type": "string"}, parts["Proxy"]]}  # an address may stand by itself
    return body


def _rulings() -> dict[str, Any]:
    from concordex.work.concordance.rulings import Rulebook

    return Rulebook.model_json_schema(by_alias=True)


def _group() -> dict[str, Any]:
    from concordex.work.workspace.groups import GroupFile

    return GroupFile.model_json_schema(by_alias=True)


def _versions() -> dict[str, Any]:
    from concordex.work.workspace.wanted import VersionsFile

    return VersionsFile.model_json_schema(by_alias=True)


def _dialect() -> dict[str, Any]:
    from concordex.wire.dialect.load import schema

    body: dict[str, Any] = json.loads(schema())
    return body


#: What each is called, and which files it is for.
FILES: dict[str, tuple[str, Callable[[], dict[str, Any]]]] = {
    "workspace": ("concordex.yaml", _workspace), "dialect": ("dialects/NAME.yaml", _dialect),
    "rulings": ("rulings.yaml", _rulings), "group": ("groups/NAME.yaml", _group),
    "versions": ("versions/NAME.yaml", _versions),
}  # fmt: skip


def schema_text(name: str) -> str:
    """The schema of that name, as JSON text."""
    file, make = FILES[name]
    body = {"$schema": _LANGUAGE, "title": f"Concordex: {file}", **make()}
    body["title"] = f"Concordex: {file}"
    return json.dumps(body, indent=2, ensure_ascii=False) + "\n"
