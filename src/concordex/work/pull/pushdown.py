"""What a system is asked to leave out itself, by the filter, the columns and the moment that are wanted."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from datetime import datetime

import polars as pl

from concordex.errors import CalledWrongly
from concordex.model.fields import ALIASES, Type
from concordex.query.bind import Binder
from concordex.query.frames import to_polars
from concordex.query.pushdown import FilterTest, Reached, reach
from concordex.query.tree import And, Clause, Filter, clauses_of
from concordex.wire import dialect as d
from concordex.wire.dialect.templates import Template
from concordex.wire.reading.pages import Narrow


def reachable(query: Filter | None, table: d.Table, now: datetime, exact: Collection[str] = ()) -> Reached:
    """What of ``query`` a system can apply to ``table`` itself; it asks ``exact`` fields by the system's own words."""
    if query is None:
        return Reached()
    types: Mapping[str, Type] = {"system": Type.TEXT, **table.types}
    try:
        abilities = [_ability(rule, table, exact) for rule in table.filters if _says_it_alone(table.fields[rule.field])]
        return reach(query, Binder(query, types, now), abilities)
    except CalledWrongly:
        return Reached()  # a field that this system lacks: all is filtered here


def narrowed(
    reached: Reached, table: d.Table, query: Filter | None, now: datetime, columns: Sequence[str] = ()
) -> Narrow:
    """The same as the system's dialect says it: parameters, path, members, and how far back to go."""
    pages = table.read.pages
    since, until = None, None
    if isinstance(pages, d.WindowPages) and pages.field:
        since, until = _bounds(query, table, pages.field, now)
    members = _members(query, table, columns) if columns and table.read.columns else ()
    path = Template(reached.path) if reached.path else None  # credentials may be named in it as well
    return Narrow(
        parameters=reached.parameters, path=path, members=members, since=since, until=until,
        parents=_of_parents(query, table, now) if query and table.read.each else None,
    )  # fmt: skip


def _of_parents(query: Filter, table: d.Table, now: datetime) -> Callable[[pl.DataFrame], pl.DataFrame] | None:
    """Of the records that lists hang from, those whose lists can hold what is wanted."""
    fields = {name: spec.of_parent for name, spec in table.fields.items() if spec.of_parent}
    binder = Binder(query, {"system": Type.TEXT, **table.types}, now)
    asked = []
    for node in query.conjuncts:
        if isinstance(node, Clause):
            try:
                bound = binder.bind(node)
            except CalledWrongly:
                continue
            if bound.column in fields and bound.extra is None:
                asked.append(node)
    if not asked:
        return None

    def chosen(frame: pl.DataFrame) -> pl.DataFrame:
        own = frame.select(pl.col(theirs).alias(ours) for ours, theirs in fields.items() if theirs in frame.columns)
        return frame.filter(own.select(to_polars(And(tuple(asked)), binder).alias("wanted"))["wanted"])

    return chosen


def _says_it_alone(spec: d.FieldMap) -> bool:
    """Whether one member of the system's is our field as it stands: then its tests and ours mean the same."""
    return len(spec.from_) == 1 and spec.read_as != "slug"


_AFTER, _BEFORE = ("newer than", ">", ">="), ("older than", "<", "<=")


def _bounds(query: Filter | None, table: d.Table, field: str, now: datetime) -> tuple[datetime | None, datetime | None]:
    """The latest moment before which nothing is wanted, and the earliest after which nothing is."""
    after, before = list[datetime](), list[datetime]()
    for node in query.conjuncts if query else ():
        if isinstance(node, Clause) and node.operator in (*_AFTER, *_BEFORE):
            try:
                bound = Binder(query, table.types, now).bind(node) if query else None
            except CalledWrongly:
                continue
            if bound and bound.column == field:
                (after if node.operator in _AFTER else before).append(bound.values[0])
    return max(after, default=None), min(before, default=None)


def _members(query: Filter | None, table: d.Table, columns: Sequence[str]) -> Sequence[str]:
    """The members that hold ``columns`` and what ``query`` asks; none where that is not plain to see."""

    asked = [clause.field.text.lower() for clause in clauses_of(query.node)] if query else []
    names = [ALIASES.get(name, name) for name in ("record_id", *columns, *asked) if name not in ("system", "entry")]
    members: dict[str, None] = {}
    for name in names:
        if name not in table.fields:
            return ()
        for path in table.fields[name].from_:
            steps = path.steps
            if not steps:
                return ()
            members[steps[0]] = None
    return list(members)


def _ability(rule: d.FilterMap, table: d.Table, exact: Collection[str]) -> FilterTest:
    mapped = table.fields[rule.field].values
    values: dict[str, list[str]] | None = None
    if mapped is not None:
        values = {}
        for theirs, ours in mapped.items():
            if ours is not None:
                values.setdefault(ours, []).append(theirs)
    return FilterTest(
        field=rule.field, tests=tuple(rule.tests), parameter=rule.parameter, path=rule.path, write=rule.write,
        several=rule.several, together=rule.together, time=rule.time, values=values,
        any_case=rule.any_case or rule.field in exact, escape=rule.escape, wildcards=rule.wildcards,
        otherwise=table.fields[rule.field].otherwise,
    )  # fmt: skip
