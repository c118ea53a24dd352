"""What is known of a fleet, section by section, to be handed on to people who have no terminal."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly, ConcordexError
from concordex.match.finding import KINDS
from concordex.words import plural, suggestion
from concordex.work.concordance import stored
from concordex.work.show.batteries import batteries
from concordex.work.show.better_or_worse import better_and_worse
from concordex.work.show.health import health
from concordex.work.show.links import links
from concordex.work.show.racks import racks
from concordex.work.show.versions import spread, versions

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: So many rows of a table are in a report; where there are more, the command that shows them is named.
_ROWS = 200


@dataclass(frozen=True, kw_only=True)
class ReportTable:
    """A table of a section: some rows of ``total``, and the command that shows them all."""

    caption: str
    frame: pl.DataFrame
    total: int
    command: str


@dataclass(frozen=True, kw_only=True)
class Chart:
    """Numbers to be drawn: ``bars`` of one number each, ``stacks`` of several, or ``lines`` over time.

    ``frame`` has the names in its first column, and a column of numbers for each series.
    """

    sort: str
    title: str
    frame: pl.DataFrame


@dataclass(frozen=True, kw_only=True)
class Section:
    """One part of a report; ``lacking`` says why there is nothing in it."""

    name: str
    title: str
    words: Sequence[str] = ()
    tables: Sequence[ReportTable] = ()
    charts: Sequence[Chart] = ()
    lacking: str = ""


@dataclass(frozen=True, kw_only=True)
class Report:
    """A fleet, or a group of it, at a moment."""

    made: datetime
    selection: str
    entries: int
    sections: Sequence[Section]
    #: What became better and worse since an earlier time, and when that was.
    since: datetime | None = None
    better: Sequence[str] = ()
    worse: Sequence[str] = ()
    notes: Sequence[str] = field(default_factory=list)


def report(
    workspace: BaseWorkspace, where: str | None = None, compare: datetime | None = None, sections: Sequence[str] = ()
) -> Report:
    """All that is known of the entries of a filter; compared with how it was at an earlier moment."""
    for name in sections:
        if name not in _SECTIONS:
            raise CalledWrongly(f"there is no section {name!r}", advice=suggestion(name, _SECTIONS))

    def look() -> tuple[int, list[Section]]:
        entries = stored.in_scope(workspace, [where] if where else [])
        asked = _Asked(workspace, where, entries)
        return entries.height, [_section(name, asked) for name in sections or _SECTIONS]

    entries, made = stored.settled(workspace, look)
    since, better, worse = better_and_worse(workspace, compare) if compare is not None else (None, [], [])
    return Report(
        made=workspace.now(), selection=where or "all devices", entries=entries, sections=made, since=since,
        better=better, worse=worse, notes=stored.notes(workspace),
    )  # fmt: skip


@dataclass(frozen=True)
class _Asked:
    workspace: BaseWorkspace
    where: str | None
    entries: pl.DataFrame

    @property
    def words(self) -> str:
        """The filter as a command line says it."""
        return f" --where '{self.where}'" if self.where else ""


def _section(name: str, asked: _Asked) -> Section:
    """A section; where something is lacking for it, why."""
    title, make = _SECTIONS[name]
    try:
        return make(name, title, asked)
    except ConcordexError as error:
        return Section(name=name, title=title, lacking=f"{error.what}" if hasattr(error, "what") else str(error))


def _table(caption: str, frame: pl.DataFrame, command: str) -> ReportTable:
    return ReportTable(caption=caption, frame=frame.head(_ROWS), total=frame.height, command=command)


def _coverage(name: str, title: str, asked: _Asked) -> Section:
    summary = json.loads(stored.newest(asked.workspace)["summary"])
    rows = [
        {"system": system, "records": told["records"], "devices": told["entries"],
         "of all": told["entries"] / summary["entries"] if summary["entries"] else None,
         "only here": told["only_here"], "agrees": told["agreement"]}
        for system, told in summary["systems"].items()
    ]  # fmt: skip
    frame = pl.DataFrame(rows, infer_schema_length=None)
    words = [f"{plural(summary['records'], 'record')} of {plural(len(rows), 'system')} are "
             f"{plural(summary['entries'], 'device')}."]  # fmt: skip
    words += ["All systems are counted here, whatever was selected."] if asked.where else []
    chart = Chart(sort="bars", title="Devices that each system knows", frame=frame.select("system", "devices"))
    return Section(name=name, title=title, words=words, charts=[chart] if rows else [],
                   tables=[_table("What each system knows", frame, "concordex reconcile")])  # fmt: skip


def _findings(name: str, title: str, asked: _Asked) -> Section:
    found = stored.read(asked.workspace, "findings").collect().filter(pl.col("accepted").is_null())
    if asked.where is not None:
        found = found.join(asked.entries.select("entry"), on="entry", how="semi", maintain_order="left")
    counts = found.group_by("severity", "kind").agg(pl.len().cast(pl.Int64).alias("count"))
    advice = pl.col("kind").replace_strict({kind: told for kind, (_, told) in KINDS.items()}, return_dtype=pl.String)
    counts = counts.with_columns(advice.alias("what to do")).sort("count", "kind", descending=[True, False])
    trend = _trend(asked.workspace, counts["kind"].head(6).to_list())
    shown = found.select("severity", "kind", "entry", "name", "field", "seen", "state")
    tables = [
        _table("How many of each kind", counts, "concordex findings --count"),
        _table("The gravest", shown, f"concordex findings{asked.words} --limit 0"),
    ]
    charts = [Chart(sort="lines", title="Findings over time, the most frequent kinds", frame=trend)]
    return Section(name=name, title=title, words=[f"{plural(found.height, 'finding')}."], tables=tables,
                   charts=charts if trend.height > 1 else [])  # fmt: skip


def _trend(workspace: BaseWorkspace, kinds: Sequence[str]) -> pl.DataFrame:
    """How many findings of some kinds there were, at the last reconciliation of each day."""
    days: dict[str, dict[str, int]] = {}
    for row in workspace.catalogue.reconciliations():
        days[str(row["made"])[:10]] = json.loads(row["summary"]).get("findings", {})
    rows = [{"day": day, **{kind: found.get(kind, 0) for kind in kinds}} for day, found in sorted(days.items())]
    return pl.DataFrame(rows[-90:], infer_schema_length=None)


def _versions(name: str, title: str, asked: _Asked) -> Section:
    shares = spread(asked.workspace, asked.where).frame.filter(pl.col("os").is_not_null())
    most = shares.group_by("os").agg(pl.col("devices").sum()).sort("devices", descending=True)["os"].head(8)
    top = shares.filter(pl.col("os").is_in(most.implode()))
    chart = Chart(sort="parts", title="Versions of each system", frame=top.select("os", "os_version", "devices"))
    tables = [_table("Devices by version", shares, f"concordex versions --spread{asked.words}")]
    words = []
    try:
        told = versions(asked.workspace, asked.where).frame
        late = told.filter((pl.col("state") == "behind") | (pl.col("support") == "ended"))
        words = [
            f"{plural(late.height, 'device')} behind, or out of support, of {told.height:,} for which one is wanted."
        ]
        tables.insert(0, _table("Behind, or out of support", late.drop("os"), f"concordex versions{asked.words} -n 0"))
    except CalledWrongly as lack:
        words = [f"{lack.what[0].upper()}{lack.what[1:]}."]
    return Section(name=name, title=title, words=words, tables=tables, charts=[chart] if top.height else [])


def _health(name: str, title: str, asked: _Asked) -> Section:
    of = health(asked.workspace, (), asked.where)
    devices = of.counts.filter(pl.col("of") == "devices").drop("of", "all")
    chart = Chart(sort="stacks", title="Devices by kind and state", frame=devices)
    words = [f"{plural(of.passed.height, 'reading')} beyond a threshold; {plural(of.ailing.height, 'thing')} that"
             " its own system calls ill."]  # fmt: skip
    tables = [
        _table("Beyond a threshold", of.passed.drop("entry"), f"concordex health{asked.words} -n 0"),
        _table("How many are how", of.counts, f"concordex health --count{asked.words}"),
    ]
    return Section(name=name, title=title, words=[*words, *(f"{note}." for note in of.notes)], tables=tables,
                   charts=[chart] if devices.height else [])  # fmt: skip


def _batteries(name: str, title: str, asked: _Asked) -> Section:
    frame = batteries(asked.workspace, asked.where).frame
    counts = {what: frame.filter(pl.col("replace") == what).height for what in ("now", "later", "unknown")}
    now = frame.filter(pl.col("replace") == "now").select(
        "site", "name", "kind", "user", "remaining", "capacity", "cycles", "age_days", "serial"
    )
    words = [f"{counts['now']:,} to replace now; {counts['later']:,} will last; of {counts['unknown']:,} nobody knows."]
    return Section(name=name, title=title, words=words,
                   tables=[_table("To replace now", now, f"concordex health --batteries{asked.words}")])  # fmt: skip


def _links(name: str, title: str, asked: _Asked) -> Section:
    every = links(asked.workspace).frame
    sites = asked.entries["site"].unique().implode()
    mine = every if asked.where is None else every.filter(
        pl.col("near.site").is_in(sites) | pl.col("far.site").is_in(sites)
    )  # fmt: skip
    down = mine.filter(pl.col("status").str.to_lowercase() == "down").select(
        "near", "near_port", "near.site", "far", "far_port", "far.site", "speed", "since"
    )
    found = stored.read(asked.workspace, "findings").filter(
        pl.col("kind").str.starts_with("link_") | (pl.col("kind") == "site_hanging"), pl.col("accepted").is_null()
    )
    wrong = found.select("severity", "kind", "name", "seen").collect()
    words = [f"{plural(mine.height, 'cable')}, {down.height:,} of them down."]
    return Section(name=name, title=title, words=words, tables=[
        _table("Down", down, "concordex links --where 'status = down'"),
        _table("Told otherwise by their ends, or hanging on one way", wrong,
               "concordex findings --kind link_disputed,link_contradicted,link_unknown,link_uneven,site_hanging"),
    ])  # fmt: skip


def _racks(name: str, title: str, asked: _Asked) -> Section:
    frame = racks(asked.workspace).frame
    if asked.where is not None:
        frame = frame.filter(pl.col("site").is_in(asked.entries["site"].unique().implode()))
    known = frame.filter(pl.col("free").is_not_null())
    words = [f"{plural(frame.height, 'rack')}: {int(known['used'].sum() or 0):,} units used, "
             f"{int(known['free'].sum() or 0):,} free."]  # fmt: skip
    fullest = known.sort("used", descending=True).head(25).select("rack", "used", "free")
    chart = Chart(sort="stacks", title="Units used and free, the fullest racks", frame=fullest)
    return Section(name=name, title=title, words=words, tables=[_table("Room in racks", frame, "concordex racks")],
                   charts=[chart] if fullest.height else [])  # fmt: skip


def _changes(name: str, title: str, asked: _Asked) -> Section:
    rows = [
        {"change": row["id"], "made": str(row["made"])[:16].replace("T", " "), "kind": row["kind"],
         "system": row["system"], "state": row["state"], "by": row["about"].get("by", ""),
         "confirmed": row["steps"].get("confirmed", 0), "steps": sum(row["steps"].values())}
        for row in asked.workspace.record_of_changes.changes()
    ]  # fmt: skip
    words, latest = [f"{plural(len(rows), 'change')} so far."], pl.DataFrame(rows, infer_schema_length=None)
    tables = [_table("The latest changes", latest, "concordex change list -n 0")] if rows else []
    return Section(name=name, title=title, words=words, tables=tables)


def _sources(name: str, title: str, asked: _Asked) -> Section:
    now = asked.workspace.now()
    rows = [
        {"system": s.system, "table": s.table, "records": s.distinct, "outcome": s.outcome,
         "proof": s.proof or s.fault or "", "taken": s.taken,
         "hours ago": round((now - s.taken).total_seconds() / 3600, 1)}
        for s in asked.workspace.memory.newest()
    ]  # fmt: skip
    doubtful = sum(row["outcome"] != "whole" for row in rows)
    words = [f"{plural(len(rows), 'table')}; {doubtful:,} of them not proved whole."]
    return Section(name=name, title=title, words=words, tables=[
        _table("What this rests on", pl.DataFrame(rows, infer_schema_length=None), "concordex system list"),
    ])  # fmt: skip


_Make = Callable[[str, str, _Asked], Section]
_SECTIONS: dict[str, tuple[str, _Make]] = {
    "coverage": ("What each system knows", _coverage), "findings": ("What to look at", _findings),
    "versions": ("Versions", _versions), "health": ("Health", _health), "batteries": ("Batteries", _batteries),
    "links": ("Connections", _links), "racks": ("Racks", _racks), "changes": ("Changes made", _changes),
    "sources": ("Age and proof of what this rests on", _sources),
}  # fmt: skip
#: The names of all sections.
SECTIONS = tuple(_SECTIONS)
