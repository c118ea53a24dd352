"""Writing records in the way that a dialect declares."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence, Set
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from typing import Any, cast

import orjson
import polars as pl

from concordex.errors import BadAnswer, CalledWrongly, RequestRefused, Withheld
from concordex.model.fields import ALIASES, ORIGINAL, Type
from concordex.model.masks import masks_in
from concordex.model.members import pruned, put_into
from concordex.model.scalars import parse_time
from concordex.query.predicate import predicate
from concordex.query.tree import clauses_of
from concordex.wire import dialect as d
from concordex.wire.dialect.paths import Path, at
from concordex.wire.http.formats import merged
from concordex.wire.http.session import Request, Session
from concordex.wire.reading.pages import moment
from concordex.wire.writing.tasks import follow

_PATCHES = {
    "merge_patch": "application/merge-patch+json", "json_patch": "application/json-patch+json",
    "patch_op": "application/scim+json",
}  # fmt: skip


@dataclass(frozen=True)
class Refusal:
    """Which record of a list was refused, counted from nought, and why."""

    index: int
    reason: str


def refusals(error: RequestRefused, rules: d.Refusals | None, sent: Sequence[Mapping[str, Any]]) -> list[Refusal]:
    """Which of the records ``sent`` a refusal blames; empty when it does not say."""
    if rules is None:
        return []
    listed = rules.records.first(error.body)
    if isinstance(listed, Mapping):  # by their places in the list: {"2": {…}}
        items = [({rules.index or "": key}, item) for key, item in listed.items()]
    else:
        items = [({}, item) for item in (listed if isinstance(listed, list) else [])]
    named = []
    for key, item in items:
        place = _blamed(rules, {**key}, item, sent)
        if place is not None:
            reason = rules.reason.first(item) if isinstance(item, Mapping) else item
            named.append(Refusal(place, _reason(reason)))
    return named


def _blamed(rules: d.Refusals, key: Mapping[str, Any], item: Any, sent: Sequence[Mapping[str, Any]]) -> int | None:
    """The place in the list of the record that one fault is about."""
    if rules.by:
        value = rules.by.first(item)
        same = [place for place, body in enumerate(sent) if value is not None and rules.by.first(body) == value]
        return same[0] if len(same) == 1 else None
    value = next(iter(key.values()), None) if key else rules.index.first(item) if rules.index else None
    text = str(value) if isinstance(value, int | str) else ""
    place = int(text) if text.isascii() and text.isdecimal() else -1
    return place if 0 <= place < len(sent) else None


async def create(
    session: Session, how: d.Create, bodies: Sequence[Mapping[str, Any]], record_id: Path, key: str | None = None
) -> list[Any]:
    """Create records in one call; their new ids, in the order sent, or a Refusal for those that were not made.

    ``record_id`` is where an id stands; ``key`` is what the system knows a repetition by.
    """
    sent: Any = bodies[0] if how.batch_size == 1 else list(bodies)
    answer = await _write(session, how, sent, how.records if how.batch_size > 1 else None, headers=_known(how, key))
    refused = {refusal.index: refusal for refusal in refused_in(session, how.answers, answer, len(bodies))}
    if how.named:
        return [refused.get(place) or how.named.first(body) for place, body in enumerate(bodies)]
    made = (how.answers.records if how.answers and how.made == "$" else how.made).first(answer)
    made = made if isinstance(made, list) else [made]
    ids = [_id_of(record, how.id or record_id) for record in made]
    if refused and len(made) == len(bodies) - len(refused):  # only what was made is listed
        left = iter(ids)
        ids = [None if place in refused else next(left) for place in range(len(bodies))]
    outcomes = [refused.get(place, number) for place, number in enumerate(ids)]
    if len(outcomes) != len(bodies) or None in outcomes:
        raise BadAnswer(
            f"the answer to {how.method} {how.rpc or how.path} names {len(ids) - ids.count(None)} new records"
            f" for {len(bodies)} sent",
            where=session.endpoint.name,
        )
    return outcomes


def refused_in(session: Session, rules: d.Answers | None, answer: Any, sent: int) -> list[Refusal]:
    """Which records of a list a good answer says it refused (as HTTP 207 does, RFC 4918, section 13)."""
    if rules is None:
        return []
    listed = rules.records.first(answer)
    if not isinstance(listed, list) or len(listed) != sent:
        count = len(listed) if isinstance(listed, list) else 0
        raise BadAnswer(f"the answer tells of {count} records for {sent} sent", where=session.endpoint.name)
    if odd := [n for n, told in enumerate(listed) if not isinstance(told, Mapping)]:
        raise BadAnswer(f"the answer tells nothing of record {odd[0] + 1} of {sent}", where=session.endpoint.name)
    query, columns = rules.refused.query, dict[str, pl.Series]()
    for clause in clauses_of(query.node):
        name = clause.field.text
        columns[ALIASES.get(name.lower(), name.lower())] = _told(listed, name)
    types = {name: _TYPES.get(column.dtype, Type.TEXT) for name, column in columns.items()}
    bad = pl.DataFrame(columns).select(predicate(query, types, session.began).fill_null(False)).to_series()
    return [Refusal(n, _reason(rules.reason.first(listed[n]))) for n, no in enumerate(bad) if no]


#: Of members that are no fields of ours: what they hold decides.
_TYPES: dict[pl.DataType, Type] = {pl.Boolean(): Type.FLAG, pl.Float64(): Type.NUMBER}


def _told(listed: Sequence[Mapping[str, Any]], name: str) -> pl.Series:
    """A member of each record that an answer tells of, in whatever letters; null where it is not there, or empty."""
    if "." not in name and not any(name in told for told in listed):
        name = next((key for told in listed for key in told if key.lower() == name.lower()), name)
    found = [at(name).first(told) for told in listed]
    values = [None if value in ("", [], {}) else value for value in found]
    kinds = {float if type(value) is int else type(value) for value in values if value is not None}
    if kinds == {bool}:
        return pl.Series(values, dtype=pl.Boolean())
    if kinds == {float}:
        return pl.Series(values, dtype=pl.Float64())
    texts = [value if isinstance(value, str | None) else orjson.dumps(value).decode() for value in values]
    return pl.Series(texts, dtype=pl.String())


def _reason(said: Any) -> str:
    return "the answer gives no reason" if said in (None, "", [], {}) else str(said)


def _known(how: d.Send, key: str | None) -> dict[str, str]:
    """The header by which the system knows a repetition of the request, where it takes one there."""
    kind, _, name = (how.idempotency or "").partition(":")
    return {name: key} if kind == "header" and key else {}


async def create_together(
    session: Session, how: d.Together, bodies: Mapping[str, Sequence[Mapping[str, Any]]], record_ids: Mapping[str, Path]
) -> dict[str, list[Any]]:
    """Create records of several tables in one call; for each table their new ids, in the order sent.

    ``bodies`` are by table, as ``record_ids``: where an id stands in a record of it.
    """
    sent: dict[str, Any] = {}
    for table, listed in bodies.items():
        put_into(sent, how.tables[table], list(listed))
    answer = await _write(session, how, sent, None)
    made = how.made.first(answer)
    ids = {
        table: [_id_of(record, record_ids[table]) for record in at(how.tables[table]).first(made) or []]
        for table in bodies
    }
    for table, listed in bodies.items():
        if len(ids[table]) != len(listed) or None in ids[table]:
            raise BadAnswer(
                f"the answer names {len(ids[table]) - ids[table].count(None)} new records of {table}"
                f" for {len(listed)} sent",
                where=session.endpoint.name,
            )
    return ids


def _id_of(record: Any, path: Path) -> Any:
    """An id alone is also an answer."""
    return path.first(record) if isinstance(record, dict) else record if isinstance(record, str | int) else None


@dataclass(frozen=True)
class Tagged:
    """A record as one answer gave it, and the tag that belongs to that very answer (RFC 9110, section 8.8.3)."""

    record: Mapping[str, Any]
    tag: str | None = None


async def base_of(
    session: Session, how: d.Update | d.Delete, record_id: str, fields: Mapping[str, Any] | None = None
) -> Tagged | None:
    """The record that a write rests on, where the dialect has it read by itself first; else nothing.

    Raises BadAnswer where no record, or no tag where one is promised, comes.
    """
    whole = getattr(how, "whole", None)
    if not how.etag and (whole is None or whole.from_ == "list"):
        return None
    now = await session.get(d.Call(path=how.path), {**(fields or {}), "record_id": record_id})
    place = at(how.within).first(now.body) if how.within else now.body
    if isinstance(place, list) and len(place) == 1:  # a list of the one record (RFC 8040, section 4.3)
        place = place[0]
    tag = now.headers.get("ETag")
    if how.etag and not tag:
        raise BadAnswer(
            f"the answer to {how.path} has no ETag, which the dialect promises", where=session.endpoint.name,
            advice="nothing guards the record against others: take etag: out of the dialect if that is how it is",
        )  # fmt: skip
    if not isinstance(place, Mapping):
        if how.method == "DELETE":
            return Tagged({}, tag)
        raise BadAnswer(f"{how.path} holds no record that could be sent back whole", where=session.endpoint.name)
    return Tagged(place, tag)


async def update(
    session: Session,
    how: d.Update,
    record_id: str,
    body: Mapping[str, Any],
    fields: Mapping[str, Any] | None = None,
    base: Tagged | None = None,
    own_id: Any = None,
    key: str | None = None,
) -> None:
    """Alter one record; its ``fields``, as they were read, may stand in the path.

    ``base`` is what :func:`base_of` gave, and ``own_id`` the id as the system writes it.
    """
    own_id = record_id if own_id is None else own_id
    values = {**(fields or {}), "record_id": record_id}
    base = base or await base_of(session, how, record_id, fields)
    sent: Any = {how.id: own_id, **body} if how.id and how.form_of not in ("json_patch", "patch_op") else body
    if how.whole:
        there = _as_it_is(session, how.whole, base, values)
        sent = merged(there, sent)
        _refuse_masks(session, how.whole, there, sent)
    if how.form_of == "json_patch":
        # "add" replaces what is there and makes what is not (RFC 6902, section 4.1)
        sent = [{"op": "add", "path": _pointer(steps), "value": value} for steps, value in _flat(body)]
    if how.form_of == "patch_op":
        sent = patch_op(body)
    headers = {"Content-Type": _PATCHES[how.form_of]} if how.form_of in _PATCHES else {}
    listed, member = ([sent], how.records) if how.batch_size > 1 else (sent, None)
    with _matching(how, base) as match:
        await _write(session, how, listed, member, values, headers | match | _known(how, key))


def _as_it_is(session: Session, whole: d.Whole, base: Tagged | None, values: Mapping[str, Any]) -> Mapping[str, Any]:
    """The record that is altered, in the system's own members."""
    place = base.record if base and whole.from_ == "record" else orjson.loads(values.get(ORIGINAL) or "null")
    if not isinstance(place, Mapping):
        raise CalledWrongly(f"{session.endpoint.name} lists no record that could be sent back whole")
    return pruned(place, whole.without)


