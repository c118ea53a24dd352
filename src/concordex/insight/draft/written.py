"""A draft as a file: what is sure stands in it with why; what is not is a comment, with what may settle it."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from typing import Any

from concordex.insight.draft.drafted import Draft, DraftedTable
from concordex.insight.draft.fields import FieldGuess
from concordex.insight.draft.filters import filters_of
from concordex.insight.draft.pages import shaping
from concordex.insight.draft.seen import WriteSeen

#: What stands without quotes and is a text to every reader of YAML.
_BARE = re.compile(r"[A-Za-z_/][\w./-]*( [\w./-]+)*")
_WORDS = {"true", "false", "null", "yes", "no", "on", "off", "y", "n"}
#: How far comments are moved to the right.
_WIDTH = 52


def written(draft: Draft, system: str) -> str:
    """The file; ``system`` is what the commands that settle something name."""
    lines = [
        "# A draft: what was seen stands here, with why; what is only likely is a comment, with what would settle it.",
        f"# concordex dialect check {draft.name} --against {system} tries each part of it.",
        *(f"# {note}" for note in draft.api.notes),
        "format: 1",
        f"name: {draft.name}",
        f"title: {_value(draft.api.title or draft.name)}",
    ]
    if draft.standard:
        lines.append(_noted(f"extends: {draft.standard.dialect}", draft.standard.why))
    if draft.base and not (draft.standard and draft.base == draft.standard.shipped.base):
        lines.append(f"base: {_value(draft.base)}")
    if draft.api.shape != "json":
        lines.append(f"shape: {draft.api.shape}")
    if draft.api.rpc and any(table.seen.rpc for table in draft.tables):
        lines.append(f"rpc: {{path: {_value(_below(draft.api.rpc, draft.base))}}}")
    lines += ["", *_sign_in(draft)]
    lines += _errors(draft)
    if draft.tables or not draft.standard:
        lines += ["", "tables:"]
    if not draft.tables and not draft.standard:
        lines += ["  # nothing was seen that could be a table", "  unknown:", "    read: {path: /unknown}",
                  "    fields: {record_id: id}"]  # fmt: skip
    for table in draft.tables:
        lines += [*_table(draft, table, system), ""]
    if draft.left:
        lines += ["# Left out:", *(f"#   {why}" for why in draft.left)]
    return "\n".join(lines).rstrip() + "\n"


def _errors(draft: Draft) -> Iterator[str]:
    if any(table.seen.posts for table in draft.tables):
        said = 'errors: {present: errors, message: "$.errors[0].message"}'
        yield from ("", _noted(said, "GraphQL says there what it could not answer"))
    elif draft.api.error:
        said = f"errors: {{message: {_value(draft.api.error)}}}"
        yield from ("", _noted(said, "an answer that refused said so there"))


def _sign_in(draft: Draft) -> Iterator[str]:
    api = draft.api
    shipped = draft.standard.shipped if draft.standard else None
    if shipped and shipped.by != "none" and (api.sign_in is None or api.sign_in.get("by") == shipped.by):
        return
    if api.credentials:
        yield "credentials:"
        for name, told in api.credentials.items():
            yield f"  {name}: {_value(dict(told))}"
        for name in shipped.credentials if shipped else ():
            if name not in api.credentials:
                yield f"  {name}: null"
    if api.sign_in is None:
        yield "# How one signs in was not seen: sign_in: {by: …} (docs/dialects.md, Signing in)"
        return
    how = _shortened(api.sign_in, draft.base)
    yield _noted("sign_in:", api.sign_in_why)
    for key, value in how.items():
        yield f"  {key}: {_value(value)}"


def _shortened(how: Mapping[str, Any], base: str) -> dict[str, Any]:
    """The same with paths below the base."""
    made = dict(how)
    if isinstance(made.get("path"), str):
        made["path"] = _below(made["path"], base)
    for name in ("call", "sign_out"):
        if isinstance(made.get(name), Mapping):
            made[name] = _shortened(made[name], base)
    return made


def _below(path: str, base: str) -> str:
    return path.removeprefix(base) if base and path.startswith(f"{base}/") else path


def _table(draft: Draft, table: DraftedTable, system: str) -> Iterator[str]:
    yield f"  {table.name}:"
    if table.seen.about:
        yield f"    about: {_value(table.seen.about)}"
    yield f"    read: {'' if not table.count else f'  # {table.count:,} records were seen'}".rstrip()
    path = _below(table.seen.path, draft.base)
    if table.each:
        yield f"      each: {{of: {table.each}}}"
        path = path.replace(f"{{{table.of_parent}}}", "{record_id}")
    yield f"      rpc: {_value(table.seen.rpc)}" if table.seen.rpc else f"      path: {_value(path)}"
    params = dict(table.seen.params) | ({table.of_parent: "{record_id}"} if table.seen.rpc and table.each else {})
    if params:
        yield f"      params: {_value(params)}"
    if table.seen.posts:
        document = re.sub(r"\{([A-Za-z_@$][^{}]*)\}", r"{{\1}}", str(table.seen.posts["query"]))
        yield "      method: POST"
        yield f"      json: {_value({**table.seen.posts, 'query': document})}"
    if table.seen.headers:
        yield _noted(f"      headers: {_value(dict(table.seen.headers))}", "every call asked for that media type")
    if not (draft.standard and draft.standard.shipped.records == table.records):  # else the standard says all of it
        yield from _query(table, system)
        if table.records != "$":
            yield _noted(f"      records: {_value(table.records)}", table.records_why)
        yield from _pages(draft, table, system)
    yield from _details(draft, table)
    yield from _fields(table)
    yield from _filters(table)
    yield from _writes(draft, table)


def _query(table: DraftedTable, system: str) -> Iterator[str]:
    """The parameters that shape a list; those that may narrow it are a comment, for they would lose records."""
    own = table.seen.query
    if own:
        yield _noted(f"      query: {_value(dict(own))}", "asked without, its records do not stand there")
    may = {} if table.seen.rpc else shaping(table.seen, table.pages.pages)
    for name, value in may.items():
        if name not in own and table.seen.posts:
            variable = name.removeprefix("variables.")
            if variable not in table.seen.posts["variables"]:
                yield f"      # variables: {_value({variable: value})}   # every call had it: does it narrow the list?"
        elif name not in own:
            settles = f"every call had it: does it narrow the list?  concordex call {system} {table.seen.path}"
            yield f"      # query: {_value({name: value})}   # not shown: {settles}"


def _pages(draft: Draft, table: DraftedTable, system: str) -> Iterator[str]:
    pages = table.pages
    if pages.total:
        yield _noted(f"      total: {_value(pages.total)}", pages.total_why)
    if pages.pages:
        yield _noted(f"      pages: {_value(dict(pages.pages))}", pages.pages_why)
    for may in pages.may:
        yield f"      # {may}   # not shown: {_settles(draft, table, system, may)}"
    if not pages.pages and not pages.may:
        yield "      # how it is cut into pages, if it is, was not seen; nothing proves it whole:"
        yield '      # complete: "…"   # only if the guide says that it is never cut'


def _details(draft: Draft, table: DraftedTable) -> Iterator[str]:
    """One more call for each record: written where fields of ours stand only there, else as a comment."""
    details = table.details
    if details is None:
        return
    only = [g.name for g in table.fields if g.sure and not {*g.several, g.path} & table.listed]
    record = "" if details.record == "$" else f", record: {_value(details.record)}"
    own = f"{{{table.record_id}}}"
    if details.seen.rpc:
        where = f"rpc: {_value(details.seen.rpc)}, params: {_value({details.name: own})}"
    else:
        path = _below(details.seen.path, draft.base).replace(f"{{{details.name}}}", own)
        if table.each:
            path = path.replace(f"{{{table.of_parent}}}", "{record_id}")
        where = f"path: {_value(path)}"
    said = f"details: {{{where}{record}}}"
    if only:
        yield _noted(f"      {said}", f"{', '.join(only)} stand only there")
    else:
        yield f"      # {said}   # one more call for each record, which adds no field of ours"


def _fields(table: DraftedTable) -> Iterator[str]:
    yield "    fields:"
    below = ", below_parent: true" if table.each else ""
    where = _value(str(table.record_id))
    own = f"{{from: {where}{below}}}" if below else where
    yield _noted(f"      record_id: {own}", table.id_why)
    for other in table.id_others:
        yield f"      # record_id: {_value(other)}   # it is different in each as well"
    if table.each:
        yield "      parent: {of_parent: record_id}"
    for name, (member, other) in table.via.items():
        said = _value(member) if name == "parent" else f"{{from: {_value(member)}, via: {other}}}"
        yield _noted(f"      {name}: {said}", f"its values are ids of {other}")
    for guess in table.fields:
        if not (guess.name in table.via or (guess.name == "parent" and table.each)):
            yield from _field(guess)


def _filters(table: DraftedTable) -> Iterator[str]:
    """What the system may narrow itself, as comments: a filter that leaves something out would lose it."""
    found = [] if table.seen.rpc else filters_of(table.seen, table.records, table.pages.pages, table.fields)
    if found:
        yield "    # filters:   # tried by dialect check; any_case: true, where it compares without regard to case"
    for guess in found:
        yield f'    #   - {{field: {guess.field}, tests: "=", parameter: {_value(guess.parameter)}}}   # {guess.why}'


def _field(guess: FieldGuess) -> Iterator[str]:
    told: dict[str, Any] = {"from": guess.several or guess.path}
    told |= {"as": guess.read_as} if guess.read_as else {}
    told |= {"values": guess.values} if guess.values else {}
    said = _value(told["from"]) if len(told) == 1 else _value(told)
    if guess.sure:
        yield _noted(f"      {guess.name}: {said}", guess.why)
        return
    others = f", or {', '.join(guess.others)}" if guess.others else ""
    yield f"      # {guess.name}: {said}   # likely: {guess.why or 'by its place'}{others}"


def _settles(draft: Draft, table: DraftedTable, system: str, may: str) -> str:
    """The command whose answer would show whether a guess holds."""
    if table.seen.posts:
        return f"concordex dialect check {draft.name} --against {system} --settle"
    where = table.seen.rpc or table.seen.path
    if may.startswith("total:"):
        return f"is it the number of all, or of one page?  concordex call {system} {where}"
    names = re.findall(r"(?:page|offset|cursor|limit): (\w[\w-]*)", may)
    told = " ".join(f"{name}=2" for name in names) or ""
    return f"concordex call {system} {where} {told}".rstrip()


def _writes(draft: Draft, table: DraftedTable) -> Iterator[str]:
    """What may be written of a table, as comments: a write is tried on a copy, by a person."""
    path = table.seen.path
    found: dict[str, WriteSeen] = {}
    for write in draft.writes:
        one = re.fullmatch(re.escape(path.rstrip("/")) + r"/\{\w+\}/?", write.path)
        if write.method == "POST" and write.path == path:
            found.setdefault("create", write)
        elif one and write.method in ("PATCH", "PUT"):
            found.setdefault("update", write)
        elif one and write.method == "DELETE":
            found.setdefault("delete", write)
    if not found or table.seen.rpc or table.seen.posts:
        return
    key = next((g.name for g in table.fields if g.name in ("serial", "name") and g.sure), "name")
    yield "    # It may be written like this; to try it first: concordex rehearse, and change run N --against-copy"
    yield f"    # write:\n    #   keys: {key}"
    sent = {name for write in found.values() for name in write.sends}
    fields = {g.name: g.path for g in table.fields if g.sure and g.path in sent}
    if fields:
        yield f"    #   fields: {_value(fields)}"
    for what, write in found.items():
        where = _below(re.sub(r"\{\w+\}(/?)$", r"{record_id}\1", write.path), draft.base)
        method = "" if (what, write.method) in _USUAL else f", method: {write.method}"
        whole = ", whole: true" if write.method == "PUT" else ""
        yield f"    #   {what}: {{path: {_value(where)}{method}{whole}}}"


_USUAL = {("create", "POST"), ("update", "PATCH"), ("delete", "DELETE")}


def _noted(line: str, why: str) -> str:
    return f"{line:<{_WIDTH}}  # {' '.join(why.split())}" if why else line


def _value(value: Any) -> str:
    """A value in one line of YAML."""
    if isinstance(value, Mapping):
        return "{" + ", ".join(f"{_value(name)}: {_value(held)}" for name, held in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(map(_value, value)) + "]"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int | float):
        return str(value)
    text = str(value)
    plain = _BARE.fullmatch(text) and text.lower() not in _WORDS
    return text if plain else json.dumps(text, ensure_ascii=False)
