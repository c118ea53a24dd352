"""Pulling: every table asked for, of every system asked for, at once; each proved whole or called partial."""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly, ConcordexError, StoreError
from concordex.store import snapshots as store
from concordex.store.catalogue import Snapshot
from concordex.wire.dialect import Dialect
from concordex.wire.mapping import odd_kinds
from concordex.wire.read import Look
from concordex.wire.session import Traffic
from concordex.wire.tables import TableProgress, order, read_tables
from concordex.words import suggestion
from concordex.work.concurrent import all_of
from concordex.work.processes import is_alive

if TYPE_CHECKING:
    from concordex.work.workspace import Workspace

#: Told as records come: system, table, how many so far, and how many were announced.
Progress = Callable[[str, str, int, int | None], None]


@dataclass(frozen=True)
class Pull:
    """What came of a pull: its number, and a snapshot (or a failure) for each table."""

    number: int
    outcome: str
    snapshots: tuple[Snapshot, ...]


def pull(
    workspace: Workspace,
    systems: Sequence[str] = (),
    tables: Sequence[str] = (),
    progress: Progress | None = None,
) -> Pull:
    """Fetch ``tables`` (or all) of ``systems`` (or all) and keep them.

    A system that fails does not keep the others from being pulled.  Interrupted, it keeps what was
    finished, and the pull is called stopped.
    """
    names = workspace.systems(systems)
    wanted = {name: _tables(workspace.dialect(name), tables) for name in names}
    if not any(wanted.values()):
        raise CalledWrongly(
            f"none of these systems has a table {tables[0]!r}",
            advice=suggestion(tables[0], {t for name in names for t in workspace.dialect(name).tables}),
        )
    for left in workspace.catalogue.running():
        if not is_alive(left["process"]):  # killed, and could not say so itself
            workspace.catalogue.end_pull(left["id"], "stopped")
    number = workspace.catalogue.begin_pull(os.getpid())
    outcome = "stopped"
    try:
        asyncio.run(_pull_all(workspace, number, wanted, progress))
        outcome = _outcome(workspace.catalogue.snapshots_of(number))
    finally:
        workspace.catalogue.end_pull(number, outcome)
    return Pull(number, outcome, tuple(workspace.catalogue.snapshots_of(number)))


async def _pull_all(workspace: Workspace, number: int, wanted: dict[str, list[str]], progress: Progress | None) -> None:
    await all_of(
        _pull_system(workspace, number, system, tables, progress) for system, tables in wanted.items() if tables
    )


async def _pull_system(
    workspace: Workspace, number: int, system: str, tables: list[str], progress: Progress | None
) -> None:
    dialect = workspace.dialect(system)
    left = order(dialect, tables)
    begun, before = time.monotonic(), Traffic()
    try:
        async with workspace.session(system) as session:
            async for table, look in read_tables(session, tables, progress=_told(system, progress)):
                if table in tables:
                    keep(workspace, number, system, table, look, begun, _spent(session.traffic, before))
                left.remove(table)
                begun, before = time.monotonic(), replace(session.traffic)
    except StoreError:
        raise
    except ConcordexError as error:
        for missed in left:
            if missed in tables:
                reason = str(error) if missed == left[0] else f"not tried, since {left[0]} failed"
                _fail(workspace, number, system, missed, reason, begun)


def _told(system: str, progress: Progress | None) -> TableProgress | None:
    return (lambda table, came, announced: progress(system, table, came, announced)) if progress else None


def keep(workspace: Workspace, number: int, system: str, table: str, look: Look, begun: float, spent: Traffic) -> None:
    """Write one table's snapshot and note it in the catalogue."""
    file = f"snapshots/{system}/{table}/{number:06d}.parquet"
    frame = in_order(look.frame)
    odd = odd_kinds(frame)
    notes = [*look.notes, *([f"kinds that are not among ours: {', '.join(odd[:5])}"] if odd else [])]
    store.write(frame, workspace.store / file)
    workspace.catalogue.add_snapshot(
        Snapshot(
            pull=number, system=system, table=table, taken=datetime.now(UTC),
            outcome="whole" if look.whole else "partial", file=file, announced=look.announced,
            received=look.received, distinct=look.distinct, fault=look.fault, notes=notes, lost=look.lost,
            seconds=time.monotonic() - begun, requests=spent.requests, retries=spent.retries, bytes=spent.received,
        )
    )  # fmt: skip


def in_order(frame: pl.DataFrame) -> pl.DataFrame:
    """By site, so that a filter on one skips the rest of the file."""
    by = [name for name in ("site", "record_id") if name in frame.columns]
    return frame.sort(by, nulls_last=True)


def _fail(workspace: Workspace, number: int, system: str, table: str, reason: str, begun: float) -> None:
    seconds = time.monotonic() - begun
    workspace.catalogue.add_snapshot(
        Snapshot(
            pull=number, system=system, table=table, taken=datetime.now(UTC), outcome="failed", fault=reason,
            seconds=seconds,
        )
    )  # fmt: skip


def _tables(dialect: Dialect, wanted: Sequence[str]) -> list[str]:
    return [name for name in dialect.tables if not wanted or name in wanted]


def _outcome(snapshots: Sequence[Snapshot]) -> str:
    found = {snapshot.outcome for snapshot in snapshots}
    if found == {"failed"}:
        return "failed"
    return "whole" if found == {"whole"} else "partial"


def _spent(now: Traffic, before: Traffic) -> Traffic:
    return Traffic(now.requests - before.requests, now.retries - before.retries, now.received - before.received)
