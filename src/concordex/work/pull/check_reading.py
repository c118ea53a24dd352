"""Trying out what a dialect says of reading: whether pages follow each other, and whether filters lose nothing."""

from __future__ import annotations

from collections.abc import AsyncIterator
from datetime import datetime, timedelta
from typing import Any

import polars as pl

from concordex.errors import ConcordexError, NotRecorded, QueryError
from concordex.model.fields import Type
from concordex.query.parse import parse
from concordex.wire import dialect as d
from concordex.wire.http.session import Session
from concordex.wire.reading.pages import Pager
from concordex.wire.reading.paging import walk
from concordex.wire.reading.read import parents_of
from concordex.work.pull.pushdown import narrowed, reachable

#: Pages of a narrowed list that are looked through for the record that must be among them.
_PAGES = 5


async def doubts(session: Session, name: str, parents: pl.DataFrame | None) -> list[str]:
    """What the first two pages of a table show to be wrong, or do not show although the dialect says so."""
    table = session.dialect.tables[name]
    if table.read.file:
        return []
    parent = next(iter(parents_of(table.read, parents)), None)
    if table.read.each and parent is None:
        return ["there is no record that this list would hang from: it was not tried"]
    pager = Pager(session, table.read, parent)
    pages = [page async for page in _so_many(pager, 2)]
    texts = [] if pages else ["no record at all came: whether it is read rightly cannot be seen"]
    texts += _of_ids(table, pages)
    if pager.trail.promised and pager.trail.announced is None:
        texts.append(f"no total stands at {pager.trail.promised}")
    if isinstance(table.read.pages, d.OnePage) and not table.read.complete and pager.trail.apart is None:
        texts.append("it comes in one answer, so pulls of it are unproven: say why it is `complete`, if it is")
    elif not table.read.complete:
        texts += pager.trail.doubts
    return [*texts, *pager.trail.faults]


def _of_ids(table: d.Table, pages: list[list[dict[str, Any]]]) -> list[str]:
    """Records without ids, and records that came twice."""
    named = table.fields["record_id"].from_
    ids = [[named[0].first(record) for record in page] if named else [] for page in pages]
    nameless = sum(number in (None, "") for page in ids for number in page)
    texts = [f"{nameless} records have no id"] if nameless else []
    if len(ids) > 1 and (again := set(map(str, ids[0])) & set(map(str, ids[1]))):
        texts.append(f"{len(again)} records of the first page came again on the second")
    return texts


async def _so_many(pager: Pager, most: int) -> AsyncIterator[list[dict[str, Any]]]:
    """The records of the first pages of a list that have any."""
    left = most
    async for page in walk(pager):
        if page.records:
            yield list(page.records)
            left -= 1
        if not left:
            return


async def filters(
    session: Session, name: str, frame: pl.DataFrame, parents: pl.DataFrame | None, now: datetime
) -> AsyncIterator[tuple[str, bool, str]]:
    """Each test that the system applies itself, whether a record for which it holds came back, and what was seen."""
    table = session.dialect.tables[name]
    for rule in table.filters:
        for test in rule.tests:
            asked = _asked(rule.field, test, table, frame)
            if asked is None:
                yield f"{rule.field} {test}", True, "not tried: no record of the first page has a value that fits"
                continue
            text, number = asked
            try:
                came, seen = await _comes_back(session, table, text, number, parents, now)
            except NotRecorded:
                came, seen = True, "not tried: the recording was not asked this"
            except ConcordexError as error:
                came, seen = False, str(error)
            yield f"{rule.field} {test}", came, f"{text}: {seen}"


def _asked(field: str, test: str, table: d.Table, frame: pl.DataFrame) -> tuple[str, str] | None:
    """A filter that holds for a record of the first page, and that record's id."""
    kind = table.type_of(field)
    bearers = frame.filter(pl.col(field).is_not_null())
    if test == "missing":
        bearers = frame.filter(pl.col(field).is_null())
    if not bearers.height:
        return None
    row = bearers.row(0, named=True)
    value = row[field][0] if kind.is_list and row[field] else row[field]
    if kind is Type.TIME and isinstance(value, datetime):
        past = test in ("newer than", ">", ">=")
        value = (value + timedelta(seconds=-60 if past else 60)).strftime("%Y-%m-%dT%H:%M:%SZ")
    written = f"'{value}'" if '"' in str(value) else f'"{value}"'
    text = {
        "present": f"{field} present", "missing": f"{field} missing", "in": f"{field} in ({written})",
        "like": f"{field} like {written}", "within": f"{field} within {written}",
    }.get(test, f"{field} {test} {written}")  # fmt: skip
    return text, row["record_id"]


async def _comes_back(
    session: Session, table: d.Table, text: str, number: str, parents: pl.DataFrame | None, now: datetime
) -> tuple[bool, str]:
    try:
        query = parse(text)
        reached = reachable(query, table, now)
    except QueryError as error:
        return True, f"not tried ({error.what})"
    if not reached.nodes:
        return True, "never handed over: the answer could lack a record (docs/dialects.md says what it takes)"
    narrow = narrowed(reached, table, query, now)
    parent = next(iter(parents_of(table.read, parents)), None)
    path, seen = table.fields["record_id"].from_[0], 0
    async for records in _so_many(Pager(session, table.read, parent, narrow), _PAGES):
        seen += len(records)
        if any(str(path.first(record)) == number or number.endswith(f"/{path.first(record)}") for record in records):
            return True, f"the record came back, among {seen}"
    return False, f"the record {number}, for which it holds, is not among the {seen} that came"
