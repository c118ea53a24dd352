"""What a dialect says that cannot be meant: names that nobody fills in, fields that are nowhere, no tests."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from datetime import UTC, datetime
from typing import Any

from concordex.errors import CalledWrongly, QueryError
from concordex.model.fields import FIELDS, Type
from concordex.model.scalars import parse_flag
from concordex.query.bind import OPERATORS, Binder
from concordex.wire import dialect as d
from concordex.wire.dialect.filters import FilterExpression
from concordex.wire.dialect.order import order
from concordex.wire.dialect.paths import PathError, at
from concordex.wire.dialect.templates import Template, names_in
from concordex.words import suggestion

KeyPath = tuple[str | int, ...]
Fault = tuple[KeyPath, str]

#: Parts of a call that are filled in.
_FILLED = ("path", "query", "headers", "json_body", "form", "xml", "params")
_KEYS = {"json_body": "json"}
#: What looks like a key that somebody left in a header: long, of mixed signs, and no word.
_KEY_LIKE = re.compile(r"(?=\S*\d)(?=\S*[A-Za-z])[A-Za-z0-9+/_=.-]{24,}")
_GUARDED = ("authorization", "cookie", "token", "secret", "api-key", "apikey", "password")


def unmeant(dialect: d.Dialect) -> Iterator[Fault]:
    """Every such thing, and where it stands."""
    for place, call in d.calls_of(dialect):
        yield from _names(dialect, place, call)
        yield from _secrets((*place, "headers"), call.headers)
    yield from _headers(dialect)
    yield from _signing_in(dialect)
    yield from _circles(dialect)
    if dialect.commands and dialect.commands.table not in dialect.tables:
        hint = suggestion(dialect.commands.table, dialect.tables)
        yield ("commands", "table"), f"there is no table {dialect.commands.table!r} in this dialect; {hint}"
    for name, table in dialect.tables.items():
        place = ("tables", name)
        yield from _fields(dialect, place, table)
        pages = table.read.pages
        if isinstance(pages, d.WindowPages) and pages.field and pages.field not in table.fields:
            hint = suggestion(pages.field, table.fields)
            yield (*place, "read", "pages", "field"), f"there is no field {pages.field!r} there; {hint}"
        yield from _filters(dialect, place, table)
        if table.write:
            yield from _writes(dialect, place, table, table.write)
        for key, member in _references_named(table):
            if table.config and member not in table.config.references:
                hint = suggestion(member, table.config.references)
                yield (*place, "config", key), f"{member!r} is not among its references; {hint}"
        if table.config and not table.config.single and "name" not in table.fields:
            yield (*place, "config"), "objects are known by their names, and the table has no field `name`"


def _names(dialect: d.Dialect, place: KeyPath, call: d.Call) -> Iterator[Fault]:
    known = _known(dialect, place)
    if known is None:  # members of the record at hand
        yield from _members(place, call)
        return
    for part in _FILLED:
        for name in sorted(names_in(getattr(call, part)) - known):
            if not name.startswith("$"):
                text = f"nothing is known here as {{{name}}}; {suggestion(name, known)}"
                yield (*place, _KEYS.get(part, part)), f"{text}; {{{{{name}}}}} would be the text itself"


def _members(place: KeyPath, call: d.Call) -> Iterator[Fault]:
    for part in _FILLED:
        for name in sorted(names_in(getattr(call, part))):
            try:
                at(name)
            except PathError as error:
                yield (*place, _KEYS.get(part, part)), f"{{{name}}}: {error}"


def _known(dialect: d.Dialect, place: KeyPath) -> set[str] | None:
    """The names that a call at ``place`` may use; None where any member of a record may be named."""
    known = {*dialect.credentials, *dialect.lookups}
    if place[0] == "sign_in":
        gives = dialect.sign_in.gives if isinstance(dialect.sign_in, d.CallSignIn) else {}
        return {*dialect.credentials, *(gives if place[1] == "sign_out" else ())}
    if place[0] != "tables":
        return known | _OF_PARTS.get(str(place[0]), set())
    table, part = dialect.tables[str(place[1])], place[2:]
    if part[:1] == ("write",):
        return (
            known
            | {"note"}
            | ({"record_id", "record_ids", "target", "lines", *table.fields} if part[1] != "create" else set())
        )
    if part[1:2] in (("details",), ("gathers",)):
        return None
    above = table.read.each.of if table.read.each else None
    return known | (set(dialect.tables[above].fields) if above in dialect.tables else set())


#: What the calls of some parts may use beside.
_OF_PARTS = {"tasks": {"task"}, "commands": {"line", "as", "form"}}


def _references_named(table: d.Table) -> Iterator[tuple[str, str]]:
    """Each key of configuration objects that names one of their references, and which."""
    if table.config and table.config.within:
        yield "within", table.config.within
    if table.config and table.config.groups:
        yield "groups", table.config.groups.groups


def _circles(dialect: d.Dialect) -> Iterator[Fault]:
    try:
        order(dialect, list(dialect.tables))
    except CalledWrongly as error:
        yield ("tables",), error.what


def _signing_in(dialect: d.Dialect) -> Iterator[Fault]:
    how = dialect.sign_in
    if isinstance(how, d.CallSignIn):
        known = {*dialect.credentials, *how.gives}
        carried = how.carries
        for part in ("headers", "query", "body", "params"):
            for name in sorted(names_in(getattr(carried, part)) - known):
                yield ("sign_in", "carries", part), f"nothing is known here as {{{name}}}; {suggestion(name, known)}"
    for key, text in how.model_dump(exclude={"call", "sign_out", "carries", "gives", "by"}).items():
        if isinstance(text, str):
            for name in sorted(names_in(text) - dialect.credentials.keys()):
                hint = suggestion(name, dialect.credentials)
                yield ("sign_in", key), f"{{{name}}} is none of the dialect's credentials; {hint}"
            if key in ("value", "password", "secret", "key") and not names_in(text):
                yield ("sign_in", key), "is written here itself: name a credential, as {key}, that a workspace gives"


def _secrets(place: KeyPath, headers: Any) -> Iterator[Fault]:
    for name, text in headers.items():
        guarded = any(word in name.lower() for word in _GUARDED)
        if (guarded and not names_in(text)) or _KEY_LIKE.search(text):
            yield (*place, name), "looks like a secret: name a credential, as {key}, that a workspace gives"


def _headers(dialect: d.Dialect) -> Iterator[Fault]:
    """What is wrong with the headers of every request, in which nothing is filled."""
    yield from _secrets(("headers",), dialect.headers)
    for name, text in dialect.headers.items():
        if text.names:
            yield ("headers", name), f"{text} is sent as it stands: names are filled in `sign_in` and in calls"


def _fields(dialect: d.Dialect, place: KeyPath, table: d.Table) -> Iterator[Fault]:
    for name, spec in table.fields.items():
        kind, where = table.type_of(name), (*place, "fields", name)
        if spec.via:
            if kind.is_list:
                yield (*where, "via"), f"{name} holds a list, and `via` means one record"
            other = dialect.tables[spec.via].fields
            if spec.take not in other:
                hint = f"{spec.via} has no field {spec.take!r}; {suggestion(spec.take, other)}"
                yield (*where, "take" if "take" in spec.model_fields_set else "via"), hint
        if kind.is_list and spec.values is not None:
            yield (*where, "values"), f"{name} holds a list, and `values` translates single words"
        if kind is Type.FLAG and any(parse_flag(ours) is None for ours in (spec.values or {}).values() if ours):
            yield (*where, "values"), 'of a flag, our words are "true" and "false"'
        parent = table.read.each.of if table.read.each else None
        if spec.of_parent and parent in dialect.tables and spec.of_parent not in dialect.tables[parent].fields:
            hint = suggestion(spec.of_parent, dialect.tables[parent].fields)
            yield (*where, "of_parent"), f"{parent} has no field {spec.of_parent!r}; {hint}"


def _filters(dialect: d.Dialect, place: KeyPath, table: d.Table) -> Iterator[Fault]:
    known = {"value", *dialect.credentials, *dialect.lookups}
    for number, rule in enumerate(table.filters):
        for name in sorted(names_in(Template(rule.path)) - known if rule.path else ()):
            hint = suggestion(name, known)
            yield (*place, "filters", number, "path"), f"nothing is known here as {{{name}}}; {hint}"
        for test in rule.tests:
            if test not in OPERATORS:
                yield (*place, "filters", number, "tests"), f"{test!r} is not a test; {suggestion(test, OPERATORS)}"


def _writes(dialect: d.Dialect, place: KeyPath, table: d.Table, write: d.Write) -> Iterator[Fault]:
    place = (*place, "write")
    if any("record_id" in key for key in write.keys):
        yield (*place, "keys"), "record_id is the system's own: a natural key is what people know a record by"
    update = write.update
    if (
        update
        and update.method == "PUT"
        and not update.whole
        and update.batch_size == 1
        and update.form_of == "members"
    ):
        reason = "a PUT puts what is sent in the place of all that was there (RFC 9110, section 9.3.4)"
        yield (*place, "update", "method"), f"{reason}: say `whole: true`, or another method"
    for where, text in _filters_of(write):
        try:
            Binder(text.query, table.types, datetime.now(UTC)).check()
        except QueryError as error:
            yield (*place, *where), str(error)
    for where, name, known in _fields_named(dialect, table, write):
        if name not in known:
            yield (*place, *where), f"there is no field {name!r} there; {suggestion(name, known)}"


def _filters_of(write: d.Write) -> Iterator[tuple[KeyPath, FilterExpression]]:
    """Each filter on the table's own records, and where it stands."""
    if write.delete and write.delete.binned:
        yield ("delete", "binned"), write.delete.binned
    if write.ready:
        yield ("ready", "when"), write.ready.when
        if write.ready.failed:
            yield ("ready", "failed"), write.ready.failed


