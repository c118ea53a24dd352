"""The format of a dialect: how one kind of system speaks, as data.

Every class here is one mapping of the YAML file; the field descriptions are what
``dialect.schema.json`` shows in an editor.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, field_validator, model_validator

from concordex.documents import Part, fault_at
from concordex.model.fields import FIELDS, Type
from concordex.model.values import BY_TYPE, CONVERSIONS

Slug = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9_-]*$", max_length=60)]
Method = Literal["GET", "POST", "PUT", "PATCH", "DELETE"]


def _words(given: Any) -> Any:
    """One word where a list of words is meant."""
    return [given] if isinstance(given, str) else given


class Credential(Part):
    """One thing that signing in needs."""

    secret: bool = Field(False, description="Named in the workspace (env:, file:, …), never written there.")
    about: str = Field("", description="What it is and where a person finds it.")


class Call(Part):
    """One request; `{name}` stands for the credential of that name."""

    method: Method = "POST"
    path: str
    json_body: dict[str, Any] | None = Field(default=None, alias="json", description="Sent as JSON.")
    form: dict[str, str] | None = Field(None, description="Sent as application/x-www-form-urlencoded.")


class NoSignIn(Part):
    """The system asks for nothing."""

    by: Literal["none"] = "none"


class BasicSignIn(Part):
    """A name and a password with every request (RFC 7617)."""

    by: Literal["basic"]
    user: str = "{user}"
    password: str = "{password}"  # noqa: S105 - the name of a credential


class HeaderSignIn(Part):
    """A key that stands in a header of every request."""

    by: Literal["header"]
    header: str
    value: str = Field(description="What the header says, such as `Key {token}`.")


class CallSignIn(Part):
    """A call that gives a token for the requests after it."""

    by: Literal["call"]
    call: Call
    token: str = Field(description="Where the token stands in the answer.")
    lasts: str | None = Field(None, description="Where its life in seconds stands, if it is told.")
    header: str
    value: str = "{token}"


class ClientCredentials(Part):
    """OAuth 2.0 client credentials (RFC 6749, section 4.4); the token goes along as RFC 6750 says."""

    by: Literal["client_credentials"]
    path: str
    client: str = "{client}"
    secret: str = "{secret}"  # noqa: S105 - the name of a credential
    scope: str | None = None


SignIn = Annotated[NoSignIn | BasicSignIn | HeaderSignIn | CallSignIn | ClientCredentials, Field(discriminator="by")]


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


Pages = Annotated[OnePage | OffsetPages | NumberedPages | LinkedPages, Field(discriminator="by")]


class Read(Part):
    """How a table is read."""

    path: str
    query: dict[str, str] = Field(default_factory=dict, description="Parameters of every request.")
    records: str = Field("$", description="Where the list stands in the answer.")
    total: str | None = Field(None, description="Where the answer says how many there are in all.")
    pages: Pages = Field(default_factory=OnePage)


class FieldMap(Part):
    """Where a field's value comes from, and how it is read."""

    from_: list[str] = Field(
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
    always: str | None = Field(None, description="The same value for every record.")

    @field_validator("from_", mode="before")
    @classmethod
    def _several(cls, given: Any) -> Any:
        return _words(given)

    @field_validator("read_as")
    @classmethod
    def _known(cls, given: str | None) -> str | None:
        if given is not None and given not in CONVERSIONS:
            raise ValueError(f"should be one of {', '.join(CONVERSIONS)}")
        return given

    def conversion(self, kind: Type) -> str:
        """The name of the conversion for a field of type ``kind``."""
        return self.read_as or BY_TYPE[kind]


class FilterMap(Part):
    """A test that the system applies itself, and how its query says it."""

    field: str
    tests: list[str]
    parameter: str
    write: str = Field("{value}", description="How the value is written there.")
    several: str | None = Field(None, description="What stands between several values, if several may be given.")
    together: str | None = Field(None, description="What stands between several tests in one parameter.")
    any_case: bool = Field(False, description="The system compares this text without regard to case.")
    time: Literal["iso", "epoch", "epoch_ms"] = "iso"

    @field_validator("tests", mode="before")
    @classmethod
    def _several_tests(cls, given: Any) -> Any:
        return _words(given)


class Reference(Part):
    """A member that holds another record's id; the record is found by its natural key."""

    to: str
    via: str
    by: dict[str, str] = Field(description="The other table's key field: our field that gives its value.")


class FieldWrite(Part):
    """How one of our fields is written."""

    to: str
    values: dict[str, str] | None = Field(None, description="Ours: their word.")
    take: Literal["first"] | None = Field(None, description="Of a list, only the first.")
    join: str | None = Field(None, description="What stands between the values of a list.")
    owner: Literal["ours", "theirs", "when_empty", "when_made"] = Field(
        "ours",
        description="theirs: people keep it, never written; when_empty: written where nothing is;"
        " when_made: written when the record is created.",
    )


class Create(Part):
    """How records are created."""

    path: str
    method: Method = "POST"
    most: int = Field(1, ge=1, description="How many in one call; 1 means one record, not a list.")
    records: str | None = Field(None, description="The member that holds the list; without it the list is the body.")
    made: str = Field("$", description="Where the answer lists what was made, in the order sent.")


class Update(Part):
    """How one record is altered; `{record_id}` stands for its id."""

    path: str
    method: Method = "PATCH"


class Refusals(Part):
    """How a refused list says which of its records are at fault."""

    records: str
    index: str = Field(description="The member that holds the place in the list, from 0.")
    reason: str


class Write(Part):
    """How a table is written."""

    keys: list[list[str]] = Field(
        min_length=1,
        description="Natural keys, the surest first; each is a field, or a list of fields that count together.",
    )
    required: list[str] = Field(default_factory=list)
    unique: list[str] = Field(default_factory=list, description="Fields of which no two records may hold one value.")
    fields: dict[str, FieldWrite] = Field(default_factory=dict)
    references: dict[str, Reference] = Field(default_factory=dict)
    create: Create | None = None
    update: Update | None = None
    refusals: Refusals | None = None

    @field_validator("keys", mode="before")
    @classmethod
    def _several_keys(cls, given: Any) -> Any:
        return [_words(key) for key in _words(given)] if isinstance(given, str | list) else given

    @field_validator("required", "unique", mode="before")
    @classmethod
    def _several_fields(cls, given: Any) -> Any:
        return _words(given)

    @field_validator("fields", mode="before")
    @classmethod
    def _short_fields(cls, given: Any) -> Any:
        if not isinstance(given, dict):
            return given
        return {k: {"to": v} if isinstance(v, str) else v for k, v in given.items()}


class Table(Part):
    """One list that the system holds."""

    about: str = ""
    read: Read
    fields: dict[str, FieldMap]
    filters: list[FilterMap] = Field(default_factory=list)
    write: Write | None = None

    @field_validator("fields", mode="before")
    @classmethod
    def _short_fields(cls, given: Any) -> Any:
        if not isinstance(given, dict):
            return given
        return {k: {"from": v} if isinstance(v, str | list) else v for k, v in given.items()}

    @model_validator(mode="after")
    def _typed(self) -> Table:
        if "record_id" not in self.fields:
            raise fault_at(("fields",), "record_id is required: without an id no record can be told from another")
        for name, spec in self.fields.items():
            if name not in FIELDS and spec.type is None:
                raise fault_at(("fields", name), "not one of the common fields, so say its `type`")
        return self

    def type_of(self, field: str) -> Type:
        """The type of one of this table's fields."""
        return self.fields[field].type or FIELDS[field]

    @property
    def types(self) -> dict[str, Type]:
        """Each field of this table and its type."""
        return {name: self.type_of(name) for name in self.fields}


class Limits(Part):
    """What the system can bear."""

    concurrency: int = Field(4, ge=1, le=64, description="Requests at once.")
    timeout: float = Field(60, gt=0, description="Seconds for one request.")
    tries: int = Field(4, ge=1, description="Tries of a read that fails for a passing reason.")
    answer: int = Field(64_000_000, ge=1, description="Bytes of the largest answer that is read.")


class Dialect(Part):
    """How one kind of system speaks."""

    format: Literal[1] = Field(description="The version of this format.")
    name: Slug
    title: str
    role: Literal["manager", "inventory"] = Field(
        "manager", description="manager: speaks with the devices; inventory: is told about them by people."
    )
    base: str = Field("", description="Stands before every path.")
    credentials: dict[str, Credential] = Field(default_factory=dict)
    sign_in: SignIn = Field(default_factory=NoSignIn)
    message: str | None = Field(None, description="Where an error answer says what is wrong.")
    limits: Limits = Field(default_factory=Limits)
    tables: dict[Slug, Table] = Field(min_length=1)

    @model_validator(mode="after")
    def _closed(self) -> Dialect:
        for name, table in self.tables.items():
            for place, other in _others(table):
                if other not in self.tables:
                    raise fault_at(("tables", name, *place), f"there is no table {other!r} in this dialect")
            _check_write(name, table)
        return self


def _others(table: Table) -> list[tuple[tuple[str, ...], str]]:
    """Every mention of another table: where it stands, and the table's name."""
    found: list[tuple[tuple[str, ...], str]]
    found = [(("fields", name, "via"), spec.via) for name, spec in table.fields.items() if spec.via]
    if table.write:
        found += [(("write", "references", name, "via"), ref.via) for name, ref in table.write.references.items()]
    return found


def _check_write(name: str, table: Table) -> None:
    if table.write is None:
        return
    keyed = [field for key in table.write.keys for field in key]
    for place, fields in (
        ("keys", keyed),
        ("unique", table.write.unique),
        ("fields", list(table.write.fields)),
    ):
        for field in fields:
            if field not in table.fields:
                raise fault_at(("tables", name, "write", place), f"{field!r} is not among the table's fields")
