"""Operations of an OpenAPI description that stands beside a dialect, in the place of methods and paths."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any

from concordex.insight.described import Described, NotDescribed, Operation, described
from concordex.insight.described_sign_in import sign_in_of
from concordex.insight.draft.seen import lists
from concordex.words import suggestion

#: A description stands beside its dialect, and nowhere else; so large at the most.
_BESIDE, _LARGEST = re.compile(r"[A-Za-z0-9][\w.-]*\.openapi\.json"), 32_000_000
#: Where a word is what is sent, or a name of ours, and no call.
_SENT = {"json", "form", "xml", "params", "query", "headers", "fields", "values", "credentials", "codes"}
Place = tuple[str | int, ...]
Fault = Callable[[Place, str], Exception]


def with_operations(document: Mapping[str, Any], folder: Path | None, fault: Fault) -> Any:
    """The document with the method and path of each ``operation`` that the description beside it has.

    ``fault`` makes the error for what is wrong at a place.  Where the dialect does not say how to sign in, the
    description does.
    """
    where = document["described_by"]
    told = _described(where, folder, lambda text: fault(("described_by",), text))
    base = f"/{str(document.get('base') or '').strip('/')}".rstrip("/")
    done = _resolved(document, (), told, base, fault)
    found = sign_in_of(told) if "sign_in" not in document else None
    if found is not None:
        done["sign_in"] = found.how
        done["credentials"] = {**found.credentials, **(document.get("credentials") or {})}
    return done


def _described(where: Any, folder: Path | None, fault: Callable[[str], Exception]) -> Described:
    if not isinstance(where, str) or not _BESIDE.fullmatch(where):
        raise fault("should be the name of a file beside the dialect that ends with .openapi.json")
    file = folder / where if folder is not None else None
    if file is None or not file.is_file():
        raise fault(f"there is no {where} beside the dialect")
    if file.stat().st_size > _LARGEST:
        raise fault(f"{where} is larger than {_LARGEST:,} bytes")
    try:
        return described(json.loads(file.read_bytes()))
    except (NotDescribed, ValueError, RecursionError) as error:
        raise fault(f"{where} {error if isinstance(error, NotDescribed) else 'is no JSON'}") from error


def _resolved(value: Any, place: Place, told: Described, base: str, fault: Fault) -> Any:
    if isinstance(value, list):
        return [_resolved(one, (*place, at), told, base, fault) for at, one in enumerate(value)]
    if not isinstance(value, Mapping):
        return value
    done = {key: _resolved(one, (*place, key), told, base, fault) for key, one in value.items()}
    if "operation" in value and not _SENT & {*place}:
        _to_call(done, place, told, base, fault)
    return done


def _to_call(call: dict[str, Any], place: Place, told: Described, base: str, fault: Fault) -> None:
    """Put the method and the path of its operation into a call."""
    name = str(call.pop("operation"))
    operation = told.named(name)
    if operation is None:
        advice = suggestion(name, [one.name for one in told.operations])
        raise fault((*place, "operation"), f"the description has no {name!r}{f'; {advice}' if advice else ''}")
    if "path" in call:
        raise fault((*place, "path"), "the operation has one: say one of the two")
    if base and not operation.path.startswith(f"{base}/"):
        raise fault((*place, "operation"), f"{operation.path} does not begin with the base {base}")
    call["path"] = _path(operation, base, call.pop("with", None) or {}, place, fault)
    if operation.method != "GET" or "read" not in place:
        call["method"] = operation.method
    unknown = next(_unknown(operation, call), None)
    if unknown is not None:
        takes = [one.name for one in operation.parameters if one.stands == "query"]
        raise fault(place, f"{operation.name} takes no parameter {unknown!r}; it takes {', '.join(takes) or 'none'}")
    if place[-1:] == ("read",) and "records" not in call and operation.returns is not None:
        places = [where for where, _ in lists(operation.returns)]
        if len(places) == 1:
            call["records"] = places[0]


def _path(operation: Operation, base: str, given: Mapping[str, Any], place: Place, fault: Fault) -> str:
    """The path with names of ours: the only name in it is the record's id, several are said by ``with``."""
    path, names = operation.path.removeprefix(base), re.findall(r"\{([^{}]*)\}", operation.path)
    for name in names:
        if name not in given and len(names) > 1:
            raise fault((*place, "operation"), f"its path has several names: with: {{{name}: …}} says what {name} is")
        path = path.replace(f"{{{name}}}", str(given.get(name, "{record_id}")))
    unknown = next((name for name in given if name not in names), None)
    if unknown is not None:
        raise fault((*place, "with", unknown), f"{operation.path} has no such name")
    return path


def _unknown(operation: Operation, call: Mapping[str, Any]) -> Iterator[str]:
    """The parameters of the address that a call sends and its operation does not take."""
    takes = {one.name for one in operation.parameters if one.stands == "query"}
    pages, query = (value if isinstance(value := call.get(key), Mapping) else {} for key in ("pages", "query"))
    by_query = call.get("sends") in (None, "query") and "json" not in call
    paged = [pages[key] for key in ("offset", "limit", "page", "cursor", "since", "until") if key in pages]
    yield from (str(name) for name in [*query, *(paged if by_query else ())] if name not in takes)