def _fields_named(dialect: d.Dialect, table: d.Table, write: d.Write) -> Iterator[tuple[KeyPath, str, Collection[str]]]:
    """Each mention of one of our fields: where it stands, its name, and the fields among which it should be."""
    own = {*table.fields, *FIELDS}
    yield from ((("retire",), name, own) for name in write.retire)
    yield from ((("fields", n, "made_from"), f.made_from, own) for n, f in write.fields.items() if f.made_from)
    if write.ready:
        yield from ((("ready", "facts"), name, table.fields) for name in write.ready.facts)
        for other, by in write.ready.brings.items():
            yield ("ready", "brings", other), by, dialect.tables[other].fields
    if write.stands:
        stands = write.stands
        racks = {ours: ref.via for ref in write.references.values() for ours in ref.by.values()}
        yield ("stands", "rack"), stands.rack, racks
        yield ("stands", "at"), stands.at, table.fields
        if stands.face:
            yield ("stands", "face"), stands.face, table.fields
        for what, by_table in stands.bodies.items():
            for other, name in by_table.items():
                yield ("stands", what, other), name, dialect.tables[other].fields if other in dialect.tables else ()
        if stands.rack in racks:
            yield ("stands", "size"), stands.size, dialect.tables[racks[stands.rack]].fields
            if stands.carries:
                yield ("stands", "carries"), stands.carries, dialect.tables[racks[stands.rack]].fields
