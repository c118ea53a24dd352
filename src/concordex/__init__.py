"""Concordex: one manner for every system that manages devices.

The public Python API is :class:`concordex.work.Workspace`; the command line is built on it.
"""

__version__ = "0.1.0"