def _refuse_masks(session: Session, whole: d.Whole, there: Mapping[str, Any], sent: Mapping[str, Any]) -> None:
    """Raise Withheld where a mask that the system shows for a secret would be sent back in its place."""
    shown = set(masks_in(there)) if whole.masks is None else set()
    if masks := [path for path in masks_in(sent) if path in shown]:
        raise Withheld(
            f"the whole record must be sent, and of {', '.join(masks)} only a mask is shown: it might take its place",
            where=session.endpoint.name,
            advice="say in the dialect what the guide says: whole: {without: [member]} where the system keeps what is"
            " not sent, whole: {masks: why} where a mask changes nothing",
        )  # fmt: skip


async def update_many(
    session: Session, how: d.Update, bodies: Sequence[tuple[Any, Mapping[str, Any]]], key: str | None = None
) -> list[Refusal]:
    """Alter several records in one call: ``(id, members)``; those that were refused in a good answer."""
    listed = [{**({how.id: own_id} if how.id else {}), **body} for own_id, body in bodies]
    answer = await _write(session, how, listed, how.records, headers=_known(how, key))
    return refused_in(session, how.answers, answer, len(bodies))


async def delete(
    session: Session,
    how: d.Delete,
    record_ids: Sequence[str],
    fields: Mapping[str, Any] | None = None,
    base: Tagged | None = None,
    own_ids: Sequence[Any] | None = None,
    key: str | None = None,
) -> list[Refusal]:
    """Delete one record, or as many as the dialect lets go in one call; those that were refused in a good answer.

    ``own_ids`` are the ids as the system writes them.
    """
    if how.batch_size == 1:
        values = {**(fields or {}), "record_id": record_ids[0]}
        base = base or await base_of(session, how, record_ids[0], fields)
        with _matching(how, base) as match:
            await _write(session, how, None, None, values, match | _known(how, key))
        return []
    ids = list(own_ids or record_ids)
    more = {"record_ids": ",".join(record_ids)}
    answer = await _write(session, how, ids, how.records, more, _known(how, key))
    return refused_in(session, how.answers, answer, len(ids))


