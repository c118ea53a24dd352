"""Running steps against one system behind an API, or one device: what its session, its dialect and its pulls add."""

from __future__ import annotations

import time
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

from concordex.change.reasons import Reasons
from concordex.change.run_options import RunOptions
from concordex.change.steps import Change, State, Step
from concordex.errors import Stopped
from concordex.wire.dialect.order import refers_to
from concordex.wire.http.session import Session, Traffic
from concordex.wire.writing.staging import pending
from concordex.words import plural
from concordex.work.change.onboarding import asked_again
from concordex.work.pull.in_progress import begun
from concordex.work.pull.outcome import outcome_of
from concordex.work.pull.pull import keep, keep_part
from concordex.work.run.bodies import Bodies
from concordex.work.run.commits import Committer
from concordex.work.run.engine import Engine
from concordex.work.run.ledger import Ledger
from concordex.work.run.precheck import AWAY
from concordex.work.run.readback import Ready
from concordex.work.run.ready import until_ready
from concordex.work.run.sender import Sender
from concordex.work.show.first_seen import seen_since
from concordex.work.targets.api_target import ApiTarget
from concordex.work.targets.lookup import KeyedRead, lookups
from concordex.work.targets.objects import ObjectTarget
from concordex.work.targets.records import RecordTarget, tables_for

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


class ApiRun:
    """One run of steps against one system, or one device."""

    def __init__(
        self,
        workspace: BaseWorkspace,
        change: Change,
        steps: Sequence[Step],
        how: RunOptions,
        progress: Callable[[int], None],
    ) -> None:
        self.workspace, self.change, self.steps, self.progress = workspace, change, steps, progress
        self.dialect = workspace.dialect(change.system)
        self.how = replace(
            how,
            as_one=self.dialect.staging is not None,
            all_of_it=change.about.objects,
            field_by_field=change.kind == "undo",
        )
        self._ledger: Ledger | None = None
        self._begun = time.monotonic()  # when it is read back

    @property
    def states(self) -> Mapping[int, State]:
        """How steps stand that were settled in this run, by their numbers."""
        return self._ledger.states if self._ledger else {}

    async def through(self, entering: Session) -> None:
        """Run the steps in a session."""
        async with entering as session:
            await self._alone(session)
            target = ObjectTarget(session) if self.change.about.objects else RecordTarget(session, self._few())
            together = self.dialect.together.tables if self.dialect.together and self.how.together else ()
            await Engine(
                change=self.change,
                steps=self.steps,
                target=target,
                writer=self._sender(target),
                together=together,
                ready=self._ready,
                keeps=None if self.workspace.is_device(self.change.system) else self._keep,
            ).run()

    def _few(self) -> dict[str, KeyedRead]:
        """Of tables in which only few records are altered, how these are asked for.

        What is made or deleted, and what others refer to, needs the whole list: it is about what is not there.
        """
        workspace, system = self.workspace, self.change.system
        if workspace.is_device(system):
            return {}
        tables = tables_for(self.dialect, {step.table for step in self.steps})
        writes = [write for name in tables if (write := self.dialect.tables[name].write)]
        meant = {other for name in tables for other in refers_to(self.dialect.tables[name])}
        meant |= {reference.via for write in writes for reference in write.references.values()}
        plain = {step.table for step in self.steps} - meant
        plain -= {s.table for s in self.steps if s.operation not in ("update", "action") or not s.record_id}
        files = {s.table: s.file for s in workspace.memory.newest(system=system) if s.whole and s.table in plain}
        ids = {name: {str(s.record_id) for s in self.steps if s.table == name} for name in plain}
        sound = {name: file for name, file in files.items() if file and workspace.frames.damage(file) is None}
        pulled = {name: workspace.frames.scan(file) for name, file in sound.items()}
        return lookups(self.dialect, ids, pulled, workspace.now())

    def _sender(self, target: ApiTarget) -> Sender:
        number = self.change.number or 0
        committer = Committer(target.session, as_one=self.how.as_one, note=self.how.note or f"change {number}")
        self._ledger = Ledger(
            self.workspace.journal,
            number,
            self.progress,
            waits=lambda step: committer.waits(self.dialect.tables[step.table].write),
            waiting=lambda: committer.waiting,
            still=partial(self.workspace.locks.check, self.change.system),
        )
        reveal = partial(self.workspace.secrets.of_row, name=self.change.system)
        bodies = Bodies(target, reveal, self.change.about.token or None)
        since = None if self.change.about.objects else partial(seen_since, self.workspace, self.change.system)
        unsettled = partial(self.workspace.journal.unsettled, self.change.system, number)
        return Sender(bodies, self._ledger, committer, self.how, asks=self._asks(), since=since, unsettled=unsettled)

    def _asks(self) -> Callable[[Sequence[Step]], Awaitable[list[Step | Reasons]]] | None:
        """What devices are asked for just before each step, where the change says so."""
        asks = self.change.about.asks
        if not asks:
            return None
        once = self.change.about.once
        return partial(asked_again, self.workspace, asks["devices"], asks["table"], asks["at"], once)

    async def _alone(self, session: Session) -> None:
        """Raise Stopped where we have staged something else: a commit would put that into effect too."""
        commits = any((write := self.dialect.tables[step.table].write) and write.commit for step in self.steps)
        if not commits or any(step.state in AWAY for step in self.change.steps):
            return  # what is staged is, or may be, of this change
        others = [staged for staged in await pending(session) if staged.ours]
        if others:
            raise Stopped(
                f"{self.change.system} holds {plural(len(others), 'thing')} that we have staged and not committed,"
                f" such as {others[0].what} (since {others[0].since}): a commit would take it along",
                advice=f"concordex config commit {self.change.system}, or config unstage {self.change.system}",
            )

    def _ready(self, after: ApiTarget) -> Ready:
        self._begun = time.monotonic()
        return lambda table, steps: until_ready(after, table, steps, self.workspace.now())

    def _keep(self, after: ApiTarget, judged: Sequence[Step]) -> None:
        """Keep what was read back as a pull, and which record stands for which, where no field of it says so."""
        system, catalogue = self.change.system, self.workspace.catalogue
        catalogue.refer(
            (system, step.record_id, step.entry, step.source)
            for step in judged
            if step.operation == "create" and step.record_id and step.entry and step.source
        )
        catalogue.forget(system, [s.record_id for s in judged if s.operation == "delete" and s.record_id])
        with begun(self.workspace) as pull:
            for table in after.needed(list(dict.fromkeys(step.table for step in self.steps))):
                if isinstance(after, RecordTarget) and table in after.alone:
                    note = f"{plural(after.live[table].height, 'record')} read back by change {self.change.number or 0}"
                    keep_part(self.workspace, pull, system, table, after.looks[table], self._begun, note)
                else:
                    keep(self.workspace, pull, system, table, after.looks[table], self._begun, Traffic(),
                         began=after.session.began_there)  # fmt: skip
            catalogue.end_pull(pull, outcome_of(catalogue.snapshots_of(pull)))
