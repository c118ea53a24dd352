"""Which kinds of configuration object there are: nothing is read from a system for it, and little is loaded."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from concordex.change.objects import Kind
from concordex.errors import CalledWrongly
from concordex.words import suggestion
from concordex.work.targets.kinds import kinds_of

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


def chosen_kinds(workspace: BaseWorkspace, system: str, names: Sequence[str]) -> dict[str, Kind]:
    """The kinds of a system, or of a device, that are named, or all; an error where there is none such."""
    workspace.target(system)
    known = kinds_of(workspace.dialect(system))
    if not known:
        raise CalledWrongly(
            f"{system} has no configuration objects that its dialect knows of",
            advice="docs/dialects.md, under Configuration objects",
        )
    for name in names:
        if name not in known:
            raise CalledWrongly(f"{system} has no kind of object called {name!r}", advice=suggestion(name, known))
    return {name: kind for name, kind in known.items() if not names or name in names}


def with_objects(workspace: BaseWorkspace) -> list[str]:
    """The systems whose objects their dialects know of, but for those that are paused."""
    systems = workspace.config.systems
    return [name for name, system in systems.items() if not system.paused and kinds_of(workspace.dialect(name))]
