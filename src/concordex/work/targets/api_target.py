"""What records and configuration objects have in common as targets: a system behind an API, asked in a session."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Hashable, Iterable, Mapping
from datetime import datetime
from typing import Any, Self

import orjson

from concordex.change.steps import Step
from concordex.model.fields import ORIGINAL
from concordex.model.members import stands
from concordex.wire import dialect as d
from concordex.wire.http.session import Session
from concordex.wire.reading.table_read import TableRead
from concordex.work.targets.target import Target


class ApiTarget(Target):
    """The live tables of a system, read whole, and kept up to date with what we make.

    Beside what every target does it knows what is sent for a step.
    """

    def __init__(self, session: Session) -> None:
        self.session = session
        #: Tables as they were read last.
        self.looks: dict[str, TableRead] = {}
        self._own: dict[str, dict[str, Any]] = {}
        self._unread: dict[str, set[str]] = {}

    @property
    def settle(self) -> float:
        """For how many seconds what was written need not show yet, as the dialect says."""
        return self.session.dialect.limits.settle

    @property
    def began(self) -> datetime:
        """When the session began."""
        return self.session.began

    def again(self) -> Self:
        """The same, to be read anew."""
        return type(self)(self.session)

    @abstractmethod
    def body(self, write: d.Write, step: Step) -> dict[str, Any]:
        """What is sent for a step, with ids where it names others; of an update the members that are written.

        Raises CalledWrongly where it names what is not there.
        """

    @abstractmethod
    def aim(self, step: Step) -> dict[str, Any]:
        """What an action needs beside its record: what it is done with, or on what."""

    @abstractmethod
    def moved(self, step: Step, record: Mapping[str, Any]) -> dict[str, Any]:
        """What of a record, as the system has just given it by itself, is not what ``step`` rests on."""

    @abstractmethod
    def made(self, step: Step, number: Any) -> None:
        """Remember what we have just made, by the id that the system gave it."""

    @abstractmethod
    def gone(self, table: str, record_ids: Iterable[str]) -> None:
        """Forget what we have just deleted."""

    @abstractmethod
    def forget(self, steps: Iterable[Step]) -> None:
        """Do not refer to what is not there after all."""

    @abstractmethod
    def learn(self, later: Self, table: str) -> None:
        """Take over what a later reading of ``table`` found, beside what we have made meanwhile."""

    def in_bin(self, step: Step) -> str | None:
        """The id of what has the key of ``step`` in the system's bin."""
        return None

    def own_id(self, table: str, record_id: str) -> Any:
        """An id as the system itself writes it: a number stays one."""
        if table not in self._own:
            path = self.session.dialect.tables[table].fields["record_id"].from_[0]
            rows = self.looks[table].frame.select("record_id", ORIGINAL).iter_rows()
            self._own[table] = {rid: path.first(orjson.loads(raw or "{}")) for rid, raw in rows}
        own = self._own[table].get(record_id)
        return record_id if own is None or str(own) != record_id else own

    @abstractmethod
    def natural_key(self, step: Step) -> Hashable:
        """By what the record of a step is known, as it is compared."""

    def was_there(self, table: str, record_id: str | None) -> bool:
        """Whether the first reading of a table held a record."""
        return self.looks[table].frame["record_id"].eq(record_id or "").any()

    def unread(self, step: Step) -> set[str]:
        """What a step writes that no reading ever shows again, by dotted paths: one-time codes, and secrets."""
        if step.table not in self._unread:
            self._unread[step.table] = self.session.dialect.tables[step.table].unread
        return {path for path in self._unread[step.table] if stands(step.desired, path.split("."))}
