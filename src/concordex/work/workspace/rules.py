"""The rules of the house in ``concordex.yaml``: matching, syncing, keeping, guarding, drift and health."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field, field_validator, model_validator

from concordex.documents import Part, fault_at
from concordex.insight.thresholds import BOUND
from concordex.match.choose import Choose
from concordex.model.fields import FIELDS
from concordex.work.workspace.duration import Duration
from concordex.work.workspace.secret_sources import SCHEMES, is_reference
from concordex.work.workspace.system_settings import Window


class KindRule(Part):
    """How the value of a field is chosen."""

    by: Literal["order", "freshest", "agreed", "specific", "joined"] = "order"
    order: list[str] = Field(default_factory=list, description="Systems, the most trusted first.")

    @property
    def chosen(self) -> Choose:
        """The rule as the core knows it."""
        return Choose(by=self.by, order=self.order)


class FieldRule(KindRule):
    """How the value of a field is chosen, and for which kinds otherwise."""

    kinds: dict[str, KindRule] = Field(default_factory=dict)

    @property
    def chosen(self) -> Choose:
        """The rule as the core knows it."""
        return Choose(by=self.by, order=self.order, kinds={kind: rule.chosen for kind, rule in self.kinds.items()})


class Reconcile(Part):
    """How records become entries."""

    prefer: list[str] = Field(default_factory=list, description="Systems, the most trusted first.")
    fields: dict[str, list[str] | FieldRule] = Field(
        default_factory=dict, description="For single fields: systems in order, or a rule."
    )
    placeholders: list[str] = Field(default_factory=list, description="Further serials that mean nothing.")
    stale_after: Duration = "14d"
    forget_after: Duration | None = Field(
        None, description="Records of a system that has returned no devices for so long are left out; said beforehand."
    )
    at_rest: str | None = Field(None, description="A filter: what no manager is expected to know, such as spares.")


class SyncTarget(Part):
    """What is written into one inventory."""

    retire_after: Duration | None = Field(
        None, description="Records that we made are retired when no whole pull of their source had them for so long."
    )

    origin: str | None = Field(
        None, description="The system whose ids are written as `origin`; without it, the one that saw it last."
    )
    where: str | None = Field(None, description="Only entries for which this filter holds.")
    owners: dict[str, Literal["ours", "theirs", "when_empty", "when_made"]] = Field(
        default_factory=dict, description="Whose a field is: ours, theirs, when_empty, when_made."
    )


class KeyOf(Part):
    """Another table of the same database, whose key a column holds."""

    table: str
    column: str = Field(description="The column of it that says what we mean, such as a site's name.")
    id: str = Field("id", description="The column of it that is its key.")


class TargetColumn(Part):
    """A column of a table that we write, and whose it is."""

    to: str
    owner: Literal["ours", "theirs", "when_empty", "when_made"] = "ours"
    of: KeyOf | None = Field(None, description="In a database: it holds the key of a row of this table.")


class Into(Part):
    """A table in a database, or a file, that is kept up with the concordance."""

    url: Annotated[str, Field(pattern=r"^(sqlite:///|postgresql://)")] | None = Field(
        None, description="sqlite:///FILE from the workspace's folder, or postgresql://USER@HOST/DATABASE."
    )
    password: str | None = Field(None, description="Where the database's password is kept, as for credentials.")
    table: str = "devices"
    file: str | None = Field(None, description="Instead of a url: a .csv, .xlsx or .parquet file.")
    key: str = Field("serial", description="Our field by which rows are told apart.")
    columns: dict[str, TargetColumn] = Field(min_length=1, description="Our field: the column.")
    where: str | None = Field(None, description="Only entries for which this filter holds.")

    @field_validator("columns", mode="before", json_schema_input_type=dict[str, str | TargetColumn])
    @classmethod
    def _short(cls, given: Any) -> Any:
        if not isinstance(given, Mapping):
            return given
        return {name: {"to": to} if isinstance(to, str) else to for name, to in given.items()}

    @model_validator(mode="after")
    def _sound(self) -> Into:
        if bool(self.url) == bool(self.file):
            raise fault_at(("url",), "say a `url` or a `file`")
        if self.url and "@" in self.url and ":" in self.url.partition("://")[2].rpartition("@")[0]:
            raise fault_at(("url",), "holds a password: say where it is kept under `password`, such as env:NAME")
        if self.password and not is_reference(self.password):
            raise fault_at(("password",), f"is a secret: say where it is kept, with one of {', '.join(SCHEMES)}:")
        for name in self.columns:
            if name not in FIELDS or name == "record_id":
                raise fault_at(("columns", name), "is not one of our fields")
        if self.key not in self.columns:
            raise fault_at(("key",), f"the field {self.key!r} is not among the columns")
        return self

    @property
    def where_to(self) -> str:
        """What changes call the table."""
        return self.file or self.table


class Keep(Part):
    """How long pulled data is kept."""

    snapshots: Duration | None = Field(None, description="Snapshots older than this are removed after a pull.")
    least: int = Field(2, ge=1, description="So many whole snapshots of each table stay, however old.")


class Falls(Part):
    """By how much a list may fall from one pull to the next and still be believed."""

    share: float = Field(1 / 3, ge=0, le=1, description="Of the records that it had.")
    least: int = Field(10, ge=0, description="Falls by no more records than these are always believed.")

    def doubtful(self, before: int, now: int) -> bool:
        """Whether a person should look before such a fall is believed: a list that is empty now, always."""
        fell = before - now
        return (before > 0 and now == 0) or (fell > self.least and fell > before * self.share)


class Guards(Part):
    """What stops a run that is larger than it should be, or comes at the wrong time."""

    creations: int = Field(1000, ge=0)
    updates: int = Field(1000, ge=0)
    deletions: int = Field(100, ge=0)
    retirements: int = Field(50, ge=0)
    actions: int = Field(100, ge=0)
    windows: list[Window] = Field(default_factory=list, description="When anything may be written; always, if none.")
    share: float = Field(0.5, ge=0, le=1, description="Of the records of a table, how much may be altered.")


class MayMove(Part):
    """What is no drift when it moves."""

    system: str | None = None
    kind: str | None = Field(None, description="A kind of object; all, without one.")
    name: str = Field("*", description="Of which objects, by name, with * and ?.")
    member: str | None = Field(None, description="Only this member; the whole object, without one.")


class DriftRules(Part):
    """How live objects may differ from their baseline."""

    ignore: list[MayMove] = Field(default_factory=list)


class Threshold(Part):
    """A reading that a person should hear of."""

    metric: str = Field(description="Such as battery.level.")
    unit: str | None = Field(None, description="Only readings in this unit.")
    per: Literal["second", "minute", "hour", "day"] | None = Field(
        None, description="Of a counter: how fast it grows in such a span, on average."
    )
    over: Duration = Field("1d", description="Readings that are older do not count.")
    warning: str | None = Field(None, pattern=BOUND, description="Such as < 20.")
    error: str | None = Field(None, pattern=BOUND)
    where: str | None = Field(None, description="A filter on entries, such as group = quay.")

    @model_validator(mode="after")
    def _bounded(self) -> Threshold:
        if self.warning is None and self.error is None:
            raise fault_at((), "says neither `warning` nor `error`, such as < 20")
        return self


class Batteries(Part):
    """When a battery is to be replaced."""

    worn_at: float = Field(60, gt=0, lt=100, description="Percent of what it held when it was new.")
    within: Duration = Field("90d", description="What will not last longer is to be replaced now.")


class HealthRules(Part):
    """What of the readings a person should hear of."""

    thresholds: list[Threshold] = Field(default_factory=list)
    batteries: Batteries = Field(default_factory=Batteries)
