"""The ways in which a long list is cut into pages."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from concordex.documents import Part
from concordex.wire.dialect.calls import Call
from concordex.wire.dialect.paths import SourceText

Times = Literal["iso", "epoch", "epoch_ms"]

#: How a system answers a request past the end of a list, where not with an empty page.
PastEnd = Annotated[int, Field(ge=400, le=499)] | Literal["repeats"]

_PAST_END = "What is answered past the end, where not an empty page: an HTTP status, or `repeats` (the last page)."


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
    past_end: PastEnd | None = Field(None, description=_PAST_END)


class NumberedPages(Part):
    """Pages by their number."""

    by: Literal["number"]
    page: str
    limit: str | None = None
    first: Literal[0, 1] = 1
    size: int = Field(100, ge=1)
    past_end: PastEnd | None = Field(None, description=_PAST_END)


class RangePages(Part):
    """Pages by the header Range, each answered with Content-Range (RFC 9110, section 14)."""

    by: Literal["range"]
    unit: str = Field("items", pattern=r"^[A-Za-z0-9!#$%&'*+.^_`|~-]+$", description="The range unit.")
    size: int = Field(100, ge=1)


class LinkedPages(Part):
    """Each answer holds the address of the next page."""

    by: Literal["link"]
    next: SourceText = Field(description="Where the address of the next page stands: in the body, or `header:NAME`.")
    limit: str | None = Field(None, description="The parameter for how many are wanted, if there is one.")
    size: int = Field(100, ge=1)
    path_only: bool = Field(False, description="Of the link only path and query count, as where a proxy ends TLS.")


class HeaderLinkedPages(Part):
    """The header Link holds the address of the next page, as rel=next (RFC 8288)."""

    by: Literal["link_header"]
    limit: str | None = None
    size: int = Field(100, ge=1)
    path_only: bool = Field(False, description="Of the link only path and query count, as where a proxy ends TLS.")


class CursorPages(Part):
    """Each answer holds a mark that the next request gives back."""

    by: Literal["cursor"]
    next: SourceText = Field(description="Where the mark stands: a path into the body, or `header:NAME`.")
    cursor: str = Field(description="The parameter that gives it back.")
    more: SourceText | None = Field(None, description="Where the answer says whether there is more.")
    limit: str | None = None
    size: int = Field(100, ge=1)
    same_mark: bool = Field(False, description="The mark stays the same from page to page, until one is empty.")


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
    OnePage | OffsetPages | NumberedPages | RangePages | LinkedPages | HeaderLinkedPages | CursorPages | WindowPages,
    Field(discriminator="by"),
]


class TotalCall(Call):
    """A call of its own that tells how many there are."""

    at: SourceText = Field(description="Where the number stands in its answer, or `header:NAME`.")
