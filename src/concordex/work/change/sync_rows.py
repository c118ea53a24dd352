"""Preparing a sync into rows: of a database's table, or of a file, with its columns mapped by a person."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.change.compare import differences, parted
from concordex.change.reasons import Why, because
from concordex.change.steps import Change, Step, numbered
from concordex.model.fields import FIELDS
from concordex.work.concordance.reconcile import freshened
from concordex.work.concordance.stored import in_scope
from concordex.work.targets.rows import Rows, as_kept

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace
    from concordex.work.workspace.rules import Into


def prepare_rows(workspace: BaseWorkspace, name: str, where: str | None, edited: str) -> tuple[Change, list[str]]:
    """The change that brings a database or a file up to what the concordance says, and notes on how it was made."""
    into = workspace.config.targets[name]
    notes = freshened(workspace)
    entries = in_scope(workspace, [text for text in (into.where, where) if text])
    wanted = _wanted(entries, into)
    rows = Rows.of(workspace, name)
    rows.take()
    there = rows.frame.rename({"record_id": "entry"})
    steps = [*_updates(workspace, name, into, wanted, there, edited), *_creations(into, wanted, there)]
    steps += _unkeyed(entries, into)
    in_order = sorted(steps, key=lambda step: step.state == "held")
    return Change(kind="sync", system=name, steps=numbered(in_order)), notes


def _keyed(entries: pl.DataFrame, into: Into) -> pl.DataFrame:
    """``entries`` with the key by which their rows are told apart, as it is compared."""
    key = pl.col(into.key).list.first() if FIELDS[into.key].is_list else pl.col(into.key)
    return entries.with_columns(key.str.to_lowercase().str.strip_chars().alias("_key"))


def _wanted(entries: pl.DataFrame, into: Into) -> pl.DataFrame:
    """The entries that have a key of their own, by it."""
    keyed = _keyed(entries, into).drop_nulls("_key").filter(pl.len().over("_key") == 1)
    names = [name for name in into.columns if name in entries.columns]
    return keyed.select(pl.col("_key").alias("entry"), *names, label="name")


def _unkeyed(entries: pl.DataFrame, into: Into) -> list[Step]:
    """The entries that have none, or one that others have as well."""
    keyed = _keyed(entries, into)
    shared = pl.col("_key").is_not_null() & (pl.len().over("_key") > 1)
    rows = keyed.filter(pl.col("_key").is_null() | shared).select("entry", "name", "_key").sort("entry")
    return [
        Step(
            number=0, table=into.where_to, operation="report", label=name or entry, key={}, state="held", entry=entry,
            why=(
                because(Why.REQUIRED, fields=[into.key]) if key is None
                else because(Why.SEVERAL_ENTRIES, field=into.key, value=key)
            ),
        )
        for entry, name, key in rows.iter_rows()
    ]  # fmt: skip


def _updates(
    workspace: BaseWorkspace, name: str, into: Into, wanted: pl.DataFrame, there: pl.DataFrame, edited: str
) -> list[Step]:
    once = there.filter(pl.col("several").not_()).drop("raw", "several")
    owners = {field: spec.owner for field, spec in into.columns.items() if field != into.key}
    differing = differences(wanted.drop("label"), once, owners)
    clean, torn = parted(differing, workspace.memory_of_writes(name, into.where_to))
    if edited == "ours":
        clean, torn = differing, {}
    labels = dict(wanted.select("entry", "label").iter_rows())
    raw = {row["entry"]: row["raw"] for row in there.select("entry", "raw").iter_rows(named=True)}
    steps = [
        Step(
            number=0, table=into.where_to, operation="update", label=labels[key] or key, key={into.key: str(raw[key])},
            before={field: as_kept(before) for field, (before, _) in fields.items()},
            desired={field: as_kept(desired) for field, (_, desired) in fields.items()}, record_id=key,
        )
        for key, fields in sorted(clean.items())
    ]  # fmt: skip
    if edited == "hold":
        steps += [
            Step(
                number=0, table=into.where_to, operation="report", action="edited", label=labels[key] or key,
                key={into.key: key}, state="held", record_id=key,
                why=because(Why.EDITED, fields={
                    field: {"last": last, "now": now, "desired": desired}
                    for field, (last, now, desired) in fields.items()
                }),
            )
            for key, fields in sorted(torn.items())
        ]  # fmt: skip
    return steps


def _creations(into: Into, wanted: pl.DataFrame, there: pl.DataFrame) -> list[Step]:
    new = wanted.join(there.select("entry").unique(), on="entry", how="anti").sort("entry")
    return [
        Step(
            number=0, table=into.where_to, operation="create", label=row["label"] or row["entry"],
            key={into.key: _one(row[into.key])}, record_id=row["entry"],
            desired={
                name: as_kept(row[name]) for name, spec in into.columns.items()
                if spec.owner != "theirs" and row.get(name) not in (None, [])
            },
        )
        for row in new.iter_rows(named=True)
    ]  # fmt: skip


def _one(value: Any) -> str:
    return str(value[0] if isinstance(value, list) else value)
