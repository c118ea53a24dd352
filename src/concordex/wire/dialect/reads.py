"""How a table is read: its list, and the calls that hang together with it."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from concordex.documents import Part, fault_at
from concordex.wire.dialect.calls import Call
from concordex.wire.dialect.paging import OnePage, Pages, Times, TotalCall
from concordex.wire.dialect.paths import PathText, SourceText


class Details(Call):
    """One call for each record of the list, whose members are added to the record."""

    link: PathText | None = Field(
        None, description="Instead of a path: the member of the record that holds the address."
    )
    record: PathText = Field("$", validate_default=True, description="Where the record stands in the answer.")
    under: str | None = Field(None, description="The member that holds what came; without it, it stands beside.")


class Listed(Call):
    """A list, with all that it takes to know that it is whole."""

    records: PathText = Field("$", validate_default=True, description="Where the list stands in the answer.")
    keyed_by: str | None = Field(
        None, description="The list is a mapping: the member of each record that shall hold its key."
    )
    members: PathText | list[str] | None = Field(
        None, description="Records come as rows or plain values: the members' names, or where the answer has them."
    )
    total: SourceText | TotalCall | None = Field(
        None, description="Where the answer says how many there are in all: a path, `header:NAME`, or a call."
    )
    pages: Pages = Field(default_factory=OnePage)
    complete: str | None = Field(
        None, min_length=10, description="Why this list is known to be never cut, where no answer can show it."
    )
    may_lack: bool = Field(False, description="Where there is nothing, the answer leaves the list out.")
    revision: SourceText | None = Field(
        None, description="Where the answer says of which state it is: the same on all pages."
    )
    sends: Literal["query", "body", "params"] | None = Field(
        None, description="Where parameters for pages and filters go; the body and `rpc` decide otherwise."
    )

    @property
    def place(self) -> str:
        """Where the parameters for pages and filters go."""
        if self.sends:
            return self.sends
        return "params" if self.rpc else "body" if self.json_body is not None else "query"


class Also(Listed):
    """A second list, whose records are added to those of the first."""

    match: dict[PathText, PathText] = Field(min_length=1, description="Member of the second list: member of the first.")
    under: str | None = Field(None, description="The member that holds what came; without it, it stands beside.")
    several: bool = Field(False, description="Several of its records belong to one of the first: a list in `under`.")

    @model_validator(mode="after")
    def _has_room(self) -> Also:
        if self.several and not self.under:
            raise fault_at(("several",), "needs `under`: the member that holds the list")
        return self


class Gather(Listed):
    """A list for each record of the first, kept in a member of it: the ports of a device, whose MACs are its own."""

    link: PathText | None = Field(
        None, description="Instead of a path: the member of the record that holds the address."
    )
    under: str = Field(description="The member that holds what came.")


class Each(Part):
    """One list for each record of another table; `{record_id}` and its like stand for that record's fields."""

    of: str = Field(description="The other table.")
    kinds: list[str] = Field(default_factory=list, description="Only for records of these kinds.")


class ColumnChoice(Part):
    """How the system is asked to send only some members."""

    parameter: str
    several: str = Field(",", description="What stands between them.")
    always: list[str] = Field(default_factory=list, description="Members that are needed in any case.")


class Changed(Part):
    """How the system is asked for what changed since a moment, so that a pull need not fetch all."""

    parameter: str
    time: Times = "iso"
    gone: PathText | None = Field(None, description="Where the answer lists the ids of what is gone since.")


class Read(Listed):
    """How a table is read."""

    file: str | None = Field(None, description="Of a system that is a folder: the file, or a pattern such as *.csv.")
    sql: str | None = Field(None, description="Of a system that is a database: the statement that selects the rows.")
    details: Details | None = None
    also: list[Also] = Field(default_factory=list)
    gathers: list[Gather] = Field(default_factory=list)
    each: Each | None = None
    columns: ColumnChoice | None = None
    changed: Changed | None = None

    @model_validator(mode="after")
    def _somewhere(self) -> Read:
        if not (self.path or self.rpc or self.file or self.sql):
            raise fault_at(("path",), "is required: where is the list? (or `rpc`, `file` or `sql`)")
        if self.sql and (self.path or self.rpc or self.file or self.each or self.details or self.also or self.gathers):
            raise fault_at(("sql",), "a statement selects all there is: no other call belongs to it")
        return self
