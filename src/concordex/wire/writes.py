"""Writing records in the way that a dialect declares."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from concordex.errors import BadAnswer, RequestRefused
from concordex.wire import dialect as d
from concordex.wire.paths import at
from concordex.wire.session import Session


@dataclass(frozen=True)
class Refusal:
    """Which record of a list was refused, counted from nought, and why."""

    index: int
    reason: str


def refusals(error: RequestRefused, rules: d.Refusals | None, sent: int) -> list[Refusal]:
    """Which of ``sent`` records a refusal blames; empty when it does not say."""
    if rules is None:
        return []
    listed = at(rules.records).first(error.body)
    found = []
    for item in listed if isinstance(listed, list) else []:
        index, reason = at(rules.index).first(item), at(rules.reason).first(item)
        if isinstance(index, int) and 0 <= index < sent:
            found.append(Refusal(index, str(reason)))
    return found


async def create(session: Session, how: d.Create, bodies: Sequence[Mapping[str, Any]], record_id: str) -> list[str]:
    """Create records in one call; their new ids, in the order sent.  ``record_id`` is where an id stands."""
    if how.most == 1:
        body: Any = bodies[0]
    else:
        body = {how.records: list(bodies)} if how.records else list(bodies)
    answer = await session.write(how.method, how.path, body)
    made = at(how.made).first(answer)
    made = made if isinstance(made, list) else [made]
    ids = [at(record_id).first(record) for record in made if isinstance(record, dict)]
    if len(ids) != len(bodies) or None in ids:
        raise BadAnswer(
            f"the answer to {how.method} {how.path} names {len(ids)} new records for {len(bodies)} sent",
            where=session.endpoint.name,
        )
    return [str(number) for number in ids]


async def update(session: Session, how: d.Update, record_id: str, body: Mapping[str, Any]) -> None:
    """Alter one record."""
    await session.write(how.method, how.path.replace("{record_id}", record_id), body)
