"""Where a change came from, and what its run must know beside its steps."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, fields
from typing import Any


@dataclass(frozen=True, kw_only=True)
class About:
    """Where a change came from, and what its run must know beside its steps.

    by            who prepared it, by which command, from which file (``source``) or selection
    undoes        the change that it takes back
    objects       its steps are of configuration objects, not of records
    irreversible  a run asks for the number of records
    sizes         how many objects each table held, by which guards judge how much it alters
    once          our fields that hold one-time codes
    asks          what devices are asked for just before each step
    token         names it among all changes, so that a system can know a repetition
    agreed        who agreed to it, when, and the digest of its steps as they were then
    chosen, how   the steps of the last run in part, and how that was asked for
    """

    by: str = ""
    command: str = ""
    source: str = ""
    selection: str = ""
    undoes: int | None = None
    objects: bool = False
    irreversible: bool = False
    sizes: Mapping[str, int] = field(default_factory=dict)
    once: Sequence[str] = ()
    asks: Mapping[str, Any] = field(default_factory=dict)
    token: str = ""
    agreed: Sequence[Mapping[str, str]] = ()
    chosen: Sequence[int] = ()
    how: Mapping[str, Any] = field(default_factory=dict)

    def document(self) -> dict[str, Any]:
        """What there is to say, as plain values by name; the source is called ``from``."""
        facts = {fact.name: getattr(self, fact.name) for fact in fields(self)}
        return {_SAID.get(name, name): value for name, value in facts.items() if value}

    @classmethod
    def of(cls, document: Mapping[str, Any]) -> About:
        """What :meth:`document` said; what it does not know is left aside."""
        known = {fact.name: _SAID.get(fact.name, fact.name) for fact in fields(cls)}
        return cls(**{name: document[called] for name, called in known.items() if called in document})


_SAID = {"source": "from"}
