"""A pull of a part, put into the whole that was there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from hashlib import blake2b
from typing import TYPE_CHECKING

import polars as pl

from concordex.query.predicate import predicate_of
from concordex.query.tree import Filter
from concordex.store.catalogue import Snapshot
from concordex.store.snapshots import join
from concordex.wire.http.session import Session
from concordex.wire.reading.pages import Narrow
from concordex.wire.reading.read import count
from concordex.wire.reading.table_read import TableRead
from concordex.wire.reading.tables import read_tables
from concordex.work.pull.pushdown import narrowed, reachable

if TYPE_CHECKING:
    from concordex.wire.dialect import Table
    from concordex.work.workspace.base import BaseWorkspace

#: What changed so shortly before the last pull began is asked for again: it may be seen late.
_OVERLAP = timedelta(minutes=5)


def with_part(base: pl.DataFrame, part: pl.DataFrame, gone: Sequence[str] = ()) -> pl.DataFrame:
    """``base`` with the records of ``part`` in the place of their earlier selves, and without what is gone."""
    rest = base.filter(pl.col("record_id").is_in(list(gone)).not_()).join(
        part.select("record_id"), on="record_id", how="anti"
    )
    system = pl.lit("").alias("system")
    return join([rest.lazy().with_columns(system), part.lazy().with_columns(system)]).drop("system").collect()


@dataclass
class PullPlan:
    """How one table is pulled: whole, or as a part that is put into what was there."""

    workspace: BaseWorkspace
    system: str
    table: str
    query: Filter | None
    narrow: Narrow
    base: Snapshot | None = None
    changed: bool = False
    into: Snapshot | None = None  # the snapshot that the part was put into
    taken: datetime | None = None  # where that is not the moment at which it is kept
    remark: str = ""

    @classmethod
    def of(
        cls, workspace: BaseWorkspace, system: str, table: str, query: Filter | None, *, changed_only: bool
    ) -> PullPlan:
        """How a table is pulled where a ``query`` says which records are wanted, or only what changed is."""
        spec, now = workspace.dialect(system).tables[table], workspace.now()
        base = next((s for s in workspace.catalogue.newest(table, system=system) if s.whole), None)
        if query:
            reached = reachable(query, spec, now)
            return cls(workspace, system, table, query, narrowed(reached, spec, query, now), base)
        if not changed_only:
            return cls(workspace, system, table, query, Narrow())
        why, since = _why_in_full(spec, base), base.began if base else None
        if why or since is None:
            return cls(workspace, system, table, query, Narrow(), remark=f"pulled in full: {why}")
        return cls(workspace, system, table, query, Narrow(changed_since=since - _OVERLAP), base, changed=True)

    @property
    def narrowed(self) -> str | None:
        """The filter for which records were asked, where not for all."""
        return self.query.text if self.query else None

    def began(self, session: Session) -> datetime | None:
        """When the reading of all that there will be began, by the system's own clock."""
        return self.into.began if self.query and self.into else session.began_there

    async def settled(self, session: Session, look: TableRead, *, narrowed: bool) -> TableRead:
        """What came, with the rest of the table where only a part was asked for."""
        if self.query is not None:
            look = self._part(look, self.query)
        elif self.changed and not narrowed:
            self.remark = "pulled in full: other tables refer to it"
        elif self.changed and look.whole and self.base:
            look = await self._changes(session, look, self.base)
        elif self.changed:  # what changed is not known for sure: all of it is
            look = await self._full(session, look.fault or "what changed did not add up")
        look.notes += [self.remark] if self.remark else []
        return look

    def _part(self, look: TableRead, query: Filter) -> TableRead:
        workspace = self.workspace
        look.frame = look.frame.filter(predicate_of(look.frame, query, workspace.now()))
        if self.base is None or not look.whole:
            why = (
                f"which are {look.outcome} ({look.why})" if self.base else "and there is nothing whole to put them into"
            )
            look.fault = look.fault or f"only records for which {query.text} holds, {why}"
            return look
        base = workspace.frames.scan(str(self.base.file)).collect()
        before = base.filter(predicate_of(base, query, workspace.now()))
        doubtful = before.join(look.frame.select("record_id"), on="record_id", how="anti").height
        fresh = look.frame.height
        look.frame, self.into = with_part(base, look.frame), self.base
        look.notes.append(f"{fresh} records for which {query.text} holds, put into those of pull {self.base.pull}")
        if doubtful:
            look.notes.append(f"{doubtful} for which it held before did not come: kept as they were, until a full pull")
        self.taken = self.base.taken  # the rest is no newer than that
        look.announced = None
        look.received = look.distinct = look.frame.height
        return look

    async def _changes(self, session: Session, look: TableRead, base: Snapshot) -> TableRead:
        workspace = self.workspace
        if base.reading != reading_of(workspace, self.system, self.table, look):
            why = f"the dialect, what its ids mean, or what is left out, is another than in pull {base.pull}"
            return await self._full(session, why)
        read, since = session.dialect.tables[self.table].read, self.narrow.changed_since
        total = await count(session, self.table)
        kept = workspace.frames.scan(str(base.file)).collect()
        frame = with_part(kept, look.frame, look.gone)
        hidden = sum(base.left_out.values())
        if total is None and not (read.changed and read.changed.gone):
            return await self._full(session, "it tells neither how many there are nor what is gone")
        if total is not None and total != frame.height + hidden:
            return await self._full(session, f"it has {total} records, and the changes lead to {frame.height + hidden}")
        self.remark = (
            f"{look.frame.height} changed and {len(look.gone)} gone since {since:%Y-%m-%d %H:%M} UTC there,"
            f" put into those of pull {base.pull}"
        )
        self.into = base
        return replace(look, held=frame, announced=total, received=frame.height, distinct=frame.height)

    async def _full(self, session: Session, why: str) -> TableRead:
        self.remark = f"pulled in full: {why}"
        looks = dict([pair async for pair in read_tables(session, [self.table])])
        return looks[self.table]


def _why_in_full(table: Table, base: Snapshot | None) -> str:
    """Why all of a table is pulled where only what changed was asked for; empty where that can be had."""
    if base is None:
        return "there is nothing yet to add to"
    read = table.read
    if read.changed is None:
        return "it cannot tell what changed"
    if read.also or read.gathers or read.each:
        return "what other lists say of its records may change without them"
    if base.began is None:
        return "what time it was there when the last pull began is not known"
    return ""


def reading_of(workspace: BaseWorkspace, system: str, table: str, look: TableRead) -> str | None:
    """A digest that is another one where the same records would be kept as others.

    It is so by the dialect, by what ids mean, and by what is left out.  None of a table that cannot tell what changed.
    """
    if look.reading is None:
        return None
    rules = [rule.model_dump_json() for rule in workspace.config.systems[system].leave_out if rule.table == table]
    return blake2b("\n".join([look.reading, *rules]).encode(), digest_size=16).hexdigest()
