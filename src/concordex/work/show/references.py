"""References by the names of what they mean, with the ids beside them."""

from __future__ import annotations

from typing import TYPE_CHECKING

import polars as pl

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


def with_names(workspace: BaseWorkspace, table: str, lazy: pl.LazyFrame) -> pl.LazyFrame:
    """``lazy``, whose ids of other records are their names, where those were pulled; the ids stand in ``…_id``.

    That is ``parent``, which means a device, and what the dialects say of references between objects.
    """
    schema = lazy.collect_schema()
    if "system" not in schema or "record_id" not in schema or not (workspace.store / "catalogue.sqlite").is_file():
        return lazy
    for field, other in _references(workspace, table).items():
        if field in schema and f"{field}_id" not in schema:
            known = _named(workspace, other)
            if known is not None:
                kind = schema[field]
                lazy = _of_lists(lazy, field, known) if isinstance(kind, pl.List) else _of_ids(lazy, field, known)
    return lazy


def _references(workspace: BaseWorkspace, table: str) -> dict[str, str]:
    """Fields that hold ids, and the table whose records they mean."""
    tables = {"parent": "devices"}
    for snapshot in workspace.memory.newest(table):
        if snapshot.refers is not None:
            tables |= snapshot.refers
        elif snapshot.system in workspace.config.systems:  # an earlier release pulled it
            spec = workspace.dialect(snapshot.system).tables.get(table)
            tables |= spec.refers if spec else {}
    return tables


def _named(workspace: BaseWorkspace, table: str) -> pl.LazyFrame | None:
    """System, id and name of the records of a table."""
    snapshots = [snapshot for snapshot in workspace.memory.newest(table) if snapshot.file]
    if not snapshots:
        return None
    lazy = workspace.frames.together(snapshots)
    if "name" not in lazy.collect_schema():
        return None
    known = lazy.select("system", pl.col("record_id").alias("_id"), pl.col("name").alias("_name"))
    return known.unique(["system", "_id"])


def _of_ids(lazy: pl.LazyFrame, field: str, known: pl.LazyFrame) -> pl.LazyFrame:
    kept = lazy.with_columns(pl.col(field).alias(f"{field}_id"))
    named = kept.join(
        known, left_on=["system", field], right_on=["system", "_id"], how="left", maintain_order="left", coalesce=True
    )
    return named.with_columns(pl.coalesce("_name", f"{field}_id").alias(field)).drop("_name")


def _of_lists(lazy: pl.LazyFrame, field: str, known: pl.LazyFrame) -> pl.LazyFrame:
    single = lazy.select("system", "record_id", pl.col(field).alias("_id")).explode("_id").drop_nulls("_id")
    named = single.join(known, on=["system", "_id"], how="left", maintain_order="left")
    lists = named.group_by("system", "record_id", maintain_order=True).agg(pl.coalesce("_name", "_id").alias("_names"))
    kept = lazy.with_columns(pl.col(field).alias(f"{field}_id"))
    joined = kept.join(lists, on=["system", "record_id"], how="left", maintain_order="left")
    return joined.with_columns(pl.col("_names").alias(field)).drop("_names")
