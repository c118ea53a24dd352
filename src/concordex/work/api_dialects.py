"""Dialects in the public Python API: :class:`Dialects`, with or without a workspace."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from concordex.wire.dialect import Dialect, Table
    from concordex.work.show.capabilities import Capability


class Dialects:
    """The dialects that ship with the program, and those in a ``folder`` of one's own."""

    def __init__(self, folder: Path | None = None) -> None:
        self._folder = folder

    def known(self) -> dict[str, str]:
        """Every dialect by name, and whether it ships with the program or is one's own."""
        from concordex.wire.dialect.load import known

        return dict(known(self._folder))

    def find(self, name: str) -> Dialect:
        """A dialect by its name, or from a file."""
        from concordex.wire.dialect.load import find, from_file

        if Path(name).suffix in (".yaml", ".yml") or "/" in name:
            return from_file(Path(name))
        return find(name, self._folder)

    def text(self, name: str) -> str:
        """The file of a dialect, as it stands."""
        from concordex.wire.dialect.load import text_of

        return text_of(name, self._folder)

    def schema(self) -> str:
        """The JSON Schema of the format."""
        from concordex.wire.dialect.load import schema

        return schema()

    def capabilities(self, dialect: Dialect) -> list[Capability]:
        """What a dialect can do and what it cannot."""
        from concordex.work.show.capabilities import capabilities

        return capabilities(dialect)

    def fields(self, table: Table) -> list[dict[str, str]]:
        """The fields of a table, and what may be written of them."""
        from concordex.work.show.capabilities import fields

        return fields(table)

    def requests(self, dialect: Dialect) -> list[dict[str, str]]:
        """Each request that a dialect may send, and each file that it reads."""
        from concordex.work.show.requests import calls

        return calls(dialect)

    def summary(self, dialect: Dialect) -> Iterator[tuple[str, str]]:
        """The same in few words."""
        from concordex.work.show.requests import summary

        return summary(dialect)
