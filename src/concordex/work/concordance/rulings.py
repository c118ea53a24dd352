"""People's standing decisions, kept in ``rulings.yaml``: a file to be read, reviewed and kept in version control."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, date, datetime
from typing import TYPE_CHECKING, Any

from pydantic import Field, model_validator

from concordex.documents import Part, check, fault_at, read_yaml
from concordex.errors import CalledWrongly
from concordex.match.rulings import Rulings
from concordex.model.fields import FIELDS
from concordex.words import suggestion
from concordex.work.workspace.handwritten import alter

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

FILE = "rulings.yaml"
_NEW = """\
# What people have decided, whatever the evidence says: kept in version control, reviewed like the rest.
format: 1
rulings:
"""


class ValueRuling(Part):
    """That a field of a record's device has a value."""

    of: str = Field(description="A record of the device: system/record_id.")
    field: str
    value: str = Field(alias="is")


class Accepted(Part):
    """That a finding needs no more attention."""

    finding: str = Field(description="Its kind.")
    of: str | None = Field(None, description="A record of the device: system/record_id; where it is of one.")
    field: str | None = None
    about: str | None = Field(None, description="The system, record, site or rack that it is about.")

    @model_validator(mode="after")
    def _of_something(self) -> Accepted:
        if self.of is None and self.about is None:
            raise fault_at(("of",), "is required: of which device is it? (or say `about`, of what is none)")
        return self


class Ruling(Part):
    """One decision: which, by whom, when and why."""

    same: list[str] | None = Field(None, min_length=2, description="Records that are one device.")
    apart: list[str] | None = Field(None, min_length=2, description="Records that are not.")
    value: ValueRuling | None = None
    accept: Accepted | None = None
    until: date | None = Field(None, description="The last day on which it holds.")
    who: str = ""
    when: datetime | None = None
    why: str = ""

    @model_validator(mode="after")
    def _one(self) -> Ruling:
        if sum(part is not None for part in (self.same, self.apart, self.value, self.accept)) != 1:
            raise fault_at(("same",), "a ruling says one of `same`, `apart`, `value` and `accept`")
        if self.value and self.value.field not in FIELDS:
            raise fault_at(
                ("value", "field"), f"there is no field {self.value.field!r}; {suggestion(self.value.field, FIELDS)}"
            )
        return self

    @property
    def kind(self) -> str:
        """Which of the four it is."""
        return next(kind for kind in ("same", "apart", "value", "accept") if getattr(self, kind) is not None)

    @property
    def records(self) -> list[str]:
        """The records it speaks of; of a finding of what is no device, what that is about."""
        if self.accept:
            return [self.accept.of or self.accept.about or ""]
        return [self.value.of] if self.value else [*(self.same or self.apart or [])]

    @property
    def says(self) -> str:
        """The decision in a few words."""
        if self.value:
            return f"{self.value.field} is {self.value.value}"
        if self.accept:
            about = self.accept.about if self.accept.of else None
            return " ".join(filter(None, [self.accept.finding, self.accept.field, about]))
        return " ".join(self.records[1:])


class Rulebook(Part):
    """The whole file."""

    format: int = Field(ge=1, le=1)
    rulings: list[Ruling] = Field(default_factory=list)


def load(workspace: BaseWorkspace) -> list[Ruling]:
    """All rulings, in the order of the file; none where there is no file."""
    path = workspace.root / FILE
    if not path.exists():
        return []
    return _rulings(read_yaml(path), str(path))


def holding(workspace: BaseWorkspace) -> list[Ruling]:
    """The rulings that hold today."""
    today = workspace.now().date()
    return [ruling for ruling in load(workspace) if ruling.until is None or ruling.until >= today]


def for_matching(rulings: Sequence[Ruling]) -> Rulings:
    """The rulings as the core obeys them."""
    same = [(ruling.records[0], other) for ruling in rulings if ruling.same for other in ruling.records[1:]]
    values = [(r.value.of, r.value.field, r.value.value) for r in rulings if r.value]
    return Rulings(same=same, apart=_all_pairs(rulings), values=values)


def _all_pairs(rulings: Sequence[Ruling]) -> list[tuple[str, str]]:
    apart = [ruling.records for ruling in rulings if ruling.kind == "apart"]
    return [(a, b) for records in apart for at, a in enumerate(records) for b in records[at + 1 :]]


def add(workspace: BaseWorkspace, ruling: dict[str, Any], *, who: str, why: str) -> Ruling:
    """Write one more ruling at the end of the file; what people wrote there stays as it is."""
    when = datetime.now(UTC).replace(microsecond=0)
    full = ruling | {"who": who, "when": when.isoformat().replace("+00:00", "Z")} | ({"why": why} if why else {})
    made = check({"format": 1, "rulings": [full]}, Rulebook, FILE).rulings[0]

    def put(document: Any) -> Ruling:
        for other in _rulings(document):
            opposed = {"same": "apart", "apart": "same"}.get(made.kind)
            if other.kind == opposed and set(made.records) <= set(other.records):
                raise CalledWrongly(
                    f"{' and '.join(made.records)} are ruled {opposed} already",
                    advice=f"concordex ruling remove {made.records[0]}",
                )
            if _says_the_same(made, other):
                return other
        document["rulings"].append({key: value for key, value in full.items() if value is not None})
        return made

    return alter(workspace, workspace.root / FILE, put, new=_NEW)


def _says_the_same(one: Ruling, other: Ruling) -> bool:
    return (one.kind, one.records, one.says, one.until) == (other.kind, other.records, other.says, other.until)


def remove(workspace: BaseWorkspace, record: str) -> list[Ruling]:
    """Take the rulings that speak of a record out of the file."""

    def put(document: Any) -> list[Ruling]:
        known = _rulings(document)
        gone = [at for at, ruling in enumerate(known) if record in ruling.records]
        if not gone:
            names = {name for ruling in known for name in ruling.records}
            raise CalledWrongly(f"no ruling speaks of {record!r}", advice=suggestion(record, names) if names else "")
        for at in reversed(gone):
            del document["rulings"][at]
        return [known[at] for at in gone]

    return alter(workspace, workspace.root / FILE, put, new=_NEW)


def _rulings(document: Any, name: str = FILE) -> list[Ruling]:
    """The rulings in a document as it was read, which says them as a list from here on."""
    if isinstance(document, dict) and document.get("rulings") is None:
        document["rulings"] = []
    return list(check(document, Rulebook, name).rulings)
