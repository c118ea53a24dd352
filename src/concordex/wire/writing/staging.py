"""What a system holds staged: written, and in effect only once it is committed."""

from __future__ import annotations

from dataclasses import dataclass

from concordex.errors import WireError
from concordex.wire.http.session import Session
from concordex.wire.writing.records import commit


@dataclass(frozen=True)
class Pending:
    """One thing that is staged: by whom, since when, and what."""

    who: str
    since: str
    what: str
    ours: bool = False


async def pending(session: Session) -> list[Pending]:
    """What is staged by anybody; nothing where the dialect does not say how to ask."""
    how = session.dialect.staging
    if how is None or how.pending is None:
        return []
    listed = (await session.get(how.pending)).at(how.pending.records)
    return [
        Pending(
            who=str(how.who.first(step) or ""),
            since=str(how.since.first(step) or ""),
            what=str(how.what.first(step) or ""),
            ours=bool(how.ours and how.ours.first(step)),
        )
        for step in (listed if isinstance(listed, list) else [])
    ]


async def discard(session: Session) -> list[Pending]:
    """Take back what we have staged, as far as the dialect says how; what others have staged."""
    how = session.dialect.staging
    if how is None:
        return []
    if how.discard:
        await commit(session, how.discard)
    try:
        return await pending(session)
    except WireError:
        return []  # it only tells more of what went wrong already
