"""The description of a system's API: a file of the workspace, or what the system serves, kept for the next time."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, urlsplit

import orjson

from concordex.documents import NotYaml, Unbounded, parse_fast, read_text
from concordex.errors import CalledWrongly, ConcordexError, WireError
from concordex.insight.described import Described, NotDescribed, Operation, described
from concordex.insight.otherwise import INTROSPECTION, of_graphql, of_odata, of_restconf
from concordex.landing import landing
from concordex.parallel import completed
from concordex.wire import dialect as d
from concordex.wire.http.formats import decode
from concordex.wire.http.session import Request
from concordex.work.learn.from_guide import of_guide

if TYPE_CHECKING:
    from pathlib import Path

    from concordex.work.workspace.base import BaseWorkspace


def description(workspace: BaseWorkspace, system: str, *, kept: bool = False) -> Described:
    """The description of a system; with ``kept``, the one of last time where there is one."""
    name, _ = workspace.target(system)
    settings = workspace.config.systems.get(name)
    where = settings.describes if settings is not None else None
    if where is None:
        raise CalledWrongly(
            f"nothing says where {system} is described",
            advice=f"systems: {name}: describes: in concordex.yaml: a path that it serves, or a file",
        )
    standard, _, path = where.partition(":")
    file = workspace.root / where
    if standard not in _ASKED and (not where.startswith(("/", "http:", "https:")) or file.is_file()):
        return described_in(file)
    copy = _copy(workspace, name)
    if kept and copy.is_file():
        return _described(orjson.loads(copy.read_bytes()), str(copy))
    if standard in _ASKED:
        document = completed(_ASKED[standard](workspace, name, path))
    else:
        document = _document(completed(_served(workspace, name, where)).decode(errors="replace"), where)
    found = _described(document, where)
    copy.parent.mkdir(parents=True, exist_ok=True)
    with landing(copy, private=True) as making:
        making.write_bytes(orjson.dumps(document))
    return found


def described_in(file: Path) -> Described:
    """The description in a file."""
    return _described(_document(read_text(file), str(file)), str(file))


def kept_description(workspace: BaseWorkspace, system: str) -> Described | None:
    """The description that is at hand without asking anybody; None where there is none."""
    name, _ = workspace.target(system)
    settings = workspace.config.systems.get(name)
    if settings is None or settings.describes is None:
        return None
    try:
        if _copy(workspace, name).is_file() or (workspace.root / settings.describes).is_file():
            return description(workspace, name, kept=True)
    except ConcordexError:
        return None
    return None


def is_question(workspace: BaseWorkspace, system: str, operation: Operation) -> bool:
    """Whether an operation is asked as a document of GraphQL: where the workspace says so, whatever a description does.

    A description is believed to lie, and such a document is sent as one that only reads.
    """
    name, _ = workspace.target(system)
    path = operation.path.partition("#")[0]
    return bool(operation.question) and workspace.config.systems[name].describes == f"graphql:{path}"


def address_of(workspace: BaseWorkspace, system: str, operation: Operation) -> str:
    """The full address of an operation, on the system's own host: a description may name another."""
    name, _ = workspace.target(system)
    url = urlsplit(workspace.config.systems[name].url)
    standard = str(workspace.config.systems[name].describes).partition(":")[0]
    below = "" if standard in _ASKED else url.path.rstrip("/")  # its paths are whole: so they were asked for
    path = operation.path if operation.path.startswith(f"{below}/") else f"{below}{operation.path}"
    return f"{url.scheme}://{url.netloc}{path}"


async def _served(workspace: BaseWorkspace, name: str, where: str) -> bytes:
    url = urlsplit(workspace.config.systems[name].url)
    path = where if where.startswith("http") else f"{url.scheme}://{url.netloc}{where}"
    async with workspace.session(name) as session:
        accept = {"Accept": "application/xml"} if path.endswith("/$metadata") else {}  # OData 4: else it may be JSON
        made = await session.exchange(Request(method="GET", path=path, shape=d.JsonShape(), headers=accept))
    if made.reply.status != 200:
        raise WireError(f"{where} answered {made.reply.status}", where=name, advice="does `describes` name its path?")
    return made.reply.content


async def _of_graphql(workspace: BaseWorkspace, name: str, path: str) -> dict[str, Any]:
    content = (orjson.dumps({"query": INTROSPECTION}), "application/json")
    address = _full(workspace, name, path)
    asked = Request(method="POST", path=address, shape=d.JsonShape(), content=content)
    answer = await _asked(workspace, name, [asked])
    return _made(of_graphql, answer[0], path)


async def _of_restconf(workspace: BaseWorkspace, name: str, root: str) -> dict[str, Any]:
    """The library of modules, the data one level deep, and the operations: each as far as the device has it."""
    accept = {"Accept": "application/yang-data+json"}
    below = (
        "/data/ietf-yang-library:yang-library",
        "/data?depth=1",
        "/operations",
        "/data/ietf-yang-library:modules-state",
    )
    paths = [_full(workspace, name, f"{root}{path}") for path in below]
    asked = [Request(method="GET", path=path, shape=d.JsonShape(), headers=accept) for path in paths]
    library, data, operations, before = await _asked(workspace, name, asked)
    if library is None and before is None and data is None:
        raise WireError(
            f"nothing below {root} tells of modules or data", where=name, advice="is that where RESTCONF begins?"
        )
    return of_restconf(library or before, data, operations, root)


async def _asked(workspace: BaseWorkspace, name: str, requests: Sequence[Request]) -> list[Any]:
    """The answers to some requests as JSON; None for what is refused."""
    told = []
    async with workspace.session(name) as session:
        for request in requests:
            made = await session.exchange(request)
            try:
                told.append(orjson.loads(made.reply.content) if made.reply.status == 200 else None)
            except ValueError:
                told.append(None)
    return told


def _full(workspace: BaseWorkspace, name: str, path: str) -> str:
    url = urlsplit(workspace.config.systems[name].url)
    return f"{url.scheme}://{url.netloc}{path}"


def _made(make: Callable[[Any, str], dict[str, Any]], answer: Any, where: str) -> dict[str, Any]:
    try:
        return make(answer, where)
    except ValueError as error:
        raise CalledWrongly(f"{where} {error}") from error


#: Standards by which a system is asked for what it offers, in a few requests.
_ASKED = {"graphql": _of_graphql, "restconf": _of_restconf}


def _document(text: str, name: str) -> Any:
    if text.lstrip()[:1] == "<":
        return _made(of_odata, decode(text.encode(), d.XmlShape(by="xml")), name.rpartition("/$metadata")[0])
    try:
        return orjson.loads(text)
    except ValueError:
        pass
    try:
        return parse_fast(text)
    except (NotYaml, Unbounded) as error:
        what = f"{name} is neither JSON nor YAML: {str(error).splitlines()[0]}"
        guide = "a guide is read by: concordex dialect draft NAME --from FILE" if of_guide(text).lists else ""
        raise CalledWrongly(what, advice=guide) from error


def _described(document: Any, name: str) -> Described:
    try:
        return described(document)
    except NotDescribed as error:
        raise CalledWrongly(f"{name} {error}") from error


def _copy(workspace: BaseWorkspace, name: str) -> Path:
    return workspace.store / "descriptions" / f"{quote(name, safe='')}.json"
