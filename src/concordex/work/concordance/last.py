"""The concordance of last time, as far as it makes the next one quicker."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import StoreError
from concordex.match.compare import KINDS
from concordex.match.concordance import PARTS, Rules
from concordex.match.incremental import NEEDED
from concordex.match.learned import FRAMES, Learned
from concordex.work.concordance.inputs import settings
from concordex.work.concordance.stored import entry_of, read

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: What was learned holds while the number of records changes by less than this share.
_STABLE = 0.1


def has(workspace: BaseWorkspace, part: str) -> bool:
    """Whether a part of the last concordance can be read; what cannot is made anew, as if it had never been."""
    row = workspace.memory.reconciliation()
    return row is not None and workspace.frames.damage(f"{row['folder']}/{part}.parquet") is None


def members_before(workspace: BaseWorkspace) -> pl.DataFrame | None:
    """To which entry each record belonged; nothing where that cannot be read."""
    if not has(workspace, "members"):
        return None
    return entry_of(workspace).collect()


def vet(workspace: BaseWorkspace, names: Sequence[str]) -> None:
    """Look at files of the last concordance several at a time, before each is asked for."""
    row = workspace.memory.reconciliation()
    if row is not None:
        workspace.frames.vet([f"{row['folder']}/{name}.parquet" for name in names])


def learned(workspace: BaseWorkspace, height: int) -> Learned | None:
    """What was learned the last time, unless the number of records is quite another by now."""
    row = workspace.memory.reconciliation()
    height_then = json.loads(row["summary"]).get("learned_at", 0) if row else 0
    if not height_then or abs(height - height_then) > _STABLE * height_then:
        return None
    if not all(has(workspace, name) for name in FRAMES):
        return None
    try:
        frames = _learned(workspace)
    except StoreError:  # another process has taken it away meanwhile
        return None
    known = [(kind, level, name) for kind, names in KINDS.items() for level, name in enumerate(names, start=1)]
    same = sorted(frames["weights"].select("kind", "level", "means").unique().iter_rows()) == sorted(known)
    return Learned.of_frames(frames) if same else None  # an older release weighed other things


@dataclass(frozen=True)
class LastConcordance:
    """The concordance of last time, as it is kept: each part is read when it is asked for, as far as it is needed."""

    parts: Mapping[str, pl.LazyFrame]
    fields: Mapping[str, pl.DataType]
    learned: Learned

    def part(self, name: str) -> pl.DataFrame:
        """One of the parts, as far as it is needed."""
        return _collected(self.parts[name].select(NEEDED) if name == "members" else self.parts[name], name)


def concordance(workspace: BaseWorkspace, rules: Rules) -> LastConcordance | None:
    """The concordance of last time, if it was made in the same way."""
    row = workspace.memory.reconciliation()
    if row is None or json.loads(row["summary"]).get("settings") != settings(rules):
        return None
    vet(workspace, (*PARTS, *FRAMES))
    if not all(has(workspace, name) for name in (*PARTS, *FRAMES)):
        return None
    parts = {name: read(workspace, name, held=False) for name in PARTS}
    return LastConcordance(parts, parts["members"].collect_schema(), Learned.of_frames(_learned(workspace)))


def _learned(workspace: BaseWorkspace) -> dict[str, pl.DataFrame]:
    return {name: _collected(read(workspace, name, held=False), name) for name in FRAMES}


def _collected(frame: pl.LazyFrame, name: str) -> pl.DataFrame:
    """A part that is not held, as it is read: what another process has superseded meanwhile is not gone on from."""
    try:
        return frame.collect()
    except FileNotFoundError as error:
        raise StoreError(f"the {name} of the last concordance are gone") from error
