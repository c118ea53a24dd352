"""How things are as systems tell it at this moment: asked for the devices and the span of time that are wanted."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

import polars as pl

from concordex.work.fleet.told import TableSource, telling
from concordex.work.show.live import fetch
from concordex.work.show.span import tests_of

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: Of more devices than these all is asked for.
_MOST = 50


def told_live(
    workspace: BaseWorkspace, systems: Sequence[str], entries: pl.DataFrame | None,
    since: datetime | None, until: datetime | None,
) -> TableSource:  # fmt: skip
    """What the systems answer just now of ``entries``, or of all devices, in a span of time; nothing is kept."""
    if entries is not None and not entries.height:
        return TableSource(workspace)  # nobody is meant: nothing is asked
    asking: dict[tuple[str, str | None], list[str]] = defaultdict(list)
    active = set(workspace.active(workspace.systems(systems)))
    for system, name, table in telling(workspace, systems):
        if system in active:
            asking[name, table.health.at if table.health else None].append(system)
    live: dict[tuple[str, str], pl.LazyFrame] = {}
    notes: list[str] = []
    for (name, at), names in asking.items():
        tests = tests_of(at, since, until) if at is not None else []
        if entries is not None and 0 < entries.height <= _MOST and name != "devices":
            mine = ", ".join(f'"{entry}"' for entry in entries["entry"])
            tests.append(f"device.entry in ({mine})")
        query = workspace.query(" and ".join(tests)) if tests else None
        _, told, answers = fetch(workspace, name, names, query)
        notes += told
        live |= {
            (answer.system, name): answer.read.frame.lazy().with_columns(pl.lit(answer.system).alias("system"))
            for answer in answers
        }
    return TableSource(workspace, live, notes)
