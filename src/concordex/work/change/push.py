"""Preparing a push: rows from a file, against what a system's table holds."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import polars as pl
from pydantic import Field

from concordex.change.compare import same
from concordex.change.prepare import Wish, normalised, prepare
from concordex.change.reasons import Why, because
from concordex.change.refer import TargetTable
from concordex.change.rows import FieldLimits, Mistake, Row, check_rows, columns_of, holder, read_values
from concordex.change.steps import Change, Step
from concordex.documents import Part, read_as
from concordex.errors import CalledWrongly
from concordex.words import suggestion
from concordex.work.change.basis import Basis, base_of
from concordex.work.change.choose import matching
from concordex.work.workspace.models import models
from concordex.work.workspace.secret_sources import SAY_WHERE, is_reference

if TYPE_CHECKING:
    from concordex.wire import dialect as d
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True, kw_only=True)
class PushOptions:
    """How rows are to be read.

    columns   a column of the file: our field that it means
    ignore    columns that are left aside
    defaults  values for rows that do not say them: for which rows (a filter; none: all), and the values
    make      tables whose missing records may be created
    """

    columns: Mapping[str, str] = field(default_factory=dict)
    ignore: Sequence[str] = ()
    defaults: Sequence[tuple[str | None, Mapping[str, str]]] = ()
    make: Sequence[str] = ()


@dataclass(frozen=True)
class PreparedPush:
    """A change, the mistakes that keep rows out of it, and the rows that are as they should be."""

    change: Change
    mistakes: list[Mistake]
    rejected: list[Row]
    equal: int
    aside: Sequence[str] = ()


def prepare_push(
    workspace: BaseWorkspace, system: str, table: str, rows: Sequence[Row], choice: PushOptions
) -> PreparedPush:
    """The change that makes ``table`` hold what ``rows`` say; nothing is sent.

    A row whose natural key is there already alters that record where it says otherwise.
    """
    base = base_of(workspace, system, table)
    for name in choice.make:
        if name not in base.frames:
            raise CalledWrongly(
                f"--make {name}: {table} refers to no such table", advice=suggestion(name, set(base.frames) - {table})
            )
    names = list(dict.fromkeys(name for row in rows for name in row.typed))
    keyed = {name: base.dialect.tables[table].type_of(name) for key in base.write.keys for name in key}
    fields = {**keyed, **base.fields}  # a key that cannot be written still finds its record
    only_read = [name for name in names if name in choice.ignore or _is_only_read(name, base, fields)]
    meant, mistakes = columns_of(names, fields, choice.columns, only_read)
    if mistakes:
        return PreparedPush(Change(kind="push", system=system, steps=()), mistakes, list(rows), 0)
    read, mistakes = read_values(rows, meant, fields, limits_of(base))
    for where, values in choice.defaults:
        read = _with_defaults(workspace, base, read, where, values)
    target = target_of(workspace, base, choice.make)
    checked, more = check_rows(read, target)
    headed = {name: column for column, name in meant.items()}
    mistakes += [replace(fault, column=_headed(fault.column, headed)) for fault in more]
    bad = {mistake.place for mistake in mistakes}
    spot = base.write.stands.at if base.write.stands else ""
    mistakes += [
        Mistake(place=row.place, column=headed.get(spot, spot), value=str(row.values.get(spot, "")), what=why)
        for row, why in zip(checked, _misplaced(base, checked, target), strict=True)
        if why is not None and row.place not in bad
    ]
    bad = {mistake.place for mistake in mistakes}
    plain = unnamed_secrets(base.write, checked)
    mistakes += [replace(fault, column=headed.get(fault.column, fault.column)) for fault in plain]
    bad |= {fault.place for fault in plain}
    good = [row for row in checked if row.place not in bad]
    change, equal = _change(base, good, target, catalogue=models(workspace))
    order = {row.place: at for at, row in enumerate(rows)}
    mistakes.sort(key=lambda fault: order.get(fault.place, -1))
    aside = [name for name in only_read if name not in choice.ignore]
    return PreparedPush(change, mistakes, [row for row in rows if row.place in bad], equal, aside)


def unnamed_secrets(write: d.Write, rows: Sequence[Row]) -> list[Mistake]:
    """Secrets that stand in rows themselves; a row says where one is kept."""
    secret = [name for name, spec in write.fields.items() if spec.secret]
    what = f"is a secret: {SAY_WHERE}"
    return [
        Mistake(place=row.place, column=name, value="***", what=what)
        for row in rows
        for name in secret
        if row.values.get(name) is not None and not is_reference(str(row.values[name]))
    ]


def _misplaced(base: Basis, rows: Sequence[Row], target: TargetTable) -> list[str | None]:
    """For each row why its record cannot stand in its rack where the row says; what it does not say stays."""
    if base.write.stands is None:
        return [None] * len(rows)
    ids = [holder(row.values, target) for row in rows]
    mine = pl.col("record_id").is_in([record_id for record_id in ids if record_id])
    there = {record["record_id"]: record for record in base.frame.filter(mine).iter_rows(named=True)}
    return base.misplaced([
        (record_id, {**there.get(record_id or "", {}), **row.values}) for record_id, row in zip(ids, rows, strict=True)
    ])  # fmt: skip


def _is_only_read(column: str, base: Basis, fields: Mapping[str, Any]) -> bool:
    """Whether a column holds what is shown of a record and cannot be written: as in a file that `show` wrote."""
    return column not in fields and (column == "system" or column in base.dialect.tables[base.table].fields)


def _headed(fields: str, headed: Mapping[str, str]) -> str:
    """Fields by the headings that the file gives them."""
    return " and ".join(headed.get(name, name) for name in fields.split(" and "))


def limits_of(base: Basis) -> dict[str, FieldLimits]:
    """What each field of a table may hold."""
    return {n: FieldLimits(choices=spec.choices, longest=spec.longest) for n, spec in base.write.fields.items()}


def target_of(workspace: BaseWorkspace, base: Basis, make: Sequence[str]) -> TargetTable:
    """The table as the core needs to know it to judge rows."""
    links = base.forms[base.table].links
    others = {
        link.via: base.frames[link.via].select(n for n in link.by if n in base.frames[link.via].columns).to_dicts()
        for link in links
    }
    described = {link.via: models(workspace) for link in links if set(link.by) == {"maker", "name"}}
    return TargetTable(
        table=base.table, form=base.forms[base.table], known=base.known, others=others, may_make=make,
        described=described,
    )  # fmt: skip


def _with_defaults(
    workspace: BaseWorkspace, base: Basis, rows: Sequence[Row], where: str | None, values: Mapping[str, str]
) -> list[Row]:
    """The rows with values that they do not say themselves, where the filter holds for them."""
    meant, mistakes = columns_of(list(values), base.fields, {})
    (filled,), wrong = read_values([Row(place="", typed=values)], meant, base.fields, limits_of(base))
    if mistakes or wrong:
        text = "; ".join(f"{is_meant.column} {is_meant.value} {is_meant.what}" for is_meant in [*mistakes, *wrong])
        raise CalledWrongly(f"a default cannot be used: {text}")
    holds = matching(workspace, [row.values for row in rows], where) if where else [True] * len(rows)
    return [
        replace(row, values={**filled.values, **row.values}) if is_meant else row
        for row, is_meant in zip(rows, holds, strict=True)
    ]


class Defaults(Part):
    """Values for a group of rows."""

    where: str | None = Field(None, description="A filter on the rows; without it, all.")
    set: dict[str, str | int | float] = Field(min_length=1, description="Field: value.")


class DefaultsFile(Part):
    """Groups of rows and their values; the first that speaks of a field counts."""

    format: int = Field(ge=1, le=1)
    defaults: list[Defaults]


def read_defaults(path: Path) -> list[tuple[str | None, dict[str, str]]]:
    """The defaults in a file."""
    file = read_as(path, DefaultsFile)
    return [(group.where, {name: str(value) for name, value in group.set.items()}) for group in file.defaults]


def _change(
    base: Basis, rows: Sequence[Row], target: TargetTable, catalogue: Sequence[Mapping[str, Any]]
) -> tuple[Change, int]:
    ids = [holder(row.values, target) for row in rows]
    mine_there = pl.col("record_id").is_in([record_id for record_id in ids if record_id])
    there = {r["record_id"]: r for r in base.frame.filter(mine_there).iter_rows(named=True)}
    spent = {name for name, spec in base.write.fields.items() if spec.once or spec.secret}
    mine = base.fields.keys() - spent
    wishes, updates, equal = [], list[Step](), 0
    for row, record_id in zip(rows, ids, strict=True):
        now = there.get(record_id or "")
        if now is None:
            wishes.append(Wish(entry="", source=row.place, values=row.values))
            continue
        desired = {n: v for n, v in row.values.items() if n in mine and not same(now.get(n), v)}
        if desired:
            updates.append(_update(base, now, desired, row.place))
        equal += not desired
    change = prepare("push", base.system, base.table, wishes, updates, base.forms, base.known)
    steps = [_described(step, base, catalogue).having(entry=step.entry or None) for step in change.steps]
    once = [name for name, spec in base.write.fields.items() if spec.once]
    return replace(change, steps=tuple(steps)).described(once=once), equal


def _update(base: Basis, record: Mapping[str, Any], desired: Mapping[str, Any], place: str) -> Step:
    possible = base.write.update is not None
    return Step(
        number=0, table=base.table, operation="update" if possible else "report",
        label=str(record.get("name") or record["record_id"]), key=base.key(record),
        before={name: record.get(name) for name in desired}, desired=dict(desired),
        state="ready" if possible else "held",
        why=() if possible else because(Why.CANNOT, what="update"),
        record_id=record["record_id"], source=place,
    )  # fmt: skip


def _described(step: Step, base: Basis, catalogue: Sequence[Mapping[str, Any]]) -> Step:
    """A model that is created with a device gets what the catalogue says of it."""
    spec = base.dialect.tables[step.table].write
    if step.operation != "create" or step.table == base.table or spec is None:
        return step
    for model in catalogue:
        if all(normalised(model.get(name, "")) == normalised(value) for name, value in step.key.items()):
            more = {name: value for name, value in model.items() if name in spec.fields and value is not None}
            return step.having(desired={**step.desired, **more})
    return step
