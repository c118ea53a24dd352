"""What a change is: ordered steps, each with what was and what shall be."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Literal, NamedTuple

from concordex.change.about import About
from concordex.change.reasons import Reasons

Operation = Literal["create", "update", "delete", "action", "report"]
#: ready      not sent yet, or sent and surely without effect
#: sent       on its way
#: unknown    sent, looked for, and not seen: it may come yet, and only a person's word sends it again
#: written    the system says that it has done it, or it was seen there
#: confirmed  read back, and as it shall be
#: differs    read back, and not as it shall be, or more than it has changed
#: doubled    read back, and there more than once
#: refused    the system said no, and why
#: held       not to be sent: something stands against it, and what
State = Literal["ready", "sent", "unknown", "written", "confirmed", "differs", "doubled", "refused", "held"]
Values = Mapping[str, Any]


_NOTHING: Values = {}


def _nothing() -> Values:
    """One for all steps, since a night's change has millions of them, and nobody alters what a step holds."""
    return _NOTHING


@dataclass(frozen=True, kw_only=True)
class Step:
    """One write.  ``key`` names the record by its natural key; ``before`` and ``desired`` hold our fields.

    Of a deletion ``before`` is the whole record; of an update a field that shall be None is emptied.
    ``became`` is what was read back of the fields that were written, ``whole`` what the journal knows of the
    system's own record: digests of one that was made (``prints``), one that was deleted (``before``), what changed
    beside an update (``beside`` in its members, ``fields`` in ours).  Of a step that takes another back ``again``
    is what the system's record must hold again, and ``left`` the digests of it as we left it.  ``action`` names
    what else is done to a record; ``sent`` says when it left here, in seconds since 1970, so that what came of it
    is ours; ``tried`` that a run has judged it; ``at`` is the address of the device, where a change goes to
    several.
    """

    number: int
    table: str
    operation: Operation
    label: str
    key: Values
    before: Values = field(default_factory=_nothing)
    desired: Values = field(default_factory=_nothing)
    became: Values = field(default_factory=_nothing)
    whole: Values = field(default_factory=_nothing)
    again: Values = field(default_factory=_nothing)
    left: Values = field(default_factory=_nothing)
    action: str | None = None
    state: State = "ready"
    why: Reasons = ()
    record_id: str | None = None
    entry: str | None = None
    source: str | None = None
    sent: float | None = None
    tried: bool = False
    at: str | None = None

    def body(self) -> dict[str, Any]:
        """What the journal keeps of the step as one document."""
        members = {
            "key": self.key, "before": self.before, "desired": self.desired, "entry": self.entry, "source": self.source,
            "action": self.action, "at": self.at, "again": self.again or None, "left": self.left or None,
        }  # fmt: skip
        return {name: value for name, value in members.items() if value is not None}

    def settled(self, state: State, why: Reasons, record_id: str | None) -> Step:
        """The same as it became; a record's id is kept where none is told."""
        return self.having(state=state, why=why, record_id=record_id or self.record_id)

    def having(self, **facts: Any) -> Step:
        """The same with other facts.

        As :func:`dataclasses.replace` does it, and several times as quick: it is done to each of many thousand.
        """
        made = object.__new__(Step)
        made.__dict__.update(self.__dict__, **facts)
        return made

    @property
    def open(self) -> bool:
        """Whether a run still has something to do here.

        What an earlier run held, or saw refused, may be mended now; a refused action is not repeated by itself.
        """
        if self.state in ("held", "refused"):
            return self.tried and self.operation not in ("action", "report")
        return self.state in ("ready", "sent", "unknown", "written")


def numbered(steps: Iterable[Step]) -> tuple[Step, ...]:
    """The same, counted from 1 in this order."""
    return tuple(step.having(number=at) for at, step in enumerate(steps, start=1))


class Outcome(NamedTuple):
    """What became of a step: its state, why, and the record's id."""

    step: Step
    state: State
    why: Reasons = ()
    record_id: str | None = None


@dataclass(frozen=True, kw_only=True)
class Change:
    """A prepared, reviewable, ordered set of steps against one system."""

    kind: str
    system: str
    steps: tuple[Step, ...]
    state: str = "draft"
    number: int | None = None
    about: About = field(default_factory=About)

    def described(self, **facts: Any) -> Change:
        """The same with more of what there is to say about it; see :class:`About`."""
        return replace(self, about=replace(self.about, **facts))

    def counts(self) -> Counter[tuple[str, str, State]]:
        """How many steps there are, by table, operation and state."""
        return Counter((step.table, step.operation, step.state) for step in self.steps)

    @property
    def writes(self) -> list[Step]:
        """The steps that a run will send or look after."""
        return [step for step in self.steps if step.open]
