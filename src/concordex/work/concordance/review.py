"""Pairs of entries that may be one device, for a person to decide: the likeliest first."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.work.concordance import stored
from concordex.work.concordance.explain import RecordPair, link_of, weighing
from concordex.work.concordance.rulings import holding

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True, kw_only=True)
class DoubtfulPair:
    """Two entries, the records that link them best, and what else each entry holds."""

    one: str
    other: str
    link: RecordPair
    records: list[dict[str, Any]]
    entries: list[dict[str, Any]]
    #: What else either of the two may be, with the bits for that.
    rivals: list[tuple[str, str, float]]


def pairs(workspace: BaseWorkspace, *, names: bool = False) -> pl.DataFrame:
    """All that nobody has ruled on, best first: ``entry``, ``other``, records ``a`` and ``b``, bits ``together``.

    With ``names`` as a person reads them.
    """

    def look() -> pl.DataFrame:
        return _with_names(workspace, _pairs(workspace)) if names else _pairs(workspace)

    return stored.settled(workspace, look)


def _pairs(workspace: BaseWorkspace) -> pl.DataFrame:
    doubts = stored.read(workspace, "doubts").collect()
    members = stored.read(workspace, "members").select("row", "system", "record_id", "entry").collect()
    refs = members.select("entry", pl.format("{}/{}", "system", "record_id").alias("ref"))
    ruled: set[tuple[str, str]] = set()
    entry_of: dict[str, set[str]] = {}
    rulings = [ruling for ruling in holding(workspace) if ruling.kind in ("same", "apart")]
    named = pl.Series([ref for ruling in rulings for ref in ruling.records], dtype=pl.String)
    for entry, ref in refs.filter(pl.col("ref").is_in(named.implode())).iter_rows() if len(named) else ():
        entry_of.setdefault(ref, set()).add(entry)
    for ruling in rulings:
        torn = sorted(entry for ref in ruling.records for entry in entry_of.get(ref, ()))
        ruled |= {(a, b) for a in torn for b in torn}
    open_to = [(a, b) not in ruled for a, b in doubts.select("entry", "other").iter_rows()]
    return doubts.filter(pl.Series(open_to, dtype=pl.Boolean)).sort(
        "together", "entry", "other", descending=[True, False, False]
    )


def doubt(workspace: BaseWorkspace, pair: dict[str, Any]) -> DoubtfulPair | None:
    """All that a person needs to decide on one of :func:`pairs`, as it stands by now; nothing where it is no doubt now.

    Whoever decides takes a while, and others reconcile meanwhile.
    """
    return stored.settled(workspace, lambda: _doubt(workspace, pair["entry"], pair["other"]))


def _doubt(workspace: BaseWorkspace, *both: str) -> DoubtfulPair | None:
    doubts = stored.read(workspace, "doubts")
    either = doubts.filter(pl.col("entry").is_in(both) | pl.col("other").is_in(both)).collect().to_dicts()
    pair = next((row for row in either if {row["entry"], row["other"]} == set(both)), None)
    if pair is None:
        return None
    members = stored.read(workspace, "members").filter(pl.col("entry").is_in(both)).collect()
    rows = {row["row"]: row for row in members.to_dicts()}
    entries = stored.read(workspace, "entries").filter(pl.col("entry").is_in(both)).collect()
    entry_rows = {row["entry"]: row for row in entries.to_dicts()}
    others = (row for row in either if row is not pair)
    rivals = [
        (row["entry"], row["other"], row["together"])
        if row["entry"] in both
        else (row["other"], row["entry"], row["together"])
        for row in others
    ]
    return DoubtfulPair(
        one=both[0], other=both[1], link=link_of(pair, rows[pair["a"]], rows[pair["b"]], weighing(workspace)),
        records=list(rows.values()), entries=[entry_rows[entry] for entry in both], rivals=rivals,
    )  # fmt: skip


def _with_names(workspace: BaseWorkspace, doubtful: pl.DataFrame) -> pl.DataFrame:
    """Pairs as a person reads them: both entries, their names, the records that link them, and the bits."""
    names = stored.read(workspace, "entries").select("entry", "name", "serial").collect()
    members = stored.read(workspace, "members").select("row", pl.format("{}/{}", "system", "record_id").alias("ref"))
    refs = members.collect().with_columns(pl.col("row").cast(pl.Int64))
    named = doubtful.select("entry", "other", "a", "b", pl.col("together").round(1).alias("bits"))
    for side, row in (("entry", "a"), ("other", "b")):
        named = named.join(
            names.rename({"entry": side, "name": f"{side} name", "serial": f"{side} serial"}),
            on=side,
            how="left",
            maintain_order="left",
        )
        named = named.join(refs.rename({"row": row, "ref": f"record {row}"}), on=row, how="left", maintain_order="left")
    return named.select(
        "bits", "entry", "entry name", "entry serial", "other", "other name", "other serial", "record a", "record b"
    )
