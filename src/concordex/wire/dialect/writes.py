"""How a table is written, and how a task that a write starts is followed."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, field_validator

from concordex.documents import Part
from concordex.wire.dialect.calls import Call, Method, Post, words
from concordex.wire.dialect.filters import FilterText
from concordex.wire.dialect.paging import Times
from concordex.wire.dialect.paths import MemberText, PathText, SourceText
from concordex.wire.dialect.reads import Listed


class Task(Call):
    """What a write started, and how it is followed; `{task}` stands for its id or address."""

    started: SourceText = Field(description="Where the write's answer names it: a path, or `header:Location`.")
    state: PathText = Field(description="Where its own answer says how it stands.")
    done: list[str]
    failed: list[str] = Field(default_factory=list)
    reason: PathText | None = Field(None, description="Where it says why it failed.")
    made: PathText | None = Field(None, description="Where it lists what was made.")
    every: float = Field(1, gt=0, description="Seconds between two looks.")
    timeout: float = Field(300, gt=0, description="Seconds after which we look no longer.")

    @field_validator("done", "failed", mode="before")
    @classmethod
    def _several(cls, given: Any) -> Any:
        return words(given)


class Reference(Part):
    """A member that holds another record's id; the record is found by its natural key."""

    to: MemberText
    via: str
    by: dict[str, str] = Field(description="The other table's key field: our field that gives its value.")
    owner: Literal["ours", "theirs", "when_made"] = Field("ours", description="As of a field; a sync goes by it.")


class FieldWrite(Part):
    """How one of our fields is written."""

    to: MemberText
    values: dict[str, str] | None = Field(None, description="Ours: their word.")
    take: Literal["first"] | None = Field(None, description="Of a list, only the first.")
    number: bool = Field(False, description="It is sent as a number.")
    time: Times = Field("iso", description="Of a moment: how it is written.")
    always: str | None = Field(None, description="The same for every new record that says nothing here.")
    made_from: str | None = Field(
        None, description="Of a new record that says nothing here: this field, in small letters and hyphens."
    )
    join: str | None = Field(None, description="What stands between the values of a list.")
    choices: list[str] = Field(default_factory=list, description="Ours, in small letters, that it may be.")
    longest: int | None = Field(None, ge=1, description="How many characters it may have.")
    empty: Any = Field(None, description="What is sent to empty it, if not null.")
    once: bool = Field(False, description="Sent to create a record and never shown again, such as a one-time code.")
    secret: bool = Field(
        False, description="A row says where it is kept (env:, file:, …): fetched just before it is sent, never kept."
    )
    owner: Literal["ours", "theirs", "when_empty", "when_made"] = Field(
        "ours",
        description="theirs: people keep it, never written; when_empty: written where nothing is;"
        " when_made: written when the record is created.",
    )


class Send(Post):
    """A request that alters something."""

    within: MemberText | None = Field(
        None, description="The member of the body (a dotted path) that holds what is sent."
    )
    task: str | None = Field(None, description="Which of the dialect's `tasks` it starts.")
    listed: bool = Field(False, description="What is sent is a list of one.")
    idempotency: str | None = Field(
        None,
        description="Where a key stands by which the system knows a repetition: `header:NAME`, or a member.",
    )


class Answers(Part):
    """How an answer that took a list tells of each record, in the order sent: some may be refused in it."""

    records: PathText = Field("$", validate_default=True, description="Where the list of them stands.")
    refused: FilterText = Field(description="A filter on each: which were refused, such as `status >= 400`.")
    reason: PathText = Field(description="The member that says why.")


class Create(Send):
    """How records are created."""

    batch_size: int = Field(1, ge=1, description="How many in one call; 1 means one record, not a list.")
    records: MemberText | None = Field(
        None, description="The member that holds the list; without it the list is the body."
    )
    made: PathText = Field(
        "$", validate_default=True, description="Where the answer lists what was made, in the order sent."
    )
    id: PathText | None = Field(None, description="Where its id stands in what was made, if not where a list has it.")
    answers: Answers | None = None
    atomic: str | None = Field(
        None,
        min_length=10,
        description="Why a list that is refused is known to have made nothing; else it is looked for what it made.",
    )
    named: PathText | None = Field(
        None, description="The member of what is sent that is its id, where no answer tells it."
    )


