"""Finding dialects: in the workspace first, then those that ship with the program, then those of installed packages."""

from __future__ import annotations

import json
from collections.abc import Mapping
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any

from concordex.documents import check, dotted, line_of, parse_fast, parse_yaml, quickly, read_yaml
from concordex.errors import CalledWrongly, DocumentError
from concordex.wire.dialect import Dialect
from concordex.wire.dialect.common import laid_over, with_lists
from concordex.wire.dialect.packages import packaged
from concordex.wire.dialect.validate import unmeant
from concordex.words import suggestion

#: In the place of a method and a path, where a description stands beside the dialect.
_OPERATION = {
    "operation": {"type": "string", "description": "An operation of `described_by`, in place of method and path."},
    "with": {
        "type": "object", "additionalProperties": {"type": "string"},
        "description": "What stands for the names in the operation's path; a single one is the record's id.",
    },
}  # fmt: skip


@cache
def shipped() -> tuple[str, ...]:
    """The names of the dialects that ship with the program."""
    folder = resources.files("concordex.dialects")
    return tuple(sorted(f.name.removesuffix(".yaml") for f in folder.iterdir() if f.name.endswith(".yaml")))


def find(name: str, folder: Path | None = None) -> Dialect:
    """The dialect called ``name``; a file of that name in ``folder`` goes before a shipped one."""
    own = _own(name, folder)
    if own:
        return quickly(own, lambda document: _checked(document, str(own), folder))
    document, file = _document(name, folder)
    if "extends" in document or name not in shipped():
        return _checked(document, file, folder)
    return _by_itself(name)


@cache
def _by_itself(name: str) -> Dialect:
    """A shipped dialect that rests on no other, made once."""
    return _checked(_shipped(name), f"dialects/{name}.yaml", None)


def text_of(name: str, folder: Path | None = None) -> str:
    """The file of a dialect, as it stands."""
    own = _own(name, folder)
    if own:
        return own.read_text(encoding="utf-8")
    if name not in shipped():
        if name in packaged():
            return packaged()[name].file.read_text(encoding="utf-8")
        raise CalledWrongly(f"there is no dialect {name!r}", advice=suggestion(name, known(folder)))
    return resources.files("concordex.dialects").joinpath(f"{name}.yaml").read_text(encoding="utf-8")


def known(folder: Path | None = None) -> dict[str, str]:
    """Every dialect that a workspace can use, and whether it is ``shipped``, its ``own``, or of which package."""
    own = sorted(file.stem for file in folder.glob("*.yaml")) if folder and folder.is_dir() else []
    brought = {name: f"{one.package} {one.version}" for name, one in packaged().items()}
    return brought | dict.fromkeys(shipped(), "shipped") | dict.fromkeys(own, "own")


def from_file(path: Path) -> Dialect:
    """The dialect in a file; raises DocumentError with file, line and key of every fault."""
    return quickly(path, lambda document: _checked(document, str(path), path.parent))


def from_text(text: str, name: str, folder: Path | None = None) -> Dialect:
    """The dialect in a text that is called ``name``, as if it stood in ``folder``; raises as :func:`from_file`."""
    return _checked(parse_yaml(text, name), name, folder)


def _document(name: str, folder: Path | None) -> tuple[Any, str]:
    own = _own(name, folder)
    if own:
        return read_yaml(own), str(own)
    if name in shipped():
        return _shipped(name), f"dialects/{name}.yaml"
    if name in packaged():
        return read_yaml(packaged()[name].file), str(packaged()[name].file)
    raise CalledWrongly(f"there is no dialect {name!r}", advice=suggestion(name, known(folder)))


def _own(name: str, folder: Path | None) -> Path | None:
    own = folder / f"{name}.yaml" if folder else None
    return own if own and own.is_file() else None


@cache
def _shipped(name: str) -> Any:
    text = resources.files("concordex.dialects").joinpath(f"{name}.yaml").read_text(encoding="utf-8")
    return parse_fast(text)


