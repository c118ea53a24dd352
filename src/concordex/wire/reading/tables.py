"""Several tables of one system, each after those that it refers to."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from hashlib import blake2b

import polars as pl

from concordex.errors import (
    BadAnswer,
    ConcordexError,
    ForeignHost,
    SignInRefused,
    Stopped,
    StoreError,
    Unreachable,
    Untrusted,
    WireError,
)
from concordex.progress import Advance, Counted
from concordex.wire import dialect as d
from concordex.wire.dialect.order import order, refers_to
from concordex.wire.http.session import Session
from concordex.wire.reading.completeness import TableOutcome
from concordex.wire.reading.mapping import follow
from concordex.wire.reading.pages import Narrow
from concordex.wire.reading.read import read_table
from concordex.wire.reading.table_read import Room, TableRead
from concordex.words import plural

#: Told of a table that could not be read.
Spare = Callable[[str, ConcordexError], None]


async def read_tables(
    session: Session,
    tables: Sequence[str],
    narrow: Mapping[str, Narrow] | None = None,
    progress: Advance | None = None,
    spare: Spare | None = None,
    rooms: Callable[[str], Callable[[], Room] | None] | None = None,
) -> AsyncIterator[tuple[str, TableRead]]:
    """``tables`` and those that they refer to, with the ids in them replaced by what they mean.

    ``narrow`` says, for a table, how the system makes it shorter itself.  With ``spare``, a table that cannot be
    read is told to it and costs only itself and what refers to it, unless the system lets nobody in.  ``rooms`` says
    of a table where it goes if it is long; it must be kept before the next one is asked for.
    """
    looks: dict[str, TableRead] = {}
    missing: dict[str, str] = {}
    for name in order(session.dialect, tables):
        needed = [other for other in refers_to(session.dialect.tables[name]) if other in missing]
        if needed and spare:
            missing[name] = needed[0]
            spare(name, WireError(f"not tried, since {needed[0]} failed", where=session.endpoint.name))
            continue
        try:
            room_for = rooms(name) if rooms else None
            looks[name] = await _read(session, name, looks, (narrow or {}).get(name), progress, room_for)
        except ConcordexError as error:
            if spare is None or isinstance(error, Unreachable | Untrusted | ForeignHost | StoreError | Stopped):
                raise
            if isinstance(error, SignInRefused) and error.http == 401:
                raise
            missing[name] = name
            spare(name, error)
        else:
            yield name, looks[name]


async def _read(
    session: Session,
    name: str,
    looks: Mapping[str, TableRead],
    narrow: Narrow | None,
    progress: Advance | None,
    room_for: Callable[[], Room] | None,
) -> TableRead:
    table, where = session.dialect.tables[name], session.endpoint.name
    each = table.read.each
    if progress:  # a system that is long silent is seen to be waited for
        progress(name, 0, None)
    try:
        meant = {via: looks[via].fields(["record_id", *takes]) for via, takes in _taken(table).items()}
        look = await read_table(
            session, name, narrow, _for(name, progress), looks[each.of].fields() if each else None,
            lambda frame, nowhere: follow(frame, table, meant, nowhere), room_for,
        )  # fmt: skip
    except ConcordexError:
        raise
    except Exception as error:  # whatever an answer or a dialect makes us stumble over costs this table, not the rest
        raise stumbled(name, where, error) from error
    look.reading = _reading(table, meant) if table.read.changed else None
    if progress:  # it has ended, also where nobody knew how long it would be
        progress(name, look.received, look.received)
    if each and not looks[each.of].whole:
        doubt = f"it hangs from {each.of}, which is {looks[each.of].outcome}"
        if looks[each.of].outcome is TableOutcome.PARTIAL:
            look.fault = look.fault or doubt
        else:
            look.proof, look.doubt = None, doubt
    for field, count in look.nowhere.items():
        via = table.fields[field].via
        if via and count and look.whole and not looks[via].whole:
            look.proof = None
            look.doubt = (
                f"of {plural(count, 'id')} in {field} it is not known what is meant: {via} is {looks[via].outcome}"
            )
    return look


def _taken(table: d.Table) -> dict[str, set[str]]:
    """The tables to which ids in this one lead, and the fields that are taken of each."""
    takes: dict[str, set[str]] = {}
    for spec in table.fields.values():
        if spec.via is not None:
            takes.setdefault(spec.via, set()).add(spec.take)
    return {via: names - {"record_id"} for via, names in takes.items()}


def _reading(table: d.Table, meant: Mapping[str, pl.DataFrame]) -> str:
    """A digest that is another one where the same records would be read as others: how, and what ids in them mean."""
    digest = blake2b(table.model_dump_json(include={"read", "fields"}).encode(), digest_size=16)
    for via, frame in sorted(meant.items()):
        digest.update(f"\n{via}\n{frame.select(sorted(frame.columns)).sort('record_id').write_csv()}".encode())
    return digest.hexdigest()


def stumbled(table: str, system: str, error: Exception) -> BadAnswer:
    """What nobody foresaw, told as what it costs: this table could not be read."""
    return BadAnswer(
        f"{table} could not be read as the dialect says", where=system, why=f"{type(error).__name__}: {error}",
        advice="concordex --debug shows the answer; concordex dialect check tells what of the dialect is wrong",
    )  # fmt: skip


def _for(name: str, progress: Advance | None) -> Counted | None:
    return (lambda came, announced: progress(name, came, announced)) if progress else None
