"""Which device a word means: an entry, a name, serial, MAC, address, tag or record id."""

from __future__ import annotations

from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly
from concordex.query.named import bearing
from concordex.words import suggestion
from concordex.work.concordance import stored

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


def meant(workspace: BaseWorkspace, device: str) -> list[str]:
    """The entries that ``device`` may mean."""
    members = stored.read(workspace, "members")
    entries = _meant(members, device)
    if not entries:
        names = members.select(pl.col("name").drop_nulls()).collect()["name"].unique()
        raise CalledWrongly(f"no device is known as {device!r}", advice=_hint(device, names))
    return entries


def one_of(workspace: BaseWorkspace, device: str) -> str:
    """The one entry that ``device`` means; an error where it may mean several."""
    entries = meant(workspace, device)
    if len(entries) > 1:
        raise CalledWrongly(f"{device!r} means {len(entries)} entries", advice=f"say which: {', '.join(entries[:5])}")
    return entries[0]


def records_of(workspace: BaseWorkspace, device: str) -> list[str]:
    """``device`` as a record; or the first record of every entry that it may mean, by system and id."""
    members = stored.read(workspace, "members")
    name = pl.format("{}/{}", "system", "record_id")
    if members.filter(name == device).select(pl.len()).collect().item():
        return [device]
    first = members.filter(pl.col("entry").is_in(meant(workspace, device))).sort("entry", "row")
    return list(first.group_by("entry", maintain_order=True).agg(name.first().alias("ref")).collect()["ref"])


def _hint(device: str, names: pl.Series) -> str:
    hint = suggestion(device, names.to_list())
    return hint if hint.startswith("did you mean") else "by name, serial, MAC, address, asset tag, id or entry"


def _meant(members: pl.LazyFrame, device: str) -> list[str]:
    tests = bearing(device, members.collect_schema().names(), also=("entry", "name_key", "serial_key"))
    reference = pl.format("{}/{}", "system", "record_id").str.to_lowercase() == device.strip().lower()
    bearers = members.filter(pl.any_horizontal(*tests.values(), reference)).select("entry")
    return list(bearers.unique().sort("entry").collect()["entry"])