def _extended(document: Any, file: str, folder: Path | None, path: tuple[str, ...] = ()) -> Any:
    """``document`` laid over the dialect that it extends; a null takes something away."""
    above = document.get("extends") if isinstance(document, Mapping) else None
    if not isinstance(above, str):
        return document
    if above in path or (above == document.get("name") and _is_own(above, file, folder)):
        raise DocumentError(file, [(line_of(document, ("extends",)), "extends", "leads back to this dialect")])
    try:
        parent, parent_file = _document(above, folder)
    except CalledWrongly as error:
        raise DocumentError(
            file, [(line_of(document, ("extends",)), "extends", error.what)], advice=error.advice
        ) from error
    return laid_over(_extended(parent, parent_file, folder, (*path, above)), document)


def _is_own(name: str, file: str, folder: Path | None) -> bool:
    own = _own(name, folder)
    return own is not None and Path(file).exists() and own.samefile(file)


def _checked(document: Any, name: str, folder: Path | None) -> Dialect:
    whole = with_lists(_extended(document, name, folder))
    if isinstance(whole, Mapping) and "described_by" in whole:
        whole = _with_operations(whole, document, name, folder)
    dialect = check(whole, Dialect, name, at=document)
    faults = [(line_of(document, place), dotted(document, place), text) for place, text in unmeant(dialect)]
    if faults:
        raise DocumentError(name, faults)
    return dialect


def _with_operations(whole: Mapping[str, Any], document: Any, name: str, folder: Path | None) -> Any:
    from concordex.wire.dialect.operations import Place, with_operations  # few dialects have a description

    def fault(place: Place, text: str) -> DocumentError:
        return DocumentError(name, [(line_of(document, place), dotted(document, place), text)])

    return with_operations(whole, _beside(document, name, folder), fault)


def _beside(document: Any, file: str, folder: Path | None) -> Path | None:
    """The folder of the dialect that names the description: of this one, or of the one that it extends."""
    while isinstance(document, Mapping) and "described_by" not in document and document.get("extends"):
        document, file = _document(str(document["extends"]), folder)
    return Path(file).parent if Path(file).is_file() else folder


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
    several = [("Task", key) for key in ("done", "failed")]
    several += [("Errors", key) for key in ("message", "expired", "busy", "duplicate", "conflict")]
    for part, key in (("FilterMap", "tests"), ("Write", "required"), ("Write", "unique"), *several):
        _also_text(body["$defs"][part]["properties"], key)
    keys = body["$defs"]["Write"]["properties"]["keys"]
    keys["items"] = {"anyOf": [{"type": "string"}, keys["items"]]}
    _also_text(body["$defs"]["Write"]["properties"], "keys", keys)
    for part in body["$defs"].values():
        if {"path", "method"} <= part.get("properties", {}).keys():
            part["properties"] |= _OPERATION
        if "shape" in part.get("properties", {}):
            _short_shape(part["properties"])
    _short_shape(body["properties"])
    head = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Concordex dialect"}
    return json.dumps(body | head, indent=2, ensure_ascii=False) + "\n"


def _also_text(properties: dict[str, Any], key: str, listed: dict[str, Any] | None = None) -> None:
    """One word may stand where a list of words is meant."""
    kept = {name: properties[key][name] for name in ("description", "default") if name in properties[key]}
    items = listed["items"] if listed else {"type": "string"}
    properties[key] = kept | {"anyOf": [{"type": "string"}, {"type": "array", "items": items}]}


def _short_shape(properties: dict[str, Any]) -> None:
    """`shape: csv` may stand where `shape: {by: csv}` is meant."""
    names = ["json", "xml", "csv", "ndjson", "xlsx", "parquet"]
    properties["shape"] = {"anyOf": [{"enum": names}, properties["shape"]]}
