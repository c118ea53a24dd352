"""Pulls under way, as other terminals see them: those whose process died are ended, and one can be asked to stop."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from typing import TYPE_CHECKING

from concordex.errors import CalledWrongly

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: The variable in which a line of a job says to its pulls which one it is.
ORIGIN = "CONCORDEX_LINE"


@contextmanager
def begun(workspace: BaseWorkspace, origin: str | None = None) -> Iterator[int]:
    """The number of a new pull; others see it from the moment on at which they also see that somebody is at it."""
    with ExitStack() as held:
        with workspace.catalogue.database.atomic():
            number = workspace.catalogue.begin_pull(os.getpid(), origin)
            held.enter_context(workspace.locks.of_pull(number))
        yield number


def settle(workspace: BaseWorkspace) -> None:
    """Call pulls stopped whose process was killed and could not say so itself."""
    for left in workspace.catalogue.running():
        if not workspace.locks.is_pulling(left["id"], left["process"]):
            workspace.catalogue.give_up(left["id"])


def stop(workspace: BaseWorkspace, number: int) -> None:
    """Ask a running pull to stop; what it has finished is kept."""
    settle(workspace)
    if not workspace.catalogue.ask_to_stop(number):
        running = ", ".join(str(row["id"]) for row in workspace.catalogue.running()) or "none"
        raise CalledWrongly(f"pull {number} is not running", advice=f"running: {running}")
