"""Since when something is as it is: by the pulls that are kept."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

import polars as pl

from concordex.change.compare import same
from concordex.work.concordance import stored
from concordex.work.show.show_options import ShowOptions
from concordex.work.show.tables import select

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: So many pulls are looked at to find since when something is so.
_BACK = 20


def first_seen(
    workspace: BaseWorkspace, system: str, table: str, records: pl.DataFrame
) -> dict[tuple[str, str], datetime]:
    """Since which pull each field of ``records`` has held what it holds now, by record id and field."""
    ids = records["record_id"].to_list()
    now = {row["record_id"]: row for row in records.iter_rows(named=True)}
    moments: dict[tuple[str, str], datetime] = {}
    ended = set[tuple[str, str]]()
    for snapshot in workspace.memory.kept(system, table)[: -_BACK - 1 : -1] if ids else ():
        if workspace.frames.damage(
            str(snapshot.file)
        ):  # what was before cannot be told any more; nothing else depends on it
            break
        part = workspace.frames.scan(str(snapshot.file)).filter(pl.col("record_id").is_in(ids)).collect()
        for row in part.iter_rows(named=True):
            for name, value in now[row["record_id"]].items():
                at = (row["record_id"], name)
                if at in ended or name not in row:
                    continue
                if same(row[name], value):
                    moments[at] = snapshot.taken
                else:
                    ended.add(at)
    return moments


def seen_since(
    workspace: BaseWorkspace, system: str, table: str, records: pl.DataFrame
) -> dict[str, dict[str, dict[str, str]]]:
    """Since which pull each field of ``records`` is as it is, or in which it was not yet, by record id and field.

    ``records`` are as the system gave them just now.
    """
    kept = workspace.memory.kept(system, table)
    if kept and workspace.frames.damage(str(kept[-1].file)):
        return {}
    seen = first_seen(workspace, system, table, records) if kept else {}
    after = {"not_yet": kept[-1].taken.isoformat()} if kept else {}
    since: dict[str, dict[str, dict[str, str]]] = {}
    for record_id in records["record_id"].to_list() if kept else ():
        since[record_id] = {
            name: {"since": seen[record_id, name].isoformat()} if (record_id, name) in seen else after
            for name in records.columns
        }
    return since


def conflicts_since(workspace: BaseWorkspace, findings: pl.DataFrame) -> dict[tuple[str, str], str]:
    """Since which pull each system has said what it says, of the conflicts in ``findings``, by entry and field."""
    torn = findings.filter(pl.col("kind") == "conflict").select("entry", "field").unique()
    if torn.is_empty():
        return {}
    members = stored.read(workspace, "members").select("system", "record_id", "entry").collect()
    mine = members.filter(pl.col("entry").is_in(torn["entry"].implode()))
    since: dict[tuple[str, str], dict[str, list[str]]] = {}
    for (system,), part in sorted(mine.group_by("system")):
        records = select(workspace, "devices", ShowOptions(systems=[str(system)])).frame
        records = records.filter(pl.col("record_id").is_in(part["record_id"].implode()))
        seen = first_seen(workspace, str(system), "devices", records)
        entry_of = dict(part.select("record_id", "entry").iter_rows())
        fields = {entry: set(rows["field"]) for (entry,), rows in torn.group_by("entry")}
        for (record_id, name), moment in sorted(seen.items()):
            if name in fields[entry_of[record_id]]:
                moments = since.setdefault((entry_of[record_id], name), {})
                moments.setdefault(f"{moment:%Y-%m-%d %H:%M:%S}", []).append(str(system))
    return {at: _since(moments) for at, moments in since.items()}


def _since(moments: dict[str, list[str]]) -> str:
    """Moments, each with the systems that have said so since then; one alone where it is that of all."""
    if len(moments) == 1:
        return next(iter(moments))
    return "; ".join(f"{moment} {', '.join(dict.fromkeys(systems))}" for moment, systems in sorted(moments.items()))
