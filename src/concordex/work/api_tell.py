"""Whom is told what, in the public Python API: ``Workspace.telling``."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from concordex.errors import CalledWrongly
from concordex.words import suggestion

if TYPE_CHECKING:
    from concordex.store.notices import Notice
    from concordex.work.tell.deliver import PlaceState
    from concordex.work.workspace.base import BaseWorkspace


class Telling:
    """The places of a workspace where people are told what its jobs came to."""

    def __init__(self, workspace: BaseWorkspace) -> None:
        self._workspace = workspace

    def places(self) -> list[PlaceState]:
        """Every place: what waits there, when it goes, what failed."""
        from concordex.work.tell.deliver import states

        return states(self._workspace)

    def waiting(self) -> list[Notice]:
        """What has not been sent yet, the oldest first."""
        return self._workspace.catalogue.notices.waiting()

    def history(self, limit: int = 20) -> list[Notice]:
        """The latest messages, sent or not, the newest first."""
        return self._workspace.catalogue.notices.newest(limit)

    def try_(self, place: str) -> None:
        """Send a message to try a place; raises NotTold where it is not taken."""
        from concordex.work.tell.deliver import try_place

        known = self._workspace.config.tell
        if place not in known:
            advice = suggestion(place, known) if known else "tell: in concordex.yaml (docs/jobs.md)"
            raise CalledWrongly(f"there is no place {place!r} where somebody is told", advice=advice)
        try_place(self._workspace, place)

    def deliver(self) -> Iterator[tuple[str, str]]:
        """Send what may go now; each place with what came of it: nothing where it was taken, else why not."""
        from concordex.work.tell.deliver import deliver

        return deliver(self._workspace)
