"""Files that people keep in a workspace, altered by us: one at a time, whole, and nothing of theirs is lost."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from concordex.documents import parse_yaml, read_text, yaml_text
from concordex.errors import Stopped
from concordex.landing import write_text

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

T = TypeVar("T")

#: How often an alteration begins anew where a person saved the file meanwhile.
_TRIES = 5


def alter(workspace: BaseWorkspace, path: Path, change: Callable[[Any], T], *, new: str = "") -> T:
    """Let ``change`` alter the document in ``path``, which begins as ``new`` where there is no file; what it gave.

    Two alterations that come at one time both stand; where a person saves meanwhile, it is read again.
    """
    workspace.allowed.require("decide")
    with workspace.locks.of_file(path):
        for _ in range(_TRIES):
            text = read_text(path) if path.exists() else new
            document = parse_yaml(text, str(path))
            made = change(document)
            if (read_text(path) if path.exists() else new) == text:
                write_text(path, yaml_text(document))
                return made
    raise Stopped(f"{path} keeps being altered by somebody else", advice="try again")
