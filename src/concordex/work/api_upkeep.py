"""Upkeep, in the public Python API: ``Workspace.upkeep``."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from concordex.progress import Counted
    from concordex.store.chain import Verified
    from concordex.work.upkeep.backup import BackedUp
    from concordex.work.upkeep.examine import Examined
    from concordex.work.upkeep.measures import MeasureFamily
    from concordex.work.upkeep.move import Moved
    from concordex.work.workspace.base import BaseWorkspace


class Upkeep:
    """What is wrong with a workspace, copies of it, and whether its journal is as it was written."""

    def __init__(self, workspace: BaseWorkspace) -> None:
        self._workspace = workspace

    def examine(self) -> list[Examined]:
        """What is wrong with the installation, the workspace and its store; no system is asked."""
        from concordex.work.upkeep.examine import examine

        return examine(self._workspace)

    def measures(self) -> list[MeasureFamily]:
        """How the work itself stands, as numbers for whoever watches it."""
        from concordex.work.upkeep.measures import measures

        return measures(self._workspace)

    def back_up(self, file: Path) -> BackedUp:
        """Write the whole workspace into a new file, while others work, without its secrets."""
        from concordex.work.upkeep.backup import back_up

        return back_up(self._workspace, file)

    def move_store(self, settings: dict[str, Any], progress: Counted | None = None) -> Moved:
        """Carry the store to where ``settings`` (those of ``store:``) say; none of them: below the workspace."""
        from concordex.work.upkeep.move import move

        return move(self._workspace, settings, progress)

    def has_seal(self, seal: str) -> bool:
        """Whether a link of the journal's chain bears this seal."""
        return self._workspace.journal.has_seal(seal)

    def verify_journal(self) -> Verified:
        """Whether all that was written down of changes is as it was."""
        return self._workspace.journal.verify()


def examine_installation() -> list[Examined]:
    """What is wrong with the installation, where there is no workspace."""
    from concordex.work.upkeep.examine import examine

    return examine(None)


def restore(file: Path, folder: Path) -> BackedUp:
    """Bring a backup back into a new folder, all of it or nothing; raises StoreError where a byte is another."""
    from concordex.work.upkeep.backup import restore as brought_back

    return brought_back(file, folder)


def check_backup(file: Path) -> BackedUp:
    """Read a backup to its end and hold each file in it against its digest."""
    from concordex.work.upkeep.backup import check_backup as checked

    return checked(file)


def digest_of_token(token: str) -> str:
    """What ``concordex.yaml`` holds of a runner's token: its SHA-256."""
    from concordex.work.workspace.rights import digest_of

    return digest_of(token)


def schemas() -> dict[str, tuple[str, Callable[[], str]]]:
    """The JSON Schemas of the files that people write: by name, for which file, and what makes its text."""
    from functools import partial

    from concordex.work.upkeep.schemas import FILES, schema_text

    return {name: (file, partial(schema_text, name)) for name, (file, _) in FILES.items()}