#: A precondition does not hold (RFC 9110, section 15.5.13).
_NOT_MATCHED = 412


@contextmanager
def _matching(how: d.Update | d.Delete, base: Tagged | None) -> Iterator[dict[str, str]]:
    """If-Match with the tag of the answer that was compared (RFC 9110, section 13.1.1).

    A weak tag matches nothing where that is followed, though some systems take it: only a dialect that promises tags
    has it sent, and a refusal then says what may be the matter.
    """
    tag = base.tag if base else None
    weak = tag is not None and tag.startswith("W/")
    try:
        yield {"If-Match": tag} if tag and (how.etag or not weak) else {}
    except RequestRefused as refusal:
        if weak and refusal.http == _NOT_MATCHED:
            refusal.why += f"; or nobody altered it, and the system matches no weak tag, such as its own {tag}"
            refusal.why += " (RFC 9110): take etag: out of the dialect where that is so"
        raise


async def perform(
    session: Session, how: d.Send, record_id: str, values: Mapping[str, Any] | None = None, key: str | None = None
) -> Any:
    """Do to a record what the dialect calls by a name of its own; what the system answers."""
    return await _write(session, how, None, None, {**(values or {}), "record_id": record_id}, _known(how, key))


async def commit(session: Session, how: d.Send, note: str = "") -> None:
    """Put into effect what was only staged; `{note}` in the call says what it is."""
    await _write(session, how, None, None, {"note": note})


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