class Whole(Part):
    """A record that is sent as a whole: as it was read, with what is altered laid over it."""

    from_: Literal["record", "list"] = Field(
        "record", alias="from", description="Where it is read: by a GET of the record's own path, or in its list."
    )
    without: list[str] = Field(
        default_factory=list, description="Members of it (dotted paths) that the system does not take, or keeps unsaid."
    )
    masks: str | None = Field(
        None,
        min_length=10,
        description="Why a mask that is sent back, such as ********, is known to leave the secret as it is.",
    )


class Update(Send):
    """How records are altered; `{record_id}` stands for the id."""

    method: Method = "PATCH"
    form_of: Literal["members", "merge_patch", "json_patch", "patch_op"] = Field(
        "members", alias="as", description="merge_patch: RFC 7396; json_patch: RFC 6902; patch_op: RFC 7644, 3.5.2."
    )
    whole: Whole | None = Field(None, description="The whole record must be sent: true, or where it is read.")
    etag: bool = Field(False, description="It is read first, and sent with If-Match (RFC 9110, section 13.1.1).")
    batch_size: int = Field(1, ge=1)
    answers: Answers | None = None
    records: MemberText | None = Field(
        None, description="The member that holds the list, where `batch_size` is over 1."
    )
    id: str | None = Field(None, description="The member that holds the id in what is sent.")

    @field_validator("whole", mode="before")
    @classmethod
    def _short_whole(cls, given: Any) -> Any:
        return {} if given is True else None if given is False else given


class Delete(Send):
    """How records are deleted."""

    method: Method = "DELETE"
    binned: FilterText | None = Field(
        None, description="Where it only goes into a bin: a filter on the records that are in it, and count as gone."
    )
    restore: Send | None = Field(None, description="How it comes out again, so that an undo need not make it.")
    etag: bool = Field(False, description="It is read first, and deleted with If-Match.")
    batch_size: int = Field(1, ge=1)
    answers: Answers | None = None
    records: MemberText | None = Field(
        None, description="The member for the list of ids, where `batch_size` is over 1."
    )


class Action(Send):
    """Something else that can be done to a record, such as a restart."""

    about: str = ""
    irreversible: bool = Field(False, description="It cannot be taken back: a run asks for the number of records.")
    each: str | None = Field(
        None,
        description="The member, a reference, for each target of which it is done; `{target}` is its id.",
    )
    shows: str | None = Field(None, description="The field of a target that names the object once it is done.")
    taken_back: str | None = Field(None, description="The act that takes it back.")


class Together(Send):
    """One call that creates records of several tables; they refer to each other only where it says how."""

    tables: dict[str, MemberText] = Field(
        min_length=2, description="Table: the member that holds its list, in what is sent and in what was made."
    )
    batch_size: int = Field(100, ge=1, description="How many records in one call.")
    atomic: str | None = Field(None, min_length=10, description="As in `create`.")
    refers: str | None = Field(
        None,
        description="How one of the same call is referred to: `{member}`, and `{at}`, its place in that list.",
    )
    made: PathText = Field(
        "$",
        validate_default=True,
        description="Where the answer lists what was made, table by table, in the order sent.",
    )


class Staging(Part):
    """A system that stages what is written until it is committed: what is pending, and how ours is taken back."""

    pending: Listed | None = Field(None, description="Lists what is staged, ours and others'.")
    who: PathText = Field("who", validate_default=True, description="In each: the member that says by whom.")
    since: PathText = Field("since", validate_default=True, description="The member that says since when.")
    what: PathText = Field("what", validate_default=True, description="The member that says what it is.")
    ours: PathText | None = Field(None, description="The member that says whether it is our own user's.")
    outlasts_session: bool = Field(False, description="What is staged stays when the session ends.")
    discard: Send | None = Field(None, description="Takes back what we have staged, after a commit was refused.")


class Commands(Part):
    """A command interface: what is shown, and the table whose actions `enter` lines."""

    show: Post = Field(description="Runs a command that only shows: `{line}`, and in which `{form}`.")
    forms: dict[str, str] = Field(
        default_factory=dict, description="Our `data` and `text`: the system's words, where it has others."
    )
    table: str = Field(description="The table of one record whose field `lines` holds what was entered.")


class Refusals(Part):
    """How a refused list says which of its records are at fault."""

    records: PathText = Field(
        description="Where the faults stand: a list, or a mapping by the places in the list, from 0."
    )
    index: PathText | None = Field(None, description="In a list of faults: the member that holds the place, from 0.")
    by: PathText | None = Field(None, description="Instead: the member that a fault and what was sent have in common.")
    reason: PathText = Field(description="The member that says why.")


