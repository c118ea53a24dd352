"""References by natural key: half a name is enough where it leaves no doubt, and never where it does."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from concordex.change.prepare import Form, NaturalKeys, ReferenceMember, natural, normalised
from concordex.words import nearest

Record = Mapping[str, Any]


@dataclass(frozen=True, kw_only=True)
class TargetTable:
    """The table that rows are for: its form, what it and what it refers to hold, and what may be made."""

    table: str
    form: Form
    known: Mapping[str, NaturalKeys]
    #: Of each table that is referred to, the fields of its records.
    others: Mapping[str, Sequence[Record]]
    may_make: Collection[str] = ()
    #: Of each table, records that are made without being asked for, since somebody described them.
    described: Mapping[str, Sequence[Record]] = field(default_factory=dict)

    @cached_property
    def whole(self) -> dict[str, dict[tuple[str, ...], Record]]:
        """The records of each table that is referred to, by their natural keys."""
        return {
            link.via: {
                key: other for other in self.others[link.via] if (key := natural(other, list(link.by))) is not None
            }
            for link in self.form.links
        }

    def bearers(self, link: ReferenceMember, record: Record) -> Sequence[str]:
        """The ids of records that a reference cannot tell apart; none where there is but one."""
        known, key = self.known.get(link.via), natural(record, list(link.by))
        return known.several.get(key, ()) if known and key else ()


@dataclass(frozen=True)
class Unclear:
    """A reference that names nothing, or several: our fields, what they say, and what is wrong with it."""

    fields: Sequence[str]
    value: str
    what: str


def referred(values: Record, link: ReferenceMember, target: TargetTable) -> Record | Unclear | None:
    """What a reference adds to ``values``; None where none is made, or where it is to be created as it is said."""
    given = {theirs: values[ours] for theirs, ours in link.by.items() if values.get(ours) is not None}
    own = next(fields for other, fields in zip(target.form.links, target.form.own, strict=True) if other is link)
    if not any(values.get(ours) is not None for ours in own):
        return None
    meant = _named(given, link, target)
    text = " ".join(str(value) for value in given.values())
    fields = [link.by[theirs] for theirs in given]
    if len(meant) == 1:
        if bear := target.bearers(link, meant[0]):
            return Unclear(fields, text, f"is borne by {len(bear)} of the {link.via} there: {', '.join(bear)}")
        return {link.by[name]: meant[0][name] for name in link.by}
    if meant:
        could = "; ".join(sorted(" ".join(str(other[name]) for name in link.by) for other in meant))
        return Unclear(fields, text, f"is ambiguous among the {link.via} there: {could}")
    if len(given) == len(link.by) and link.via in target.may_make:
        return None
    return Unclear(fields, text, _unknown(given, link, target))


def _named(given: Record, link: ReferenceMember, target: TargetTable) -> list[Record]:
    """The different records that may be meant: those that are there, else those that somebody described."""
    key = natural(given, list(link.by))
    there = target.whole[link.via].get(key) if key else None
    if there is not None:
        return [there]
    for records in (target.others[link.via], target.described.get(link.via, ())):
        fit = [
            record
            for record in records
            if all(normalised(record.get(name) or "") == normalised(given[name]) for name in given)
        ]
        if fit:
            return list(
                {tuple(normalised(record.get(name) or "") for name in link.by): record for record in fit}.values()
            )
    return []


def _unknown(given: Record, link: ReferenceMember, target: TargetTable) -> str:
    last = list(link.by)[-1]
    near = nearest(
        str(given.get(last, "")), {str(record[last]) for record in target.others[link.via] if record.get(last)}
    )
    hint = f' (did you mean "{near}"?)' if near else ""
    missing = [link.by[name] for name in link.by if name not in given]
    advice = f"say its {' and '.join(missing)} too" if missing else f"--make {link.via} creates it"
    return f"is not among the {link.via} there{hint}; {advice}"
