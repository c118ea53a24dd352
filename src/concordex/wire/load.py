"""Finding dialects: in the workspace first, then those that ship with the program."""

from __future__ import annotations

import json
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any

from concordex.documents import check, dotted, line_of, parse_yaml, read_yaml
from concordex.errors import CalledWrongly, DocumentError
from concordex.wire.dialect import Dialect
from concordex.wire.paths import Path as MemberPath
from concordex.wire.paths import PathError
from concordex.words import suggestion


@cache
def shipped() -> tuple[str, ...]:
    """The names of the dialects that ship with the program."""
    folder = resources.files("concordex.dialects")
    return tuple(sorted(f.name.removesuffix(".yaml") for f in folder.iterdir() if f.name.endswith(".yaml")))


def find(name: str, folder: Path | None = None) -> Dialect:
    """The dialect called ``name``; a file of that name in ``folder`` goes before a shipped one."""
    own = folder / f"{name}.yaml" if folder else None
    if own and own.is_file():
        return from_file(own)
    if name in shipped():
        return _shipped(name)
    known = [*shipped(), *(f.stem for f in folder.glob("*.yaml"))] if folder else list(shipped())
    raise CalledWrongly(f"there is no dialect {name!r}", advice=suggestion(name, known))


def from_file(path: Path) -> Dialect:
    """The dialect in a file; raises DocumentError with file, line and key of every fault."""
    return _checked(read_yaml(path), str(path))


@cache
def _shipped(name: str) -> Dialect:
    text = resources.files("concordex.dialects").joinpath(f"{name}.yaml").read_text(encoding="utf-8")
    return _checked(parse_yaml(text, f"dialects/{name}.yaml"), f"dialects/{name}.yaml")


def _checked(document: Any, name: str) -> Dialect:
    dialect = check(document, Dialect, name)
    faults = []
    for location, path in _member_paths(dialect):
        try:
            MemberPath(path)
        except PathError as error:
            faults.append((line_of(document, location), dotted(document, location), str(error)))
    if faults:
        raise DocumentError(name, faults, advice="paths are plain members (a.b.c) or JSONPath (RFC 9535)")
    return dialect


def _member_paths(dialect: Dialect) -> list[tuple[tuple[str | int, ...], str]]:
    found: list[tuple[tuple[str | int, ...], str]] = []
    for name, table in dialect.tables.items():
        found.append((("tables", name, "read", "records"), table.read.records))
        if table.read.total:
            found.append((("tables", name, "read", "total"), table.read.total))
        for field, spec in table.fields.items():
            found += [(("tables", name, "fields", field), path) for path in spec.from_]
    return found


def schema() -> str:
    """The JSON Schema (2020-12) of the dialect format, for editors."""
    body = Dialect.model_json_schema(by_alias=True)
    field_map, field_write = body["$defs"]["FieldMap"], body["$defs"]["FieldWrite"]
    _also_text(field_map["properties"], "from")
    for table, shorthand in (("Table", field_map), ("Write", field_write)):
        slot = body["$defs"][table]["properties"]["fields"]
        slot["additionalProperties"] = {"anyOf": [{"type": "string"}, {"$ref": f"#/$defs/{shorthand['title']}"}]}
        if table == "Table":
            slot["additionalProperties"]["anyOf"].append({"type": "array", "items": {"type": "string"}})
    for part, key in (("FilterMap", "tests"), ("Write", "required"), ("Write", "unique")):
        _also_text(body["$defs"][part]["properties"], key)
    keys = body["$defs"]["Write"]["properties"]["keys"]
    keys["items"] = {"anyOf": [{"type": "string"}, keys["items"]]}
    _also_text(body["$defs"]["Write"]["properties"], "keys", keys)
    head = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Concordex dialect"}
    return json.dumps(body | head, indent=2, ensure_ascii=False) + "\n"


def _also_text(properties: dict[str, Any], key: str, listed: dict[str, Any] | None = None) -> None:
    """One word may stand where a list of words is meant."""
    kept = {name: properties[key][name] for name in ("description", "default") if name in properties[key]}
    items = listed["items"] if listed else {"type": "string"}
    properties[key] = kept | {"anyOf": [{"type": "string"}, {"type": "array", "items": items}]}
