"""How a change is run: what a person said of it."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any


@dataclass(frozen=True, kw_only=True)
class RunOptions:
    """How a change is run.

    batch_size  records in one request, at the most; none: as many as the system takes
    together    one request for several tables, where the system takes them so; else lists of one table each
    field_by_field  what of an update others have altered is left, and the rest written, as in an undo
    force  also over what others have altered since it was prepared
    as_one      where a system stages: everything is staged before one commit, and taken back where one is unknown
    all_of_it   nothing is left of it either where one is refused or held
    stage       only that: the commit is left for later
    note        what goes with a commit, where the system takes a note
    send_again  also what was sent before, and looked for, and not seen: a person has said so
    """

    batch_size: int | None = None
    together: bool = False
    field_by_field: bool = False
    force: bool = False
    as_one: bool = False
    all_of_it: bool = False
    stage: bool = False
    send_again: bool = False
    note: str | None = None

    def lasting(self) -> dict[str, Any]:
        """What of it holds for going on as well."""
        kept = asdict(self)
        return {name: kept[name] for name in ("batch_size", "together", "force", "stage", "note") if kept[name]}
