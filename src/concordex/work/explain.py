"""Why records are one device, and where each of its values came from."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import polars as pl

from concordex.errors import CalledWrongly
from concordex.match.merge import MERGED
from concordex.match.pairs import EVIDENCE
from concordex.model.values import ip, mac
from concordex.words import suggestion
from concordex.work import concordance

if TYPE_CHECKING:
    from concordex.work.workspace import Workspace


@dataclass(frozen=True, kw_only=True)
class Value:
    """One field of an entry: its value, the record that gave it, and what the others said."""

    field: str
    value: Any
    source: str
    others: dict[str, Any]


@dataclass(frozen=True, kw_only=True)
class Explanation:
    """One entry, its records, what links them, and what a person should look at."""

    entry: str
    name: str | None
    records: list[dict[str, Any]]
    links: list[dict[str, Any]]
    values: list[Value]
    findings: list[dict[str, Any]]


def explain(workspace: Workspace, device: str) -> list[Explanation]:
    """Every entry that ``device`` may mean: an entry, a name, serial, MAC, address, tag or record id."""
    members = concordance.read(workspace, "members")
    entries = _meant(members, device)
    if not entries:
        names = members.select(pl.col("name").drop_nulls()).collect()["name"].unique()
        raise CalledWrongly(f"no device is known as {device!r}", advice=_hint(device, names))
    return [_explained(workspace, members, entry) for entry in entries]


def _hint(device: str, names: pl.Series) -> str:
    told = suggestion(device, names.to_list())
    return told if told.startswith("did you mean") else "by name, serial, MAC, address, asset tag, id or entry"


def _meant(members: pl.LazyFrame, device: str) -> list[str]:
    said = device.strip().lower()
    address = pl.select(mac=mac(pl.lit(device)), ip=ip(pl.lit(device))).row(0)
    texts = ("entry", "name", "name_key", "serial", "serial_key", "asset_tag", "uuid", "record_id")
    tests = [pl.col(name).str.to_lowercase() == said for name in texts]
    tests.append(pl.format("{}/{}", "system", "record_id").str.to_lowercase() == said)
    tests += [
        pl.col(name).list.contains(value)
        for name, value in zip(("macs", "ips"), address, strict=True)
        if value is not None
    ]
    found = (
        members.filter(pl.any_horizontal(test.fill_null(False) for test in tests))
        .select("entry")
        .unique()
        .sort("entry")
    )
    return list(found.collect()["entry"])


def _explained(workspace: Workspace, members: pl.LazyFrame, entry: str) -> Explanation:
    mine = members.filter(pl.col("entry") == entry).sort("row").collect()
    records = mine.to_dicts()
    labels = {record["row"]: f"{record['system']}/{record['record_id']}" for record in records}
    row = concordance.read(workspace, "entries").filter(pl.col("entry") == entry).collect().to_dicts()[0]
    sources = concordance.read(workspace, "sources").filter(pl.col("entry") == entry).collect().to_dicts()[0]
    evidence = concordance.read(workspace, "evidence").filter(pl.col("entry") == entry).sort("a", "b").collect()
    findings = concordance.read(workspace, "findings").filter(pl.col("entry") == entry).collect().to_dicts()
    return Explanation(
        entry=entry, name=row["name"], records=records, findings=findings,
        links=[_link(link, labels, {r["row"]: r for r in records}) for link in evidence.to_dicts()],
        values=[_value(name, row, sources, records, labels) for name in MERGED if row[name] not in (None, [])],
    )  # fmt: skip


def _link(link: dict[str, Any], labels: dict[int, str], rows: dict[int, dict[str, Any]]) -> dict[str, Any]:
    a, b = rows[link["a"]], rows[link["b"]]
    told = []
    for kind in EVIDENCE:
        if link[kind]:
            told.append(f"same {'name' if kind == 'name' else kind} {_shared(kind, a, b)}".strip())
    if link["mistyped"]:
        told.append(f"serials one typing error apart ({a['serial']}, {b['serial']})")
    return {"a": labels[link["a"]], "b": labels[link["b"]], "because": told}


def _shared(kind: str, a: dict[str, Any], b: dict[str, Any]) -> str:
    if kind == "mac":
        return ", ".join(sorted(set(a["mac_keys"]) & set(b["mac_keys"])))
    if kind == "reference":
        return a["reference"] or b["reference"] or ""
    return str(a[f"{kind}_key"] or "")


def _value(
    name: str,
    row: dict[str, Any],
    sources: dict[str, Any],
    records: list[dict[str, Any]],
    labels: dict[int, str],
) -> Value:
    source = sources.get(name)
    others = {labels[r["row"]]: r[name] for r in records if r["row"] != source and r.get(name) not in (None, [])}
    return Value(
        field=name,
        value=row[name],
        source=labels.get(source, "") if source is not None else "",
        others=others,
    )
