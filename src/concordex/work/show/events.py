"""What happened to devices over a while, and how much they were used."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly
from concordex.insight.events import by_day, by_hour, hours_of_use, sessions
from concordex.words import plural
from concordex.work.concordance import stored
from concordex.work.fleet.told import TableSource, events, telling

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

_WEEK = timedelta(days=7)
_ENTRY = ("entry", "name", "kind", "site", "user")


@dataclass(frozen=True, kw_only=True)
class Happened:
    """What happened to the devices of a filter since a moment.

    every   each event, with its device: the latest first
    days    by day and event how often, and to how many devices
    hours   of each day how much happened in each hour (UTC)
    used    when each device was in use, with its ``name``
    use     of each device of a kind that is used how many hours, the least used first
    """

    since: datetime
    until: datetime
    every: pl.DataFrame
    days: pl.DataFrame
    hours: dict[str, list[int]]
    used: pl.DataFrame
    use: pl.DataFrame
    notes: list[str] = field(default_factory=list)


def happened(
    workspace: BaseWorkspace,
    systems: Sequence[str] = (),
    where: str | None = None,
    since: datetime | None = None,
    until: datetime | None = None,
    *,
    live: bool = False,
) -> Happened:
    """What systems tell of the last week, or ``since`` another moment, and ``until`` one; with ``live``, just now.

    Of a device whose kind nobody uses nothing is said; one that belongs to a kind that is used, and that a system tells
    of, has nought hours.
    """
    if not any(table.health and table.health.events for _, _, table in telling(workspace, systems)):
        raise CalledWrongly(
            "no system tells of events", advice="a dialect says under health: events: which table holds them"
        )
    now = workspace.now()
    begin, end = since or (until or now) - _WEEK, min(until or now, now)
    entries = stored.in_scope(workspace, [where] if where else [])
    source = TableSource(workspace)
    if live:
        from concordex.work.show.told_live import told_live  # what speaks to systems takes a while to import

        source = told_live(workspace, systems, entries if where else None, begin, until)
    told = events(source, begin, systems).collect()
    told = told if until is None else told.filter(pl.col("at") < until)
    later = told.filter(pl.col("at") > now + timedelta(minutes=5))
    told = told.filter(pl.col("at") <= now + timedelta(minutes=5)).unique(maintain_order=True)
    members = stored.entry_of(workspace, "device").collect()
    known = entries.select(_ENTRY)
    mine = told.join(members, on=["system", "device"], maintain_order="left").join(
        known, on="entry", maintain_order="left"
    )
    reach, known_until, doubts = (_first(told), now, source.notes) if live else _told_of(workspace, told, systems)
    used = sessions(mine, max(begin, reach or begin), min(end, known_until or end)).join(
        known.select("entry", "name"), on="entry", how="left", maintain_order="left"
    )
    marked = mine.filter(pl.col("begins") | pl.col("ends"))
    tells = members.filter(pl.col("system").is_in(marked["system"].unique().implode())).select("entry").unique()
    could = known.filter(pl.col("kind").is_in(marked["kind"].unique().implode())).join(tells, on="entry", how="semi")
    use = could.join(hours_of_use(used), on="entry", how="left", maintain_order="left").with_columns(
        pl.col("hours").fill_null(0.0), pl.col("sessions").fill_null(0)
    )
    notes = [*stored.notes(workspace), *doubts]
    notes += [f"the events that were pulled begin {reach:%Y-%m-%d %H:%M} UTC"] if reach and reach > begin else []
    notes += [f"{plural(later.height, 'event')} from the future do not count"] if later.height else []
    every = mine.sort("at", descending=True).select("at", "name", "kind", "site", "event", "part", "detail", "system")
    return Happened(
        since=begin, until=end, every=every, days=by_day(mine), hours=by_hour(mine), used=used,
        use=use.sort("hours", "site", "name", nulls_last=True).drop("entry"), notes=notes,
    )  # fmt: skip


def _told_of(
    workspace: BaseWorkspace, told: pl.DataFrame, systems: Sequence[str]
) -> tuple[datetime | None, datetime | None, Sequence[str]]:
    """The first event that is told, when events were pulled of all, and of which systems not all may be there."""
    tables = [
        (system, name) for system, name, table in telling(workspace, systems) if table.health and table.health.events
    ]
    snapshots = [s for s in workspace.memory.newest() if s.file and (s.system, s.table) in tables]
    doubts = [
        f"{s.system}/{s.table} is {s.outcome}: who has no hours here may have some" for s in snapshots if not s.whole
    ]
    return _first(told), min((s.taken for s in snapshots), default=None), doubts


def _first(told: pl.DataFrame) -> datetime | None:
    first = told["at"].min()
    return first if isinstance(first, datetime) else None
