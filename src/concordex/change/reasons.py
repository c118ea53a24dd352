"""Why a step stands as it does: a word that code goes by, and its facts; what people read is made of them elsewhere."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum, auto
from typing import Any


class Why(StrEnum):
    """What a reason is; beside each, the names of its facts."""

    # it is held before anything is sent
    CANNOT = auto()  # what
    NO_KEY = auto()  # keys
    REQUIRED = auto()  # fields
    NAME_TAKEN = auto()  # field, record, aside
    NAME_WANTED = auto()  # field, others
    KEY_TAKEN = auto()  # fields, record, aside
    NOT_IN = auto()  # label, table
    UNKNOWN_TO_MAKE = auto()  # label, table, fields
    BADLY_IDENTIFIED = auto()
    NO_DEVICE = auto()
    SIGHTED = auto()  # systems
    RESEMBLES = auto()  # other, called, share
    SAME_NAME = auto()  # other
    SAME_SERIAL = auto()  # other
    EDITED = auto()  # fields: each last, now, desired; change, written and since where they are known
    SEVERAL_RECORDS = auto()  # ids
    SEVERAL_ENTRIES = auto()  # field, value
    UNSEEN = auto()  # record, until
    # it cannot be taken back
    UNDO_UNKNOWN = auto()  # change
    UNDO_DOUBLED = auto()  # because
    UNDO_NEVER = auto()  # action
    UNDO_UNREAD = auto()  # fields, gone
    # it was so before anything was sent
    THERE_ALREADY = auto()
    SO_ALREADY = auto()
    GONE_ALREADY = auto()
    DONE_ALREADY = auto()
    # others were there
    APPEARED = auto()  # record
    GONE = auto()
    CHANGED = auto()  # fields: each now and before; since, or not_yet, where it is known
    CHANGED_NOW = auto()  # fields: each its value
    SENT_EARLIER = auto()  # change
    MADE_EARLIER = auto()  # change, record
    IS_THERE = auto()  # record
    IS_GONE = auto()
    IS_NOW = auto()  # fields: each its value
    ADDED_TO = auto()  # members
    LEFT = auto()  # fields: each its value
    ROW_APPEARED = auto()
    ROW_GONE = auto()
    ROW_CHANGED = auto()  # columns
    SEVERAL_ROWS = auto()
    # it was sent, or not
    ERROR = auto()  # text
    UNASKED = auto()  # address, text
    SAID = auto()  # text
    NOT_TAKEN = auto()  # text
    TOOK = auto()
    RESTORED = auto()
    STAGED = auto()
    TAKEN_BACK = auto()  # because, others
    UNCOMMITTED = auto()  # text
    LOST = auto()
    STANDS = auto()  # step, state
    WAS = auto()  # state, because
    # whether it was done is not known, or was found out
    NOT_SEEN = auto()  # because
    BLIND = auto()  # text
    CUT_OFF = auto()
    SENT_BEFORE = auto()
    MADE_IT_SAYS = auto()
    SHOWS_NOW = auto()
    REFUSED_AND_DONE = auto()  # because
    FOUND_MADE = auto()  # because
    FOUND_DONE = auto()  # because
    FOUND = auto()
    CALLED = auto()  # record
    SETTLED = auto()  # by, done
    # it was read back
    NOT_SHOWN = auto()
    NOT_THERE = auto()
    STILL_THERE = auto()
    DIFFERS = auto()  # fields: each now, and desired or still
    OWN_WAY = auto()  # fields: each as it is written there
    LACKS = auto()  # field, lines
    NOT_NAMED = auto()  # target
    UNREAD = auto()  # fields
    ALSO_CHANGED = auto()  # members
    NOT_BACK = auto()  # members
    DOUBLED = auto()  # ids
    READY = auto()  # facts, brought
    NOT_READY = auto()  # facts, failed, timeout, when


#: It was so before anything was sent.
ALREADY = frozenset({Why.THERE_ALREADY, Why.SO_ALREADY, Why.GONE_ALREADY, Why.DONE_ALREADY})


@dataclass(frozen=True)
class Reason:
    """Why a step stands as it does: ``facts`` are plain values, and reasons in them are documents."""

    why: Why
    facts: Mapping[str, Any] = field(default_factory=dict)

    def document(self) -> dict[str, Any]:
        """The same as plain values."""
        return {"why": self.why.value, **self.facts}

    @classmethod
    def of(cls, document: Mapping[str, Any]) -> Reason:
        """What :meth:`document` said."""
        return cls(Why(document["why"]), {name: value for name, value in document.items() if name != "why"})


#: Why a step stands as it does, the first reason first.
Reasons = tuple[Reason, ...]


def because(why: Why, **facts: Any) -> Reasons:
    """One reason."""
    return (Reason(why, facts),)


def resting(why: Why, on: Sequence[Reason], **facts: Any) -> Reasons:
    """One reason that rests on others."""
    return because(why, because=[reason.document() for reason in on], **facts)


def has(reasons: Sequence[Reason], *why: Why) -> bool:
    """Whether one of ``why`` is among the reasons."""
    return any(reason.why in why for reason in reasons)


def to_text(reasons: Sequence[Reason]) -> str | None:
    """Reasons as JSON (RFC 8259), to be kept; None for none."""
    return json.dumps([reason.document() for reason in reasons], default=str, ensure_ascii=False) if reasons else None


def from_text(text: str | None) -> Reasons:
    """What :func:`to_text` made; words of an earlier release, or of a later one, are what was said."""
    if not text:
        return ()
    try:
        return tuple(Reason.of(document) for document in json.loads(text))
    except (ValueError, TypeError, KeyError):
        return because(Why.SAID, text=text)
