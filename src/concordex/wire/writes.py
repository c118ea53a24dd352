"""Writing records in the way that a dialect declares."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
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


async def create(session: Session, how: d.Create, bodies: Sequence[Mapping[str, Any]], record_id: str) -> list[Any]:
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
    return ids


async def update(session: Session, how: d.Update, record_id: str, body: Mapping[str, Any]) -> None:
    """Alter one record."""
    await session.write(how.method, how.path.replace("{record_id}", record_id), body)


#: Finds the system's id of the record of a table that a natural key names.
FindId = Callable[[str, Mapping[str, Any]], Any]


def body_of(values: Mapping[str, Any], write: d.Write, find: FindId) -> dict[str, Any]:
    """Our fields as the members that the system takes, references as its own ids."""
    body: dict[str, Any] = {}
    for name, spec in write.fields.items():
        if values.get(name) is not None:
            body[spec.to] = _written(values[name], spec)
    for ref in write.references.values():
        key = {theirs: values.get(ours) for theirs, ours in ref.by.items()}
        if all(value is not None for value in key.values()):
            body[ref.to] = find(ref.via, key)
    return body


def _written(value: Any, spec: d.FieldWrite) -> Any:
    if isinstance(value, list):
        value = spec.join.join(value) if spec.join is not None else value[0] if spec.take == "first" else value
    return spec.values.get(value, value) if spec.values and isinstance(value, str) else value
