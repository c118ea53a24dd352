"""How a table tells how things are: which of its words mean what, and which of its numbers are readings."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from concordex.documents import Part, fault_at
from concordex.wire.dialect.filters import FilterText


class Metric(Part):
    """A number of each record that is a reading."""

    called: str = Field(pattern=r"^[a-z][a-z0-9_]*(\.[a-z][a-z0-9_]*)+$", description="Such as battery.level.")
    unit: str | None = Field(None, description="Such as %, celsius, bytes.")
    counter: Literal[32, 64] | None = Field(None, description="It only grows, and begins anew after so many bits.")


class LongReadings(Part):
    """Records that each hold one reading: the fields that say which, and what."""

    metric: str = "metric"
    value: str = "value"
    unit: str | None = "unit"


class Events(Part):
    """Records that each tell what happened: the fields that say so, and which words begin and end a device's use."""

    event: str = "event"
    detail: str | None = None
    begins: list[str] = Field(default_factory=list, description="Words of `event` that begin its use.")
    ends: list[str] = Field(default_factory=list, description="Words of `event` that end it.")


class Health(Part):
    """How the records of a table tell how things are."""

    state: str = Field("status", description="The field that says how a thing is.")
    states: dict[str, Literal["normal", "warning", "error", "unknown"]] = Field(
        default_factory=dict, description="What each word of that field means; other words are unknown."
    )
    unless: FilterText | None = Field(None, description="A filter: records for which it holds are as they should be.")
    metrics: dict[str, Metric] = Field(default_factory=dict, description="Fields that are readings.")
    long: LongReadings | None = None
    events: Events | None = None
    at: str | None = Field(None, description="The field of the time of a reading; without it, when it was pulled.")
    part: str | None = Field(None, description="The field that names the part of the device.")
    since: str | None = Field(
        None,
        description="The field of when counters began to count: where it moves, they began anew (RFC 2863).",
    )

    @model_validator(mode="after")
    def _timed(self) -> Health:
        if self.events and self.at is None:
            raise fault_at(("events",), "of what happens it must be known when: say the field `at`")
        return self

    @property
    def fields(self) -> list[tuple[str, str]]:
        """Each mention of a field, and where it stands."""
        told = [("state", self.state)] if self.states else []
        told += [
            (name, field) for name, field in (("at", self.at), ("part", self.part), ("since", self.since)) if field
        ]
        if self.long:
            told += [("long", name) for name in (self.long.metric, self.long.value, self.long.unit) if name]
        if self.events:
            told += [("events", name) for name in (self.events.event, self.events.detail) if name]
        return told + [("metrics", name) for name in self.metrics]
