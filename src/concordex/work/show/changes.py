"""What appeared, vanished and changed in a table between two pulls."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly
from concordex.model.fields import FIELDS, ORIGINAL
from concordex.store import snapshots as store
from concordex.store.catalogue import Snapshot

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: What changes all the time and means nothing by it.
_RESTLESS = ("last_seen",)


def changes(
    workspace: BaseWorkspace, table: str, systems: Sequence[str], since: datetime
) -> tuple[pl.LazyFrame, list[str]]:
    """One row for each record that is not as it was at ``since``, with what is different; and notes.

    Nothing is called vanished on a snapshot that is not whole, and nothing new where the earlier one
    was not.
    """
    frames, notes = [], list[str]()
    before = {s.system: s for s in workspace.memory.newest(table, until=since)}
    for now in workspace.memory.newest(table):
        if systems and now.system not in systems:
            continue
        then = before.get(now.system)
        if then is None or then.id == now.id:
            why = "was not pulled before that" if then is None else "has not been pulled since"
            notes.append(f"{now.system}/{table} {why}")
            continue
        frames.append(_between(workspace, then, now))
        notes += [f"{now.system}/{table}: {text}" for text in _doubts(then, now)]
    if not frames:
        raise CalledWrongly(
            f"there are no two pulls of {table} to compare: one before {since:%Y-%m-%d %H:%M} UTC, and one after",
            advice=_earliest(workspace, table),
        )
    return store.join(frames), notes


def _earliest(workspace: BaseWorkspace, table: str) -> str:
    first = workspace.memory.first_of(table)
    return f"the first pull of it was at {first:%Y-%m-%d %H:%M:%S} UTC" if first else "concordex pull"


def _doubts(then: Snapshot, now: Snapshot) -> list[str]:
    texts = []
    if not now.whole:
        texts.append(f"the newest snapshot is {now.outcome}, so nothing is called vanished")
    if not then.whole:
        texts.append(f"the earlier snapshot is {then.outcome}, so nothing is called new")
    return texts


def _between(workspace: BaseWorkspace, then: Snapshot, now: Snapshot) -> pl.LazyFrame:
    old = workspace.frames.scan(str(then.file))
    new = workspace.frames.scan(str(now.file))
    schema = {**old.collect_schema(), **new.collect_schema()}
    fields = [name for name in schema if name not in (ORIGINAL, "record_id")]
    both = [name for name in fields if name in old.collect_schema() and name in new.collect_schema()]
    compared = [name for name in both if name not in _RESTLESS]
    met = new.join(old.select("record_id", *(pl.col(n).alias(f"{n} before") for n in both)), on="record_id")
    difference = pl.concat_str(
        [_difference(name, schema[name]) for name in compared], separator="; ", ignore_nulls=True
    )
    changed = met.with_columns(difference.alias("what")).filter(pl.col("what") != "")
    parts = [changed.with_columns(pl.lit("changed").alias("change")).drop(f"{name} before" for name in both)]
    if then.whole:
        parts.append(_only(new, old, "appeared"))
    if now.whole:
        parts.append(_only(old, new, "vanished"))
    joined = pl.concat(parts, how="diagonal_relaxed").with_columns(pl.lit(now.system).alias("system"))
    rest = [name for name in ("name", "kind", "serial", "site") if name in schema]
    others = [name for name in fields if name not in rest and name in FIELDS]
    return joined.select("change", "system", "record_id", *rest, "what", *others)


def _only(here: pl.LazyFrame, there: pl.LazyFrame, word: str) -> pl.LazyFrame:
    alone = here.join(there.select("record_id"), on="record_id", how="anti")
    return alone.with_columns(pl.lit(word).alias("change"), pl.lit(None, dtype=pl.String).alias("what"))


def _difference(name: str, kind: pl.DataType) -> pl.Expr:
    before, now = pl.col(f"{name} before"), pl.col(name)
    text = pl.format(f"{name}: {{}} -> {{}}", _text(before, kind), _text(now, kind))
    return pl.when(before.ne_missing(now)).then(text)


def _text(value: pl.Expr, kind: pl.DataType) -> pl.Expr:
    written = value.list.join(", ") if isinstance(kind, pl.List) else value.cast(pl.String)
    return written.fill_null("(empty)")
