"""The format of a dialect: how one kind of system speaks, as data.

Every class here is one mapping of the YAML file; the field descriptions are what
``dialect.schema.json`` shows in an editor.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from typing import Any, Literal, cast

from pydantic import Field, field_validator, model_validator

from concordex.documents import Part, Slug, fault_at
from concordex.model.fields import FIELDS, Type
from concordex.model.scalars import parse_duration
from concordex.wire.dialect.calls import (
    Call,
    CsvShape,
    JsonShape,
    LinesShape,
    ParquetShape,
    Post,
    Shape,
    SheetShape,
    TextShape,
    XmlShape,
    short_shape,
    words,
)
from concordex.wire.dialect.fields import FieldMap, FilterMap
from concordex.wire.dialect.health import Health
from concordex.wire.dialect.paging import (
    CursorPages,
    HeaderLinkedPages,
    LinkedPages,
    NumberedPages,
    OffsetPages,
    OnePage,
    Pages,
    RangePages,
    TotalCall,
    WindowPages,
)
from concordex.wire.dialect.paths import PathText, SourceText
from concordex.wire.dialect.reads import Also, Changed, ColumnChoice, Details, Each, Gather, Listed, Read
from concordex.wire.dialect.signin import (
    BasicSignIn,
    CallSignIn,
    Carried,
    ClientCredentials,
    Credential,
    HeaderSignIn,
    NoSignIn,
    QuerySignIn,
    SignatureSignIn,
    SignIn,
)
from concordex.wire.dialect.templates import TemplateText
from concordex.wire.dialect.writes import (
    Action,
    Answers,
    Commands,
    Create,
    Delete,
    FieldWrite,
    Groups,
    ObjectSpec,
    OnDevice,
    Ready,
    Reference,
    Refusals,
    Send,
    Staging,
    Task,
    Together,
    Update,
    Whole,
    Write,
)

__all__ = [
    "Action",
    "Also",
    "Answers",
    "BasicSignIn",
    "Call",
    "CallSignIn",
    "Carried",
    "Changed",
    "ClientCredentials",
    "ColumnChoice",
    "Commands",
    "Create",
    "Credential",
    "CsvShape",
    "CursorPages",
    "Delete",
    "Details",
    "Dialect",
    "Each",
    "Errors",
    "FieldMap",
    "FieldWrite",
    "FilterMap",
    "Gather",
    "Groups",
    "HeaderLinkedPages",
    "HeaderSignIn",
    "Health",
    "JsonShape",
    "LinesShape",
    "LinkedPages",
    "Listed",
    "Lookup",
    "NoSignIn",
    "NumberedPages",
    "ObjectSpec",
    "OffsetPages",
    "OnDevice",
    "OnePage",
    "Pages",
    "ParquetShape",
    "Post",
    "QuerySignIn",
    "RangePages",
    "Read",
    "Ready",
    "Reference",
    "Refusals",
    "Rpc",
    "Send",
    "Shape",
    "SheetShape",
    "SignIn",
    "SignatureSignIn",
    "Staging",
    "SystemLimits",
    "Table",
    "Task",
    "TextShape",
    "Together",
    "TotalCall",
    "Update",
    "Whole",
    "WindowPages",
    "Write",
    "XmlShape",
    "calls_of",
]  # fmt: skip


class Table(Part):
    """One list that the system holds."""

    about: str = ""
    read: Read
    fields: dict[str, FieldMap]
    filters: list[FilterMap] = Field(default_factory=list)
    write: Write | None = None
    config: ObjectSpec | None = None
    health: Health | None = None

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
            if not (spec.from_ or spec.always is not None or spec.of_parent):
                raise fault_at(("fields", name), "is empty: give `from`, `always` or `of_parent`")
            if spec.via and spec.of:
                raise fault_at(("fields", name, "of"), "with `via` the id is replaced: say one of them")
            if (spec.of_parent or spec.below_parent) and self.read.each is None:
                raise fault_at(("fields", name), "mentions a parent, but `read` has no `each`")
        for at, rule in enumerate(self.filters):
            if rule.field not in self.fields:
                raise fault_at(("filters", str(at)), f"{rule.field!r} is not among the table's fields")
        return self

    @model_validator(mode="after")
    def _telling(self) -> Table:
        for place, name in self.health.fields if self.health else ():
            if name not in self.fields:
                raise fault_at(("health", place), f"{name!r} is not among the table's fields")
        return self

    @property
    def refers(self) -> dict[str, str]:
        """The fields that hold ids of other tables' records, and these tables."""
        named = {name: spec.of for name, spec in self.fields.items() if spec.of}
        if self.config is None:
            return named
        members = {name: spec.from_[0] for name, spec in self.fields.items() if len(spec.from_) == 1 and not spec.via}
        references = self.config.references
        return named | {name: references[member] for name, member in members.items() if member in references}

    def type_of(self, field: str) -> Type:
        """The type of one of this table's fields."""
        return self.fields[field].type or FIELDS[field]

    @property
    def unread(self) -> set[str]:
        """The fields, of configuration objects the members, that no reading shows as they were sent."""
        fields = self.write.fields.items() if self.write else ()
        return {spec.to if self.config else name for name, spec in fields if spec.once or spec.secret}

    @property
    def types(self) -> dict[str, Type]:
        """Each field of this table and its type."""
        return {name: self.type_of(name) for name in self.fields}


