"""The whole of reconciling: records in, entries, sources, evidence and findings out."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
import polars as pl

from concordex.match.choose import Choose
from concordex.match.compare import KINDS
from concordex.match.coverage import agreement
from concordex.match.finding import Scope
from concordex.match.findings import findings
from concordex.match.frequencies import Numbers, frequencies
from concordex.match.identity import identities, optional_prefixes, without
from concordex.match.ids import earlier, number
from concordex.match.learned import Learned
from concordex.match.link import Linked, link
from concordex.match.memory import let_go
from concordex.match.merge import merge
from concordex.match.rulings import Obeyed, Rulings, obey
from concordex.match.virtual_addresses import settled
from concordex.model.fields import FIELDS

#: Pairs of different entries are kept for a person to decide when they are not further from a link than this.
NEAR = -4.0


@dataclass(frozen=True, kw_only=True)
class Rules:
    """What the workspace decides: who is trusted, what means nothing, what may be believed."""

    order: Sequence[str] = ()
    scope: Scope = field(default_factory=Scope)
    by_field: Mapping[str, Choose | Sequence[str]] = field(default_factory=dict)
    placeholders: Sequence[str] = ()
    rulings: Rulings = field(default_factory=Rulings)


@dataclass(frozen=True, kw_only=True)
class Concordance:
    """What reconciling made, each a frame.

    members   every record with its ``entry``, the keys by which it was recognised, and what tells the next
              time whether it needs to be looked at again: ``print`` (all that it says, as a number), ``chain`` (the
              row of the first record it hangs together with), ``standing`` (its values and how many bear them, as a
              number) and ``ruled``
    entries   one row for each device
    sources   for each entry and field the ``row`` in members that gave the value; missing where ruled
    evidence  the pairs of records within entries: a level for each kind of evidence, and the bits in all
    doubts    pairs of entries that are nearly one, the nearest first: their strongest pair of records, its
              levels and bits, and the bits of all their records ``together``
    findings  what a person should look at
    agreement for each system how many of its records' values others confirm (see :func:`coverage.agreement`)
    learned   what the data taught
    looked_at how many records were looked at: all, or what could have become otherwise since last time
    was       the entry of each record the last time, where there was one
    """

    members: pl.DataFrame
    entries: pl.DataFrame
    sources: pl.DataFrame
    evidence: pl.DataFrame
    doubts: pl.DataFrame
    findings: pl.DataFrame
    agreement: pl.DataFrame
    learned: Learned
    looked_at: int
    was: pl.Series | None

    @property
    def fields(self) -> Mapping[str, pl.DataType]:
        """The columns of its members."""
        return self.members.schema

    def part(self, name: str) -> pl.DataFrame:
        """One of its ``PARTS``."""
        frame: pl.DataFrame = getattr(self, name)
        return frame

    def frames(self) -> dict[str, pl.DataFrame]:
        """All of it as frames by name, to be kept."""
        return {name: self.part(name) for name in PARTS} | self.learned.frames()

    @classmethod
    def of_frames(cls, frames: Mapping[str, pl.DataFrame]) -> Concordance:
        """What :meth:`frames` made frames of."""
        parts = {name: frames[name] for name in PARTS}
        return cls(**parts, learned=Learned.of_frames(frames), looked_at=parts["members"].height, was=None)


#: What is called with the name and the frame of a part of a concordance.
Keep = Callable[[str, pl.DataFrame], None]


class Kept(Protocol):
    """A concordance of another time, of which each part may be read only when it is asked for."""

    @property
    def learned(self) -> Learned:
        """What was learned then."""

    @property
    def fields(self) -> Mapping[str, pl.DataType]:
        """The columns of its members."""

    def part(self, name: str) -> pl.DataFrame:
        """One of its ``PARTS``."""


#: The frames of a concordance, beside what was learned.
PARTS = ("members", "entries", "sources", "evidence", "doubts", "findings", "agreement")


def reconcile(
    records: pl.DataFrame,
    rules: Rules | None = None,
    before: pl.DataFrame | None = None,
    resting: pl.Expr | None = None,
    learned: Learned | None = None,
    keep: Keep | None = None,
) -> Concordance:
    """The concordance of ``records``: device records of all systems, in any order.

    ``records`` holds ``system``, ``record_id`` and any of the common fields.  ``before`` holds last
    time's ``system``, ``record_id``, ``entry``, so that entries keep their numbers; ``resting`` is true
    for things that no manager is expected to know; ``learned`` is what was learned before, if it still
    holds.  ``keep`` is called with each part but the findings as soon as it stands.
    """
    keep = keep or (lambda _name, _frame: None)
    rules = rules or Rules()
    records = ordered(whole(records))
    keyed, prints = identities(records, rules.placeholders), prints_of(records)
    prefixes = learned.prefixes if learned else optional_prefixes(keyed)
    keyed = without(keyed, prefixes)
    rulings = obeyed(keyed, rules.rulings)
    known = frequencies(keyed, learned.docks, learned.sighting) if learned else frequencies(keyed)
    linked = link(keyed, known, prefixes, same=rulings.same, apart=rulings.apart, learned=learned)
    standing = known.standing()
    del known
    let_go()
    was = None if before is None else earlier(keyed, before)
    entry = number(pl.Series(linked.groups), was, None if before is None else before["entry"])
    evidence, doubts = pairs(entry, linked)
    torn, learned, apart = undecided(entry, doubts, linked), linked.learned, parted(entry, rulings)
    members = keyed.with_columns(
        entry.alias("entry"), prints, pl.Series("chain", linked.chains, dtype=pl.UInt32),
        pl.Series("standing", standing), ruled(keyed, rules.rulings),
    )  # fmt: skip
    for part, frame in (("members", members), ("evidence", evidence), ("doubts", doubts)):
        keep(part, frame)
    del linked, keyed  # half of all that is held by now, and more is to come
    let_go()
    entries, sources = merge(trusted(members), rules.order, rules.by_field, values(members, rules.rulings))
    let_go()
    agreed = agreement(members)
    for part, frame in (("entries", entries), ("sources", sources), ("agreement", agreed)):
        keep(part, frame)
    at_rest = members.select(resting).to_series() if resting is not None else None
    to_look_at = findings(
        members, entries, rules.scope, at_rest, doubts=torn, contradicted=rulings.contradicted, learned=learned,
        apart=apart,
    )  # fmt: skip
    return Concordance(
        members=members, entries=entries, sources=sources, evidence=evidence, doubts=doubts, learned=learned,
        looked_at=members.height, findings=to_look_at, was=was, agreement=agreed,
    )  # fmt: skip


def whole(records: pl.DataFrame) -> pl.DataFrame:
    """``records`` with every common field, missing where nothing was said."""
    absent = [
        pl.lit(None, dtype=kind.dtype).alias(name) for name, kind in FIELDS.items() if name not in records.columns
    ]
    reference = [] if "reference" in records.columns else [pl.lit(None, dtype=pl.String).alias("reference")]
    return records.with_columns(*absent, *reference)


def ordered(records: pl.DataFrame) -> pl.DataFrame:
    """``records`` by system and id, as they are numbered; as they are where they stand so already."""
    system, called = pl.col("system"), pl.col("record_id")
    after = (system > system.shift()) | ((system == system.shift()) & (called > called.shift()))
    return records if records.select(after.fill_null(value=True).all()).item() else records.sort("system", "record_id")


def prints_of(records: pl.DataFrame) -> pl.Series:
    """For each record one number for all that it says, in whatever order its fields stand."""
    return records.select(sorted(records.columns)).hash_rows(seed=11).alias("print")


def trusted(members: pl.DataFrame) -> pl.DataFrame:
    """What may become a value: no serials that mean nothing, no address that another holds."""
    serial = pl.when(pl.col("serial_key").is_not_null()).then(pl.col("serial")).alias("serial")
    return settled(members.with_columns(serial))


def obeyed(keyed: pl.DataFrame, rulings: Rulings) -> Obeyed:
    """Rulings as rows; a record that names another of its own accord, as ours do, is the same as it."""
    named = keyed.select("row", "reference", pl.format("{}/{}", "system", "record_id").alias("ref"))
    referring = named.drop_nulls("reference").join(
        named.select(pl.col("ref").alias("reference")), on="reference", how="semi"
    )
    wanted = pl.Series([*rulings.named, *referring["reference"], *referring["ref"]], dtype=pl.String)
    rows = (
        dict(named.filter(pl.col("ref").is_in(wanted.implode())).select("ref", "row").iter_rows())
        if len(wanted)
        else {}
    )
    same = [*rulings.same, *referring.select("reference", "ref").iter_rows()]
    return obey(Rulings(same=same, apart=rulings.apart), rows)


def parted(entry: pl.Series, rulings: Obeyed) -> pl.DataFrame:
    """The entries that somebody ruled to be two, by the ``entry`` of each row."""
    rows = np.array(rulings.apart, dtype=np.int64).reshape(-1, 2)
    return pl.DataFrame({"entry": entry.gather(rows[:, 0]), "other": entry.gather(rows[:, 1])})


def values(members: pl.DataFrame, rulings: Rulings) -> pl.DataFrame:
    """``entry``, ``field`` and ``value`` as ruled, the last ruling on each."""
    ruled_values = pl.DataFrame(
        list(rulings.values), schema={"ref": pl.String, "field": pl.String, "value": pl.String}, orient="row"
    )
    if ruled_values.is_empty():
        return ruled_values.select(pl.col("ref").alias("entry"), "field", "value")
    refs = members.select(pl.format("{}/{}", "system", "record_id").alias("ref"), "entry")
    joined = ruled_values.join(refs, on="ref", maintain_order="left")
    return joined.select("entry", "field", "value").unique(["entry", "field"], keep="last", maintain_order=True)


def ruled(keyed: pl.DataFrame, rulings: Rulings) -> pl.Series:
    """Which records some ruling names."""
    refs = pl.Series([*rulings.named], dtype=pl.String)
    ref = pl.format("{}/{}", "system", "record_id")
    return keyed.select(ref.is_in(refs.implode()).alias("ruled")).to_series()


def pairs(entry: pl.Series, linked: Linked) -> tuple[pl.DataFrame, pl.DataFrame]:
    """The pairs within entries, and for two entries that come near to being one their strongest pair."""
    one, other = linked.groups[linked.a], linked.groups[linked.b]
    same = one == other

    def compared(which: Numbers) -> pl.DataFrame:
        levels = {kind: linked.levels[which, at] for at, kind in enumerate(KINDS)}
        return pl.DataFrame({"a": linked.a[which], "b": linked.b[which], **levels, "bits": linked.score[which]})

    evidence = compared(np.flatnonzero(same)).with_columns(entry.gather(linked.a[same]).alias("entry"))
    apart = np.flatnonzero(~same)
    ends = pl.DataFrame({"one": np.minimum(one, other)[apart], "other": np.maximum(one, other)[apart], "pair": apart})
    near = pl.DataFrame(dict(zip(("one", "other", "together"), linked.between, strict=True)))
    near = near.with_columns(pl.col("together").cast(pl.Float64))
    best = (
        ends.with_columns(pl.Series("bits", linked.score[apart])).sort("bits", "pair", descending=[True, False])
        .unique(["one", "other"], keep="first", maintain_order=True)
        .join(near.filter(pl.col("together") > NEAR), on=["one", "other"])
    )  # fmt: skip
    doubts = compared(best["pair"].to_numpy()).with_columns(
        best["together"], entry.gather(best["one"]).alias("entry"), entry.gather(best["other"]).alias("other")
    )
    return evidence, nearest(doubts)


def nearest(doubts: pl.DataFrame) -> pl.DataFrame:
    """Doubts in their order."""
    return doubts.sort("together", "entry", "other", descending=[True, False, False])


def undecided(entry: pl.Series, doubts: pl.DataFrame, linked: Linked) -> pl.DataFrame:
    """Of the doubts those whose one side fits two entries equally well."""
    torn = entry.gather(np.unique(linked.undecided)).unique()
    return doubts.filter(pl.col("entry").is_in(torn.implode()) | pl.col("other").is_in(torn.implode()))
