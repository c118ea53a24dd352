"""What the members of an answer mean, and which tests a system applies itself."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, field_validator, model_validator

from concordex.documents import Part, fault_at
from concordex.model.fields import BY_TYPE, CONVERSION_NAMES, Type
from concordex.wire.dialect.calls import words
from concordex.wire.dialect.paging import Times
from concordex.wire.dialect.paths import PathText


def _word(value: Any) -> Any:
    return str(value).lower() if isinstance(value, bool) else str(value) if isinstance(value, int | float) else value


class FieldMap(Part):
    """Where a field's value comes from, and how it is read."""

    from_: list[PathText] = Field(
        default_factory=list,
        alias="from",
        description="Where it stands; of several, the first that says something.",
    )
    read_as: str | None = Field(None, alias="as", description="How it is written; the field's type decides otherwise.")
    type: Type | None = Field(None, description="For a field that is not one of the common ones.")
    values: dict[str, str | None] | None = Field(None, description="Their word: ours, or null for none.")
    otherwise: str | None = Field(None, description="Ours, for every word that `values` does not list.")
    via: str | None = Field(None, description="The table whose record is meant, by its record_id.")
    take: str = Field("name", description="The field of that record which is the value.")
    of: str | None = Field(None, description="An id of a record of that table: it is kept, and shown by its name.")
    always: str | None = Field(None, description="The same value for every record.")
    of_parent: str | None = Field(None, description="With `each`: this field of the record that the list hangs from.")
    below_parent: bool = Field(False, description="With `each`: it counts only below its parent: PARENT/VALUE.")

    @field_validator("from_", mode="before")
    @classmethod
    def _several(cls, given: Any) -> Any:
        return words(given)

    @field_validator("values", mode="before")
    @classmethod
    def _as_texts(cls, given: Any) -> Any:
        """Their words may be written as numbers, and yes and no, as YAML reads them."""
        if not isinstance(given, dict):
            return given
        return {_word(theirs): None if ours is None else _word(ours) for theirs, ours in given.items()}

    @field_validator("read_as")
    @classmethod
    def _known(cls, given: str | None) -> str | None:
        if given is not None and given not in CONVERSION_NAMES:
            raise ValueError(f"should be one of {', '.join(CONVERSION_NAMES)}")
        return given

    def conversion(self, kind: Type) -> str:
        """The name of the conversion for a field of type ``kind``."""
        return self.read_as or BY_TYPE[kind]


class FilterMap(Part):
    """A test that the system applies itself, and how its query says it."""

    field: str
    tests: list[str]
    parameter: str | None = None
    path: str | None = Field(None, description="Instead of a parameter: another path, with `{value}` in it.")
    write: str = Field("{value}", description="How the value is written there.")
    several: str | None = Field(None, description="What stands between several values, if several may be given.")
    together: str | None = Field(None, description="What stands between several tests in one parameter.")
    any_case: bool = Field(
        False, description="The system compares this text without regard to case, and addresses to notation."
    )
    time: Times = "iso"
    escape: Literal["doubled", "backslash", "percent"] | None = Field(
        None, description="How a value's own signs are kept apart: its quotes doubled, backslashes, or %27."
    )
    wildcards: dict[str, str] | None = Field(None, description="How * and ? of `like` are written there.")

    @field_validator("wildcards")
    @classmethod
    def _signs(cls, given: dict[str, str] | None) -> dict[str, str] | None:
        if given is not None and not set(given) <= {"*", "?"}:
            raise ValueError("says how * and ? are written, and nothing else")
        return given

    @field_validator("tests", mode="before")
    @classmethod
    def _several_tests(cls, given: Any) -> Any:
        return words(given)

    @model_validator(mode="after")
    def _said_somewhere(self) -> FilterMap:
        if (self.parameter is None) == (self.path is None):
            raise fault_at(("parameter",), "a test is written in a `parameter` or in a `path`: say one of them")
        return self
