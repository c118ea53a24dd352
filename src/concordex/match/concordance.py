"""The whole of reconciling: records in, entries, sources, links and findings out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import polars as pl

from concordex.match.findings import Scope, findings
from concordex.match.identity import identities
from concordex.match.link import groups, links
from concordex.match.merge import merge
from concordex.match.number import number
from concordex.match.pairs import EVIDENCE, candidates, with_sides


@dataclass(frozen=True, kw_only=True)
class Rules:
    """What the workspace decides: who is trusted, what means nothing, what may be believed."""

    order: Sequence[str]
    scope: Scope
    by_field: Mapping[str, Sequence[str]]
    placeholders: Sequence[str] = ()


@dataclass(frozen=True, kw_only=True)
class Concordance:
    """What reconciling made, each a frame.

    members   every record with its ``entry`` and the keys by which it was recognised
    entries   one row for each device
    sources   for each entry and field the ``row`` in members that gave the value
    evidence  the links, each with what it rests on
    findings  what a person should look at
    """

    members: pl.DataFrame
    entries: pl.DataFrame
    sources: pl.DataFrame
    evidence: pl.DataFrame
    findings: pl.DataFrame


def reconcile(
    records: pl.DataFrame, rules: Rules, before: pl.DataFrame | None = None, resting: pl.Expr | None = None
) -> Concordance:
    """The concordance of ``records``: device records of all systems, in any order.

    ``before`` holds last time's ``system``, ``record_id``, ``entry``, so that entries keep their
    numbers; ``resting`` is true for things that no manager is expected to know.
    """
    keyed = identities(records.sort("system", "record_id"), rules.placeholders)
    linked = links(with_sides(candidates(keyed), keyed))
    members = keyed.with_columns(groups(keyed, linked))
    members = members.with_columns(number(members, before).alias("entry"))
    trusted = members.with_columns(pl.when(pl.col("serial_key").is_not_null()).then(pl.col("serial")).alias("serial"))
    entries, sources = merge(trusted, rules.order, rules.by_field)
    evidence = linked.select("a", "b", *EVIDENCE, "mistyped").join(
        members.select(pl.col("row").alias("a"), "entry"), on="a"
    )
    at_rest = members.select(resting).to_series() if resting is not None else None
    return Concordance(
        members=members.drop("group"), entries=entries, sources=sources, evidence=evidence,
        findings=findings(members, entries, rules.scope, at_rest),
    )  # fmt: skip
