"""The concordance as it is kept, and read by everything that comes after."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, TypeVar

import polars as pl

from concordex.errors import CalledWrongly, StoreError
from concordex.model.fields import ASKABLE
from concordex.query.predicate import predicate

if TYPE_CHECKING:
    from concordex.store.catalogue import Snapshot
    from concordex.store.database import DatabaseRow
    from concordex.work.workspace.base import BaseWorkspace


T = TypeVar("T")


def newest(workspace: BaseWorkspace) -> DatabaseRow:
    """What the catalogue knows of the newest concordance."""
    row = workspace.memory.reconciliation()
    if row is None:
        raise CalledWrongly("nothing has been reconciled yet", advice="concordex reconcile")
    return row


def read(workspace: BaseWorkspace, part: str, *, held: bool = True) -> pl.LazyFrame:
    """One of the frames of the newest concordance; all but who belongs to what is for those who see all systems.

    Unless it is not ``held``, it can be read to the end though another process makes a newer one meanwhile.
    """
    if part != "members":
        workspace.allowed.require("see")
    while True:
        folder = newest(workspace)["folder"]
        try:
            return workspace.frames.scan(f"{folder}/{part}.parquet", held=held)
        except StoreError:
            if not held or newest(workspace)["folder"] == folder:
                raise  # else another process has made a newer one, and taken this one away


def settled(workspace: BaseWorkspace, look: Callable[[], T]) -> T:
    """What ``look`` finds, all of it in one concordance: once more where another process made a newer one meanwhile."""
    while True:
        folder = newest(workspace)["folder"]
        try:
            found = look()
        except Exception:
            if newest(workspace)["folder"] == folder:
                raise
        else:
            if newest(workspace)["folder"] == folder:
                return found


def notes(workspace: BaseWorkspace) -> list[str]:
    """Whether the concordance is older than what it should rest on."""
    used = set(json.loads(newest(workspace)["snapshots"]))
    newer = [s.system for s in workspace.memory.newest("devices") if s.id not in used]
    return [f"pulled since it was reconciled: {', '.join(newer)}; run `concordex reconcile`"] if newer else []


def as_pulled(snapshots: Sequence[Snapshot]) -> list[str]:
    """When each was pulled: systems that were at the same minute in one line."""
    together: dict[str, list[str]] = {}
    for snapshot in snapshots:
        together.setdefault(f"{snapshot.taken:%Y-%m-%d %H:%M}", []).append(f"{snapshot.system}/{snapshot.table}")
    return [f"{', '.join(names)} as pulled {minute} UTC" for minute, names in sorted(together.items())]


def is_current(workspace: BaseWorkspace) -> bool:
    """Whether nothing was pulled since."""
    return not notes(workspace)


def entry_of(workspace: BaseWorkspace, called: str = "record_id") -> pl.LazyFrame:
    """``system``, ``record_id`` (or as it is ``called``) and ``entry``: what each record belongs to."""
    return read(workspace, "members").select("system", pl.col("record_id").alias(called), "entry")


def entry_of_if_any(workspace: BaseWorkspace) -> pl.DataFrame | None:
    """The same, or None where nothing was reconciled yet."""
    return None if workspace.memory.reconciliation() is None else entry_of(workspace).collect()


def with_entries(workspace: BaseWorkspace, records: pl.LazyFrame) -> pl.LazyFrame:
    """``records`` with the entry that each belongs to, once there is a concordance."""
    if workspace.memory.reconciliation() is None:
        return records
    joined = records.join(entry_of(workspace), on=["system", "record_id"], how="left", maintain_order="left")
    names = [name for name in joined.collect_schema().names() if name != "entry"]
    return joined.select(names[0], "entry", *names[1:])


def in_scope(workspace: BaseWorkspace, filters: Sequence[str], names: Sequence[str] = ()) -> pl.DataFrame:
    """The entries for which all ``filters`` hold; of their fields those ``names`` that they have, or all."""
    entries = read(workspace, "entries")
    for text in filters:
        entries = entries.filter(predicate(workspace.query(text), ASKABLE, workspace.now()))
    known = entries.collect_schema().names() if names else []
    return (entries.select(name for name in names if name in known) if names else entries).collect()


def gone(workspace: BaseWorkspace) -> pl.LazyFrame:
    """The findings of the reconciliation before that are there no more."""
    name = f"{newest(workspace)['folder']}/gone.parquet"
    return (
        workspace.frames.scan(name, held=True) if workspace.frames.known(name) else read(workspace, "findings").head(0)
    )
