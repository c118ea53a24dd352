"""Concordex: one manner for every system that manages devices.

``from concordex import Workspace`` is the public Python API; the command line is built on it.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from concordex.version import __version__

if TYPE_CHECKING:
    from concordex.work.api import Workspace

__all__ = ["Workspace", "__version__"]


def __getattr__(name: str) -> Any:
    """Import the API when it is asked for, since every module of the program imports this one first."""
    if name == "Workspace":
        from concordex.work.api import Workspace

        return Workspace
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
