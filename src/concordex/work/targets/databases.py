"""Syncing into tables that are not behind an API: a database by its URL, or a file; fields mapped by a person."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.change.batches import lists
from concordex.change.compare import differences, parted, same, shown
from concordex.change.prepare import normalised
from concordex.change.steps import Change, Outcome, Step, numbered
from concordex.errors import CalledWrongly, ConcordexError
from concordex.model.fields import FIELDS
from concordex.progress import Counted
from concordex.store.targets import DatabaseTarget, FileTarget, KeyOfOther, NotTaken, StoredTarget, TargetRow
from concordex.work.concordance.stored import in_scope

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace
    from concordex.work.workspace.config import Into

#: Rows in one transaction.
_BATCH = 1000


def stored_target(workspace: BaseWorkspace, name: str) -> StoredTarget:
    """The database or file of that name, ready to be read and written."""
    into = workspace.config.targets[name]
    columns = [spec.to for spec in into.columns.values()]
    key = into.columns[into.key].to
    if into.file:
        return FileTarget(workspace.root / into.file, key, columns)
    password = workspace.secrets.of_target(name)
    elsewhere = {
        spec.to: KeyOfOther(table=spec.of.table, column=spec.of.column, id=spec.of.id)
        for spec in into.columns.values() if spec.of
    }  # fmt: skip
    return DatabaseTarget(into.url or "", into.table, key, columns, workspace.root, password, elsewhere)


def prepare_target(workspace: BaseWorkspace, name: str, where: str | None, edited: str) -> tuple[Change, list[str]]:
    """The change that brings a database or a file up to what the concordance says, and notes on how it was made."""
    into = workspace.config.targets[name]
    from concordex.work.concordance.reconcile import freshened  # matching takes a while to import

    notes = freshened(workspace)
    entries = in_scope(workspace, [text for text in (into.where, where) if text])
    wanted = _wanted(entries, into)
    there = _there(stored_target(workspace, name), into)
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
            reason=f"it has no {into.key}" if key is None else f"another entry has the {into.key} {key} as well",
        )
        for entry, name, key in rows.iter_rows()
    ]  # fmt: skip


def _there(stored: StoredTarget, into: Into) -> pl.DataFrame:
    """What the database or file holds, by our fields; ``several`` tells rows whose key is not theirs alone."""
    rows = stored.rows()
    fields = {name: spec.to for name, spec in into.columns.items()}
    key = fields[into.key]
    said = [
        {
            "entry": normalised(row[key]),
            "raw": str(row[key]),
            **{name: _read(row[to], name) for name, to in fields.items()},
        }
        for row in rows
        if row[key] not in (None, "")
    ]
    schema = {"entry": pl.String(), "raw": pl.String(), **{name: FIELDS[name].dtype for name in fields}}
    frame = pl.DataFrame(said, schema=schema, strict=False) if said else pl.DataFrame(schema=schema)
    return frame.with_columns((pl.len().over("entry") > 1).alias("several"))


def _read(value: Any, name: str) -> Any:
    """A column's value as our field has it."""
    if value in (None, ""):
        return None
    if FIELDS[name].is_list:
        return [part.strip() for part in str(value).split(",") if part.strip()]
    from datetime import UTC, datetime

    from concordex.model.values import parse_time

    if FIELDS[name].dtype == pl.Datetime("us", "UTC"):
        moment = value if isinstance(value, datetime) else parse_time(str(value))
        return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).astimezone(UTC) if moment else None
    if FIELDS[name].dtype == pl.Boolean:
        return str(value).lower() in ("1", "true", "t", "yes", "y")
    if FIELDS[name].dtype == pl.Float64:
        return float(value)
    return str(value) if FIELDS[name].dtype == pl.String else value


def _updates(
    workspace: BaseWorkspace, name: str, into: Into, wanted: pl.DataFrame, there: pl.DataFrame, edited: str
) -> list[Step]:
    once = there.filter(pl.col("several").not_()).drop("raw", "several")
    owners = {field: spec.owner for field, spec in into.columns.items() if field != into.key}
    found = differences(wanted.drop("label"), once, owners)
    clean, torn = parted(found, workspace.memory_of_writes(name, into.where_to))
    if edited == "ours":
        clean, torn = found, {}
    labels = dict(wanted.select("entry", "label").iter_rows())
    raw = {row["entry"]: row["raw"] for row in there.select("entry", "raw").iter_rows(named=True)}
    steps = [
        Step(
            number=0, table=into.where_to, operation="update", label=labels[key] or key, key={into.key: str(raw[key])},
            before={field: _kept(was) for field, (was, _) in fields.items()},
            desired={field: _kept(desired) for field, (_, desired) in fields.items()}, record_id=key,
        )
        for key, fields in sorted(clean.items())
    ]  # fmt: skip
    if edited == "hold":
        steps += [
            Step(
                number=0, table=into.where_to, operation="report", action="edited", label=labels[key] or key,
                key={into.key: key}, state="held", record_id=key,
                reason="; ".join(
                    f"{field}: we wrote {shown(last)}, somebody made it {shown(now)}, it should be {shown(desired)}"
                    for field, (last, now, desired) in fields.items()
                ) + " (--edited ours or theirs decides)",
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
                name: _kept(row[name]) for name, spec in into.columns.items()
                if spec.owner != "theirs" and row.get(name) not in (None, [])
            },
        )
        for row in new.iter_rows(named=True)
    ]  # fmt: skip


