"""The description of a system's API: a file of the workspace, or what the system serves, kept for the next time."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any
from urllib.parse import quote, urlsplit

import orjson

from concordex.documents import NotYaml, Unbounded, parse_fast, read_text
from concordex.errors import CalledWrongly, ConcordexError, WireError
from concordex.insight.described import Described, NotDescribed, Operation, described
from concordex.landing import landing
from concordex.parallel import completed
from concordex.wire import dialect as d
from concordex.wire.http.session import Request

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
    file = workspace.root / where
    if not where.startswith(("/", "http:", "https:")) or file.is_file():
        return described_in(file)
    copy = _copy(workspace, name)
    if kept and copy.is_file():
        return _described(orjson.loads(copy.read_bytes()), str(copy))
    content = completed(_served(workspace, name, where))
    found = _described(_document(content.decode(errors="replace"), where), where)
    copy.parent.mkdir(parents=True, exist_ok=True)
    with landing(copy, private=True) as making:
        making.write_bytes(orjson.dumps(_document(content.decode(errors="replace"), where)))
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


def address_of(workspace: BaseWorkspace, system: str, operation: Operation) -> str:
    """The full address of an operation, on the system's own host: a description may name another."""
    name, _ = workspace.target(system)
    url = urlsplit(workspace.config.systems[name].url)
    below = url.path.rstrip("/")
    path = operation.path if operation.path.startswith(f"{below}/") else f"{below}{operation.path}"
    return f"{url.scheme}://{url.netloc}{path}"


async def _served(workspace: BaseWorkspace, name: str, where: str) -> bytes:
    url = urlsplit(workspace.config.systems[name].url)
    path = where if where.startswith("http") else f"{url.scheme}://{url.netloc}{where}"
    async with workspace.session(name) as session:
        made = await session.exchange(Request(method="GET", path=path, shape=d.JsonShape()))
    if made.reply.status != 200:
        raise WireError(f"{where} answered {made.reply.status}", where=name, advice="does `describes` name its path?")
    return made.reply.content


def _document(text: str, name: str) -> Any:
    try:
        return orjson.loads(text)
    except ValueError:
        pass
    try:
        return parse_fast(text)
    except (NotYaml, Unbounded) as error:
        raise CalledWrongly(f"{name} is neither JSON nor YAML: {str(error).splitlines()[0]}") from error


def _described(document: Any, name: str) -> Described:
    try:
        return described(document)
    except NotDescribed as error:
        raise CalledWrongly(f"{name} {error}") from error


def _copy(workspace: BaseWorkspace, name: str) -> Path:
    return workspace.store / "descriptions" / f"{quote(name, safe='')}.json"
