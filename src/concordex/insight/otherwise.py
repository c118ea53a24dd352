"""What other standards say of an API, as the document that an OpenAPI description would be: one reader reads them all.

OData's metadata (CSDL XML 4.01, OASIS), a GraphQL schema by introspection (GraphQL specification, section 4), and
what a RESTCONF server says of itself (RFC 8040, sections 3.3 and 4.8.2; RFC 8525 and RFC 7895).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

#: The question that a GraphQL service answers with its schema (section 4.2), as far as it is needed here.
INTROSPECTION = (
    "query { __schema { queryType { name } mutationType { name } types { kind name description"
    " enumValues { name } inputFields { name type { ...T } }"
    " fields { name description isDeprecated args { name description type { ...T } } type { ...T } } } } }"
    " fragment T on __Type { kind name ofType { kind name ofType { kind name ofType { kind name } } } }"
)
#: Edm's types as JSON Schema has them; every other is a text.
_EDM = {
    "Edm.Boolean": {"type": "boolean"}, "Edm.Int16": {"type": "integer"}, "Edm.Int32": {"type": "integer"},
    "Edm.Int64": {"type": "integer"}, "Edm.Double": {"type": "number"}, "Edm.Decimal": {"type": "number"},
    "Edm.DateTimeOffset": {"type": "string", "format": "date-time"}, "Edm.Guid": {"type": "string", "format": "uuid"},
}  # fmt: skip
#: What every list of OData may be asked (OData 4.01, part 2, section 5.1).
_OPTIONS = {
    "$filter": "which records", "$select": "which members", "$top": "how many", "$skip": "after how many",
    "$orderby": "in which order", "$count": "true: how many there are in all",
    "$expand": "what hangs from them as well",
}  # fmt: skip
#: What a request for data may be narrowed by (RFC 8040, section 4.8).
_NARROWED = [
    {"name": "depth", "in": "query", "description": "how deep (4.8.2)", "schema": {"type": "string"}},
    {"name": "fields", "in": "query", "description": "which members (4.8.3)", "schema": {"type": "string"}},
    {"name": "content", "in": "query", "schema": {"enum": ["all", "config", "nonconfig"]}},
]
#: How deep the fields of a GraphQL example go.
_DEEP = 2


def _listed(given: Any) -> list[Mapping[str, Any]]:
    """What XML has once or several times, as a list."""
    items = given if isinstance(given, list) else [] if given is None else [given]
    return [item for item in items if isinstance(item, Mapping)]


def of_odata(document: Mapping[str, Any], base: str) -> dict[str, Any]:
    """Metadata that was read from XML, of a service whose root is ``base``; ValueError where it is none."""
    edmx = document.get("Edmx")
    services = _listed(edmx.get("DataServices")) if isinstance(edmx, Mapping) else []
    schemas = [schema for service in services for schema in _listed(service.get("Schema"))]
    if not schemas:
        raise ValueError("holds no schema of OData")
    types = {
        f"{schema.get('@Namespace')}.{one.get('@Name')}": one
        for schema in schemas for kind in ("EntityType", "ComplexType") for one in _listed(schema.get(kind))
    }  # fmt: skip
    paths: dict[str, Any] = {}
    for schema in schemas:
        for container in _listed(schema.get("EntityContainer")):
            for one in _listed(container.get("EntitySet")):
                paths |= _entity_set(f"{base}/{one.get('@Name')}", str(one.get("@Name")), one.get("@EntityType"), types)
            for kind, method in (("FunctionImport", "get"), ("ActionImport", "post")):
                for one in _listed(container.get(kind)):
                    name = str(one.get("@Name"))
                    paths[f"{base}/{name}"] = {method: {"operationId": name, "tags": [kind]}}
    title = str(schemas[0].get("@Namespace") or "")
    release = edmx.get("@Version") if isinstance(edmx, Mapping) else None
    told_by = f"OData {release or '4'} metadata"
    return {"openapi": "3.1.0", "x-told-by": told_by, "info": {"title": title}, "paths": paths}


def _entity_set(path: str, name: str, kind: Any, types: Mapping[str, Mapping[str, Any]]) -> dict[str, Any]:
    schema = _of_type(str(kind), types, 0)
    known = types.get(str(kind), {})
    keys = [str(ref.get("@Name")) for key in _listed(known.get("Key")) for ref in _listed(key.get("PropertyRef"))]
    options = [
        {"name": n, "in": "query", "description": about, "schema": {"type": "string"}} for n, about in _OPTIONS.items()
    ]
    many = _answers("a page of it", {"type": "object", "properties": {"value": {"type": "array", "items": schema}}})
    one = {"tags": [name], "parameters": [{"name": keys[0] if keys else "key", "in": "path"}]}
    body = {"requestBody": {"content": {"application/json": {"schema": schema}}}}
    single = f"{path}({{{keys[0] if keys else 'key'}}})"
    return {
        path: {
            "get": {"operationId": name, "tags": [name], "summary": f"the list of {name}", "parameters": options,
                    "responses": many},
            "post": {"operationId": f"create_{name}", "tags": [name], "summary": "make one", **body},
        },
        single: {
            "get": {"operationId": f"{name}_by_key", **one, "summary": f"one of {name}",
                    "responses": _answers("it", schema)},
            "patch": {"operationId": f"alter_{name}", **one, "summary": "alter one", **body},
            "delete": {"operationId": f"delete_{name}", **one, "summary": "delete one"},
        },
    }  # fmt: skip


def _answers(about: str, schema: Mapping[str, Any]) -> dict[str, Any]:
    return {"200": {"description": about, "content": {"application/json": {"schema": schema}}}}


def _of_type(name: str, types: Mapping[str, Mapping[str, Any]], depth: int) -> dict[str, Any]:
    if name.startswith("Collection("):
        return {"type": "array", "items": _of_type(name[len("Collection(") : -1], types, depth + 1)}
    told = types.get(name)
    if told is None or depth > _DEEP:
        return dict(_EDM.get(name, {"type": "string"}))
    above = str(told.get("@BaseType") or "")
    properties = _of_type(above, types, depth + 1).get("properties", {}) if above in types else {}
    own = {
        str(one.get("@Name")): _of_type(str(one.get("@Type") or "Edm.String"), types, depth + 1)
        for one in _listed(told.get("Property"))
    }
    return {"type": "object", "properties": {**properties, **own}}


def of_graphql(answer: Any, path: str) -> dict[str, Any]:
    """A schema as introspection gave it, of a service at ``path``; ValueError where it is none."""
    data = answer.get("data") if isinstance(answer, Mapping) else None
    schema = data.get("__schema") if isinstance(data, Mapping) else None
    if not isinstance(schema, Mapping) or not isinstance(schema.get("types"), list):
        raise ValueError("is no answer to a question for a GraphQL schema")  # noqa: TRY004 - of the answer
    types = {str(one.get("name")): one for one in schema["types"] if isinstance(one, Mapping)}
    paths: dict[str, Any] = {}
    for root, word in (("queryType", "query"), ("mutationType", "mutation")):
        name = (schema.get(root) or {}).get("name")
        for one in _fields(types.get(str(name))):
            document = _question(one, word, types)
            body = {"type": "object", "example": {"query": document, "variables": {}}}
            args = [
                {
                    "name": str(arg.get("name")), "in": "variable", "description": arg.get("description"),
                    "required": (arg.get("type") or {}).get("kind") == "NON_NULL",
                    "schema": {"type": _named(arg.get("type"))},
                }
                for arg in one.get("args") or [] if isinstance(arg, Mapping)
            ]  # fmt: skip
            paths[f"{path}#{one['name']}"] = {
                "post": {
                    "operationId": str(one["name"]), "tags": [word], "summary": one.get("description") or "",
                    "deprecated": bool(one.get("isDeprecated")), "x-question": document, "parameters": args,
                    "requestBody": {"content": {"application/json": {"schema": body}}},
                }
            }  # fmt: skip
    return {"openapi": "3.1.0", "x-told-by": "GraphQL, by introspection", "info": {"title": "GraphQL"}, "paths": paths}


def _fields(given: Any) -> Iterator[Mapping[str, Any]]:
    for one in (given.get("fields") or []) if isinstance(given, Mapping) else []:
        if isinstance(one, Mapping) and one.get("name"):
            yield one


def _named(kind: Any) -> str:
    """A type as it is written: ``[Lamp!]!``."""
    if not isinstance(kind, Mapping):
        return ""
    if kind.get("kind") == "NON_NULL":
        return f"{_named(kind.get('ofType'))}!"
    if kind.get("kind") == "LIST":
        return f"[{_named(kind.get('ofType'))}]"
    return str(kind.get("name") or "")


def _bare(kind: Any) -> str:
    while isinstance(kind, Mapping) and kind.get("ofType"):
        kind = kind["ofType"]
    return str(kind.get("name") or "") if isinstance(kind, Mapping) else ""


def _question(one: Mapping[str, Any], word: str, types: Mapping[str, Any]) -> str:
    """A document that asks for a field with all plain members of what it gives; all its arguments are variables, which
    may be left away unless they are needed (section 2.10).
    """
    args = [arg for arg in one.get("args") or [] if isinstance(arg, Mapping) and arg.get("name")]
    declared = ", ".join(f"${arg['name']}: {_named(arg.get('type'))}" for arg in args)
    passed = ", ".join(f"{arg['name']}: ${arg['name']}" for arg in args)
    members = _members(_bare(one.get("type")), types)
    head = f"{word} {f'({declared}) ' if declared else ''}"
    return f"{head}{{ {one['name']}{f'({passed})' if passed else ''}{members} }}"


def _members(name: str, types: Mapping[str, Any], above: tuple[str, ...] = ()) -> str:
    """The plain members of a type, and those of what it holds, as deep as an example goes and never in a circle."""
    told = list(_fields(types.get(name)))
    if not told:
        return ""
    plain = [str(one["name"]) for one in told if not list(_fields(types.get(_bare(one.get("type")))))]
    within = (*above, name)
    below = [
        f"{one['name']}{_members(_bare(one.get('type')), types, within)}"
        for one in told
        if len(above) < _DEEP
        and one["name"] not in plain
        and not one.get("args")
        and _bare(one.get("type")) not in within
    ]
    return f" {{ {' '.join([*plain, *below]) or '__typename'} }}"


def of_restconf(library: Any, data: Any, operations: Any, root: str) -> dict[str, Any]:
    """What a RESTCONF server offers below ``root``: its modules, the nodes at the top of its data, its operations."""
    modules = dict(_modules(library))
    paths: dict[str, Any] = {}
    for name in _top(data):
        module = name.partition(":")[0]
        paths[f"{root}/data/{name}"] = {
            "get": {
                "operationId": name, "tags": [module],
                "summary": f"all of it (RFC 8040, 4.3){_release(modules, module)}", "parameters": _NARROWED,
            }
        }  # fmt: skip
    for name in _top(operations, "ietf-restconf:operations", "operations"):
        paths[f"{root}/operations/{name}"] = {
            "post": {
                "operationId": f"do {name}",
                "tags": [name.partition(":")[0]],
                "summary": "an operation (RFC 8040, 4.4.2)",
            }
        }
    shown = {name.partition(":")[0] for name in _top(data)}
    for module in sorted(modules.keys() - shown):
        paths[f"{root}/data/ietf-yang-library:yang-library#{module}"] = {
            "get": {"operationId": f"module {module}", "tags": ["modules without data at the top"],
                    "summary": f"a YANG module{_release(modules, module)}"}
        }  # fmt: skip
    return {"openapi": "3.1.0", "x-told-by": "RESTCONF (RFC 8040)", "info": {"title": "RESTCONF"}, "paths": paths}


def _release(modules: Mapping[str, str], module: str) -> str:
    return f", {module} of {modules[module]}" if modules.get(module) else ""


def _modules(library: Any) -> Iterator[tuple[str, str]]:
    """Each module and its revision, by RFC 8525 or as before it by RFC 7895."""
    if not isinstance(library, Mapping):
        return
    held = library.get("ietf-yang-library:yang-library")
    sets: Sequence[Any] = (held or {}).get("module-set") or [] if isinstance(held, Mapping) else []
    before = library.get("ietf-yang-library:modules-state")
    sets = [*sets, *([before] if isinstance(before, Mapping) else [])]
    for one in sets:
        for module in (one.get("module") or []) if isinstance(one, Mapping) else []:
            if isinstance(module, Mapping) and module.get("name"):
                yield str(module["name"]), str(module.get("revision") or "")


def _top(answer: Any, *within: str) -> list[str]:
    """The names at the top of an answer, with their modules."""
    names = within or ("ietf-restconf:data", "data")
    held = next((answer[name] for name in names if isinstance(answer, Mapping) and name in answer), answer)
    return [str(name) for name in held if ":" in str(name)] if isinstance(held, Mapping) else []