def _place(asked: Request, sent: Any, member: str | None) -> None:
    """Put what is sent where the dialect wants it: into a member of the body or of the call, or as the whole."""
    if asked.rpc:
        asked.params = _laid(asked.params, sent, member)
    elif member:
        asked.body = _laid(asked.body or {}, sent, member)
    else:
        asked.body = merged(asked.body, sent) if isinstance(asked.body, Mapping) and isinstance(sent, Mapping) else sent


def _laid(body: Mapping[str, Any], sent: Any, member: str | None) -> dict[str, Any]:
    """``body`` with what is sent in one of its members, or laid over it; what the dialect says there stays."""
    if not member:
        return merged(body, sent)
    more: dict[str, Any] = {}
    put_into(more, member, sent)
    return merged(body, more)


#: What a message of SCIM says that it is (RFC 7644, section 3.5.2).
PATCH_OP = "urn:ietf:params:scim:api:messages:2.0:PatchOp"


def patch_op(body: Mapping[str, Any]) -> dict[str, Any]:
    """Members as a PATCH of SCIM: each replaced, or removed where it is to be empty (RFC 7644, section 3.5.2)."""
    operations = []
    for steps, value in _flat(body):
        empty = value in (None, "", [])
        path = ".".join(steps)
        operations.append({"op": "remove", "path": path} if empty else {"op": "replace", "path": path, "value": value})
    return {"schemas": [PATCH_OP], "Operations": operations}


def _pointer(steps: Sequence[str]) -> str:
    """Members, from the outermost, as a JSON Pointer (RFC 6901)."""
    return "".join(f"/{step.replace('~', '~0').replace('/', '~1')}" for step in steps)


def _flat(body: Mapping[str, Any], above: tuple[str, ...] = ()) -> list[tuple[tuple[str, ...], Any]]:
    members = list[tuple[tuple[str, ...], Any]]()
    for name, value in body.items():
        place = (*above, name)
        members += _flat(value, place) if isinstance(value, Mapping) and value else [(place, value)]
    return members


#: Finds the system's id of the record of a table that a natural key names.
FindId = Callable[[str, Mapping[str, Any]], Any]


def body_of(values: Mapping[str, Any], write: d.Write, find: FindId, emptied: Set[str] = frozenset()) -> dict[str, Any]:
    """Our fields as the members that the system takes, references as its own ids.

    A field without a value is left out, unless it is among those to be ``emptied``.
    """
    body: dict[str, Any] = {}
    for name, spec in write.fields.items():
        value = values.get(name)
        if value is not None and value != []:
            put_into(body, spec.to, _written(value, spec))
        elif name in emptied:
            put_into(body, spec.to, spec.empty)
    for ref in write.references.values():
        key = {theirs: values.get(ours) for theirs, ours in ref.by.items()}
        if None not in key.values():
            put_into(body, ref.to, find(ref.via, key))
        elif emptied and not emptied.isdisjoint(ref.by.values()):
            put_into(body, ref.to, None)
    return body


def _written(value: Any, spec: d.FieldWrite) -> Any:
    if isinstance(value, list):
        value = spec.join.join(value) if spec.join is not None else value[0] if spec.take == "first" else value
    if isinstance(value, datetime) or (spec.time != "iso" and isinstance(value, str) and parse_time(value)):
        when = value if isinstance(value, datetime) else cast(datetime, parse_time(value))
        written = moment(when, spec.time)
        return int(written) if spec.time != "iso" else written
    if isinstance(value, float) or (spec.number and value is not None):
        number = float(value)
        return int(number) if number.is_integer() else number
    return spec.values.get(value, value) if spec.values and isinstance(value, str) else value
