"""Pulling: every table asked for, of every system asked for, at once; each proved whole or called partial."""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import TYPE_CHECKING

from concordex.errors import (
    BadAnswer,
    CalledWrongly,
    ConcordexError,
    QueryError,
    RequestRefused,
    ServerFault,
    Stopped,
    StoreError,
)
from concordex.landing import sweep
from concordex.parallel import all_of, completed
from concordex.query.bind import Binder
from concordex.query.tree import Filter
from concordex.spans import span
from concordex.store.catalogue import Snapshot
from concordex.store.snapshots import beside
from concordex.wire.dialect import Dialect
from concordex.wire.dialect.order import order, refers_to
from concordex.wire.http.session import Session, Traffic
from concordex.wire.reading.completeness import Proof, TableOutcome
from concordex.wire.reading.table_read import Room, TableRead
from concordex.wire.reading.tables import read_tables, stumbled
from concordex.wire.writing.staging import pending
from concordex.words import suggestion
from concordex.work.pull.in_progress import ORIGIN, begun, settle
from concordex.work.pull.outcome import outcome_of
from concordex.work.pull.partial import PullPlan, reading_of, with_part
from concordex.work.pull.retention import tidy
from concordex.work.pull.sift import Sift
from concordex.work.pull.spool import Spool
from concordex.work.workspace.base import ANYWHERE

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: Told as records come: system, table, how many so far, and how many were announced.
Progress = Callable[[str, str, int, int | None], None]

#: Seconds between two notes of how far a running pull is, and looks whether it should stop.
_PULSE = 0.5
#: Seconds for which another machine that pulls the same system is waited for.
_TURN = 1_800


@dataclass(frozen=True)
class Pull:
    """What came of a pull: its number, and a snapshot (or a failure) for each table."""

    number: int
    outcome: str
    snapshots: tuple[Snapshot, ...]
    removed: int = 0


@dataclass(kw_only=True)
class _Pulling:
    """One pull under way."""

    workspace: BaseWorkspace
    number: int
    query: Filter | None
    changed_only: bool
    accept_fall: bool
    progress: Progress | None
    counts: dict[tuple[str, str], tuple[int, int | None]] = field(default_factory=dict)

    def note_page(self, system: str, table: str, came: int, announced: int | None) -> None:
        """Take note of a page."""
        self.counts[system, table] = (came, announced)
        if self.progress:
            self.progress(system, table, came, announced)

    async def pulse(self) -> None:
        """Note now and then how far it is, for other terminals, and stop where one of them asks for it."""
        while True:
            await asyncio.sleep(_PULSE)
            if self.workspace.catalogue.advance(self.number, self.counts):
                raise Stopped("stopped from another terminal", advice="what was finished is kept: concordex pulls")


def pull(
    workspace: BaseWorkspace,
    systems: Sequence[str] = (),
    tables: Sequence[str] = (),
    progress: Progress | None = None,
    *,
    where: str | None = None,
    changed_only: bool = False,
    accept_fall: bool = False,
) -> Pull:
    """Fetch ``tables`` (or all) of ``systems`` (or all that are not paused) and keep them.

    With ``where`` only the records for which it holds are fetched, and with ``changed_only`` those that
    changed since the last whole pull, where the system can tell; both are put into what was there, so
    that a snapshot still holds the whole.  A list that fell by more than the workspace allows is partial,
    unless ``accept_fall`` says that this is right.  A system that fails does not keep the others from being
    pulled.  Interrupted, it keeps what was finished, and the pull is called stopped.
    """
    names = workspace.active(workspace.systems(systems))
    if not systems:  # what is reached from elsewhere is for a runner there
        names = [name for name in names if name in workspace.played or _is_reached(workspace, name)]
        names = [name for name in names if workspace.allowed.may("pull", name)] or names
        if not names:
            raise CalledWrongly(
                "all systems are reached from elsewhere", advice="a runner there: concordex work --where"
            )
    for name in names:
        if name not in workspace.played:
            workspace.allowed.require("pull", name)
            workspace.check_reach(name)
    wanted = {name: _tables(workspace.dialect(name), tables) for name in names}
    if not any(wanted.values()):
        raise CalledWrongly(
            f"none of these systems has a table {tables[0]!r}",
            advice=suggestion(tables[0], {t for name in names for t in workspace.dialect(name).tables}),
        )
    query = workspace.query(where) if where else None
    if query:
        wanted = {name: _askable(workspace, name, chosen, query) for name, chosen in wanted.items()}
    workspace.secrets.fetch(names)
    sessions = {name: workspace.session(name) for name in names if wanted[name] and workspace.asks(name)}
    settle(workspace)
    sweep(workspace.store / "snapshots")
    outcome = "stopped"
    with begun(workspace, os.environ.get(ORIGIN)) as number:
        run = _Pulling(
            workspace=workspace, number=number, query=query, changed_only=changed_only, accept_fall=accept_fall,
            progress=progress,
        )  # fmt: skip
        try:
            completed(_pull_all(run, wanted, sessions))
            outcome = outcome_of(workspace.catalogue.snapshots_of(number))
        finally:
            workspace.catalogue.end_pull(number, outcome)
    removed = tidy(workspace, workspace.config.keep)
    return Pull(number, outcome, tuple(workspace.catalogue.snapshots_of(number)), removed)


