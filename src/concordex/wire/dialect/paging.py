"""The ways in which a long list is cut into pages."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from concordex.documents import Part
from concordex.wire.dialect.calls import Call

Times = Literal["iso", "epoch", "epoch_ms"]


class OnePage(Part):
    """The whole list comes in one answer."""

    by: Literal["none"] = "none"


class OffsetPages(Part):
    """Pages by the number of the first record and how many are wanted."""

    by: Literal["offset"]
    offset: str = Field(description="The parameter for the number of the first record.")
    limit: str = Field(description="The parameter for how many are wanted.")
    first: Literal[0, 1] = Field(0, description="The number of the very first record.")
    size: int = Field(100, ge=1, description="How many to ask for.")


class NumberedPages(Part):
    """Pages by their number."""

    by: Literal["number"]
    page: str
    limit: str | None = None
    first: Literal[0, 1] = 1
    size: int = Field(100, ge=1)


class LinkedPages(Part):
    """Each answer holds the address of the next page."""

    by: Literal["link"]
    next: str = Field(description="Where the address of the next page stands in the body.")
    limit: str | None = Field(None, description="The parameter for how many are wanted, if there is one.")
    size: int = Field(100, ge=1)


class HeaderLinkedPages(Part):
    """The header Link holds the address of the next page, as rel=next (RFC 8288)."""

    by: Literal["link_header"]
    limit: str | None = None
    size: int = Field(100, ge=1)


class CursorPages(Part):
    """Each answer holds a mark that the next request gives back."""

    by: Literal["cursor"]
    next: str = Field(description="Where the mark stands: a path into the body, or `header:NAME`.")
    cursor: str = Field(description="The parameter that gives it back.")
    more: str | None = Field(None, description="Where the answer says whether there is more.")
    limit: str | None = None
    size: int = Field(100, ge=1)


class WindowPages(Part):
    """A list of events, read by spans of time; a span that comes full is halved and read again."""

    by: Literal["window"]
    since: str = Field(description="The parameter for the beginning of the span.")
    until: str = Field(description="The parameter for its end, which does not belong to it.")
    reach: str = Field("30d", pattern=r"^\d+[smhdw]$", description="How far back to read.")
    span: str = Field("1d", pattern=r"^\d+[smhdw]$", description="How much at once.")
    full: int = Field(1000, ge=1, description="The most records that the system sends in one answer.")
    time: Times = "iso"
    field: str | None = Field(None, description="Our field that the spans are about: filters on it narrow the reach.")


Pages = Annotated[
    OnePage | OffsetPages | NumberedPages | LinkedPages | HeaderLinkedPages | CursorPages | WindowPages,
    Field(discriminator="by"),
]


class TotalCall(Call):
    """A call of its own that tells how many there are."""

    at: str = Field(description="Where the number stands in its answer, or `header:NAME`.")
