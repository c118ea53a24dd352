"""Concordex: one manner for every system that manages devices.

``from concordex import Workspace`` is the public Python API; the command line is built on it.

Every start of the program imports this module before it can deal with an interruption: it imports nothing.
"""

TYPE_CHECKING = False
if TYPE_CHECKING:
    from concordex.version import __version__
    from concordex.work.api import Workspace

__all__ = ["Workspace", "__version__"]


def __getattr__(name: str) -> object:
    """Import the API when it is asked for."""
    if name == "Workspace":
        from concordex.work.api import Workspace

        return Workspace
    if name == "__version__":
        from concordex.version import __version__

        return __version__
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