def _is_reached(workspace: BaseWorkspace, system: str) -> bool:
    return workspace.place_of(system) in (ANYWHERE, *workspace.places)


async def _pull_all(run: _Pulling, wanted: dict[str, list[str]], sessions: dict[str, Session]) -> None:
    pulse = asyncio.ensure_future(run.pulse())
    work = asyncio.ensure_future(
        all_of(_pull_system(run, system, tables, sessions.get(system)) for system, tables in wanted.items() if tables)
    )
    try:
        await asyncio.wait([pulse, work], return_when=asyncio.FIRST_COMPLETED)
        (work if work.done() else pulse).result()
    finally:
        for task in (pulse, work):
            task.cancel()
        await asyncio.gather(pulse, work, return_exceptions=True)


async def _pull_system(run: _Pulling, system: str, tables: list[str], opened: Session | None) -> None:
    pulled = _OfSystem(run, system, tables)
    try:
        await _alone(run.workspace, system)
        with span("pull", concordex__system=system):
            async with opened or run.workspace.session(system) as session:
                await pulled.everything(session)
    except (StoreError, Stopped):
        raise
    except ConcordexError as error:
        pulled.ended(error)
    except Exception as error:  # it costs this system, not the others
        pulled.ended(stumbled("it", system, error))
    finally:
        pulled.closed()
        run.workspace.locks.end_reading(system)


async def _alone(workspace: BaseWorkspace, system: str) -> None:
    """Wait until no other machine pulls this system."""
    until = time.monotonic() + _TURN
    while not workspace.locks.try_reading(system):
        if time.monotonic() > until:
            raise Stopped(
                f"{system} has been pulled by another machine for {_TURN // 60} minutes", advice="concordex pulls"
            )
        await asyncio.sleep(_PULSE)


