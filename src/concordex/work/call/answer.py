"""An answer as rows: what stands at a path, or what a dialect makes of its records."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import orjson
import polars as pl

from concordex.errors import BadAnswer, CalledWrongly
from concordex.model.fields import ORIGINAL
from concordex.wire import dialect as d
from concordex.wire.dialect.paths import PathError, at
from concordex.wire.http.answers import Reply
from concordex.wire.http.formats import decode
from concordex.wire.reading.pages import Page
from concordex.wire.reading.table_read import Collector
from concordex.words import suggestion


def decoded(reply: Reply, dialect: d.Dialect) -> Any:
    """The body, taken apart by the dialect's shape or as JSON; None where it is neither."""
    for shape in (dialect.shape, d.JsonShape()):
        try:
            return decode(reply.content, shape) if reply.content else None
        except BadAnswer:
            continue
    return None


def taken(body: Any, path: str) -> list[dict[str, Any]]:
    """What stands at a path into an answer, a row for each: members (``a.b``) or JSONPath (RFC 9535)."""
    try:
        found = at(path).several(body)
    except PathError as error:
        raise CalledWrongly(f"--take: {error}") from error
    if found is None:
        known = list(body) if isinstance(body, Mapping) else []
        advice = suggestion(path.partition(".")[0], known) if known else "the answer has no members"
        raise CalledWrongly(f"nothing stands at {path}", advice=advice)
    return rows_of(found if isinstance(found, list) else [found])


def rows_of(found: Sequence[Any]) -> list[dict[str, Any]]:
    """Each as members: what has none as its ``value``."""
    return [dict(row) if isinstance(row, Mapping) else {"value": row} for row in found]


def only_list(body: Any) -> str | None:
    """The path of the one list of objects in an answer, to its second level; None where there are none or several."""
    if isinstance(body, list):
        return "$"
    found = [name for name, value in _members(body) if isinstance(value, list)]
    below = [f"{name}.{inner}" for name, value in _members(body) for inner, held in _members(value)
             if isinstance(held, list)]  # fmt: skip
    lists = found or below
    return lists[0] if len(lists) == 1 else None


def _members(value: Any) -> Sequence[tuple[str, Any]]:
    return list(value.items()) if isinstance(value, Mapping) else []


def frame_of(rows: Sequence[Mapping[str, Any]]) -> pl.DataFrame:
    """Rows as a frame: what is nested as JSON text, values of several sorts as texts."""
    columns: dict[str, list[Any]] = {name: [] for row in rows for name in row}
    for row in rows:
        for name, values in columns.items():
            value = row.get(name)
            values.append(orjson.dumps(value).decode() if isinstance(value, Mapping | list) else value)
    for name, values in columns.items():
        if len({type(value) for value in values if value is not None}) > 1:
            columns[name] = [None if value is None else str(value) for value in values]
    return pl.DataFrame(columns, strict=False)


def records(bodies: Sequence[Any]) -> list[Any]:
    """The members of the one list that each answer holds."""
    path = only_list(bodies[0])
    if path is None:
        raise CalledWrongly("the answer holds no list, or several", advice="say which: --take PATH")
    return [record for body in bodies for record in at(path).several(body) or []]


def as_table(dialect: d.Dialect, table: str, bodies: Sequence[Any]) -> pl.DataFrame:
    """The records of answers as the dialect maps those of a table."""
    spec = dialect.tables.get(table)
    if spec is None:
        raise CalledWrongly(f"the dialect has no table {table!r}", advice=suggestion(table, dialect.tables))
    pages = []
    for body in bodies:
        held = body.get("result") if spec.read.rpc and isinstance(body, Mapping) else body
        found = spec.read.records.several(held)
        found = [found] if isinstance(found, Mapping) else found
        if not isinstance(found, list) or not all(isinstance(record, Mapping) for record in found):
            raise CalledWrongly(f"no records stand at {spec.read.records}, where {table} has its own")
        pages.append(found)
    return mapped(dialect, table, pages)


def mapped(dialect: d.Dialect, table: str, pages: Sequence[Sequence[Any]]) -> pl.DataFrame:
    """Records as the dialect maps those of a table."""
    collector = Collector(dialect.tables[table], dialect.limits.record)
    for records_of_page in pages:
        collector.add(Page(records=records_of_page))
    return collector.look([]).frame.drop(ORIGINAL)
