"""The use cases, and the public Python API: :class:`Workspace`."""

from concordex.work.workspace.base import Workspace

__all__ = ["Workspace"]
