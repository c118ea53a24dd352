"""What a person types, as a request: a path, a table of the dialect or a method of JSON-RPC, and values by name."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote, urlencode

import orjson

from concordex.errors import CalledWrongly
from concordex.unseen import is_credential
from concordex.wire import dialect as d
from concordex.wire.http.session import Request
from concordex.words import suggestion

#: Methods that alter nothing (RFC 9110, section 9.2.1).
SAFE = ("GET", "HEAD", "OPTIONS")
_NAME = re.compile(r"\{([^{}]+)\}")


@dataclass(frozen=True, kw_only=True)
class CallSpec:
    """A call as it was typed: ``where`` is a path, a table of the dialect, or a method of JSON-RPC.

    ``values`` fill what stands in braces in a path; the rest are parameters of the address, or of the method.  A body
    is ``json`` as a text, or ``content`` with its media type.
    """

    where: str
    values: Sequence[tuple[str, str]] = ()
    method: str | None = None
    json: str | None = None
    content: tuple[bytes, str] | None = None
    headers: Mapping[str, str] = field(default_factory=dict)

    @property
    def is_altered(self) -> bool:
        """Whether more is said than what is called and its values: another method, a body, headers."""
        return bool(self.json is not None or self.content is not None or self.method is not None or self.headers)

    def row(self) -> dict[str, Any]:
        """The call as it is kept."""
        told: dict[str, Any] = {
            "where": self.where, "values": [list(pair) for pair in self.values], "method": self.method,
            "json": self.json, "headers": dict(self.headers),
        }  # fmt: skip
        if self.content is not None:
            told["content"] = [self.content[0].decode(errors="replace"), self.content[1]]
        return told

    @classmethod
    def of_row(cls, row: Mapping[str, Any]) -> CallSpec:
        """A call as it was kept."""
        content = row.get("content")
        return cls(
            where=row["where"], values=[(name, value) for name, value in row["values"]], method=row["method"],
            json=row["json"], headers=row["headers"], content=(content[0].encode(), content[1]) if content else None,
        )  # fmt: skip


def request_of(dialect: d.Dialect, spec: CallSpec) -> Request:
    """The request that is meant; raises CalledWrongly where nothing can be."""
    for name in spec.headers:
        if is_credential(name):
            raise CalledWrongly(
                f"the header {name} holds a credential", advice="it is sent as concordex.yaml says: name it there"
            )
    table = dialect.tables.get(spec.where)
    if table is not None and table.read.file:
        raise CalledWrongly(f"{spec.where} is read from a file: there is nothing to call")
    if table is not None and table.read.rpc is None:
        return _by_path(dialect, spec, str(table.read.path), table.read)
    if dialect.rpc is not None and not spec.where.startswith(("/", "http:", "https:")):
        return _by_name(dialect, spec, table.read if table else None)
    if not re.match(r"/|\?|https?://", spec.where):
        known = [*dialect.tables, *_methods(dialect)]
        raise CalledWrongly(
            f"{spec.where!r} is no path and no operation",
            advice=f"a path begins with /; {suggestion(spec.where, known)}",
        )
    return _by_path(dialect, spec, spec.where, None)


def only_reads(dialect: d.Dialect, spec: CallSpec, asked: Request) -> bool:
    """Whether a request alters nothing: by its method, or because it is the one with which the dialect reads.

    One path or one method may serve for all that there is, and what is asked stands in the body: so a POST reads only
    where it is the dialect's own, and a method of JSON-RPC with the parameters that the dialect gives it.
    """
    if asked.rpc is not None:
        return any(call.rpc == asked.rpc and _given(call) <= {*map(_pair, asked.params.items())}
                   for call in _reads(dialect))  # fmt: skip
    return asked.method in SAFE or (spec.where in dialect.tables and not spec.is_altered)


def _given(call: d.Call) -> set[tuple[str, str]]:
    """The parameters that a dialect gives a method as they stand."""
    return {_pair(pair) for pair in call.params.items() if not _is_filled(pair[1])}


def _pair(pair: tuple[str, Any]) -> tuple[str, str]:
    return pair[0], orjson.dumps(pair[1], default=str).decode()


def _by_path(dialect: d.Dialect, spec: CallSpec, path: str, read: d.Call | None) -> Request:
    left = list(spec.values)
    if read is not None:  # as the dialect reads it
        named = {name for name, _ in left}
        left += [(n, str(text)) for n, text in read.query.items() if n not in named and not _is_filled(str(text))]
    for name in _NAME.findall(path):
        given = next((pair for pair in left if pair[0] == name), None)
        if given is None:
            raise CalledWrongly(f"what is {{{name}}} in {path}?", advice=f"{name}=VALUE")
        left.remove(given)
        path = path.replace(f"{{{name}}}", quote(given[1], safe=""))
    if left:
        path += ("&" if "?" in path else "?") + urlencode(left, quote_via=quote)
    body, content = None, spec.content
    if spec.json is not None:
        body = _json(spec.json)
        if not isinstance(body, Mapping):  # a list is sent as it stands; a mapping may carry what signing in adds
            body, content = None, (spec.json.encode(), "application/json")
    elif read is not None and read.json_body is not None:
        raise CalledWrongly(f"{spec.where} is asked with a body", advice="say it: --json '…'; concordex dialect show")
    usual = read.method if read is not None else "GET" if body is None and content is None else "POST"
    return Request(
        method=(spec.method or usual).upper(), path=path, shape=dialect.shape, body=body, content=content,
        headers={**(_plain_headers(read) if read is not None else {}), **spec.headers},
        sent_as=d.JsonShape(),
    )  # fmt: skip


def _by_name(dialect: d.Dialect, spec: CallSpec, read: d.Read | None) -> Request:
    assert dialect.rpc is not None
    if spec.method or spec.content:
        raise CalledWrongly("a method of JSON-RPC is sent by POST, with its parameters", advice="NAME=VALUE, or --json")
    params: dict[str, Any] = {}
    if spec.json is not None:
        given = _json(spec.json)
        if not isinstance(given, Mapping):
            raise CalledWrongly("the parameters of a method are members of an object", advice="--json '{\"name\": …}'")
        params |= given
    params |= {name: plain(value) for name, value in spec.values}
    if read is not None:
        params = {**{name: value for name, value in read.params.items() if not _is_filled(value)}, **params}
    name = read.rpc if read is not None and read.rpc else spec.where
    return Request(
        method="POST", path=str(dialect.rpc.path), shape=dialect.shape, headers=dict(spec.headers), rpc=name,
        params=params,
    )  # fmt: skip


def _plain_headers(call: d.Call) -> dict[str, str]:
    return {name: str(text) for name, text in call.headers.items() if not _is_filled(str(text))}


def _is_filled(value: object) -> bool:
    return isinstance(value, str) and _NAME.search(value) is not None


def _json(text: str) -> Any:
    try:
        return orjson.loads(text)
    except ValueError as error:
        raise CalledWrongly(f"--json: not JSON (RFC 8259): {error}") from error


def plain(text: str) -> Any:
    """A value of JSON where it is one, such as a number, true or a list; else the text."""
    try:
        return orjson.loads(text)
    except ValueError:
        return text


def _reads(dialect: d.Dialect) -> Iterator[d.Call]:
    for table in dialect.tables.values():
        yield table.read
        if table.read.details is not None:
            yield table.read.details
    if dialect.commands is not None and dialect.commands.show is not None:
        yield dialect.commands.show


def _methods(dialect: d.Dialect) -> list[str]:
    """The methods of JSON-RPC with which the dialect reads."""
    return [call.rpc for call in _reads(dialect) if call.rpc]
