"""Why records are one device, where each of its values came from, and what became of it over time."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.errors import CalledWrongly, StoreError
from concordex.match.compare import KINDS
from concordex.match.learned import FRAMES, Learned
from concordex.match.merge import MERGED
from concordex.match.weights import CLASSES, Weights
from concordex.match.whynot import why_apart
from concordex.work.concordance import stored
from concordex.work.concordance.lookup import meant, one_of
from concordex.work.concordance.rulings import Ruling, holding

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True, kw_only=True)
class FieldValue:
    """One field of an entry: its value, the record that gave it, and what the others said."""

    field: str
    value: Any
    source: str
    others: dict[str, Any]


@dataclass(frozen=True, kw_only=True)
class Evidence:
    """What one kind of evidence says of two records: ``bits`` speak for one device, or against it."""

    kind: str
    says: str
    values: str
    bits: float


@dataclass(frozen=True, kw_only=True)
class RecordPair:
    """Two records, and all that speaks for and against their being one device."""

    a: str
    b: str
    bits: float
    because: list[Evidence]
    entry: str = ""


@dataclass(frozen=True, kw_only=True)
class Explanation:
    """One entry, its records, what links them, what nearly did, and what a person should look at."""

    entry: str
    name: str | None
    records: list[dict[str, Any]]
    links: list[RecordPair]
    near: list[RecordPair]
    values: list[FieldValue]
    findings: list[dict[str, Any]]
    rulings: list[str] = field(default_factory=list)
    #: For each record that speaks for a whole stack, the serials that it names and the entries that have them.
    speaks_for: list[str] = field(default_factory=list)


def explain(workspace: BaseWorkspace, device: str) -> list[Explanation]:
    """Every entry that ``device`` may mean: an entry, a name, serial, MAC, address, tag or record id."""

    def look() -> list[Explanation]:
        members, weights = stored.read(workspace, "members"), weighing(workspace)
        return [_explained(workspace, members, entry, weights) for entry in meant(workspace, device)]

    return stored.settled(workspace, look)


@dataclass(frozen=True, kw_only=True)
class NotOne:
    """Why what two names mean is not one device: the entries, the reason, the pair of records that comes nearest."""

    one: str
    other: str
    reason: str
    bits: float
    link: RecordPair


def why_not(workspace: BaseWorkspace, device: str, other: str) -> NotOne:
    """Why ``device`` and ``other``, each of which must mean one entry, are not one."""
    return stored.settled(workspace, lambda: _why_not(workspace, device, other))


def _why_not(workspace: BaseWorkspace, device: str, other: str) -> NotOne:
    both = [one_of(workspace, name) for name in (device, other)]
    if both[0] == both[1]:
        raise CalledWrongly(f"they are one: {both[0]}", advice=f"concordex explain {both[0]} tells why")
    members = stored.read(workspace, "members").collect()
    rows = [members.filter(pl.col("entry") == entry)["row"].to_numpy().astype("int64") for entry in both]
    learned = Learned.of_frames({name: stored.read(workspace, name).collect() for name in FRAMES})
    verdict = why_apart(members, learned, *rows)
    a, b = (members.row(verdict.nearest[side], named=True) for side in "ab")
    reason = verdict.reason
    for ruling in holding(workspace):
        refs = members.select(pl.format("{}/{}", "system", "record_id").alias("ref"), "entry")
        named = set(refs.filter(pl.col("ref").is_in(list(ruling.records)))["entry"])
        if ruling.kind == "apart" and set(both) <= named:
            reason = f"somebody ruled so: {_told(ruling)}"
    link = link_of(verdict.nearest | {"together": verdict.together}, a, b, learned.weights)
    return NotOne(one=both[0], other=both[1], reason=reason, bits=round(verdict.together, 1), link=link)


def weighing(workspace: BaseWorkspace) -> Weights:
    """What was learned of the evidence for the newest concordance."""
    frame = stored.read(workspace, "weights").collect()
    if frame["class"].n_unique() != CLASSES:
        raise StoreError("an earlier release weighed evidence otherwise", advice="concordex reconcile --relearn")
    return Weights.of_frame(frame)


def link_of(pair: dict[str, Any], a: dict[str, Any], b: dict[str, Any], weights: Weights) -> RecordPair:
    """The evidence for a pair of records, line by line; the lines add up to the bits of all of it.

    Of two entries that were not joined, the last line is what weighing them as groups makes of it.
    """
    bits_of = weights.told_apart({kind: pair[kind] for kind in KINDS})
    because = [
        Evidence(kind=kind, says=KINDS[kind][pair[kind] - 1], values=_values(kind, a, b), bits=round(bits, 1))
        if kind
        else Evidence(kind="before", says="comparing", values="", bits=round(bits, 1))
        for kind, bits in bits_of.items()
    ]
    total = pair.get("together", pair["bits"])
    if total is not None and abs(total - sum(bits_of.values())) >= 0.05:
        rest = round(total - sum(bits_of.values()), 1)
        because.append(Evidence(kind="weighed", says="as groups, with all their records", values="", bits=rest))
    return RecordPair(
        a=ref(a),
        b=ref(b),
        bits=round(total, 1),
        because=because,
        entry=pair.get("other") or "",
    )


def ref(record: dict[str, Any]) -> str:
    """A record by its system and id."""
    return f"{record['system']}/{record['record_id']}"


def _explained(workspace: BaseWorkspace, members: pl.LazyFrame, entry: str, weights: Weights) -> Explanation:
    mine = members.filter(pl.col("entry") == entry).sort("row").collect()
    records = mine.to_dicts()
    by_row = {record["row"]: record for record in records}
    labels = {row: ref(record) for row, record in by_row.items()}
    row, sources = (
        stored.read(workspace, part).filter(pl.col("entry") == entry).collect().to_dicts()[0]
        for part in ("entries", "sources")
    )
    pairs = stored.read(workspace, "evidence").filter(pl.col("entry") == entry)
    doubts = stored.read(workspace, "doubts").filter((pl.col("entry") == entry) | (pl.col("other") == entry))
    near = doubts.sort("together", descending=True).head(5).collect().to_dicts()
    others = members.filter(pl.col("row").is_in([d[side] for d in near for side in "ab"])).collect().to_dicts()
    rows = by_row | {record["row"]: record for record in others}
    rulings = [ruling for ruling in holding(workspace) if set(labels.values()) & set(ruling.records)]
    ruled = {ruling.value.field for ruling in rulings if ruling.value}
    near = [d | {"other": d["other"] if d["entry"] == entry else d["entry"]} for d in near]
    findings = stored.read(workspace, "findings").filter(pl.col("entry") == entry).collect().to_dicts()
    return Explanation(
        entry=entry, name=row["name"], records=records, findings=findings,
        links=[link_of(p, by_row[p["a"]], by_row[p["b"]], weights) for p in pairs.sort("a", "b").collect().to_dicts()],
        near=[link_of(d, rows[d["a"]], rows[d["b"]], weights) for d in near],
        values=[_value(name, row, sources, records, labels, ruled) for name in MERGED if row[name] not in (None, [])],
        rulings=[_told(ruling) for ruling in rulings], speaks_for=_speaks_for(members, records),
    )  # fmt: skip


def _speaks_for(members: pl.LazyFrame, records: list[dict[str, Any]]) -> list[str]:
    named = [(ref(record), serial) for record in records for serial in record["members"] or []]
    if not named:
        return []
    held = members.filter(pl.col("serial_key").is_in([serial for _, serial in named])).select("serial_key", "entry")
    entries = dict(held.unique().collect().iter_rows())
    return [f"{record} also speaks for {serial} ({entries.get(serial, 'no entry')})" for record, serial in named]


def _told(ruling: Ruling) -> str:
    text = f"{ruling.kind}: {ruling.records[0]} {ruling.says}"
    who = f", says {ruling.who}" if ruling.who else ""
    return f"{text}{who}{f' on {ruling.when:%Y-%m-%d}' if ruling.when else ''}{f': {ruling.why}' if ruling.why else ''}"


def _values(kind: str, a: dict[str, Any], b: dict[str, Any]) -> str:
    """What the two records say of it: once where they say the same."""
    if kind in ("mac", "drawn", "ip"):
        column = {"mac": "macs", "drawn": "drawn_macs", "ip": "ips"}[kind]
        one, other = a[column] or [], b[column] or []
        shared = sorted(set(one) & set(other))
        return ", ".join(shared) if shared else f"{', '.join(one)} / {', '.join(other)}"
    if kind == "seen":
        return ""
    column = {"tag": "asset_tag"}.get(kind, kind)
    one, other = (str(record[column] or "") for record in (a, b))
    if one == other:
        return one
    return f"{one} / {other}"


def _value(
    name: str,
    row: dict[str, Any],
    sources: dict[str, Any],
    records: list[dict[str, Any]],
    labels: dict[int, str],
    ruled: set[str],
) -> FieldValue:
    source = sources.get(name)
    others = {labels[r["row"]]: r[name] for r in records if r["row"] != source and r.get(name) not in (None, [])}
    return FieldValue(
        field=name,
        value=row[name],
        source=labels.get(source, "") if source is not None else "ruling" if name in ruled else "",
        others=others,
    )
