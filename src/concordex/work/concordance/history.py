"""What became of a device: what its records said at each pull, where that changed."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.work.concordance import stored

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: What is told of a device's past, and how it is called.
TOLD = {
    "name": "renamed", "site": "moved", "location": "moved", "rack": "moved", "os_version": "upgraded", "os": "changed",
    "serial": "replaced", "ips": "readdressed", "macs": "changed", "model": "changed", "user": "handed over",
    "status": "now",
}  # fmt: skip


@dataclass(frozen=True, kw_only=True)
class Event:
    """One change of one record: when it was first seen, and what it was before."""

    when: datetime
    record: str
    what: str
    field: str | None = None
    before: Any = None
    after: Any = None


def history(workspace: BaseWorkspace, entry: str) -> list[Event]:
    """The events of an entry's records over all snapshots that are kept, the oldest first."""
    members = stored.read(workspace, "members").filter(pl.col("entry") == entry).select("system", "record_id").collect()
    events: list[Event] = []
    for system, ids in members.group_by("system", maintain_order=True).agg("record_id").iter_rows():
        events += _of_system(workspace, system, ids)
    return sorted(events, key=lambda event: (event.when, event.record, event.what))


def _of_system(workspace: BaseWorkspace, system: str, ids: list[str]) -> list[Event]:
    last: dict[str, dict[str, Any] | None] = dict.fromkeys(ids)
    events: list[Event] = []
    for at, snapshot in enumerate(workspace.memory.kept(system, "devices")):
        lazy = workspace.frames.scan(str(snapshot.file))
        names = [name for name in ("record_id", *TOLD) if name in lazy.collect_schema()]
        records = lazy.filter(pl.col("record_id").is_in(ids)).select(names).collect().to_dicts()
        rows = {row["record_id"]: row for row in records}
        for record_id in ids:
            record, row, before = f"{system}/{record_id}", rows.get(record_id), last[record_id]
            if row is None and before is not None and snapshot.whole:
                events.append(Event(when=snapshot.taken, record=record, what="gone"))
                last[record_id] = None
            elif row is not None and before is None:
                place = row.get("site") or row.get("location")
                first = "first pulled" if at == 0 else "appeared"
                events.append(Event(when=snapshot.taken, record=record, what=first, field="site", after=place))
            elif row is not None and before is not None:
                events += [
                    Event(when=snapshot.taken, record=record, what=TOLD[name], field=name, before=before.get(name),
                          after=row[name])
                    for name in names[1:] if row[name] != before.get(name)
                ]  # fmt: skip
            last[record_id] = row or last[record_id]
    return events
