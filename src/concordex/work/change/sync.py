"""Preparing a sync: what an inventory should hold by the concordance, against what it holds."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, Any, Literal

import polars as pl

from concordex.change.compare import differences, parted
from concordex.change.prepare import Wish, prepare
from concordex.change.reasons import Reasons, Why, because
from concordex.change.steps import Change, State, Step
from concordex.errors import CalledWrongly
from concordex.work.change.basis import Basis, base_of
from concordex.work.change.retire import retirements
from concordex.work.concordance import stored
from concordex.work.show.first_seen import first_seen

if TYPE_CHECKING:
    from concordex.wire import dialect as d
    from concordex.work.workspace.base import BaseWorkspace
    from concordex.work.workspace.rules import SyncTarget

_TABLE = "devices"
#: What a step tells of the record that it concerns.
_TOLD = ("serial", "name", "maker", "model", "site")


@dataclass(frozen=True)
class PreparedSync:
    """A change that is ready to be looked at, and what was done to get there."""

    change: Change
    notes: list[str]


Edited = Literal["hold", "ours", "theirs"]


def prepare_sync(
    workspace: BaseWorkspace, system: str, where: str | None = None, edited: Edited = "hold"
) -> PreparedSync:
    """The change that brings ``system`` up to what the concordance says; nothing is sent.

    ``edited`` says what becomes of fields that we wrote and others have altered since: they are held, with
    both values told; or ours is written; or theirs stays.
    """
    base = base_of(workspace, system, _TABLE)
    if base.write.create is None and base.write.update is None:
        raise CalledWrongly(
            f"{system} cannot be written: {base.dialect.name} describes neither creating nor updating one",
            advice="docs/dialects.md, under Writing",
        )
    from concordex.work.concordance.reconcile import freshened  # matching takes a while to import

    notes = freshened(workspace)
    rule = workspace.config.sync.get(system)
    owners = _owners(base.write, rule)

    def look() -> Change:
        wanted, actual = _sides(workspace, base, rule, where, owners)
        updates = [
            *_differing(workspace, base, wanted, actual.filter(pl.len().over("entry") == 1), owners, edited),
            *_twice(wanted, actual),
            *retirements(workspace, system, base.frame, base.write, rule.retire_after if rule else None),
        ]
        new = wanted.join(actual.select("entry"), on="entry", how="anti").sort("entry")
        wishes = _wishes(new, owners, unsure(workspace, system))
        known = base.known if new.height or updates else {}
        return prepare("sync", system, _TABLE, wishes, updates, base.forms, known)

    return PreparedSync(stored.settled(workspace, look), notes)


def _sides(
    workspace: BaseWorkspace, base: Basis, rule: SyncTarget | None, where: str | None, owners: Mapping[str, str]
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """By entry what the system should hold, and what it holds: only the fields that are compared or told of."""
    named = list(dict.fromkeys(["entry", "kind", *owners]))
    entries = stored.in_scope(workspace, [text for text in (rule and rule.where, where) if text], named)
    members = stored.read(workspace, "members").select("system", "record_id", "entry", "last_seen").collect()
    wanted = _with_origin(entries, members, base.system, owners, rule.origin if rule else None)
    mine = members.filter(pl.col("system") == base.system).select("record_id", "entry")
    names = dict.fromkeys(name for name in ("record_id", *_TOLD, *owners) if name in base.frame.columns)
    return wanted, base.frame.select(*names).join(mine, on="record_id", how="inner")


def _owners(write: d.Write, rule: SyncTarget | None) -> dict[str, str]:
    """Whose each field is: by the dialect, and where the workspace says otherwise."""
    owners: dict[str, str] = {name: spec.owner for name, spec in write.fields.items()}
    for ref in write.references.values():
        owners |= {ours: ref.owner for ours in ref.by.values() if ours not in owners}
    return owners | (dict(rule.owners) if rule else {})


def _differing(
    workspace: BaseWorkspace,
    base: Basis,
    wanted: pl.DataFrame,
    actual: pl.DataFrame,
    owners: Mapping[str, str],
    edited: Edited,
) -> list[Step]:
    """What is ours to write, and what somebody altered after we had written it."""
    entry_of = dict(actual.select("record_id", "entry").iter_rows())
    written = {
        entry_of[record_id]: fields
        for record_id, fields in workspace.memory_of_writes(base.system, base.table).items()
        if record_id in entry_of
    }
    differing = differences(wanted, actual, owners)
    clean, torn = parted(differing, written)
    updates = _updates(wanted, actual, differing if edited == "ours" else clean, base.forms[_TABLE].can_update)
    return [*updates, *(_edited(workspace, base, actual, torn) if edited == "hold" else [])]


def _with_origin(
    entries: pl.DataFrame, members: pl.DataFrame, system: str, owners: Mapping[str, str], origin: str | None
) -> pl.DataFrame:
    """Entries that others than the target speak of, with the record that each stands for as ``source``.

    The same, or the record of the system ``origin`` where there is one, is their ``origin``.
    """
    first = (
        members.filter(pl.col("system") != system)
        .sort(
            "entry",
            "last_seen",
            "system",
            "record_id",
            descending=[False, True, False, False],
            nulls_last=True,
        )
        .unique("entry", keep="first", maintain_order=True)
        .select("entry", pl.format("{}/{}", "system", "record_id").alias("source"))
    )
    joined = entries.join(first, on="entry").with_columns(pl.col("source").alias("origin"))
    if origin is not None:
        theirs = members.filter(pl.col("system") == origin).sort("entry", "record_id").unique("entry", keep="first")
        ids = theirs.select("entry", pl.format("{}/{}", "system", "record_id").alias("origin"))
        joined = joined.drop("origin").join(ids, on="entry", how="left")
    kind = pl.when(pl.col("kind") != "other").then(pl.col("kind"))
    names = dict.fromkeys(["entry", "source", *(name for name in owners if name in joined.columns)])
    return joined.with_columns(kind.alias("kind")).select(*names)


def _sighted(workspace: BaseWorkspace) -> dict[str, Reasons]:
    """Entries that only systems know which sight devices: whatever passed by is no part of an inventory yet."""
    habits = stored.read(workspace, "habits").filter(pl.col("habit") == "sights").select("of").collect()
    if habits.is_empty():
        return {}
    passing = pl.lit(habits["of"].to_list(), dtype=pl.List(pl.String))
    entries = stored.read(workspace, "entries").select("entry", "systems")
    only = entries.filter(pl.col("systems").list.set_difference(passing).list.len() == 0).collect()
    return {entry: because(Why.SIGHTED, systems=systems) for entry, systems in only.iter_rows()}


#: Findings of what is never created, and why.
_NEVER = {"badly_identified": Why.BADLY_IDENTIFIED, "floating": Why.NO_DEVICE}

#: Findings of what an inventory lacks, and perhaps does not.
_LIKE = ("look_alike", "missing_in_inventory")

#: Findings of two entries, and what they say of the one that is there.
_SAID = {"replaced": Why.SAME_NAME, "serial_in_two": Why.SAME_SERIAL}


def unsure(workspace: BaseWorkspace, system: str) -> dict[str, Reasons]:
    """What is not created, by entry, and why: it could not be found again, or may be there already."""
    kinds = [*_NEVER, *_LIKE, *_SAID]
    findings = stored.read(workspace, "findings")
    if "share" not in findings.collect_schema():
        raise CalledWrongly("an earlier release has reconciled, and said less of it", advice="concordex reconcile")
    doubtful = findings.filter(pl.col("kind").is_in(kinds), pl.col("accepted").is_null())
    held = _sighted(workspace)
    there = stored.read(workspace, "entries").filter(pl.col("systems").list.contains(system)).select("entry", "name")
    known = dict(there.collect().iter_rows())
    columns = ["kind", "entry", "about", "resembles", "share"]
    for kind, entry, about, other, share in doubtful.select(columns).collect().iter_rows():
        if kind in _NEVER:
            held.setdefault(entry, because(_NEVER[kind]))
        elif kind in _LIKE and about == system and other is not None:
            held[entry] = because(Why.RESEMBLES, other=other, called=known.get(other), share=share)
        elif kind in _SAID:
            held |= {
                one: because(_SAID[kind], other=other)
                for one, other in ((entry, about), (about, entry))
                if other in known and one not in known
            }
    return held


def _updates(
    wanted: pl.DataFrame,
    actual: pl.DataFrame,
    differing: Mapping[str, dict[str, tuple[Any, Any]]],
    possible: bool,
) -> list[Step]:
    concerned = pl.Series("entry", list(differing), dtype=pl.String).to_frame()
    names = [name for name in _TOLD if name in actual.columns]
    rows = actual.join(concerned, on="entry", how="semi").select("entry", "record_id", *dict.fromkeys(["name", *names]))
    sources = dict(wanted.join(concerned, on="entry", how="semi").select("entry", "source").iter_rows())
    state: State = "ready" if possible else "held"
    return [
        Step(
            number=0,
            table=_TABLE,
            operation="update" if possible else "report",
            label=row["name"] or row["record_id"],
            key={name: row[name] for name in names},
            before={name: before for name, (before, _) in differing[row["entry"]].items()},
            desired={name: new for name, (_, new) in differing[row["entry"]].items()},
            state=state,
            why=() if possible else because(Why.CANNOT, what="update"),
            record_id=row["record_id"],
            entry=row["entry"],
            source=sources.get(row["entry"]),
        )
        for row in rows.sort("entry").iter_rows(named=True)
    ]


def _edited(
    workspace: BaseWorkspace,
    base: Basis,
    actual: pl.DataFrame,
    torn: Mapping[str, Mapping[str, tuple[Any, Any, Any]]],
) -> list[Step]:
    """What somebody altered after we had written it: a person chooses between both, and knows whose and how old."""
    when = workspace.record_of_changes.when_written(base.system, base.table) if torn else {}
    seen = first_seen(workspace, base.system, base.table, actual.filter(pl.col("entry").is_in(list(torn))))
    rows = actual.filter(pl.col("entry").is_in(list(torn))).select("entry", "record_id", "name").sort("entry")
    return [
        Step(
            number=0, table=_TABLE, operation="report", action="edited", label=name or record_id, key={}, state="held",
            entry=entry, record_id=record_id, before={field: now for field, (_, now, _) in torn[entry].items()},
            desired={field: desired for field, (_, _, desired) in torn[entry].items()},
            why=because(Why.EDITED, fields={
                field: {
                    "last": last, "now": now, "desired": desired, **_by(when.get(record_id, {}).get(field)),
                    **_since(seen.get((record_id, field))),
                }
                for field, (last, now, desired) in torn[entry].items()
            }),
        )
        for entry, record_id, name in rows.iter_rows()
    ]  # fmt: skip


def _by(written: tuple[int, str] | None) -> dict[str, Any]:
    return {"change": written[0], "written": written[1]} if written else {}


def _since(moment: datetime | None) -> dict[str, str]:
    return {"since": moment.isoformat()} if moment else {}


def _twice(wanted: pl.DataFrame, actual: pl.DataFrame) -> list[Step]:
    """One device under several records: a person must choose, so nothing is written to any."""
    several = (
        actual.filter(pl.len().over("entry") > 1)
        .join(wanted.select("entry"), on="entry", how="semi")
        .sort("entry", "record_id")
        .group_by("entry", maintain_order=True)
        .agg(pl.col("name").first(), pl.col("record_id").str.join(", "))
    )
    return [
        Step(
            number=0, table=_TABLE, operation="report", label=name or entry, key={}, state="held", entry=entry,
            why=because(Why.SEVERAL_RECORDS, ids=ids),
        )
        for entry, name, ids in several.iter_rows()
    ]  # fmt: skip


def _wishes(new: pl.DataFrame, owners: Mapping[str, str], unsure: Mapping[str, Reasons]) -> Iterator[Wish]:
    """What should be there and is not, one at a time: a night has a million of them."""
    ours = [name for name, owner in owners.items() if owner != "theirs" and name in new.columns]
    for row in new.iter_rows(named=True):
        values = {name: row[name] for name in ours}
        yield Wish(entry=row["entry"], source=row.get("source"), values=values, against=unsure.get(row["entry"], ()))
