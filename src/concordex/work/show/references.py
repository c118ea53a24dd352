"""References by the names of what they mean, with the ids beside them."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

import polars as pl

from concordex.work.concordance.stored import with_entries

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


#: What is known of a device beside what hangs from it, beside its name.
_BESIDE = ("kind", "site", "entry")
#: What is called otherwise where it is told of a device.
_CALLED = {"parent": "device"}


def with_names(
    workspace: BaseWorkspace,
    table: str,
    lazy: pl.LazyFrame,
    asked: Collection[str] | None = None,
    until: datetime | None = None,
) -> Referring:
    """``lazy``, whose ids of other records are their names, where those were pulled; the ids stand in ``…_id``.

    That is ``parent``, which means a device, and what the dialects say of references.  Where a device is meant, its
    kind, site and entry are beside it: ``device.site`` of a parent, ``near.site`` of one that a field ``near`` names.
    Of these only what is ``asked`` for; all, if that is not said.  It is as it was pulled ``until`` a moment.
    """
    schema = lazy.collect_schema()
    if "system" not in schema or "record_id" not in schema:
        return Referring(lazy, frozenset())
    beside: dict[str, list[str]] = {}
    for field, other in _references(workspace, table).items():
        known = _named(workspace, other, until) if field in schema and f"{field}_id" not in schema else None
        if known is None:
            continue
        beside[field] = []
        if isinstance(schema[field], pl.List):
            lazy = _of_lists(lazy, field, known.select("system", "_id", "_name"))
        else:
            if other == "devices" and table not in ("devices", "records"):
                beside[field] = _wanted(field, known, asked)
            lazy = _of_ids(lazy, field, known, beside[field])
    order = [column for name in schema.names() for column in (name, *beside.get(name, ()))]
    ids = [f"{field}_id" for field in beside]
    on_request = {name for field, names in beside.items() for name in names if _is_on_request(name, field)}
    return Referring(lazy.select(*order, *ids), frozenset({*ids, *on_request}))


@dataclass(frozen=True)
class Referring:
    """Records with what they refer to, and the columns of it that are shown only where they are named."""

    lazy: pl.LazyFrame
    on_request: frozenset[str]


def meant_by(column: str) -> str:
    """The field by which a record has what stands in a column: ``parent`` for ``device.site``."""
    above = column.partition(".")[0]
    return next((field for field, called in _CALLED.items() if called == above), column)


def about(field: str) -> str:
    """What stands before the dot in the columns about what a field means: ``device`` for ``parent``."""
    return _CALLED.get(field, field)


def known_to(workspace: BaseWorkspace, system: str, table: str) -> dict[str, pl.DataFrame]:
    """For each field of a table that holds ids what is known of the records of ``system`` that it may mean."""
    known = {field: _named(workspace, other, None) for field, other in _references(workspace, table).items()}
    return {
        field: lazy.filter(pl.col("system") == system).drop("system").collect()
        for field, lazy in known.items()
        if lazy is not None
    }


def _references(workspace: BaseWorkspace, table: str) -> dict[str, str]:
    """Fields that hold ids, and the table whose records they mean."""
    if not workspace.has_catalogue:
        return {}
    tables = {"parent": "devices"}
    for snapshot in workspace.memory.newest(table):
        if snapshot.refers is not None:
            tables |= snapshot.refers
        elif snapshot.system in workspace.config.systems:  # an earlier release pulled it
            spec = workspace.dialect(snapshot.system).tables.get(table)
            tables |= spec.refers if spec else {}
    return tables


def _named(workspace: BaseWorkspace, table: str, until: datetime | None) -> pl.LazyFrame | None:
    """System, id and name of the records of a table; of devices their kind, site and entry as well."""
    snapshots = [snapshot for snapshot in workspace.memory.newest(table, until=until) if snapshot.file]
    if not snapshots:
        return None
    lazy = workspace.frames.together(snapshots)
    if "name" not in lazy.collect_schema():
        return None
    if table == "devices":
        lazy = with_entries(workspace, lazy)
    beside = [name for name in _BESIDE if name in lazy.collect_schema()] if table == "devices" else []
    known = lazy.select("system", pl.col("record_id").alias("_id"), pl.col("name").alias("_name"), *beside)
    return known.unique(["system", "_id"])


def _wanted(field: str, known: pl.LazyFrame, asked: Collection[str] | None) -> list[str]:
    """The columns about a device that a field means, as far as they are known and asked for."""
    called = about(field)
    there = [name for name in _BESIDE if name in known.collect_schema()]
    columns = [f"{called}.{name}" for name in (["name", *there] if called != field else there)]
    if asked is None or any(name.partition(".")[0] == called and name not in columns for name in asked if "." in name):
        return columns  # what nothing is called is told, with the nearest of these
    return [name for name in columns if name in asked]


def _is_on_request(column: str, field: str) -> bool:
    """The name stands in the field itself; of the ends of a link the site is shown, and the rest if it is asked for."""
    last = column.rpartition(".")[2]
    return last == "name" or (field not in _CALLED and last != "site")


def _of_ids(lazy: pl.LazyFrame, field: str, known: pl.LazyFrame, columns: Sequence[str]) -> pl.LazyFrame:
    """``lazy`` with names in place of ids, and with ``columns`` about what is meant."""
    about = [pl.col(_column(name)).alias(name) for name in columns]
    kept = lazy.with_columns(pl.col(field).alias(f"{field}_id"))
    named = kept.join(
        known.select("system", "_id", "_name", *about), left_on=["system", field], right_on=["system", "_id"],
        how="left", maintain_order="left", coalesce=True,
    )  # fmt: skip
    return named.with_columns(pl.coalesce("_name", f"{field}_id").alias(field)).drop("_name")


def _column(name: str) -> str:
    last = name.rpartition(".")[2]
    return "_name" if last == "name" else last


def _of_lists(lazy: pl.LazyFrame, field: str, known: pl.LazyFrame) -> pl.LazyFrame:
    single = lazy.select("system", "record_id", pl.col(field).alias("_id")).explode("_id").drop_nulls("_id")
    named = single.join(known, on=["system", "_id"], how="left", maintain_order="left")
    lists = named.group_by("system", "record_id", maintain_order=True).agg(pl.coalesce("_name", "_id").alias("_names"))
    kept = lazy.with_columns(pl.col(field).alias(f"{field}_id"))
    joined = kept.join(lists, on=["system", "record_id"], how="left", maintain_order="left")
    return joined.with_columns(pl.col("_names").alias(field)).drop("_names")
