"""What a dialect can do and what it cannot, as a table to read before relying on it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from concordex.wire import dialect as d


@dataclass(frozen=True)
class Capability:
    """One thing that is wanted of a system, whether its dialect says how, and in which manner."""

    about: str
    what: str
    can: bool
    how: str = ""


def capabilities(dialect: d.Dialect) -> list[Capability]:
    """Everything that could be wanted of a dialect, in the order in which it is needed."""
    every = list(_system(dialect))
    for name, table in dialect.tables.items():
        every += [Capability(name, what, bool(how), how) for what, how in _table(table).items()]
    return every


def _system(dialect: d.Dialect) -> Iterator[Capability]:
    sign_in, limits = dialect.sign_in, dialect.limits
    tried = ", ".join(f"{one.release} ({one.recording})" if one.recording else one.release for one in dialect.tried)
    if tried:
        yield Capability("system", "releases with which it was tried", True, tried)
    yield Capability("system", "sign in", True, _signs_in(sign_in))
    out = sign_in.sign_out if isinstance(sign_in, d.CallSignIn) else None
    yield Capability("system", "sign out", out is not None, _call(out) if out else "")
    renews = isinstance(sign_in, d.CallSignIn | d.ClientCredentials)
    ended = ", ".join(["HTTP 401", *map(str, dialect.errors.expired)])
    yield Capability("system", "renew a session that ends", renews, f"once at {ended}" if renews else "")
    message = ", ".join(dialect.errors.message) or ("as JSON-RPC does" if dialect.rpc else "")
    yield Capability("system", "tell what went wrong", bool(message), message)
    pace = f"; {limits.rate:g} requests a second" if limits.rate else ""
    yield Capability("system", "several requests at once", limits.concurrency > 1, f"{limits.concurrency}{pace}")
    for name, task in dialect.tasks.items():
        yield Capability(
            "system", f"follow the task {name}", True, f"{_call(task)}, for {task.timeout:g} s at the most"
        )
    if dialect.staging:
        yield Capability("system", "stage writes until they are committed", True, _stages(dialect.staging))
    if dialect.together:
        several = f"{_call(dialect.together)}: {', '.join(dialect.together.tables)}"
        yield Capability("system", "create in several tables at once", True, several)
    if dialect.commands:
        yield Capability("system", "show what a command shows", True, _call(dialect.commands.show))


def _stages(how: d.Staging) -> str:
    parts = [f"looked at by {_call(how.pending)}"] if how.pending else []
    parts += [f"taken back by {_call(how.discard)}"] if how.discard else []
    return "; ".join([*parts, "outlasts the session" if how.outlasts_session else "ends with the session"])


def _signs_in(sign_in: d.SignIn) -> str:
    if isinstance(sign_in, d.SignatureSignIn):
        return f"signed requests (RFC 9421), {sign_in.algorithm}"
    if isinstance(sign_in, d.CallSignIn):
        carried = sign_in.carries
        parts = [
            *carried.headers, *(["cookies"] if carried.cookies else []),
            *(f"{n} in the address" for n in carried.query),
            *(f"{n} in the body" for n in (*carried.body, *carried.params)),
        ]  # fmt: skip
        return f"{_call(sign_in.call)}, then {', '.join(parts) or 'nothing'}"
    if isinstance(sign_in, d.HeaderSignIn):
        return f"a key in the header {sign_in.header}"
    words = {
        "none": "nothing is asked for, or a client certificate", "basic": "name and password (RFC 7617)",
        "query": "a key in the address", "client_credentials": "OAuth 2.0 client credentials (RFC 6749)",
    }  # fmt: skip
    return words[sign_in.by]


def _table(table: d.Table) -> dict[str, str]:
    read, write = table.read, table.write
    can = {
        "read": _reads(read),
        "prove that it is whole": _proof(read),
        "filter there": ", ".join(f"{rule.field} {'/'.join(rule.tests)}" for rule in table.filters),
        "send only some members": read.columns.parameter if read.columns else "",
        "tell what changed": read.changed.parameter if read.changed else "",
        "be saved as objects": _objects(table.config) if table.config else "",
    }
    if write is None:
        return can | {"write": ""}
    can |= {
        "create": _sends(write.create), "update": _sends(write.update), "delete": _sends(write.delete),
        "name bad records of a list": write.refusals.records if write.refusals else "",
        "put staged writes into effect": _call(write.commit) if write.commit else "",
    }  # fmt: skip
    return can | {f"action: {name}": action.about or _call(action) for name, action in write.actions.items()}


def _objects(how: d.ObjectSpec) -> str:
    if how.single:
        return "one alone"
    needs = sorted(set(how.references.values()))
    return f"by name; refer to {', '.join(needs)}" if needs else "by name"


def _reads(read: d.Read) -> str:
    pages = {
        "none": "at once", "offset": "pages by offset", "number": "pages by number", "link": "pages by a link",
        "link_header": "pages by the header Link (RFC 8288)", "cursor": "pages by a mark", "window": "spans of time",
        "range": "pages by the header Range (RFC 9110)",
    }[read.pages.by]  # fmt: skip
    parts = [f"the file {read.file}" if read.file else f"{_call(read)}, {pages}"]
    parts += [f"for each of {read.each.of}"] if read.each else []
    parts += ["one more call for each record"] if read.details else []
    parts += [f"a list of {gather.under} for each record" for gather in read.gathers]
    parts += [f"with {also.rpc or also.path}" for also in read.also]
    return "; ".join(parts)


def _proof(read: d.Read) -> str:
    """What can show that the table is whole; nothing where an answer cannot, and the dialect does not vouch for it."""
    if isinstance(read.total, d.TotalCall):
        return f"the total, by {_call(read.total)}"
    if isinstance(read.pages, d.WindowPages):
        return "spans of time, the fullest read again in halves"
    paged = read.pages.by != "none"
    parts = [f"the total at {read.total}"] if read.total and paged else []
    parts += [_ENDS[read.pages.by]] if paged else []
    return ", and ".join(parts) if paged else f"its word: {read.complete}" if read.complete else ""


_ENDS = {
    "offset": "a page past the end", "number": "a page past the end", "range": "a range past the end",
    "link": "the last link", "link_header": "the last Link header", "cursor": "the last mark",
}  # fmt: skip


def fields(table: d.Table) -> list[dict[str, str]]:
    """Each field of a table: its type, where it comes from, and what writing and filtering know of it."""
    write = table.write
    keys = {name for key in (write.keys if write else ()) for name in key}
    rows = []
    for name, spec in table.fields.items():
        how = write.fields.get(name) if write else None
        tests = [test for rule in table.filters if rule.field == name for test in rule.tests]
        otherwise = f"of the parent: {spec.of_parent}" if spec.of_parent else f"always {spec.always}"
        sources = ", ".join(spec.from_) or otherwise
        choices = how.choices if how and how.choices else sorted(filter(None, set((spec.values or {}).values())))
        rows.append({
            "field": name, "type": table.type_of(name).value,
            "from": f"{sources} (via {spec.via})" if spec.via else sources,
            "written": ", ".join(filter(None, ["key" if name in keys else "", _written(name, table, how)])),
            "choices": ", ".join(choices),
            "filtered there": " ".join(tests),
        })  # fmt: skip
    return rows


def _written(name: str, table: d.Table, how: d.FieldWrite | None) -> str:
    write = table.write
    if write is None or (how is None and not any(name in ref.by.values() for ref in write.references.values())):
        return ""
    parts = ["required"] if name in write.required else ["yes"]
    parts += ["unique"] if name in write.unique else []
    parts += [f"to {how.longest}"] if how and how.longest else []
    return ", ".join(parts)


def _sends(how: d.Create | d.Update | d.Delete | None) -> str:
    if how is None:
        return ""
    parts = [_call(how)]
    parts += [f"{how.batch_size} at once"] if how.batch_size > 1 else []
    if isinstance(how, d.Update):
        forms = {"members": "", "merge_patch": "merge patch (RFC 7396)", "json_patch": "JSON patch (RFC 6902)"}
        parts += [forms[how.form_of]] if forms[how.form_of] else []
        parts += ["the whole record is sent"] if how.whole else []
    return ", ".join([*parts, *([f"task {how.task}"] if how.task else [])])


def _call(call: d.Call) -> str:
    return call.rpc or f"{call.method} {call.path}"
