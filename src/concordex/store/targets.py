"""Tables that are not behind an API: in a database (:mod:`.database_target`), or in a file.  Rows in, rows out.

Every value is written as text, number, flag or time; lists as text with commas.  A batch is written in one go; a row
that the table does not take is named, and the others are written without it.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from io import BytesIO
from pathlib import Path
from typing import Any

from concordex.change.compare import as_compared
from concordex.change.reasons import Reasons, Why, because
from concordex.errors import CalledWrongly, StoreError
from concordex.landing import landing, make_folder
from concordex.model.inert import as_text, from_text, to_workbook

Values = Mapping[str, Any]


class RowRefused(StoreError):
    """The database does not take a row; nothing of the batch was written."""

    def __init__(self, why: str) -> None:
        super().__init__(f"the database refused: {why}", why=why, advice="nothing of the batch was written")


class CommitLost(StoreError):
    """The answer to a commit was lost: whether the batch is written is not known."""


@dataclass(frozen=True, kw_only=True)
class TargetRow:
    """One row to write: its key, what its columns hold, and what they should.

    Without ``before`` it is new, without ``desired`` it is deleted.
    """

    key: Any
    before: Values | None
    desired: Values | None

    def obstacle(self, there: Sequence[Values]) -> Reasons:
        """Why it is left as it is, given the rows that have its key; nothing where it is written."""
        if self.before is None:
            return because(Why.ROW_APPEARED) if there else ()
        if len(there) > 1:
            return because(Why.SEVERAL_ROWS)
        if not there:
            return because(Why.ROW_GONE) if self.desired is not None else ()
        moved = [name for name, value in self.before.items() if not _same(there[0].get(name), value)]
        return because(Why.ROW_CHANGED, columns=moved) if moved else ()


@dataclass(frozen=True, kw_only=True)
class KeyOfOther:
    """A column that holds the key of another table: of the row whose ``column`` says what we mean."""

    table: str
    column: str
    id: str = "id"


class StoredTarget(ABC):
    """A table of rows that a key tells apart."""

    def __init__(self, key: str, columns: Sequence[str]) -> None:
        self.key, self.columns = key, list(columns)

    @abstractmethod
    def rows(self) -> list[dict[str, Any]]:
        """All rows, the columns that are mapped of each."""

    @abstractmethod
    def write(self, rows: Sequence[TargetRow]) -> list[Reasons]:
        """Write a batch, whole or not at all; for each row why it was left, if it was (``SAID``: not taken)."""


def plain(value: Any) -> Any:
    """A value as a column takes it."""
    if isinstance(value, list):
        return ", ".join(map(str, value)) or None
    if isinstance(value, float) and value.is_integer():
        return int(value)
    return value.isoformat() if isinstance(value, datetime) else value


def _same(there: Any, value: Any) -> bool:
    return as_compared(there) == as_compared(value)


def _fitting(value: Any, kind: Any, name: str) -> Any:
    """A value as a column of a file takes it; raises ValueError where it does not."""
    import polars as pl

    value = plain(value)
    if value is None:
        return None
    if kind is None or kind == pl.String:
        return str(int(value) if isinstance(value, float) and value.is_integer() else value)
    try:
        fitted = pl.Series([str(value)]).str.to_datetime(time_zone="UTC") if kind.is_temporal() else pl.Series([value])
        return fitted.cast(kind, strict=True)[0]
    except pl.exceptions.PolarsError as error:
        raise ValueError(f"{name}: {value!r} does not fit into a column of {kind}") from error


class FileTarget(StoredTarget):
    """A CSV, XLSX or Parquet file, written anew as a whole; columns that are not mapped stay."""

    def __init__(self, path: Path, key: str, columns: Sequence[str]) -> None:
        super().__init__(key, columns)
        self.path = path
        self._kinds: dict[str, Any] = {}  # the types of the columns, as the file has them

    def rows(self) -> list[dict[str, Any]]:
        """All rows, the columns that are mapped of each."""
        return [{name: row.get(name) for name in self.columns} for row in self._all()]

    def write(self, rows: Sequence[TargetRow]) -> list[Reasons]:
        """Write a batch into the file, whole or not at all."""
        every = self._all()
        at: dict[str, list[dict[str, Any]]] = {}
        for record in every:
            at.setdefault(str(record.get(self.key)), []).append(record)
        reasons: list[Reasons] = []
        gone = set[int]()
        for row in rows:
            there = at.get(str(row.key), [])
            try:
                desired = {
                    name: _fitting(value, self._kinds.get(name), name) for name, value in (row.desired or {}).items()
                }
            except ValueError as error:
                reasons.append(because(Why.SAID, text=str(error)))
                continue
            reasons.append(row.obstacle(there))
            if reasons[-1]:
                continue
            if row.desired is None:
                gone.update(map(id, at.pop(str(row.key), [])))
                continue
            if row.before is None:
                every.append({})
                there = at[str(row.key)] = [every[-1]]
            there[0].update(desired)
        names = list(dict.fromkeys([*(name for record in every for name in record), *self.columns]))
        self._keep([record for record in every if id(record) not in gone], names)
        return reasons

    def _all(self) -> list[dict[str, Any]]:
        import polars as pl

        if not self.path.is_file():
            return []
        readers = {
            ".csv": lambda: from_text(pl.read_csv(self.path, infer_schema=False), self.columns),
            ".parquet": lambda: pl.read_parquet(self.path),
            ".xlsx": lambda: pl.read_excel(self.path, infer_schema_length=0, raise_if_empty=False),
        }
        reader = readers.get(self.path.suffix.lower())
        if reader is None:
            raise CalledWrongly(f"{self.path}: only .csv, .xlsx and .parquet are written")
        try:
            frame = reader()
        except (pl.exceptions.PolarsError, OSError) as error:
            raise StoreError(f"{self.path} cannot be read", why=str(error).split("\n")[0]) from error
        self._kinds = dict(frame.schema)
        return frame.to_dicts()

    def _keep(self, rows: Sequence[Values], names: Sequence[str]) -> None:
        import polars as pl

        schema = {name: self._kinds.get(name, pl.String()) for name in names}
        frame = pl.DataFrame({n: pl.Series([row.get(n) for row in rows], dtype=kind) for n, kind in schema.items()})
        packed = BytesIO()
        if self.path.suffix.lower() == ".csv":
            as_text(frame, self.columns).write_csv(packed)  # theirs stays as it is
        elif self.path.suffix.lower() == ".xlsx":
            to_workbook(frame, packed)
        else:
            frame.write_parquet(packed)
        make_folder(self.path.parent)
        with landing(self.path) as making:
            making.write_bytes(packed.getvalue())
