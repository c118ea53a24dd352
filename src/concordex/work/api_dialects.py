"""Dialects in the public Python API: :class:`Dialects`, with or without a workspace."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from concordex.errors import CalledWrongly
from concordex.wire.dialect import load
from concordex.work.show import capabilities, requests

if TYPE_CHECKING:
    from concordex.insight.draft.guesses import OpenGuess
    from concordex.wire.dialect import Dialect, Table
    from concordex.work.learn.added import Offered
    from concordex.work.learn.draft import DraftedDialect
    from concordex.work.learn.settled import Settled
    from concordex.work.learn.trace import Trace
    from concordex.work.pull.check import Finding
    from concordex.work.rehearse.tested import Tested
    from concordex.work.show.capabilities import Capability
    from concordex.work.workspace.base import BaseWorkspace


class Dialects:
    """The dialects that ship with the program, and those in a ``folder`` of one's own."""

    def __init__(self, folder: Path | None = None) -> None:
        self._folder = folder

    def known(self) -> dict[str, str]:
        """Every dialect by name, and whether it ships with the program or is one's own."""
        return dict(load.known(self._folder))

    def find(self, name: str) -> Dialect:
        """A dialect by its name, or from a file."""
        if self.is_file(name):
            return load.from_file(Path(name))
        return load.find(name, self._folder)

    def text(self, name: str) -> str:
        """The file of a dialect, as it stands."""
        return load.text_of(name, self._folder)

    def trace(self, path: Path, *, near: str | None = None, text: str | None = None, host: str | None = None) -> Trace:
        """What a console asked, by the HTTP Archive of a browser; of a moment, or where answers hold a text."""
        from concordex.work.learn.trace import trace

        return trace(path, near=near, text=text, host=host)

    def draft(self, name: str, sources: Sequence[str], workspace: BaseWorkspace | None = None) -> DraftedDialect:
        """A dialect drafted from recordings (.har), descriptions (.json, .yaml), guides, and systems of a workspace."""
        from concordex.work.learn.draft import draft_dialect

        return draft_dialect(workspace, name, sources)

    def test(self, name: str | None = None, *, accept: bool = False) -> list[Tested]:
        """Each recording in the folder's ``tests`` read by its dialect, and compared with what was accepted."""
        from concordex.work.rehearse.tested import try_recordings

        return try_recordings(self._own_folder(), name, accept=accept)

    def check_against(self, dialect: Dialect, folder: Path, workspace: BaseWorkspace | None = None) -> list[Finding]:
        """Each read of a dialect tried on recordings, in the place of a system."""
        from concordex.work.rehearse.replayed import check_against

        return check_against(workspace, folder, dialect)

    def left_open(self, name: str) -> list[OpenGuess]:
        """The guesses that a draft leaves to a person: of which table, and what speaks for or settles it."""
        from concordex.insight.draft.guesses import open_guesses

        return open_guesses(self.file_of(name).read_text(encoding="utf-8") if self.is_file(name) else self.text(name))

    def settle(self, name: str, system: str, workspace: BaseWorkspace) -> Settled:
        """Try on a system what a draft leaves open; what it showed stands in the text of what is returned."""
        from concordex.work.learn.settled import settled

        return settled(workspace, system, self.file_of(name))

    def file_of(self, name: str) -> Path:
        """The file of a dialect of one's own; raises CalledWrongly where it is another's."""
        file = Path(name) if self.is_file(name) else self._own_folder() / f"{name}.yaml"
        if not file.is_file():
            raise CalledWrongly(f"there is no {file}", advice="only a dialect of one's own is altered")
        return file

    @staticmethod
    def is_file(name: str) -> bool:
        """Whether a name of a dialect is that of a file."""
        return Path(name).suffix in (".yaml", ".yml") or "/" in name

    def offered(self, source: Path) -> Offered:
        """What a file, a folder or an archive of somebody else's holds, looked at and not taken yet."""
        from concordex.work.learn.added import offered

        return offered(self._own_folder(), source)

    def take(self, offer: Offered) -> list[Path]:
        """Take what was offered into the workspace; the files that were written."""
        from concordex.work.learn.added import take

        return take(self._own_folder(), offer)

    def _own_folder(self) -> Path:
        if self._folder is None:
            raise CalledWrongly("dialects of one's own stand in a workspace", advice="concordex init DIR")
        return self._folder

    def schema(self) -> str:
        """The JSON Schema of the format."""
        return load.schema()

    def capabilities(self, dialect: Dialect) -> list[Capability]:
        """What a dialect can do and what it cannot."""
        return capabilities.capabilities(dialect)

    def fields(self, table: Table) -> list[dict[str, str]]:
        """The fields of a table, and what may be written of them."""
        return capabilities.fields(table)

    def requests(self, dialect: Dialect) -> list[dict[str, str]]:
        """Each request that a dialect may send, and each file that it reads."""
        return requests.calls(dialect)

    def summary(self, dialect: Dialect) -> Iterator[tuple[str, str]]:
        """The same in few words."""
        return requests.summary(dialect)
