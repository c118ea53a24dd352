"""Several tables of one system, each after those that it refers to."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Mapping, Sequence

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
from concordex.progress import Counted, Told
from concordex.wire.dialect.order import order, refers_to
from concordex.wire.http.session import Session
from concordex.wire.reading.completeness import TableOutcome
from concordex.wire.reading.mapping import follow
from concordex.wire.reading.pages import Narrow
from concordex.wire.reading.read import read_table
from concordex.wire.reading.table_read import TableRead

#: Told of a table that could not be read.
Spare = Callable[[str, ConcordexError], None]


async def read_tables(
    session: Session,
    tables: Sequence[str],
    narrow: Mapping[str, Narrow] | None = None,
    progress: Told | None = None,
    spare: Spare | None = None,
) -> AsyncIterator[tuple[str, TableRead]]:
    """``tables`` and those that they refer to, with the ids in them replaced by what they mean.

    ``narrow`` says, for a table, how the system makes it shorter itself.  With ``spare``, a table that cannot be
    read is told to it and costs only itself and what refers to it, unless the system lets nobody in.
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
            looks[name] = await _read(session, name, looks, (narrow or {}).get(name), progress)
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
    progress: Told | None,
) -> TableRead:
    table, where = session.dialect.tables[name], session.endpoint.name
    each = table.read.each
    if progress:  # a system that is long silent is seen to be waited for
        progress(name, 0, None)
    try:
        look = await read_table(session, name, narrow, _for(name, progress), looks[each.of].frame if each else None)
        look.frame = follow(look.frame, table, {other: done.frame for other, done in looks.items()})
    except ConcordexError:
        raise
    except Exception as error:  # whatever an answer or a dialect makes us stumble over costs this table, not the rest
        raise stumbled(name, where, error) from error
    if progress:  # it has ended, also where nobody knew how long it would be
        progress(name, look.received, look.received)
    if each and not looks[each.of].whole:
        doubt = f"it hangs from {each.of}, which is {looks[each.of].outcome}"
        if looks[each.of].outcome is TableOutcome.PARTIAL:
            look.fault = look.fault or doubt
        else:
            look.proof, look.doubt = None, doubt
    return look


def stumbled(table: str, system: str, error: Exception) -> BadAnswer:
    """What nobody foresaw, told as what it costs: this table could not be read."""
    return BadAnswer(
        f"{table} could not be read as the dialect says", where=system, why=f"{type(error).__name__}: {error}",
        advice="concordex --debug shows the answer; concordex dialect check tells what of the dialect is wrong",
    )  # fmt: skip


def _for(name: str, progress: Told | None) -> Counted | None:
    return (lambda came, announced: progress(name, came, announced)) if progress else None
