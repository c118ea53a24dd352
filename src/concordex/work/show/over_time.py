"""How many records there were, hour by hour, day by day or week by week; what appeared and vanished."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly
from concordex.model.scalars import parse_duration
from concordex.query.frames import to_polars
from concordex.query.tree import clauses_of
from concordex.words import suggestion
from concordex.work.show.columns import Columns
from concordex.work.show.references import with_names
from concordex.work.show.show_options import ShowOptions, parted
from concordex.work.show.summary import SPANS

if TYPE_CHECKING:
    from concordex.store.catalogue import Snapshot
    from concordex.work.workspace.base import BaseWorkspace

_LENGTHS = {"hour": timedelta(hours=1), "day": timedelta(days=1), "week": timedelta(weeks=1)}
#: So many spans are looked at, and no more: each may rest on other files.
_MOST = 1_000

#: The newest snapshot of each system.
Newest = dict[str, "Snapshot"]


def over_time(workspace: BaseWorkspace, table: str, choice: ShowOptions) -> tuple[pl.DataFrame, list[str]]:
    """For each span of ``choice.over`` and each group, how many records there were at its end.

    Of a system that was not pulled in a span its snapshot before counts.  What ``appeared`` and ``vanished`` in a span
    is told of systems alone of which there was a snapshot before it; nothing is new beside one that was not whole, and
    nothing vanished from one that is not.
    """
    length, span = _asked(choice.over or "")
    _check(workspace, table, choice)
    choice = replace(choice, count_by=list(dict.fromkeys(choice.count_by)))
    name = "devices" if table == "records" else table
    ends = list(_ends(workspace.now(), length, span))
    rows, notes, then, before = [], dict[str, None](), Newest(), None
    for end in ends:
        now = {s.system: s for s in workspace.memory.newest(name, until=end)}
        now = {system: s for system, s in now.items() if not choice.systems or system in choice.systems}
        if not now:
            continue
        held = before
        if held is None or choice.where or {s.id for s in now.values()} != {s.id for s in then.values()}:
            held = _held(workspace, name, now, choice, min(end, workspace.now()))
        called = f"{end - timedelta(microseconds=1):{SPANS[span]}}"
        rows.append(_counted(held, before, then, now, choice.count_by).with_columns(pl.lit(called).alias(span)))
        for snapshot in now.values():
            if not snapshot.whole:
                notes[f"{snapshot.system}/{name} was {snapshot.outcome} at {snapshot.taken:%Y-%m-%d %H:%M} UTC"] = None
        then, before = now, held
    if not rows:
        raise CalledWrongly(f"no {table} were pulled by then", advice="concordex pulls")
    frame = pl.concat(rows).select(span, *choice.count_by, "count", "appeared", "vanished")
    return frame.head(choice.limit) if choice.limit is not None else frame, list(notes)


def ends_of(now: datetime, over: str) -> tuple[str, list[tuple[datetime, str]]]:
    """The span of time that ``over`` names, and the end of each such span before ``now`` with what it is called."""
    length, span = _asked(over)
    return span, [(end, f"{end - timedelta(microseconds=1):{SPANS[span]}}") for end in _ends(now, length, span)]


def _check(workspace: BaseWorkspace, table: str, choice: ShowOptions) -> None:
    """Raise CalledWrongly where the choice, or the table, has no past."""
    workspace.systems(choice.systems)
    others = {
        "--live": choice.live, "--as-of": choice.as_of, "--changes": choice.changes, "--funnel": choice.funnel,
        "--columns": choice.columns, "--sort": choice.sort, "--of": choice.of,
    }  # fmt: skip
    if wrong := [name for name, given in others.items() if given]:
        raise CalledWrongly(f"--over goes with --count-by and --where, and not with {', '.join(wrong)}")
    if table in ("entries", "findings", "weights", "gone"):
        raise CalledWrongly(f"{table} are of the newest reconciliation only", advice="show records --over …")
    known = {snapshot.table for snapshot in workspace.memory.newest()} | {"records"}
    if table not in known:
        raise CalledWrongly(f"there is no table {table!r}", advice=suggestion(table, known))


def _asked(text: str) -> tuple[timedelta, str]:
    said, span = parted(text)
    length, span = parse_duration(said), span or "day"
    if length is None or not length:
        raise CalledWrongly(f"--over {text}: {said!r} is not a duration", advice="such as 30d, 12w:week or 2d:hour")
    if span not in SPANS:
        raise CalledWrongly(f"--over {text}: {span!r} is no span of time", advice=suggestion(span, SPANS))
    if length / _LENGTHS[span] > _MOST:
        raise CalledWrongly(f"--over {text}: that is more than {_MOST:,} times one {span}", advice="a longer span")
    return length, span


def _ends(now: datetime, length: timedelta, span: str) -> Iterator[datetime]:
    """The ends of the spans that reach into that time before ``now``, the last of which has not ended yet."""
    first = (now - length).replace(minute=0, second=0, microsecond=0)
    if span != "hour":
        first = first.replace(hour=0)
    if span == "week":
        first -= timedelta(days=first.weekday())  # ISO 8601: it begins on Monday
    while first < now:
        first += _LENGTHS[span]
        yield first


def _held(
    workspace: BaseWorkspace, table: str, newest: Mapping[str, Snapshot], choice: ShowOptions, moment: datetime
) -> pl.DataFrame:
    """The records there were at a moment: whose each is, its id, and its groups."""
    query = workspace.query(choice.where) if choice.where else None
    asked = {*choice.count_by, *(clause.field.text.lower() for clause in (clauses_of(query.node) if query else ()))}
    lazy = with_names(workspace, table, workspace.frames.together(list(newest.values())), asked, moment).lazy
    columns = Columns(lazy)
    if query:
        lazy = lazy.filter(to_polars(query.node, columns.binder(query, moment)))
    picked = lazy.select("system", "record_id", *(columns.column(name).alias(f"by {name}") for name in choice.count_by))
    for name in choice.count_by:
        if columns.type_of(name).is_list:
            picked = picked.explode(f"by {name}")
    return picked.collect(engine="streaming")


def _counted(
    held: pl.DataFrame, before: pl.DataFrame | None, then: Newest, now: Newest, by: Sequence[str]
) -> pl.DataFrame:
    """How many there are in each group, and how many came to it and left it."""
    keys = ["system", "record_id", *(f"by {name}" for name in by)]
    groups = keys[2:]
    earlier = held.clear() if before is None else before
    known = [system for system, snapshot in then.items() if snapshot.whole and system in now]
    seen = [system for system, snapshot in now.items() if snapshot.whole and system in then]
    came = held.filter(pl.col("system").is_in(known)).join(earlier, on=keys, how="anti", nulls_equal=True)
    left = earlier.filter(pl.col("system").is_in(seen)).join(held, on=keys, how="anti", nulls_equal=True)
    names = ("count", "appeared", "vanished")
    parts = [
        frame.with_columns(pl.lit(int(name == column)).alias(name) for name in names).select(*groups, *names)
        for column, frame in zip(names, (held, came, left), strict=True)
    ]
    every = pl.concat(parts)
    sums = [pl.col(name).sum() for name in names]
    done = every.group_by(groups).agg(sums).sort(groups, nulls_last=True) if groups else every.select(sums)
    return done.rename({f"by {name}": name for name in by})
