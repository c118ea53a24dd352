"""Configuration objects as YAML files, one each: readable, and touched only when their meaning changes."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any
from urllib.parse import quote

from pydantic import Field

from concordex.change.differ import differ
from concordex.change.objects import Key, Kind, Kinds, Object, settled
from concordex.documents import Part, line_of, read_as, read_yaml, write_yaml, yaml_text
from concordex.errors import CalledWrongly
from concordex.model.masks import clear_secrets
from concordex.model.members import put, stands, value_at
from concordex.progress import Advance
from concordex.unseen import in_data
from concordex.words import suggestion

#: Bytes of a file's name, before its ending: what every file system takes.
_LONGEST = 150


class ObjectFile(Part):
    """One object."""

    format: int = Field(ge=1, le=1)
    kind: str
    name: str
    number: int = Field(1, ge=1, description="Which of those that share the name.")
    object: dict[str, Any]


@dataclass(frozen=True)
class Saved:
    """What saving came to: files written, left as they were, and removed.

    ``open`` are members, by kind and path, that hold secrets in clear text in files that were written.
    """

    written: list[Path]
    same: int
    removed: list[Path]
    open: Sequence[str] = ()

    @property
    def count(self) -> int:
        """How many objects the files are about."""
        return len(self.written) + self.same


def read_objects(
    path: Path, kinds: Kinds, progress: Advance | None = None, known: Mapping[str, Object] | None = None
) -> list[Object]:
    """The objects in a file, or in all YAML files below a folder; each with the file it stands in.

    Files whose names begin with a dot are no objects.  Of a file that is as one of the ``known`` texts it is known what
    it says.
    """
    if not path.exists():
        raise CalledWrongly(f"there is no {path}", advice="concordex config save SYSTEM --into DIR makes it")
    every = {file for file in path.rglob("*.yaml") if not file.name.startswith(".")} if path.is_dir() else {path}
    objects: dict[Key, Object] = {}
    for at, file in enumerate(sorted(every), start=1):
        same = known.get(_text_of(file)) if known else None
        obj = replace(same, source=str(file)) if same else _read(file, kinds)
        if progress:
            progress("files read", at, len(every))
        if obj.key in objects:
            raise CalledWrongly(f"{file} and {objects[obj.key].source} are both about {obj.label}")
        objects[obj.key] = obj
    return list(objects.values())


def _text_of(file: Path) -> str:
    try:
        return file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError):  # what is wrong with it is told when it is read as what it should be
        return ""


def _read(file: Path, kinds: Kinds) -> Object:
    document = read_as(file, ObjectFile)
    if document.kind not in kinds:
        raise CalledWrongly(
            f"{file}: there is no kind of object called {document.kind!r}", advice=suggestion(document.kind, kinds)
        )
    body = settled(document.object, kinds[document.kind])
    return Object(kind=document.kind, name=document.name, nth=document.number, body=body, source=str(file))


def place(obj: Object, *keys: str) -> str:
    """Where something of an object stands, for a message: file and line, or its label where it has no file."""
    if obj.source is None:
        return obj.label
    return f"{obj.source}: line {line_of(read_yaml(Path(obj.source)), keys)}"


def save(
    objects: Sequence[Object],
    folder: Path,
    kinds: Kinds,
    whole: Collection[str],
    progress: Advance | None = None,
    before: Callable[[], None] | None = None,
) -> Saved:
    """Write each object below ``folder``; files of the kinds in ``whole`` whose objects are gone are removed.

    ``before`` is called once, before the first file is touched.

    A file whose object means what it meant is left as it is, comments and all.
    """
    known = {in_data(yaml_text(_document(obj, obj.key))): obj for obj in objects} if folder.is_dir() else {}
    there = read_objects(folder, kinds, progress, known) if folder.is_dir() else []
    concerned = {obj.kind for obj in objects} | set(whole)
    mine = [obj for obj in there if obj.kind in concerned]
    differences = {obj.key: obj for obj in differ(mine, objects, kinds)}
    written, removed, clear = [], [], set[str]()
    if differences and before:
        before()
    taken = {str(path).casefold() for path in (obj.source for obj in there)}
    for at, (key, difference) in enumerate(sorted(differences.items()), start=1):
        if progress:
            progress("files written", at, len(differences))
        if difference.now is None:
            if key[0] in whole and difference.before:
                Path(str(difference.before.source)).unlink()
                removed.append(Path(str(difference.before.source)))
            continue
        path = Path(str(difference.before.source)) if difference.before else folder / key[0] / f"{file_name(key)}.yaml"
        if difference.before is None and str(path).casefold() in taken:  # only in capitals another, or cut to the same
            path = path.with_name(f"{file_name(key)}~{_digest(key)}.yaml")
        taken.add(str(path).casefold())
        clear |= {f"{key[0]}: {path}" for path in clear_secrets(difference.now.body)}
        kept = _with_secrets(difference.now, difference.before, kinds[key[0]])
        write_yaml(path, _document(kept, key), lasting=False)  # the note, written last, knows its digest
        written.append(path)
    return Saved(written, len(objects) - len(written), removed, sorted(clear))


def _with_secrets(now: Object, before: Object | None, kind: Kind) -> Object:
    """An object that is saved again, with what its file said of where secrets are kept."""
    body = now.body
    for path in kind.secrets if before else ():
        if before and stands(before.body, path.split(".")):
            body = put(body, path, value_at(before.body, path))
    return replace(now, body=settled(body, kind))


def file_name(key: Key) -> str:
    """A name that any file system takes, for an object of any name (percent-encoding, RFC 3986)."""
    _, name, nth = key
    safe = quote(name.strip() or "_", safe=" ()+,=@-_")
    safe = "%2E" + safe[1:] if safe.startswith(".") else safe
    if len(safe) > _LONGEST or safe.endswith("."):
        safe = f"{safe[:_LONGEST].rstrip('%.')}~{_digest(key)}"
    return f"{safe} ({nth})" if nth > 1 else safe


def _digest(key: Key) -> str:
    return hashlib.sha256("/".join(map(str, key)).encode()).hexdigest()[:8]


def written(obj: Object, key: Key) -> str:
    """An object's file."""
    return yaml_text(_document(obj, key))


def _document(obj: Object, key: Key) -> dict[str, Any]:
    document: dict[str, Any] = {"format": 1, "kind": obj.kind, "name": obj.name}
    document |= ({"number": key[2]} if key[2] > 1 else {}) | {"object": obj.body}
    return document
