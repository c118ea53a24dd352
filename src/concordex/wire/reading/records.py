"""Records of a page: decoded whole, or as the bytes that came, of which only the mapped members are taken out."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from operator import attrgetter
from typing import Any, Protocol, overload

import msgspec
import orjson

from concordex.model.members import along
from concordex.wire.dialect.paths import Path
from concordex.wire.http.formats import exactly

Record = dict[str, Any]

#: A record as JSON text; what JSON does not know, such as a date in a Parquet file, as plain text.
_AS_JSON = partial(orjson.dumps, default=str)


class Records(Protocol):
    """Records that are taken apart by columns."""

    def __len__(self) -> int: ...

    def column(self, path: Path) -> Sequence[Any]:
        """What each says at a path; None where it says nothing."""
        ...

    def texts(self) -> list[bytes]:
        """Each as JSON text."""
        ...

    def take(self, places: Sequence[int]) -> Records:
        """Some of them."""
        ...


@dataclass(frozen=True)
class DecodedRecords:
    """Records that were decoded whole."""

    records: Sequence[Mapping[str, Any]]

    def __len__(self) -> int:
        return len(self.records)

    def column(self, path: Path) -> Sequence[Any]:
        """What each says at a path; None where it says nothing."""
        return path.column(self.records)

    def texts(self) -> list[bytes]:
        """Each as JSON text."""
        return list(map(_AS_JSON, self.records))

    def take(self, places: Sequence[int]) -> DecodedRecords:
        """Some of them."""
        return DecodedRecords([self.records[place] for place in places])


class Extraction:
    """What is taken out of each record, compiled: the members at plain paths, and nothing else."""

    def __init__(self, paths: Iterable[Path]) -> None:
        """Raises ValueError where one of the paths is not plain."""
        ways = {path.steps for path in paths}
        if None in ways or () in ways:
            raise ValueError("a path is not plain")
        self._tree = tree_of(way for way in ways if way)
        self.struct = struct_of(self._tree, default=None)
        self._columns: dict[tuple[str, ...], Callable[[Sequence[Any]], list[Any]]] = {}

    def column(self, rows: Sequence[Any], path: Path) -> list[Any]:
        """What each row says at a path."""
        assert path.steps
        if path.steps not in self._columns:
            self._columns[path.steps] = self._getter(path.steps)
        return self._columns[path.steps](rows)

    def _getter(self, way: tuple[str, ...]) -> Callable[[Sequence[Any]], list[Any]]:
        names, rest, here = [], list(way), self._tree
        while rest and isinstance(here, dict):
            names.append(f"m{list(here).index(rest[0])}")
            here = here[rest.pop(0)]

        def column(rows: Sequence[Any]) -> list[Any]:
            values = list(map(attrgetter(names[0]), rows))
            for name in names[1:]:
                values = [None if value is None else getattr(value, name) for value in values]
            return [along(value, rest) for value in values] if rest else values

        return column


class RawRecords(Sequence[Record]):
    """Records as the bytes that came, and a row for each with the members that its ``extraction`` takes out."""

    def __init__(self, raws: Sequence[msgspec.Raw], rows: Sequence[Any], extraction: Extraction) -> None:
        self._raws, self._rows, self._extraction = raws, rows, extraction

    def __len__(self) -> int:
        return len(self._raws)

    @overload
    def __getitem__(self, place: int) -> Record: ...

    @overload
    def __getitem__(self, place: slice) -> Sequence[Record]: ...

    def __getitem__(self, place: int | slice) -> Record | Sequence[Record]:
        if isinstance(place, slice):
            return [exactly(bytes(raw)) for raw in self._raws[place]]
        record: Record = exactly(bytes(self._raws[place]))
        return record

    def column(self, path: Path) -> list[Any]:
        """What each says at a path; None where it says nothing."""
        return self._extraction.column(self._rows, path)

    def texts(self) -> list[bytes]:
        """Each as it came."""
        return list(map(bytes, self._raws))

    def take(self, places: Sequence[int]) -> RawRecords:
        """Some of them."""
        return RawRecords(
            [self._raws[place] for place in places], [self._rows[place] for place in places], self._extraction
        )


#: Members and what is below each; at the end of a way, the type of what stands there.
Tree = dict[str, Any]


def tree_of(ways: Iterable[tuple[str, ...]], leaf: Any = Any) -> Tree:
    """Ways to members as a tree; of two of which one leads on from the other, the shorter stays."""
    tree: Tree = {}
    for way in sorted(ways, key=len):
        here = tree
        for step in way[:-1]:
            here = here.setdefault(step, {})
            if not isinstance(here, dict):
                break
        else:
            here.setdefault(way[-1], leaf)
    return tree


def struct_of(tree: Tree, default: Any) -> type[msgspec.Struct]:
    """A type into which nothing but the members in ``tree`` is decoded; ``m0``, ``m1``, … in their order."""
    return msgspec.defstruct(
        "Members",
        [
            (f"m{at}", (struct_of(below, default) | None) if isinstance(below, dict) else below, default)
            for at, below in enumerate(tree.values())
        ],
        rename={f"m{at}": name for at, name in enumerate(tree)},
        gc=False,
    )
