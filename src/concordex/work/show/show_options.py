"""What of a table is wanted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime


def parted(name: str) -> tuple[str, str | None]:
    """A column by which records are counted, and the span of time of which its moments are: ``taken_at:day``."""
    column, _, span = name.partition(":")
    return column, span or None


@dataclass(frozen=True, kw_only=True)
class ShowOptions:
    """What of a table is wanted; ``of`` is a field of numbers that are summed up.

    ``since`` and ``until`` bound the time of what has one, by its dialect.
    """

    where: str | None = None
    systems: Sequence[str] = ()
    columns: Sequence[str] = ()
    sort: Sequence[str] = ()
    count_by: Sequence[str] = ()
    limit: int | None = None
    live: bool = False
    as_of: datetime | None = None
    changes: datetime | None = None
    funnel: bool = False
    of: str | None = None
    over: str | None = None
    since: datetime | None = None
    until: datetime | None = None

    @property
    def is_part(self) -> bool:
        """Whether only some columns are looked at."""
        return bool(self.columns or self.count_by or self.of)

    @property
    def named(self) -> list[str]:
        """The columns that are named, beside those of the filter."""
        sort = [name.removeprefix("-") for name in self.sort]
        return [*self.columns, *(parted(name)[0] for name in self.count_by), *sort, *([self.of] if self.of else [])]