class SystemLimits(Part):
    """What the system can bear."""

    concurrency: int = Field(4, ge=1, le=64, description="Requests at once.")
    rate: float | None = Field(None, gt=0, description="Requests a second, at the most.")
    timeout: float = Field(60, gt=0, description="Seconds for one request.")
    tries: int = Field(4, ge=1, description="Tries of a read that fails for a passing reason.")
    answer: int = Field(64_000_000, ge=1, description="Bytes of the largest answer that is read.")
    record: int = Field(1_000_000, ge=1, description="Bytes of the largest record that is kept.")
    settles: str = Field(
        "5s", pattern=r"^\d+[smh]$", description="How long after a write it may take until the write shows in lists."
    )
    vanish: int = Field(20, ge=0, description="Records that may go away between a list and what hangs from it.")
    vanish_share: float = Field(0.05, ge=0, le=1, description="The same, as a share of the records.")

    @property
    def settle(self) -> float:
        """``settles``, in seconds."""
        return cast("timedelta", parse_duration(self.settles)).total_seconds()


class Errors(Part):
    """What an error answer says; codes are HTTP statuses, or what stands at `code`."""

    message: list[PathText] = Field(
        default_factory=list, description="Where it says what is wrong; of several, the first that says something."
    )
    code: PathText | None = Field(None, description="Where it gives a code of its own.")
    present: PathText | None = Field(None, description="What stands only in an error answer that comes as HTTP 200.")
    expired: list[str | int] = Field(default_factory=list, description="The session has ended: sign in again.")
    busy: list[str | int] = Field(default_factory=list, description="Try again later.")
    duplicate: list[str | int] = Field(default_factory=list, description="Such a record is there already.")
    conflict: list[str | int] = Field(default_factory=list, description="Somebody else altered it meanwhile.")

    @field_validator("message", "expired", "busy", "duplicate", "conflict", mode="before")
    @classmethod
    def _several(cls, given: Any) -> Any:
        return words(given)


class Tried(Part):
    """A release of the system with which the dialect was tried, and by which recording that can be tried again."""

    release: str
    recording: str | None = Field(None, description="A file in the folder `tests` beside the dialect.")


class Rpc(Part):
    """JSON-RPC 2.0: one path for all calls, errors inside HTTP 200."""

    path: TemplateText
    batch: int = Field(1, ge=1, description="How many calls may go in one request; 1 for no batches.")


class Lookup(Call):
    """A value that other calls need, found once in a session: the code that belongs to a label."""

    records: SourceText = Field("$", validate_default=True)
    match: dict[PathText, TemplateText] = Field(min_length=1, description="Member of a record: what it must say.")
    take: PathText = Field(description="The member that is the value.")


class Dialect(Part):
    """How one kind of system speaks."""

    format: Literal[1] = Field(description="The version of this format.")
    name: Slug
    title: str
    extends: Slug | None = Field(None, description="Another dialect, of which this one says only what differs.")
    role: Literal["manager", "inventory"] = Field(
        "manager", description="manager: speaks with the devices; inventory: is told about them by people."
    )
    tried: list[Tried] = Field(default_factory=list, description="Releases of the system with which it was tried.")
    base: str = Field("", description="Stands before every path.")
    lists: Listed | None = Field(None, description="What all tables' lists have in common; their own goes before.")
    described_by: str | None = Field(
        None, description="An OpenAPI description beside the dialect, NAME.openapi.json: calls may name its operations."
    )
    headers: dict[str, TemplateText] = Field(default_factory=dict, description="With every request.")
    shape: Shape = Field(default_factory=JsonShape, description="Of answers, and of what is written.")
    rpc: Rpc | None = None
    credentials: dict[str, Credential] = Field(default_factory=dict)
    sign_in: SignIn = Field(default_factory=NoSignIn)
    lookups: dict[str, Lookup] = Field(default_factory=dict)
    errors: Errors = Field(default_factory=Errors)
    limits: SystemLimits = Field(default_factory=SystemLimits)
    tasks: dict[str, Task] = Field(default_factory=dict)
    tables: dict[Slug, Table] = Field(min_length=1)
    together: Together | None = None
    staging: Staging | None = None
    commands: Commands | None = None

    _shaped = field_validator("shape", mode="before")(short_shape)

    @property
    def keeps_cookies(self) -> bool:
        """Whether requests carry the cookies that the system sets."""
        return isinstance(self.sign_in, CallSignIn) and self.sign_in.carries.cookies

    @model_validator(mode="after")
    def _closed(self) -> Dialect:
        for name, table in self.tables.items():
            for place, other in _others(table):
                if other not in self.tables:
                    raise fault_at(("tables", name, *place), f"there is no table {other!r} in this dialect")
            _check_write(name, table)
            _check_actions(self, name, table)
        for name in self.together.tables if self.together else ():
            if name not in self.tables or not (write := self.tables[name].write) or not write.create:
                raise fault_at(
                    ("together", "tables", name), "is not a table of this dialect whose records can be created"
                )
        for place, call in calls_of(self):
            if call.rpc and self.rpc is None:
                raise fault_at((*place, "rpc"), "the dialect says no `rpc: {path: …}`")
            if isinstance(call, Send) and call.task and call.task not in self.tasks:
                raise fault_at((*place, "task"), f"there is no task {call.task!r} in `tasks`")
            _check_path(self, place, call)
        return self


