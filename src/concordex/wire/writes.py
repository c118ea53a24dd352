"""Writing records in the way that a dialect declares."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import orjson

from concordex.errors import BadAnswer, RequestRefused
from concordex.model.fields import ORIGINAL
from concordex.wire import dialect as d
from concordex.wire.paths import at
from concordex.wire.session import Asked, Session
from concordex.wire.shapes import merged, put
from concordex.wire.tasks import follow

_PATCHES = {"merge_patch": "application/merge-patch+json", "json_patch": "application/json-patch+json"}


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
    sent: Any = bodies[0] if how.most == 1 else list(bodies)
    answer = await _write(session, how, sent, how.records if how.most > 1 else None)
    if how.named:
        return [at(how.named).first(body) for body in bodies]
    made = at(how.made).first(answer)
    made = made if isinstance(made, list) else [made]
    ids = [_id_of(record, how.id or record_id) for record in made]
    if len(ids) != len(bodies) or None in ids:
        raise BadAnswer(
            f"the answer to {how.method} {how.rpc or how.path} names {len(ids) - ids.count(None)} new records"
            f" for {len(bodies)} sent",
            where=session.endpoint.name,
        )
    return ids


async def create_together(
    session: Session, how: d.Together, bodies: Mapping[str, Sequence[Mapping[str, Any]]], record_ids: Mapping[str, str]
) -> dict[str, list[Any]]:
    """Create records of several tables in one call; for each table their new ids, in the order sent.

    ``bodies`` are by table, as ``record_ids``: where an id stands in a record of it.
    """
    sent: dict[str, Any] = {}
    for table, listed in bodies.items():
        put(sent, how.tables[table], list(listed))
    answer = await _write(session, how, sent, None)
    made = at(how.made).first(answer)
    ids = {
        table: [_id_of(one, record_ids[table]) for one in at(how.tables[table]).first(made) or []] for table in bodies
    }
    for table, listed in bodies.items():
        if len(ids[table]) != len(listed) or None in ids[table]:
            raise BadAnswer(
                f"the answer names {len(ids[table]) - ids[table].count(None)} new records of {table}"
                f" for {len(listed)} sent",
                where=session.endpoint.name,
            )
    return ids


def _id_of(record: Any, path: str) -> Any:
    """An id alone is also an answer."""
    return at(path).first(record) if isinstance(record, dict) else record if isinstance(record, str | int) else None


async def update(
    session: Session,
    how: d.Update,
    record_id: str,
    body: Mapping[str, Any],
    fields: Mapping[str, Any] | None = None,
) -> None:
    """Alter one record; its ``fields``, as they were read, may stand in the path."""
    if how.most > 1:
        await update_many(session, how, {record_id: body})
        return
    values = {**(fields or {}), "record_id": record_id}
    sent: Any = body
    if how.whole:
        sent = merged(await _as_it_is(session, how, how.whole, values), body)
    if how.form_of == "json_patch":
        # "add" replaces what is there and makes what is not (RFC 6902, section 4.1)
        sent = [{"op": "add", "path": f"/{_pointer(name)}", "value": value} for name, value in _flat(body)]
    headers = {"Content-Type": _PATCHES[how.form_of]} if how.form_of in _PATCHES else {}
    headers |= await _match(session, how, values) if how.etag else {}
    await _write(session, how, sent, None, values, headers)


async def _as_it_is(session: Session, how: d.Update, whole: d.Whole, values: Mapping[str, Any]) -> Mapping[str, Any]:
    """The record that is altered, in the system's own members."""
    if whole.from_ == "list":
        place = orjson.loads(values.get(ORIGINAL) or "null")
    else:
        now = await session.get(d.Call(path=how.path), values)
        place = at(how.within).first(now.body) if how.within else now.body
    if not isinstance(place, Mapping):
        raise BadAnswer(f"{how.path} holds no record that could be sent back whole", where=session.endpoint.name)
    return {name: value for name, value in place.items() if name not in whole.without}


async def update_many(session: Session, how: d.Update, bodies: Mapping[str, Mapping[str, Any]]) -> None:
    """Alter several records in one call."""
    listed = [{**body, **({how.id: record_id} if how.id else {})} for record_id, body in bodies.items()]
    await _write(session, how, listed, how.records)


