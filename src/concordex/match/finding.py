"""What a finding is: its kinds, what each says and advises, and what may be believed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime

import polars as pl

#: kind: (severity, what to do)
KINDS: dict[str, tuple[str, str]] = {
    "duplicate": ("high", "keep one record and remove the others"),
    "replaced": ("high", "the hardware was changed under this name, or somebody wrote another's serial: correct it"),
    "serial_in_two": (
        "high",
        "one device in two entries, or a serial of another: concordex explain ENTRY --why-not OTHER",
    ),
    "conflict": ("medium", "find out which value is right and correct the other"),
    "missing_in_inventory": ("medium", "concordex sync creates it"),
    "look_alike": (
        "medium",
        "one device, or two? concordex explain ENTRY --why-not OTHER, then concordex ruling",
    ),
    "missing_at_managers": ("medium", "is it switched off, gone, not yet managed, or known there under another name?"),
    "little_known": ("low", "too little is said of it to tell whether a manager knows it: give it what others have"),
    "badly_identified": ("low", "give it a serial, a name of its own or a network card that is its own"),
    "floating": ("low", "an address that moves between devices, and no device of its own: sync does not create it"),
    "stale": ("low", "is it still there?"),
    "undecided": ("medium", "fits more than one device equally well: concordex review decides"),
    "uncommitted": ("medium", "in effect nowhere: concordex config pending SYSTEM; commit it, or take it back"),
    "rack_taken": ("medium", "move one of them, or correct where it stands"),
    "rack_behind": ("medium", "move one of them, or correct its face or its depth"),
    "rack_outside": ("medium", "correct the unit, or how many the rack has"),
    "rack_twice": ("medium", "keep the record of where it stands, and correct the other"),
    "rack_heavy": ("high", "take something out, or correct what the rack carries"),
    "link_disputed": ("medium", "look at the ports: one of the two was replugged, or does not tell the truth"),
    "link_contradicted": ("low", "renamed or readdressed since, or another device: look at the port"),
    "link_unknown": ("medium", "a device that no list holds: find it, and enrol it"),
    "link_uneven": ("medium", "set both ends to the same speed and duplex"),
    "site_hanging": ("low", "lay a second way, if the site is worth it"),
    "ruling_contradicted": ("high", "two rulings cannot both hold: remove one of them"),
}

#: Fields whose values are compared, and how grave it is when they differ.
COMPARED = {
    "serial": "high", "site": "medium", "model": "medium", "maker": "medium", "kind": "medium",
    "asset_tag": "medium", "os_version": "low", "name": "low",
}  # fmt: skip

#: Kinds that an entry's own records show, and nothing else.
OWN = ("duplicate", "conflict", "undecided", "badly_identified")

_EVER = datetime.min.replace(tzinfo=UTC)


@dataclass(frozen=True, kw_only=True)
class Staged:
    """What somebody has written in a system, and not committed."""

    system: str
    who: str
    since: str
    what: str


@dataclass(frozen=True, kw_only=True)
class Scope:
    """What may be believed: absence from a system counts only when its snapshot is whole.

    ``inventories`` and ``managers`` are the systems of each role with a whole snapshot;
    ``all_managers`` says that every manager has one; ``staged`` is what systems hold and nobody committed.
    """

    inventories: Sequence[str] = ()
    managers: Sequence[str] = ()
    all_managers: bool = False
    stale_before: datetime = _EVER
    #: Of an inventory that is not to hold everything: for which entries it is.
    expected: Mapping[str, pl.Expr] = field(default_factory=dict)
    staged: Sequence[Staged] = ()


def number(name: str) -> pl.Expr:
    """The number in an entry's name."""
    return pl.col(name).str.slice(1).cast(pl.Int64).alias("number")


_NOTHING = pl.lit(None, dtype=pl.String)


def shaped(
    frame: pl.DataFrame,
    kind: str,
    seen: pl.Expr,
    *,
    field: str | None = None,
    severity: str = "",
    about: pl.Expr | None = None,
    resembling: bool = False,
) -> pl.DataFrame:
    """Findings of one ``kind``, a row for each of ``frame`` (``entry``, ``name``, ``systems``); see :mod:`findings`.

    Where they are ``resembling``, ``other`` is the entry that each is like, and ``share`` what both have.
    """
    if frame.is_empty():
        return NOTHING
    usual, advice = KINDS[kind]
    return frame.select(
        pl.lit(kind).alias("kind"), pl.lit(severity or usual).alias("severity"), "entry", "name", "systems",
        pl.lit(field, dtype=pl.String).alias("field"),
        (_NOTHING if about is None else about).alias("about"),
        (pl.col("other") if resembling else _NOTHING).alias("resembles"),
        (pl.col("share") if resembling else _NOTHING).alias("share"), seen.alias("seen"),
        pl.lit(advice).alias("advice"),
    )  # fmt: skip


#: No findings.
NOTHING = pl.DataFrame(
    schema=dict.fromkeys(("kind", "severity", "entry", "name"), pl.String)
    | {"systems": pl.List(pl.String)}
    | dict.fromkeys(("field", "about", "resembles", "share", "seen", "advice"), pl.String)
)

#: No pairs of entries.
NOBODY = pl.DataFrame(schema={"entry": pl.String, "other": pl.String})
