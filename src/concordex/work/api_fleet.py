"""The fleet as it is seen, in the public Python API: ``Workspace.fleet``."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from concordex.work.show.events import Happened
    from concordex.work.show.health import FleetHealth
    from concordex.work.show.racks import Elevation
    from concordex.work.show.report import Report
    from concordex.work.show.tables import Selection
    from concordex.work.workspace.base import BaseWorkspace


class FleetView:
    """The fleet of a workspace, as it was pulled and reconciled; each ``where`` is a filter."""

    def __init__(self, workspace: BaseWorkspace) -> None:
        self._workspace = workspace

    def health(
        self,
        systems: Sequence[str] = (),
        where: str | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
        *,
        live: bool = False,
    ) -> FleetHealth:
        """How devices are: states by kind, readings beyond a threshold, and what each threshold watched.

        With ``live`` the systems are asked now, for no more than these devices and this span of time.
        """
        from concordex.work.show import health

        return health.health(self._workspace, systems, where, since, until, live=live)

    def happened(
        self,
        systems: Sequence[str] = (),
        where: str | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
        *,
        live: bool = False,
    ) -> Happened:
        """What happened to devices in a span of time, by day and hour, and how much they were used."""
        from concordex.work.show import events

        return events.happened(self._workspace, systems, where, since, until, live=live)

    def batteries(self, where: str | None = None) -> Selection:
        """Batteries, by site, the most urgent first: how each is, and how long it will last by whose word."""
        from concordex.work.show import batteries

        return batteries.batteries(self._workspace, where)

    def racks(self, where: str | None = None, *, fits: int | None = None, face: str | None = None) -> Selection:
        """Racks and their room; or, with ``fits``, where so many units are free, the tightest first."""
        from concordex.work.show import racks

        return racks.racks(self._workspace, where, fits=fits, face=face)

    def elevations(self, name: str | None = None, where: str | None = None) -> list[Elevation]:
        """Racks as they are seen from their front and their rear."""
        from concordex.work.show import racks

        return racks.elevations(self._workspace, name, where)

    def links(self, where: str | None = None) -> Selection:
        """The cables between devices, each once, whichever of its ends tell of it."""
        from concordex.work.show import links

        return links.links(self._workspace, where)

    def behind(self, device: str) -> Selection:
        """What is behind each port of a device: neighbours and hosts."""
        from concordex.work.show import links

        return links.behind(self._workspace, device)

    def way(self, here: str, there: str) -> Selection:
        """A shortest way from one device to another, link by link."""
        from concordex.work.show import links

        return links.way(self._workspace, here, there)

    def versions(self, where: str | None = None) -> Selection:
        """Devices beside the versions that are wanted, and how long theirs are supported."""
        from concordex.work.show import versions

        return versions.versions(self._workspace, where)

    def version_spread(self, where: str | None = None, over: str | None = None) -> Selection:
        """How many devices run each version; with ``over`` (``30d``, ``12w:week``) at the end of each span of time."""
        from concordex.work.show import versions

        return versions.spread(self._workspace, where, over)

    def report(self, where: str | None = None, compare: datetime | None = None, sections: Sequence[str] = ()) -> Report:
        """All that is known of a fleet, or of a group, section by section; compared with an earlier moment."""
        from concordex.work.show import report

        return report.report(self._workspace, where, compare, sections)
