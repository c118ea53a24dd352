"""Which finding a person means to accept: of a device, or of what is no device, such as a site or a rack."""

from __future__ import annotations

from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly
from concordex.words import plural, suggestion
from concordex.work.concordance import stored
from concordex.work.concordance.lookup import records_of

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


def acceptance(
    workspace: BaseWorkspace, what: str, kind: str, field: str | None = None, about: str | None = None
) -> dict[str, str]:
    """The one finding of that kind of ``what``, as a ruling names it; an error where there is none, or are several."""
    found = stored.read(workspace, "findings").filter(pl.col("kind") == kind).collect()
    loose = found.filter(pl.col("entry").is_null())
    mine = loose.filter((pl.col("about") == what) | (pl.col("name").str.to_lowercase() == what.strip().lower()))
    record = None
    if mine.is_empty():
        record = _record(workspace, what, loose)
        entry = stored.entry_of(workspace).filter(pl.format("{}/{}", "system", "record_id") == record).select("entry")
        mine = found.join(entry.collect(), on="entry", how="semi", maintain_order="left")
    for name, given in (("field", field), ("about", about)):
        mine = mine if given is None else mine.filter(pl.col(name) == given)
    if mine.is_empty():
        of = "".join(f", {name} {given}" for name, given in (("field", field), ("about", about)) if given)
        raise CalledWrongly(f"there is no finding {kind} of {what}{of}", advice=f"concordex findings --kind {kind}")
    if mine.height > 1:
        name = "about" if field or mine["field"].null_count() else "field"
        which = ", ".join(str(value) for value in mine[name].unique(maintain_order=True))
        raise CalledWrongly(f"there are {plural(mine.height, 'finding')} {kind} of {what}",
                            advice=f"say which: --{name} one of {which}")  # fmt: skip
    row = mine.row(0, named=True)
    told = {"finding": kind, "of": record, "field": row["field"], "about": row["about"]}
    return {name: text for name, text in told.items() if text is not None}


def _record(workspace: BaseWorkspace, what: str, loose: pl.DataFrame) -> str:
    """A record of the device that is meant."""
    try:
        records = records_of(workspace, what)
    except CalledWrongly as error:
        if loose.is_empty():
            raise
        known = loose.select(pl.coalesce("name", "about")).to_series().to_list()
        raise CalledWrongly(error.what, advice=suggestion(what, known)) from error
    if len(records) > 1:
        raise CalledWrongly(f"{what!r} may be {len(records)} devices: {', '.join(records)}", advice="name one of them")
    return records[0]
