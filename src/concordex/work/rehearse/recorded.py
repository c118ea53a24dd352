"""Recordings of a pull: made, and on demand with names, serials and addresses replaced."""

from __future__ import annotations

import json
import logging
import re
import shutil
import time
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from secrets import token_bytes
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any, TypeVar
from urllib.parse import parse_qsl, urlsplit

from concordex.errors import BadAnswer, CalledWrongly
from concordex.insight.anonymous import CODES, PLAIN, WORDS, Disguise
from concordex.landing import landing, make_folder
from concordex.model.fields import ORIGINAL
from concordex.wire import dialect as d
from concordex.wire.http.formats import decode
from concordex.wire.http.recording import recordings

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

T = TypeVar("T")
#: Seconds after which nobody is still at work on what stands in the store.
_DAY = 86_400
log = logging.getLogger("concordex")


def recording(workspace: BaseWorkspace, folder: Path, work: Callable[[], T], *, anonymise: bool = False) -> T:
    """Do some ``work``, and record what is sent to systems meanwhile: a file for each system, in a new folder.

    With ``anonymise``, they have other names, serials and addresses, the same ones in all of them.  Until then they
    stand in the store, where the real ones are in any case: whatever happens, none is left in the folder.
    """
    if folder.exists() and any(folder.iterdir()):
        raise CalledWrongly(f"{folder} holds something already", advice="name a new folder for the recordings")
    make_folder(folder)
    folder.chmod(0o700)
    if not anonymise:
        return _recorded(workspace, folder, work)
    make_folder(workspace.store)
    for left in workspace.store.glob("recorded-*"):  # by a process that was killed
        if time.time() - left.stat().st_mtime > _DAY:
            shutil.rmtree(left, ignore_errors=True)
    with TemporaryDirectory(prefix="recorded-", dir=workspace.store) as real:
        try:
            return _recorded(workspace, Path(real), work)
        finally:
            try:
                _disguise(workspace, Path(real), folder)
            except (ValueError, KeyError, TypeError):  # such a recording breaks off
                log.warning("what was recorded could not be made anonymous, and is not kept")


def _recorded(workspace: BaseWorkspace, folder: Path, work: Callable[[], T]) -> T:
    workspace.recorded_into = folder
    try:
        return work()
    finally:
        workspace.recorded_into = None


def _disguise(workspace: BaseWorkspace, real: Path, folder: Path) -> None:
    files = list(recordings(real))
    disguise = Disguise(token_bytes(32))
    documents = {file: json.loads(file.read_bytes()) for file in files}
    told = _values(workspace, [file.stem for file in files])
    for file, document in documents.items():
        _said(workspace, file.stem, document, told)
    disguise.learn(told, _members(documents.values()))
    for file, document in documents.items():
        for entry in document["log"]["entries"]:
            _replace(entry, disguise)
        document["log"]["_anonymous"] = True
        with landing(folder / file.name, private=True) as making:
            making.write_text(json.dumps(document, ensure_ascii=False) + "\n", encoding="utf-8")


def _values(workspace: BaseWorkspace, systems: list[str]) -> dict[str, set[str]]:
    """What systems have said of each telling field, as they said it."""
    told: dict[str, set[str]] = {name: set() for name in (*WORDS, *CODES, *PLAIN)}
    for system in systems:
        tables = workspace.dialect(system).tables
        there = workspace.has_catalogue
        for shot in workspace.memory.newest(system=system) if there else ():
            if not shot.file or shot.table not in tables:
                continue
            fields = tables[shot.table].fields
            asked = {name: fields[name].from_ for name in told if name in fields}
            for text in workspace.frames.scan(shot.file).select(ORIGINAL).collect()[ORIGINAL]:
                record = json.loads(text)
                for name, paths in asked.items():
                    for path in paths:
                        said = path.first(record)
                        told[name].update(str(one) for one in (said if isinstance(said, list) else [said]) if one)
    return told


def _said(workspace: BaseWorkspace, system: str, document: Any, told: dict[str, set[str]]) -> None:
    """What stands anywhere in answers under the names of telling members: of tables that were not kept as well."""
    dialect = workspace.dialect(system)
    named: dict[str, set[str]] = {}
    for table in dialect.tables.values():
        for name, spec in table.fields.items():
            if name in told:
                for path in spec.from_:
                    for member in re.findall(r"[\w@#:-]+", str(path))[-1:]:
                        named.setdefault(member, set()).add(name)
    for entry in document["log"]["entries"]:
        body = _body(entry["response"]["content"].get("text") or "")
        for member, value in _each(body):
            for name in named.get(member, ()):
                told[name].update(str(one) for one in (value if isinstance(value, list) else [value]) if one)


def _body(text: str) -> Any:
    try:
        return json.loads(text) if text.lstrip()[:1] in ("{", "[") else decode(text.encode(), d.XmlShape(by="xml"))
    except (ValueError, BadAnswer):
        return None


def _each(value: Any) -> Iterator[tuple[str, Any]]:
    """Each member, however deep, that is a single value or a list of such."""
    if isinstance(value, dict):
        for name, held in value.items():
            if isinstance(held, dict) or (isinstance(held, list) and any(isinstance(one, dict) for one in held)):
                yield from _each(held)
            else:
                yield str(name), held
    elif isinstance(value, list):
        for one in value:
            yield from _each(one)


def _members(documents: Any) -> Iterator[str]:
    """Words that a dialect goes by: names of members and parameters, and what paths are made of."""
    for document in documents:
        for entry in document["log"]["entries"]:
            parts = urlsplit(entry["request"]["url"])
            yield from re.split(r"/", parts.path)
            yield from (name for name, _ in parse_qsl(parts.query))
            for text in (
                entry["response"]["content"].get("text"),
                (entry["request"].get("postData") or {}).get("text"),
            ):
                yield from re.findall(r'"([\w@#:.-]+)"\s*:', text or "")
                yield from re.findall(r"<([\w:.-]+)", text or "")
                yield from re.findall(r"\s([\w:.-]+)=\"", text or "")


def _replace(entry: Mapping[str, Any], disguise: Disguise) -> None:
    asked, came = entry["request"], entry["response"]
    asked["url"] = _url(asked["url"], disguise)
    for pair in asked.get("queryString") or []:
        pair["value"] = disguise.text(pair["value"])
    if asked.get("postData"):
        asked["postData"]["text"] = disguise.text(asked["postData"]["text"])
    for pair in came.get("headers") or []:
        if pair["name"].lower() in ("link", "location"):
            pair["value"] = disguise.text(pair["value"])
    if came["content"].get("encoding") != "base64" and came["content"].get("text"):
        came["content"]["text"] = disguise.text(came["content"]["text"])


def _url(url: str, disguise: Disguise) -> str:
    """The host stays: it is where a recording is played."""
    host, slash, rest = url.partition("://")[2].partition("/")
    return f"{url.partition('://')[0]}://{host}{slash}{disguise.text(rest)}"
