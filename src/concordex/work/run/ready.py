"""Waiting until what we made is really there, and telling what came along with it."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Sequence
from datetime import datetime

import polars as pl

from concordex.change.reasons import Reasons, Why, because
from concordex.change.steps import Step
from concordex.query.predicate import predicate_of
from concordex.wire import dialect as d
from concordex.wire.http.session import Session
from concordex.wire.reading.tables import read_tables
from concordex.work.targets.api_target import ApiTarget


async def until_ready(after: ApiTarget, table: str, steps: Sequence[Step], now: datetime) -> dict[int, Reasons]:
    """Of each creation in ``steps``, by its number, that it is ready, or why it is not, and what is known of it then.

    ``after`` holds the table as it was read last; it is read again until all are ready or time is over.
    """
    session = after.session
    write = session.dialect.tables[table].write
    ready = write.ready if write else None
    made = {step.record_id: step for step in steps if step.operation == "create" and step.record_id}
    if ready is None or not made:
        return {}
    end = time.monotonic() + ready.timeout
    while True:
        frame = after.looks[table].frame.filter(pl.col("record_id").is_in(list(made)))
        there = set(frame.filter(predicate_of(frame, ready.when.query, now))["record_id"])
        failed = (
            set(frame.filter(predicate_of(frame, ready.failed.query, now))["record_id"]) - there
            if ready.failed
            else set()
        )
        if len(there) + len(failed) == len(made) or time.monotonic() > end:
            break
        await asyncio.sleep(ready.every)
        await after.read([table])
    brought = await _brought(session, table, ready, there)
    reasons = {}
    for row in frame.iter_rows(named=True):
        facts = {name: row[name] for name in ready.facts if row.get(name) not in (None, [])}
        if row["record_id"] in there:
            why = because(Why.READY, facts=facts, brought=brought.get(row["record_id"], {}))
        else:
            failing = str(ready.failed) if row["record_id"] in failed else None
            why = because(Why.NOT_READY, facts=facts, failed=failing, timeout=ready.timeout, when=str(ready.when))
        reasons[made[row["record_id"]].number] = why
    return reasons


async def _brought(session: Session, table: str, ready: d.Ready, ids: set[str]) -> dict[str, dict[str, list[str]]]:
    """For each record the names of what hangs from it in other tables, by table."""
    brought: dict[str, dict[str, list[str]]] = {}
    if not (ready.brings and ids):
        return brought
    async for name, look in read_tables(session, [table, *ready.brings]):
        if name == table:
            continue
        by = ready.brings[name]
        below = look.frame.filter(pl.col(by).is_in(list(ids)))
        for key, part in below.group_by(by, maintain_order=True):
            names = [str(value) for value in part["name" if "name" in part.columns else "record_id"]]
            brought.setdefault(str(key[0]), {})[name] = names
    return brought