def calls_of(dialect: Dialect) -> Iterator[tuple[tuple[str, ...], Call]]:
    """Every call that a dialect makes, and where it stands in the file."""
    if isinstance(dialect.sign_in, CallSignIn):
        yield ("sign_in", "call"), dialect.sign_in.call
        if dialect.sign_in.sign_out:
            yield ("sign_in", "sign_out"), dialect.sign_in.sign_out
    for place, part, what in (
        (("together",), dialect, "together"),
        (("commands", "show"), dialect.commands, "show"),
        (("staging", "pending"), dialect.staging, "pending"),
        (("staging", "discard"), dialect.staging, "discard"),
    ):
        if call := getattr(part, what, None):
            yield place, call
    for name, lookup in dialect.lookups.items():
        yield ("lookups", name), lookup
    for name, task in dialect.tasks.items():
        yield ("tasks", name), task
    for name, table in dialect.tables.items():
        yield from ((("tables", name, "read", *place), call) for place, call in _reading(table.read))
        if table.write:
            yield from ((("tables", name, "write", *place), call) for place, call in _writing(table.write))


def _reading(read: Read) -> Iterator[tuple[tuple[str, ...], Call]]:
    yield (), read
    if read.details:
        yield ("details",), read.details
    if isinstance(read.total, TotalCall):
        yield ("total",), read.total
    yield from ((("also",), also) for also in read.also)
    yield from ((("gathers",), gather) for gather in read.gathers)


def _writing(write: Write) -> Iterator[tuple[tuple[str, ...], Call]]:
    for what in ("create", "update", "delete", "commit"):
        if call := getattr(write, what):
            yield (what,), call
    if write.delete and write.delete.restore:
        yield ("delete", "restore"), write.delete.restore
    yield from ((("actions", name), call) for name, call in write.actions.items())


def _others(table: Table) -> list[tuple[tuple[str, ...], str]]:
    """Every mention of another table: where it stands, and the table's name."""
    mentions: list[tuple[tuple[str, ...], str]]
    mentions = [(("fields", name, "via"), spec.via) for name, spec in table.fields.items() if spec.via]
    mentions += [(("fields", name, "of"), spec.of) for name, spec in table.fields.items() if spec.of]
    if table.write:
        mentions += [(("write", "references", name, "via"), ref.via) for name, ref in table.write.references.items()]
        ready = table.write.ready
        mentions += [(("write", "ready", "brings", name), name) for name in (ready.brings if ready else {})]
    for member, other in (table.config.references if table.config else {}).items():
        mentions.append((("config", "references", member), other))
    if table.read.each:
        mentions.append((("read", "each"), table.read.each.of))
    return mentions


def _check_path(dialect: Dialect, place: tuple[str, ...], call: Call) -> None:
    """No secret in a path: paths are shown in errors and logs."""
    for name, credential in dialect.credentials.items():
        if credential.secret and f"{{{name}}}" in call.path:
            raise fault_at(
                (*place, "path"), f"{{{name}}} is a secret, and paths are shown in messages: send it in a header"
            )


def _check_actions(dialect: Dialect, name: str, table: Table) -> None:
    """What an act speaks of is there: the reference to its targets, the field that shows it, the act that undoes it."""
    actions = table.write.actions if table.write else {}
    for what, action in actions.items():
        place = ("tables", name, "write", "actions", what)
        references = table.config.references if table.config else {}
        if action.each is not None and action.each not in references:
            raise fault_at((*place, "each"), f"{action.each!r} is not among `config: {{references: …}}` of this table")
        shown_in = dialect.tables[references[action.each]] if action.each is not None else table
        if action.shows is not None and action.shows not in shown_in.fields:
            raise fault_at((*place, "shows"), f"there is no field {action.shows!r} where it would show")
        if action.taken_back is not None and action.taken_back not in actions:
            raise fault_at((*place, "taken_back"), f"there is no action {action.taken_back!r}")


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