class _OfSystem:
    """The tables of one system, pulled one after the other; what goes wrong with one costs that one."""

    def __init__(self, run: _Pulling, system: str, tables: list[str]) -> None:
        self._run, self._system, self._wanted = run, system, tables
        self._tables = run.workspace.dialect(system).tables
        self._left = order(run.workspace.dialect(system), tables)
        self._needed = {other for table in self._left for other in refers_to(self._tables[table])}
        self._rules = run.workspace.config.systems[system].leave_out
        self._plans: dict[str, PullPlan] = {}
        self._begun, self._before = time.monotonic(), Traffic()
        self._counts: dict[str, tuple[int, int]] = {}  # of each table: the last time, and now
        self._unproved: set[str] = set()
        self._spools: list[Spool] = []

    async def everything(self, session: Session) -> None:
        """Read and keep them all."""
        run, system = self._run, self._system
        self._plans = {
            table: PullPlan.of(run.workspace, system, table, run.query, changed_only=run.changed_only)
            for table in self._wanted
        }
        narrow = {table: plan.narrow for table, plan in self._plans.items() if table not in self._needed}

        def on_page(table: str, came: int, announced: int | None) -> None:
            run.note_page(system, table, came, announced)

        remark = await _note_staged(run.workspace, session)
        async for table, look in read_tables(session, list(self._left), narrow, on_page, self._missed, self._room_for):
            try:
                await self._took(session, table, look, remark, narrowed=table in narrow)
            except (RequestRefused, BadAnswer, ServerFault, QueryError) as error:
                self._missed(table, error)
            except ConcordexError:
                raise
            except Exception as error:  # it costs this table, not the others
                self._missed(table, stumbled(table, system, error))
            else:
                self._left.remove(table)
            self._begun, self._before = time.monotonic(), replace(session.traffic)
        self._wonder()

    def _room_for(self, table: str) -> Callable[[], Room] | None:
        """Where a table goes while it comes, if it is long.

        One that is put into what was there is kept in memory, and one of which others mean records that are left out.
        """
        plan = self._plans.get(table)
        if plan is None or plan.changed or plan.query is not None:
            return None
        if table in self._needed and any(rule.table == table for rule in self._rules):
            return None
        file = snapshot_file(self._system, table, self._run.number)

        def begin() -> Spool:
            self._spools.append(Spool(self._run.workspace, self._system, table, file))
            return self._spools[-1]

        return begin

    def closed(self) -> None:
        """Leave nothing of what was begun and is no snapshot."""
        for spool in self._spools:
            spool.discard()

    def _wonder(self) -> None:
        """Remark on lists that nothing proves and that stood still while others grew: they may be cut just there."""
        grew = [table for table, (before, now) in self._counts.items() if before < now]
        for table, (before, now) in self._counts.items():
            if before == now > 1 and grew and table in self._unproved:
                note = f"as many as the last time ({now:,}), while {', '.join(grew[:3])} grew: is it cut?"
                self._run.workspace.catalogue.remark(self._run.number, self._system, table, note)

    async def _took(
        self, session: Session, table: str, first_look: TableRead, remark: list[str], *, narrowed: bool
    ) -> None:
        plan = self._plans.get(table)
        if plan is None:
            return
        look = await plan.settled(session, first_look, narrowed=narrowed)
        before = _doubt_a_fall(self._run, self._system, table, look)
        if before is not None:
            self._counts[table] = (before.distinct, look.distinct)
        if look.proof in (None, Proof.VOUCHED):
            self._unproved.add(table)
        look.notes += remark if self._tables[table].config else []
        spent = _spent(session.traffic, self._before)
        keep(
            self._run.workspace, self._run.number, self._system, table, look, self._begun, spent,
            narrowed=plan.narrowed, taken=plan.taken, into=plan.into,
            began=plan.began(session),
        )  # fmt: skip

    def _missed(self, table: str, error: ConcordexError) -> None:
        """Note a table that could not be read."""
        if table in self._wanted:
            _fail(self._run.workspace, self._run.number, self._system, table, str(error), self._begun)
        self._left.remove(table)

    def ended(self, error: ConcordexError) -> None:
        """Note that the system lets nobody go on: all that is left has failed."""
        for table in self._left:
            if table in self._wanted:
                reason = str(error) if table == self._left[0] else f"not tried, since {self._left[0]} failed"
                _fail(self._run.workspace, self._run.number, self._system, table, reason, self._begun)


async def _note_staged(workspace: BaseWorkspace, session: Session) -> list[str]:
    """Keep what the system holds staged; and a remark where objects will be seen with what is only staged."""
    try:
        held = await pending(session)
    except RequestRefused as refusal:  # perhaps it is not ours to ask
        return [f"what is staged there is not known: {refusal.why or refusal.what}"]
    workspace.catalogue.holds(session.endpoint.name, [(step.who, step.since, step.what) for step in held])
    ours = sum(step.ours for step in held)
    return [f"seen with what this user has staged and not committed ({ours:,})"] if ours else []


def _doubt_a_fall(run: _Pulling, system: str, table: str, look: TableRead) -> Snapshot | None:
    """A list that fell far is not believed until a person says so: more often it was cut than it shrank.

    The snapshot with which it was compared comes back, if there is one.
    """
    before = next(iter(run.workspace.catalogue.newest(table, system=system)), None)
    if before is None or before.outcome not in (TableOutcome.WHOLE, TableOutcome.UNPROVEN):
        return None
    if not run.accept_fall and run.workspace.config.falls.doubtful(before.distinct, look.distinct):
        look.fault = look.fault or (
            f"it fell from {before.distinct:,} records to {look.distinct:,} since pull {before.pull}: if that is so, "
            f"concordex pull {system} --table {table} --accept-fall"
        )
    return before


