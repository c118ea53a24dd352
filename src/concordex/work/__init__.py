"""The use cases, room by room, and on top of them :mod:`api`, which people import as :class:`concordex.Workspace`."""
