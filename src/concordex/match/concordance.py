"""The whole of reconciling: records in, entries, sources, evidence and findings out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import polars as pl

from concordex.match.compare import KINDS
from concordex.match.crowds import Numbers
from concordex.match.findings import Scope, findings
from concordex.match.floating import settled
from concordex.match.identity import identities
from concordex.match.link import Linked, link
from concordex.match.merge import Choose, merge
from concordex.match.number import number
from concordex.match.rulings import Obeyed, Rulings, obey
from concordex.match.weights import Weights
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

    members   every record with its ``entry`` and the keys by which it was recognised
    entries   one row for each device
    sources   for each entry and field the ``row`` in members that gave the value; missing where ruled
    evidence  the pairs of records within entries: a level for each kind of evidence, and the bits in all
    doubts    pairs of entries that are nearly one, the nearest first: their strongest pair of records, its
              levels and bits, and the bits of all their records ``together``
    weights   what each level of each kind weighs here
    findings  what a person should look at
    """

    members: pl.DataFrame
    entries: pl.DataFrame
    sources: pl.DataFrame
    evidence: pl.DataFrame
    doubts: pl.DataFrame
    weights: pl.DataFrame
    findings: pl.DataFrame


def reconcile(
    records: pl.DataFrame,
    rules: Rules | None = None,
    before: pl.DataFrame | None = None,
    resting: pl.Expr | None = None,
    weights: Weights | None = None,
) -> Concordance:
    """The concordance of ``records``: device records of all systems, in any order.

    ``records`` holds ``system``, ``record_id`` and any of the common fields.  ``before`` holds last
    time's ``system``, ``record_id``, ``entry``, so that entries keep their numbers; ``resting`` is true
    for things that no manager is expected to know; ``weights`` are those of last time, if they still hold.
    """
    rules = rules or Rules()
    keyed = identities(_whole(records).sort("system", "record_id"), rules.placeholders)
    obeyed = _obeyed(keyed, rules.rulings)
    linked = link(keyed, same=obeyed.same, apart=obeyed.apart, weights=weights)
    members = keyed.with_columns(pl.Series("group", linked.groups))
    members = members.with_columns(number(members, before).alias("entry"))
    entries, sources = merge(_trusted(members), rules.order, rules.by_field, _ruled(members, rules.rulings))
    evidence, doubts = _pairs(members, linked)
    at_rest = members.select(resting).to_series() if resting is not None else None
    return Concordance(
        members=members.drop("group"), entries=entries, sources=sources, evidence=evidence, doubts=doubts,
        weights=linked.weights.frame(),
        findings=findings(members, entries, rules.scope, at_rest, doubts=_undecided(members, doubts, linked),
                          contradicted=obeyed.contradicted),
    )  # fmt: skip


def _whole(records: pl.DataFrame) -> pl.DataFrame:
    """``records`` with every common field, missing where nothing was said."""
    absent = [
        pl.lit(None, dtype=kind.dtype).alias(name) for name, kind in FIELDS.items() if name not in records.columns
    ]
    reference = [] if "reference" in records.columns else [pl.lit(None, dtype=pl.String).alias("reference")]
    return records.with_columns(*absent, *reference)


def _trusted(members: pl.DataFrame) -> pl.DataFrame:
    """What may become a value: no serials that mean nothing, no address that another holds."""
    serial = pl.when(pl.col("serial_key").is_not_null()).then(pl.col("serial")).alias("serial")
    return settled(members.with_columns(serial))


def _obeyed(keyed: pl.DataFrame, rulings: Rulings) -> Obeyed:
    """Rulings as rows; a record that names another of its own accord, as ours do, is the same as it."""
    named = keyed.select("row", "reference", pl.format("{}/{}", "system", "record_id").alias("ref"))
    referring = named.drop_nulls("reference").join(
        named.select(pl.col("ref").alias("reference")), on="reference", how="semi"
    )
    both = [*rulings.same, *rulings.apart]
    told = {ref for pair in both for ref in pair} | {ref for ref, _, _ in rulings.values}
    wanted = pl.Series([*told, *referring["reference"], *referring["ref"]], dtype=pl.String)
    rows = (
        dict(named.filter(pl.col("ref").is_in(wanted.implode())).select("ref", "row").iter_rows())
        if len(wanted)
        else {}
    )
    same = [*rulings.same, *referring.select("reference", "ref").iter_rows()]
    return obey(Rulings(same=same, apart=rulings.apart), rows)


def _ruled(members: pl.DataFrame, rulings: Rulings) -> pl.DataFrame:
    """``entry``, ``field`` and ``value`` as ruled, the last ruling on each."""
    said = pl.DataFrame(
        list(rulings.values), schema={"ref": pl.String, "field": pl.String, "value": pl.String}, orient="row"
    )
    if said.is_empty():
        return said.select(pl.col("ref").alias("entry"), "field", "value")
    refs = members.select(pl.format("{}/{}", "system", "record_id").alias("ref"), "entry")
    joined = said.join(refs, on="ref", maintain_order="left")
    return joined.select("entry", "field", "value").unique(["entry", "field"], keep="last", maintain_order=True)


def _pairs(members: pl.DataFrame, linked: Linked) -> tuple[pl.DataFrame, pl.DataFrame]:
    """The pairs within entries, and for two entries that come near to being one their strongest pair."""
    one, other = linked.groups[linked.a], linked.groups[linked.b]
    same = one == other
    entry = members["entry"]

    def told(which: Numbers) -> pl.DataFrame:
        levels = {kind: linked.levels[which, at] for at, kind in enumerate(KINDS)}
        return pl.DataFrame({"a": linked.a[which], "b": linked.b[which], **levels, "bits": linked.score[which]})

    evidence = told(np.flatnonzero(same)).with_columns(entry.gather(linked.a[same]))
    apart = np.flatnonzero(~same)
    ends = pl.DataFrame({"one": np.minimum(one, other)[apart], "other": np.maximum(one, other)[apart], "pair": apart})
    near = pl.DataFrame(dict(zip(("one", "other", "together"), linked.between, strict=True)))
    near = near.with_columns(pl.col("together").cast(pl.Float64))
    best = (
        ends.with_columns(pl.Series("bits", linked.score[apart])).sort("bits", "pair", descending=[True, False])
        .unique(["one", "other"], keep="first", maintain_order=True)
        .join(near.filter(pl.col("together") > NEAR), on=["one", "other"])
    )  # fmt: skip
    doubts = told(best["pair"].to_numpy()).with_columns(
        best["together"], entry.gather(best["one"]), entry.gather(best["other"]).alias("other")
    )
    return evidence, doubts.sort("together", "entry", "other", descending=[True, False, False])


def _undecided(members: pl.DataFrame, doubts: pl.DataFrame, linked: Linked) -> pl.DataFrame:
    """Of the doubts those whose one side fits two entries equally well."""
    torn = pl.Series(members["entry"].gather(np.unique(linked.undecided))).unique()
    return doubts.filter(pl.col("entry").is_in(torn.implode()) | pl.col("other").is_in(torn.implode()))