def keep(
    workspace: BaseWorkspace,
    number: int,
    system: str,
    table: str,
    look: TableRead,
    begun: float,
    spent: Traffic,
    *,
    narrowed: str | None = None,
    taken: datetime | None = None,
    into: Snapshot | None = None,
    began: datetime | None = None,
) -> None:
    """Write one table's snapshot and note it in the catalogue; ``into`` is the one that a part was put into.

    ``began`` is when its reading did, by the system's own clock: of a part, that of what it was put into.
    """
    file = snapshot_file(system, table, number)
    spool = look.held if isinstance(look.held, Spool) else None
    sift = spool.sift if spool else Sift(workspace, system, table)
    frame = None if spool else sift.piece(look.frame)
    if into and into.file and frame is not None:
        sift.recall(into.file, frame, look.gone)
    sift.keep_keys(file)
    snapshot = Snapshot(
        pull=number, system=system, table=table, taken=taken or workspace.now(),
        outcome=look.outcome, proof=look.proof, file=file, announced=look.announced,
        received=look.received, distinct=look.distinct, fault=look.why, notes=[*look.notes, *sift.remarks],
        lost=look.lost, seconds=time.monotonic() - begun, requests=spent.requests, retries=spent.retries,
        bytes=spent.received, left_out=sift.counts, narrowed=narrowed,
        refers=workspace.dialect(system).tables[table].refers, began=began,
        reading=into.reading if into else reading_of(workspace, system, table, look),
    )  # fmt: skip
    try:
        if spool:
            spool.finish(snapshot.facts())
        elif frame is not None:
            workspace.frames.write(frame, file, facts=snapshot.facts())
    except BaseException:
        workspace.frames.forget(beside(file))
        raise
    workspace.catalogue.add_snapshot(snapshot)


def keep_part(
    workspace: BaseWorkspace, number: int, system: str, table: str, look: TableRead, begun: float, note: str
) -> None:
    """Put records that were read by themselves into the newest whole snapshot of their table, if that is sound."""
    base = next((s for s in workspace.catalogue.newest(table, system=system) if s.whole), None)
    if base is None or base.file is None or workspace.frames.damage(base.file) is not None:
        return
    frame = with_part(workspace.frames.scan(base.file).collect(), look.frame)
    merged = replace(
        look, held=frame, received=frame.height, distinct=frame.height, announced=None, fault=None, doubt=base.fault,
        proof=Proof(base.proof) if base.proof else None, notes=[f"{note}, put into those of pull {base.pull}"],
        trusted=base.trusted,
    )  # fmt: skip
    keep(workspace, number, system, table, merged, begun, Traffic(), taken=base.taken, into=base, began=base.began)


def snapshot_file(system: str, table: str, number: int) -> str:
    """Where the snapshot of a table by a pull stands, below the store."""
    return f"snapshots/{system}/{table}/{number:06d}.parquet"


def _fail(workspace: BaseWorkspace, number: int, system: str, table: str, reason: str, begun: float) -> None:
    seconds = time.monotonic() - begun
    workspace.catalogue.add_snapshot(
        Snapshot(
            pull=number, system=system, table=table, taken=workspace.now(), outcome="failed", fault=reason,
            seconds=seconds,
        )
    )  # fmt: skip


def _tables(dialect: Dialect, wanted: Sequence[str]) -> list[str]:
    return [name for name in dialect.tables if not wanted or name in wanted]


def _askable(workspace: BaseWorkspace, system: str, tables: Sequence[str], query: Filter) -> list[str]:
    """Those of ``tables`` that have the fields of which ``query`` speaks; an error where none has."""
    askable, fault = [], None
    for table in tables:
        try:
            Binder(query, workspace.dialect(system).tables[table].types, workspace.now()).check()
        except QueryError as error:
            fault = error if table == "devices" else fault or error
        else:
            askable.append(table)
    if fault and not askable:
        raise fault
    return askable


def _spent(now: Traffic, before: Traffic) -> Traffic:
    return Traffic(now.requests - before.requests, now.retries - before.retries, now.received - before.received)