async def delete(
    session: Session, how: d.Delete, record_ids: Sequence[str], fields: Mapping[str, Any] | None = None
) -> None:
    """Delete one record, or as many as the dialect lets go in one call."""
    if how.most == 1:
        values = {**(fields or {}), "record_id": record_ids[0]}
        await _write(session, how, None, None, values, await _match(session, how, values) if how.etag else {})
    else:
        await _write(session, how, list(record_ids), how.records, {"record_ids": ",".join(record_ids)})


async def _match(session: Session, how: d.Send, values: Mapping[str, Any]) -> dict[str, str]:
    """If-Match with the record's present tag, so that what somebody alters meanwhile is not overwritten."""
    now = await session.get(d.Call(path=how.path), values)
    tag = now.headers.get("ETag")
    return {"If-Match": tag} if tag else {}


async def act(session: Session, how: d.Act, record_id: str, values: Mapping[str, Any] | None = None) -> Any:
    """Do to a record what the dialect calls by a name of its own; what the system answers."""
    return await _write(session, how, None, None, {**(values or {}), "record_id": record_id})


async def commit(session: Session, how: d.Send) -> None:
    """Put into effect what was only staged."""
    await _write(session, how, None, None)


async def _write(
    session: Session,
    how: d.Send,
    sent: Any,
    member: str | None,
    values: Mapping[str, Any] | None = None,
    headers: Mapping[str, str] | None = None,
) -> Any:
    asked = await session.asked(how, values)
    if sent is not None:
        _place(asked, [sent] if how.listed else sent, member or how.within)
    asked.headers.update(headers or {})
    answer = await session.write(asked)
    return await follow(session, how.task, answer) if how.task else answer.body


def _place(asked: Asked, sent: Any, member: str | None) -> None:
    """Put what is sent where the dialect wants it: into a member of the body or of the call, or as the whole."""
    if asked.rpc:
        if member:
            put(asked.params, member, sent)
        else:
            asked.params = merged(asked.params, sent)
    elif member:
        asked.body = dict(asked.body or {})
        put(asked.body, member, sent)
    else:
        asked.body = merged(asked.body, sent) if isinstance(asked.body, Mapping) and isinstance(sent, Mapping) else sent


def _pointer(name: str) -> str:
    """A dotted member as a JSON Pointer (RFC 6901)."""
    return "/".join(step.replace("~", "~0").replace("/", "~1") for step in name.split("."))


def _flat(body: Mapping[str, Any], above: str = "") -> list[tuple[str, Any]]:
    found = []
    for name, value in body.items():
        place = f"{above}{name}"
        found += _flat(value, f"{place}.") if isinstance(value, Mapping) else [(place, value)]
    return found


#: Finds the system's id of the record of a table that a natural key names.
FindId = Callable[[str, Mapping[str, Any]], Any]


def body_of(values: Mapping[str, Any], write: d.Write, find: FindId, emptied: Collection[str] = ()) -> dict[str, Any]:
    """Our fields as the members that the system takes, references as its own ids.

    A field without a value is left out, unless it is among those to be ``emptied``.
    """
    body: dict[str, Any] = {}
    for name, spec in write.fields.items():
        if values.get(name) not in (None, []):
            put(body, spec.to, _written(values[name], spec))
        elif name in emptied:
            put(body, spec.to, spec.empty)
    for ref in write.references.values():
        key = {theirs: values.get(ours) for theirs, ours in ref.by.items()}
        if all(value is not None for value in key.values()):
            put(body, ref.to, find(ref.via, key))
        elif any(ours in emptied for ours in ref.by.values()):
            put(body, ref.to, None)
    return body


def _written(value: Any, spec: d.FieldWrite) -> Any:
    if isinstance(value, list):
        value = spec.join.join(value) if spec.join is not None else value[0] if spec.take == "first" else value
    if spec.number and value is not None:
        number = float(value)
        return int(number) if number.is_integer() else number
    return spec.values.get(value, value) if spec.values and isinstance(value, str) else value
