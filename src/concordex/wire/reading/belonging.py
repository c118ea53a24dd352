"""Whether details are those of their own records, and say anything of them: an answer alone does not show it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from urllib.parse import urlsplit

from concordex.wire import dialect as d
from concordex.wire.dialect.templates import is_link
from concordex.wire.reading.completeness import TableOutcome, Verdict
from concordex.wire.reading.records import Record


class Belonging:
    """What the details of a table's records showed, each beside its record."""

    def __init__(self, table: d.Table) -> None:
        self._under = table.read.details.under if table.read.details else None
        self._ids = table.fields["record_id"].from_
        self._named = [path for field in table.fields.values() for path in field.from_]
        self._own = self._others = self._telling = self._mute = 0

    def took(self, record: Record, more: Any) -> None:
        """Take note of what came for a record."""
        listed, told = self._id_of(record), self._id_of(more)
        if listed is not None and told is not None:
            own = listed == told or _bare(listed) == _bare(told)
            self._own += own
            self._others += not own
        if more:
            beside = {self._under: more} if self._under else more
            telling = any(path.shown(beside) for path in self._named)
            self._telling += telling
            self._mute += not telling

    def keeps(self, record: Record, joined: Record) -> bool:
        """Whether a record is known by the same id with what was added to it from a second list."""
        return all(path.first(record) == path.first(joined) for path in self._ids)

    @property
    def fault(self) -> str | None:
        """That some were of other records, where others were of their own."""
        if self._own and self._others:
            return f"the details of {self._others} records bear another record's id"
        return None

    @property
    def doubt(self) -> Verdict | None:
        """Why they may not be what they seem."""
        if self._others and not self._own and not self._under:
            why = (
                "the details bear other ids than the list: `under` keeps them apart, or `record_id` names a member"
                " that says the same in both"
            )
        elif self._mute and self._telling:
            why = (
                f"the details of {self._mute} records hold nothing that a field names: if that is how the system"
                " says that something failed, `errors: {present: …}` tells it"
            )
        else:
            return None
        return Verdict(outcome=TableOutcome.UNPROVEN, why=why)

    def _id_of(self, record: Any) -> Any:
        """The id that stands in a record, or None."""
        if not isinstance(record, Mapping):
            return None
        return next((value for path in self._ids if (value := path.first(record)) not in (None, "")), None)


def _bare(value: Any) -> str:
    """An id in whatever notation: an address by its path, and without case and signs."""
    text = urlsplit(value).path if isinstance(value, str) and is_link(value) else str(value)
    return "".join(filter(str.isalnum, text)).casefold()
