"""A long table on its way to the disk: sifted and written piece by piece while it is read."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.store.growing import GrowingFile
from concordex.work.pull.sift import Sift

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


class Spool:
    """One reading of a table; it becomes the snapshot ``file``, or nothing is left of it."""

    def __init__(self, workspace: BaseWorkspace, system: str, table: str, file: str) -> None:
        self._workspace, self._file = workspace, file
        self.sift = Sift(workspace, system, table)
        self._growing = GrowingFile(workspace.store / file)

    def add(self, make: Callable[[], pl.DataFrame]) -> None:
        """Put away what ``make`` gives; it is called in another thread."""
        self._growing.add(lambda: self.sift.piece(make()))

    def settle(self) -> None:
        """Wait until all that was added is made."""
        self._growing.settle()

    def finish(self, facts: Mapping[str, Any]) -> None:
        """Make a snapshot of it, which says that it is what ``facts`` say."""
        digest = self._growing.finish(facts)
        self._workspace.frames.keep(self._file, digest, self._growing.content.digest())

    def discard(self) -> None:
        """Leave nothing of it, where it is no snapshot."""
        self._growing.discard()

    def lazy(self) -> pl.LazyFrame:
        """The snapshot, once it is one."""
        return self._workspace.frames.scan(self._file)
