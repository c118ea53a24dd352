"""Which kinds of configuration object there are, in the public Python API: ``Workspace.kinds``."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from concordex.work.objects.kinds import chosen_kinds, with_objects
from concordex.work.targets.kinds import kinds_of

if TYPE_CHECKING:
    from concordex.change.objects import Kind
    from concordex.work.workspace.base import BaseWorkspace


class ObjectKinds:
    """The kinds of configuration object that systems have, as their dialects say."""

    def __init__(self, workspace: BaseWorkspace) -> None:
        self._workspace = workspace

    def systems(self) -> list[str]:
        """The systems that have such objects."""
        return with_objects(self._workspace)

    def chosen(self, system: str, names: Sequence[str] = ()) -> dict[str, Kind]:
        """The kinds of a system, or only those ``names``; an error where it has none such."""
        return chosen_kinds(self._workspace, system, names)

    def every(self, system: str) -> dict[str, Kind]:
        """The kinds of a system or of devices; none where it has no such objects."""
        return kinds_of(self._workspace.dialect(system))
