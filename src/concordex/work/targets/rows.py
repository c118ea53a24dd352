"""The rows of a database's table, or of a file, as a target; columns are mapped to our fields by a person."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.change.compare import same
from concordex.change.prepare import normalised
from concordex.change.reasons import Reasons, Why, because
from concordex.change.steps import Step
from concordex.change.whole import Flat
from concordex.errors import CalledWrongly
from concordex.model.fields import FIELDS
from concordex.model.scalars import parse_time
from concordex.store.targets import FileTarget, KeyOfOther, StoredTarget, TargetRow
from concordex.work.targets.target import Target

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace
    from concordex.work.workspace.rules import Into


def known(workspace: BaseWorkspace, name: str) -> bool:
    """Whether ``name`` is a database or a file; refused where it is a system as well."""
    if name in workspace.config.targets and name in workspace.config.systems:
        raise CalledWrongly(f"{name} is both a system and a target", advice="give one of them another name")
    return name in workspace.config.targets


class Rows(Target):
    """The rows of a database's table, or of a file, by our fields; a row's id is its key as it is compared."""

    def __init__(self, stored: StoredTarget, into: Into) -> None:
        self.stored, self.into = stored, into
        self._began = datetime.now(UTC)
        #: The rows by our fields: ``record_id`` is the key as it is compared, ``raw`` as it stands there.
        self.frame = _frame([], into)
        self._rows: dict[str, dict[str, Any]] = {}
        self._several: dict[str, int] = {}

    @classmethod
    def of(cls, workspace: BaseWorkspace, name: str) -> Rows:
        """The database or file that the workspace calls ``name``."""
        into = workspace.config.targets[name]
        columns = [spec.to for spec in into.columns.values()]
        key = into.columns[into.key].to
        if into.file:
            return cls(FileTarget(workspace.root / into.file, key, columns), into)
        password = workspace.secrets.of_target(name)
        elsewhere = {
            spec.to: KeyOfOther(table=spec.of.table, column=spec.of.column, id=spec.of.id)
            for spec in into.columns.values() if spec.of
        }  # fmt: skip
        from concordex.store.database_target import DatabaseTarget  # its library is slow to come, and seldom needed

        stored = DatabaseTarget(into.url or "", into.table, key, columns, workspace.root, password, elsewhere)
        return cls(stored, into)

    @property
    def settle(self) -> float:
        """None: what a transaction has written is there."""
        return 0.0

    @property
    def began(self) -> datetime:
        """When we began to look."""
        return self._began

    def again(self) -> Rows:
        """The same, to be read anew."""
        return Rows(self.stored, self.into)

    def needed(self, tables: Iterable[str]) -> list[str]:
        """The table alone: rows refer to others by what stands in them."""
        return list(tables)

    async def read(self, tables: Iterable[str]) -> None:
        """Read all rows."""
        self.take()

    def take(self) -> None:
        """Read all rows."""
        self.frame = _frame(self.stored.rows(), self.into)
        self._rows = {row["record_id"]: row for row in self.frame.drop("raw", "several").iter_rows(named=True)}
        self._several = dict(self.frame.filter("several").group_by("record_id").len().iter_rows())

    def several(self, step: Step) -> bool:
        """Whether more than one row bears the key of a step."""
        return (step.record_id or "") in self._several

    def bearers(self, step: Step) -> list[str]:
        """The id of the row that bears the key of ``step``, as often as there is one."""
        key = step.record_id or ""
        return [key] * self._several.get(key, 1) if key in self._rows else []

    def located(self, step: Step) -> Step:
        """The same: a row's id is its key."""
        return step

    def records(self, table: str, ids: Sequence[str]) -> dict[str, dict[str, Any]]:
        """The rows of those ids, by our fields, as a journal keeps values."""
        mine = {key: self._rows[key] for key in ids if key in self._rows}
        return {key: {name: as_kept(row[name]) for name in self.into.columns} for key, row in mine.items()}

    def whole(self, table: str, ids: Sequence[str]) -> dict[str, Flat]:
        """Nothing: columns that nobody mapped are not looked at."""
        return {}

    def layers(self, steps: Sequence[Step]) -> list[list[Step]]:
        """All at once."""
        return [list(steps)]

    def same(self, there: Any, ours: Any) -> bool:
        """Whether a column holds what it should."""
        return same(there, ours)

    def was_there(self, table: str, record_id: str | None) -> bool:
        """Whether there is such a row."""
        return record_id is not None and record_id in self.records(table, [record_id])

    def unread(self, step: Step) -> set[str]:
        """Nothing: each column shows what is in it."""
        return set()

    def verdict(self, step: Step, record: Mapping[str, Any]) -> Reasons:
        """What a row did not take of a step."""
        wrong = {
            name: {"now": record.get(name), "desired": value}
            for name, value in step.desired.items()
            if not same(record.get(name), value)
        }
        return because(Why.DIFFERS, fields=wrong) if wrong else ()

    def written_paths(self, step: Step) -> set[str]:
        """The fields that an update writes."""
        return set(step.desired)

    def can_show(self, step: Step) -> bool:
        """No: nothing else is done to rows."""
        return False

    def shows(self, step: Step) -> Reasons:
        """Nothing: nothing else is done to rows."""
        return ()

    def row(self, step: Step, *, force: bool = False) -> TargetRow:
        """What is written for a step; ``force``: over whatever the row holds now."""
        to = {name: spec.to for name, spec in self.into.columns.items()}
        key = step.key[self.into.key]
        desired = {to[name]: value for name, value in step.desired.items()}
        if step.operation == "create":
            return TargetRow(key=key, before=None, desired={**desired, to[self.into.key]: key})
        there = self._rows.get(step.record_id or "", {})
        gone = step.operation == "delete"  # an update rests on what it writes: of a part the rest is others'
        rests_on = {name: value for name, value in step.before.items() if gone or name in step.desired}
        before = {to[name]: there.get(name) if force else value for name, value in rests_on.items()}
        return TargetRow(key=key, before=before, desired=None if gone else desired)


def _frame(rows: Sequence[Mapping[str, Any]], into: Into) -> pl.DataFrame:
    """Rows by our fields; ``several`` tells those whose key is not theirs alone."""
    fields = {name: spec.to for name, spec in into.columns.items()}
    key = fields[into.key]
    read = [
        {
            "record_id": normalised(row[key]),
            "raw": str(row[key]),
            **{name: _read(row[to], name) for name, to in fields.items()},
        }
        for row in rows
        if row[key] not in (None, "")
    ]
    schema = {"record_id": pl.String(), "raw": pl.String(), **{name: FIELDS[name].dtype for name in fields}}
    frame = pl.DataFrame(read, schema=schema, strict=False) if read else pl.DataFrame(schema=schema)
    return frame.with_columns((pl.len().over("record_id") > 1).alias("several"))


def _read(value: Any, name: str) -> Any:
    """A column's value as our field has it."""
    if value in (None, ""):
        return None
    if FIELDS[name].is_list:
        return [part.strip() for part in str(value).split(",") if part.strip()]
    if FIELDS[name].dtype == pl.Datetime("us", "UTC"):
        moment = value if isinstance(value, datetime) else parse_time(str(value))
        return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).astimezone(UTC) if moment else None
    if FIELDS[name].dtype == pl.Boolean:
        return str(value).lower() in ("1", "true", "t", "yes", "y")
    if FIELDS[name].dtype == pl.Float64:
        return float(value)
    return str(value) if FIELDS[name].dtype == pl.String else value


def as_kept(value: Any) -> Any:
    """A value as the journal keeps it."""
    return value.isoformat() if hasattr(value, "isoformat") else value
