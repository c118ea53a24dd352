"""What is known of each system without asking it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

from concordex.store.contacts import Contact
from concordex.work.pull.outcome import outcome_of

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True, kw_only=True)
class SystemOverview:
    """One system: who it is, what the last pull of it came to, and how it stands with it."""

    name: str
    label: str
    tags: tuple[str, ...]
    paused: bool
    role: str
    dialect: str
    where: str
    outcome: str | None
    proof: str
    records: int | None
    taken: datetime | None
    contact: Contact

    @property
    def state(self) -> str:
        """How it stands with it: connected, failing (in part), paused, or never met."""
        if self.paused:
            return "paused"
        if self.contact.failing_since is not None:
            return "failing in part" if self.contact.in_part else "failing"
        return "connected" if self.contact.met else "never"


def overview(workspace: BaseWorkspace, names: Sequence[str] = ()) -> list[SystemOverview]:
    """The systems named, or every one of the workspace, in the order of its file."""
    return [_known(workspace, name) for name in workspace.systems(names)]


def _known(workspace: BaseWorkspace, name: str) -> SystemOverview:
    system = workspace.config.systems[name]
    pulled = workspace.has_catalogue
    latest = workspace.memory.latest_of(name) if pulled else []
    outcome = outcome_of(latest) if latest else None
    contact = workspace.memory.contacts.of(name) if pulled else Contact()
    kept = workspace.memory.newest("devices", system=name) if pulled else []
    return SystemOverview(
        name=name, label=system.label, tags=tuple(system.tags), paused=system.paused, role=workspace.role(name),
        dialect=system.dialect, where=system.url or system.database or str(system.folder),
        outcome=outcome, proof=", ".join(sorted({s.proof for s in latest if s.proof})),
        records=kept[0].distinct if kept else None, taken=kept[0].taken if kept else None, contact=contact,
    )  # fmt: skip
