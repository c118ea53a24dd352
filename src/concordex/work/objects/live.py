"""Configuration objects as systems hold them: read by name, and written by it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cached_property, partial
from typing import TYPE_CHECKING

import polars as pl

from concordex.change.objects import Object
from concordex.errors import CalledWrongly, ConcordexError
from concordex.parallel import at_most, completed
from concordex.progress import Advance
from concordex.wire import dialect as d
from concordex.wire.http.session import Session
from concordex.wire.writing.staging import Pending, pending
from concordex.work.targets.kinds import kinds_of
from concordex.work.targets.objects import ObjectTarget, from_frames, tables_of
from concordex.work.workspace.devices import AT_ONCE

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True)
class Held:
    """What a system holds: its objects of the kinds that were read; and how often each name stands in other tables."""

    objects: list[Object]
    others: Mapping[str, Mapping[str, int]]
    frames: Mapping[str, pl.DataFrame]
    staged: Sequence[Pending] = ()

    def of(self, kinds: Iterable[str]) -> list[Object]:
        """The objects of some kinds."""
        wanted = set(kinds)
        return [obj for obj in self.objects if obj.kind in wanted]

    @cached_property
    def _named(self) -> Counter[tuple[str, str]]:
        return Counter((obj.kind, obj.name) for obj in self.objects)

    def bearing(self, table: str, name: str) -> int:
        """How many records of a table bear a name, be they objects or not."""
        return self._named[table, name] + self.others.get(table, {}).get(name, 0)


def live(workspace: BaseWorkspace, system: str, kinds: Sequence[str], progress: Advance | None = None) -> Held:
    """The objects of a system as they are now; refused where a table does not come whole."""

    async def ask() -> Held:
        async with workspace.session(system) as session:
            return await read(session, kinds, progress)

    return completed(ask())


def live_of(
    workspace: BaseWorkspace, wanted: Mapping[str, Sequence[str]], progress: Advance | None = None
) -> dict[str, Held | ConcordexError]:
    """The objects of some kinds of several systems and devices, many asked at once; or why one could not be read."""
    answers: dict[str, Held | ConcordexError] = {}
    sessions: dict[str, Session] = {}
    workspace.secrets.fetch(list(wanted))
    for name in wanted:
        try:
            sessions[name] = workspace.session(name)  # here, since a secret may be asked for
        except ConcordexError as error:
            answers[name] = error

    async def of_system(name: str) -> None:
        try:
            async with sessions[name] as session:
                answers[name] = await read(session, wanted[name])
        except ConcordexError as error:
            answers[name] = error
        if progress:
            progress("asked", len(answers), len(wanted))

    completed(at_most(AT_ONCE, [partial(of_system, name) for name in sessions]))
    return {name: answers[name] for name in wanted}


async def read(session: Session, kinds: Sequence[str], progress: Advance | None = None) -> Held:
    """The objects of some kinds as they are now, with all that they refer to; and what anybody has staged."""
    target = ObjectTarget(session)
    await target.read(target.needed(kinds), progress)
    held = _held(session.dialect, {name: look.frame for name, look in target.looks.items()})
    return replace(held, staged=await pending(session))


def pulled(workspace: BaseWorkspace, system: str, kinds: Sequence[str], moment: datetime) -> Held:
    """The objects as whole pulls had found them by ``moment``."""
    dialect, frames = workspace.dialect(system), {}
    for name in tables_of(dialect, kinds):
        snapshots = [s for s in workspace.memory.newest(name, system=system, until=moment) if s.whole]
        if not snapshots:
            raise CalledWrongly(f"{system}/{name} had not been pulled whole by then", advice="concordex pulls")
        frames[name] = workspace.frames.scan(str(snapshots[0].file)).collect()
    return _held(dialect, frames)


def _held(dialect: d.Dialect, frames: Mapping[str, pl.DataFrame]) -> Held:
    kinds = kinds_of(dialect)
    others = {
        name: Counter(frame["name"].drop_nulls())
        for name, frame in frames.items()
        if name not in kinds and "name" in frame.columns
    }
    return Held(from_frames(dialect, frames, kinds), others, frames)
