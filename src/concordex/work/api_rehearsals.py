"""Copies of systems, in the public Python API: ``Workspace.rehearsals``."""

from __future__ import annotations

from collections.abc import Collection
from contextlib import AbstractContextManager
from pathlib import Path
from typing import TYPE_CHECKING

from concordex.work.rehearse.against_copy import Rehearsed, rehearse_change
from concordex.work.rehearse.rehearsal import ServedCopy, rehearsing

if TYPE_CHECKING:
    from concordex.change.run_options import RunOptions
    from concordex.progress import Counted
    from concordex.work.workspace.base import BaseWorkspace


class Rehearsals:
    """Copies of the systems of a workspace, as they were pulled last."""

    def __init__(self, workspace: BaseWorkspace) -> None:
        self._workspace = workspace

    def serve(self, system: str, *, port: int = 0, into: Path | None = None) -> AbstractContextManager[ServedCopy]:
        """A copy that is served on a loopback port while the block runs, with a workspace that knows nothing else.

        That is made in ``into``, which must not be there yet, or in the store; it goes with the block.
        """
        return rehearsing(self._workspace, system, port, into)

    def change(
        self, number: int, progress: Counted | None = None, *,
        only: Collection[int] | None = None, how: RunOptions | None = None,
    ) -> Rehearsed:  # fmt: skip
        """Run a change against a copy of its system: nothing real is touched."""
        return rehearse_change(self._workspace, number, progress, only=only, how=how)