def _one(value: Any) -> str:
    return str(value[0] if isinstance(value, list) else value)


def _kept(value: Any) -> Any:
    """A value as the journal keeps it."""
    return value.isoformat() if hasattr(value, "isoformat") else value


def run_target(workspace: BaseWorkspace, change: Change, steps: Sequence[Step], progress: Counted | None) -> None:
    """Write steps into a database or a file, batch by batch, each in one transaction; then read back and compare."""
    into = workspace.config.targets[change.system]
    stored, number = stored_target(workspace, change.system), change.number or 0
    _settle_what_is_so(workspace, number, steps, stored, into)
    left = [step for step in workspace.journal.change(number).steps if step.number in {s.number for s in steps}]
    ready = [step for step in left if step.state in ("ready", "sent", "refused", "held")]
    done = len(steps) - len(ready)
    if progress:
        progress(done, len(steps))
    for part in lists(ready, _BATCH):
        workspace.journal.sending(number, part)
        try:
            told = stored.write([_row(step, into) for step in part])
        except ConcordexError as error:  # a transaction, or a file, is written whole or not at all
            workspace.journal.settled(number, [Outcome(step, "ready", str(error)) for step in part])
            raise
        outcomes = [
            Outcome(step, "written" if why is None else "refused" if isinstance(why, NotTaken) else "held", why)
            for step, why in zip(part, told, strict=True)
        ]
        workspace.journal.settled(number, outcomes)
        done += len(part)
        if progress:
            progress(done, len(steps))
    _read_back(workspace, number, stored, into)


def _row(step: Step, into: Into) -> TargetRow:
    to = {name: spec.to for name, spec in into.columns.items()}
    desired = {to[name]: value for name, value in step.desired.items()}
    key = step.key[into.key]
    if step.operation == "delete":
        return TargetRow(key=key, before={to[name]: value for name, value in step.before.items()}, desired=None)
    if step.operation == "create":
        return TargetRow(key=key, before=None, desired={**desired, to[into.key]: key})
    return TargetRow(key=key, before={to[name]: value for name, value in step.before.items()}, desired=desired)


def _settle_what_is_so(
    workspace: BaseWorkspace, number: int, steps: Sequence[Step], stored: StoredTarget, into: Into
) -> None:
    """What an earlier run wrote before it was cut off is not written again."""
    if not any(step.state == "sent" for step in steps):
        return
    there = {row["entry"]: row for row in _there(stored, into).iter_rows(named=True)}
    so = [
        Outcome(step, "written", "it had arrived")
        for step in steps
        if step.state == "sent" and not _wrong(step, there.get(step.record_id or ""))
    ]
    workspace.journal.settled(number, so)


def _read_back(workspace: BaseWorkspace, number: int, stored: StoredTarget, into: Into) -> None:
    there = {row["entry"]: row for row in _there(stored, into).iter_rows(named=True)}
    settled: list[Outcome] = []
    became: list[tuple[Step, dict[str, Any], dict[str, Any]]] = []
    for step in workspace.journal.change(number).steps:
        if step.state != "written":
            continue
        row = there.get(step.record_id or "")
        wrong = _wrong(step, row)
        settled.append(Outcome(step, "differs" if wrong else "confirmed", "; ".join(wrong) or step.reason))
        if row is not None:
            became.append((step, {name: _kept(row[name]) for name in step.desired}, {}))
    workspace.journal.settled(number, settled)
    workspace.journal.kept(number, became)


def _wrong(step: Step, row: Mapping[str, Any] | None) -> list[str]:
    if step.operation == "delete":
        return [] if row is None else ["the row is still there"]
    if row is None:
        return ["the row is not there"]
    return [
        f"{name} is {shown(_kept(row[name]))}, not {shown(value)}"
        for name, value in step.desired.items()
        if not same(row[name], value)
    ]


def known(workspace: BaseWorkspace, name: str) -> bool:
    """Whether ``name`` is a database or a file; refused where it is a system as well."""
    if name in workspace.config.targets and name in workspace.config.systems:
        raise CalledWrongly(f"{name} is both a system and a target", advice="give one of them another name")
    return name in workspace.config.targets
