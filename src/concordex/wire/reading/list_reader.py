"""Pages of a list in JSON, of which only what is asked for is decoded: as fast as the bytes can be looked through.

Whatever makes a page unusual is left to the slow way, which tells what is wrong with it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import msgspec
import orjson

from concordex.wire import dialect as d
from concordex.wire.dialect.paths import Path, Source
from concordex.wire.reading.records import Extraction, RawRecords, Tree, struct_of, tree_of

Way = tuple[str, ...]


class PartOfAnswer(dict[str, Any]):
    """The members of an answer that were asked for."""

    def __init__(self, members: dict[str, Any], content: bytes) -> None:
        super().__init__(members)
        self._content = content

    def names(self) -> list[str]:
        """All members that the answer has."""
        return list(orjson.loads(self._content))


#: How the list itself is decoded among what stands beside it.
_RECORDS = list[msgspec.Raw]


class ListReader:
    """Reads the pages of one table; compiled from its dialect."""

    def __init__(self, dialect: d.Dialect, table: d.Table, shape: d.Shape | None = None) -> None:
        """Raises ValueError where its lists, which come in a ``shape``, are not read so."""
        read = table.read
        shape = shape or read.shape or dialect.shape
        self._lines = shape.by == "ndjson"
        way, beside = read.records.steps, [path.steps for path in _beside(dialect, read)]
        if shape.by not in ("json", "ndjson") or read.rpc or read.keyed_by or read.members is not None:
            raise ValueError("not a plain list in JSON")
        if way is None or None in beside or (self._lines and way):
            raise ValueError("a path is not plain")
        self._extraction = Extraction(path for field in table.fields.values() for path in field.from_)
        self._way, self._tree = way, tree_of(filter(None, beside))
        if way and not _insert(self._tree, way, _RECORDS):
            raise ValueError("the list is a part of what else is asked for")
        self._whole, self._rows = self._decoder(msgspec.Raw, self._tree), self._decoder(self._extraction.struct, {})

    def _decoder(self, of: Any, beside: Tree) -> Any:
        """A decoder of a page whose list holds what is ``of`` a type."""
        if self._lines:
            return msgspec.json.Decoder(of)
        if not self._way:
            return msgspec.json.Decoder(list[of])
        return msgspec.json.Decoder(struct_of(beside or tree_of([self._way], list[of]), msgspec.UNSET))

    def page(self, content: bytes) -> Any:
        """The body of an answer: its list as :class:`RawRecords`, and what else is asked for; None if it is unusual."""
        if not _is_plain(content):
            return None
        try:
            if self._lines:
                whole, rows = self._whole.decode_lines(content), self._rows.decode_lines(content)
                return RawRecords(whole, rows, self._extraction) if _one_a_line(whole, content) else None
            whole, rows = self._whole.decode(content), self._rows.decode(content)
        except (msgspec.MsgspecError, RecursionError):
            return None
        if not self._way:
            return RawRecords(whole, rows, self._extraction)
        members, listed = _members(whole, self._tree), rows
        for _ in self._way:
            listed = getattr(listed, "m0", None)
        holder: Any = members
        for step in self._way[:-1]:
            holder = holder.get(step) if isinstance(holder, dict) else None
        if not isinstance(holder, dict) or not isinstance(listed, list):
            return None
        holder[self._way[-1]] = RawRecords(holder[self._way[-1]], listed, self._extraction)
        return PartOfAnswer(members, content)


def list_reader(dialect: d.Dialect, table: d.Table, shape: d.Shape | None = None) -> ListReader | None:
    """What reads the lists of a table so; none where they have to be decoded whole."""
    try:
        return ListReader(dialect, table, shape)
    except ValueError:
        return None


def _beside(dialect: d.Dialect, read: d.Read) -> Iterator[Path]:
    """The paths of all that is read of an answer beside its list."""
    pages, changed = read.pages, read.changed
    asked = [read.total, read.revision, getattr(pages, "next", None), getattr(pages, "more", None)]
    asked += [dialect.errors.present, changed.gone if changed else None]
    for source in asked:
        path = source.path if isinstance(source, Source) else source
        if isinstance(path, Path):
            yield path


def _insert(tree: Tree, way: Way, leaf: Any) -> bool:
    """Add a leaf to a tree; False where something stands on its way, or below it."""
    here: Any = tree
    for step in way[:-1]:
        here = here.setdefault(step, {})
        if not isinstance(here, dict):
            return False
    return here.setdefault(way[-1], leaf) is leaf


def _members(struct: Any, tree: Tree) -> dict[str, Any]:
    """What was decoded, as mappings; what the answer does not have is left out."""
    there = ((name, below, getattr(struct, f"m{at}")) for at, (name, below) in enumerate(tree.items()))
    return {
        name: _members(value, below)
        if isinstance(below, dict) and value is not None
        else value
        if below is _RECORDS
        else _exact(value)
        for name, below, value in there
        if value is not msgspec.UNSET
    }


def _exact(value: Any) -> Any:
    """A value as :mod:`formats` decodes it: whole numbers that a machine's numbers do not hold are texts."""
    if type(value) is int and not -(2**63) < value < 2**63:
        return str(value)
    if isinstance(value, list):
        return [_exact(item) for item in value]
    return {name: _exact(item) for name, item in value.items()} if isinstance(value, dict) else value


def _one_a_line(documents: Sequence[msgspec.Raw], content: bytes) -> bool:
    """Whether every line is one document, as it should be: the decoder only sees documents."""
    lines = content.count(b"\n") + (not content.endswith(b"\n"))
    return len(documents) == lines and not any(b"\n" in bytes(document) for document in documents)


def _is_plain(content: bytes) -> bool:
    """Whether it is UTF-8 (RFC 3629) without escaped halves of characters: the decoder passes over much unseen."""
    if b"\\" in content and (b"\\ud" in content or b"\\uD" in content):  # one sign is found much faster than three
        return False
    try:
        return content.isascii() or content.decode() is not None
    except UnicodeDecodeError:
        return False