class OnDevice(Part):
    """What only the device itself can tell of a new record, and what may be set on it first."""

    table: str = Field(description="The table of the device's own dialect that says it, with one record.")
    asks: list[str] = Field(min_length=1, description="Our fields that are taken from there, such as a one-time code.")
    sets: list[str] = Field(default_factory=list, description="Fields of that table that a row may set beforehand.")


class Groups(Part):
    """How one of our groups is said as an object of this kind: made of kinds, and of other groups."""

    kinds: str = Field(description="The member that lists kinds.")
    groups: str = Field(description="The member, one of the references, that lists other groups.")


class ObjectSpec(Part):
    """What makes the records of a table configuration objects, which are saved as files by their names."""

    volatile: list[str] = Field(
        default_factory=list, description="Members that are not saved: times, counters; the id never is."
    )
    references: dict[str, str] = Field(
        default_factory=dict, description="Member that holds an id, or ids: the table; saved as names."
    )
    within: str | None = Field(None, description="The one of these that says in which object it stands.")
    single: str | None = Field(None, description="There is one alone: what it is called; its members are its sections.")
    place: str | None = Field(None, description="The member that says its place there, a number.")
    sets: list[str] = Field(default_factory=list, description="Lists whose order means nothing.")
    shares_names: bool = Field(False, description="The system takes several of one name.")
    bound: list[str] = Field(
        default_factory=list, description="Members that bind it to people or devices; they stay behind when it moves."
    )
    groups: Groups | None = None
    by: str | None = Field(None, description="The member that says who altered it last.")
    at: str | None = Field(None, description="The member that says when.")


class Ready(Part):
    """When a record that we made is really there, which may be a while after it is listed."""

    when: FilterText = Field(description="A filter on the record.")
    failed: FilterText | None = Field(None, description="A filter on the record: it will never be ready.")
    facts: list[str] = Field(default_factory=list, description="Our fields that are told of it then.")
    brings: dict[str, str] = Field(
        default_factory=dict, description="Table: its field that names the record; what hangs from it is told too."
    )
    every: float = Field(1, gt=0, description="Seconds between two looks.")
    timeout: float = Field(60, gt=0, description="Seconds after which we look no longer.")


class Stands(Part):
    """How records stand in racks, so that what cannot be is told before anything is sent."""

    rack: str = Field(description="Our field, of a reference, that names the rack.")
    at: str = Field("position", description="Our field for its lowest unit, counted from 1.")
    face: str | None = Field(None, description="Our field for the side of the rack.")
    height: dict[str, str] = Field(default_factory=dict, description="Table: its field that says how high it is.")
    full_depth: dict[str, str] = Field(
        default_factory=dict, description="Table: its field that says whether it is as deep as the rack."
    )
    weight: dict[str, str] = Field(default_factory=dict, description="Table: its field of what it weighs.")
    power: dict[str, str] = Field(default_factory=dict, description="Table: its field of what power it draws.")
    size: str = Field("units", description="The field of a rack that says how many units it has.")
    carries: str | None = Field(None, description="The field of a rack that says how much weight it carries.")

    @property
    def bodies(self) -> dict[str, dict[str, str]]:
        """What is known of a thing by another table: what it is called, the table and its field."""
        return {"height": self.height, "full_depth": self.full_depth, "weight": self.weight, "power": self.power}


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
    delete: Delete | None = None
    retire: dict[str, Any] = Field(default_factory=dict, description="Our fields as they are when a record is retired.")
    actions: dict[str, Action] = Field(default_factory=dict, description="What else can be done to a record.")
    commit: Send | None = Field(None, description="Called after writes that are only staged until then.")
    refusals: Refusals | None = None
    ready: Ready | None = None
    stands: Stands | None = None
    volatile: list[str] = Field(
        default_factory=list,
        description="Members of its records that the system itself alters: times, counters, what follows from others.",
    )
    device: OnDevice | None = None

    @field_validator("keys", mode="before")
    @classmethod
    def _several_keys(cls, given: Any) -> Any:
        return [words(key) for key in words(given)] if isinstance(given, str | list) else given

    @field_validator("required", "unique", "volatile", mode="before")
    @classmethod
    def _several_fields(cls, given: Any) -> Any:
        return words(given)

    @field_validator("fields", mode="before")
    @classmethod
    def _short_fields(cls, given: Any) -> Any:
        if not isinstance(given, dict):
            return given
        return {k: {"to": v} if isinstance(v, str) else v for k, v in given.items()}
