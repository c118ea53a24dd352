"""What stands in for systems, in the public Python API: ``Workspace.rehearsals``."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from contextlib import AbstractContextManager
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from concordex.work.rehearse.against_copy import Rehearsed, rehearse_change
from concordex.work.rehearse.recorded import recording
from concordex.work.rehearse.rehearsal import ServedCopy, rehearsing
from concordex.work.rehearse.replayed import place_of, replay

if TYPE_CHECKING:
    from concordex.change.run_options import RunOptions
    from concordex.progress import Counted
    from concordex.work.pull.pull import Progress, Pull
    from concordex.work.workspace.base import BaseWorkspace

T = TypeVar("T")


class Rehearsals:
    """Copies of the systems of a workspace, and recordings of them."""

    def __init__(self, workspace: BaseWorkspace) -> None:
        self._workspace = workspace

    def serve(self, system: str, *, port: int = 0, into: Path | None = None) -> AbstractContextManager[ServedCopy]:
        """A copy that is served on a loopback port while the block runs, with a workspace that knows nothing else.

        That is made in ``into``, which must not be there yet, or in the store; it goes with the block.
        """
        return rehearsing(self._workspace, system, port, into)

    def record_pull(self, folder: Path, pull: Callable[..., T], *, anonymise: bool = False, **how: Any) -> T:
        """Pull as ``pull`` says, and record what is sent meanwhile into a new ``folder``, without secrets."""
        return recording(self._workspace, folder, partial(pull, **how), anonymise=anonymise)

    def replay(
        self, folder: Path, systems: Sequence[str] = (), tables: Sequence[str] = (), progress: Progress | None = None
    ) -> Pull:
        """Pull what recordings answer, into a workspace of its own: see :meth:`played_in`."""
        return replay(self._workspace, folder, systems, tables, progress)[0]

    @staticmethod
    def played_in(folder: Path) -> Path:
        """The workspace in which recordings are played."""
        return place_of(folder)

    def change(
        self, number: int, progress: Counted | None = None, *,
        only: Collection[int] | None = None, how: RunOptions | None = None,
    ) -> Rehearsed:  # fmt: skip
        """Run a change against a copy of its system: nothing real is touched."""
        return rehearse_change(self._workspace, number, progress, only=only, how=how)
