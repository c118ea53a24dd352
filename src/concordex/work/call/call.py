"""A single call: prepared, sent once, its pages followed, and kept without secrets."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

import orjson

from concordex.errors import CalledWrongly, ConcordexError, Stopped, Withheld
from concordex.model.fields import ORIGINAL
from concordex.parallel import completed
from concordex.store.calls import CallLog
from concordex.unseen import MASK, WITHHELD
from concordex.wire.http.exchange import Exchange
from concordex.wire.http.session import Request, Session
from concordex.wire.reading.tables import read_tables
from concordex.work.call.answer import decoded
from concordex.work.call.pages import Onward, onward
from concordex.work.call.request import CallSpec, only_reads, plain, request_of
from concordex.work.learn.description import address_of, is_question, kept_description
from concordex.work.run.guards import check_window

if TYPE_CHECKING:
    from concordex.wire.dialect import Dialect
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True, kw_only=True)
class PreparedCall:
    """A call that can be sent, and whether it ``reads`` only."""

    system: str
    spec: CallSpec
    request: Request
    reads: bool


@dataclass(frozen=True, kw_only=True)
class Called:
    """What came of a call: ``words`` of the answer itself where it is an error, ``body`` where it could be taken apart.

    With all pages ``bodies`` of each, and ``notes`` on how they were found and what is not proved of them; where the
    dialect reads the list, its ``records`` instead, and ``at``, where they stand in each answer.
    """

    number: int
    exchange: Exchange
    words: str
    body: Any
    bodies: Sequence[Any] = ()
    records: Sequence[Any] | None = None
    at: str = ""
    notes: Sequence[str] = field(default_factory=list)

    @property
    def ok(self) -> bool:
        """Whether the system did what it was asked for, as far as it says."""
        return self.exchange.reply.status < 400 and not self.words


def prepare(workspace: BaseWorkspace, system: str, spec: CallSpec) -> PreparedCall:
    """A call, understood; nothing is sent."""
    name, address = workspace.target(system)
    settings = workspace.config.systems.get(name)
    if settings is not None and not settings.url:
        what = "a database" if settings.database else "a folder of files"
        raise CalledWrongly(f"{system} is {what}: there is nothing to call")
    dialect = workspace.dialect(name)
    meant = _by_operation(workspace, system, spec) or spec
    request = request_of(dialect, meant)
    reads = only_reads(dialect, meant, request) or (meant is not spec and _is_question(meant, spec))
    return PreparedCall(system=system if address else name, spec=spec, request=request, reads=reads)


def _is_question(meant: CallSpec, spec: CallSpec) -> bool:
    """Whether it is a query of GraphQL that we made ourselves: such a one only reads (its standard, section 6.2.1)."""
    if meant.json is None or spec.is_altered or meant.method != "POST":
        return False
    asked = orjson.loads(meant.json)
    return (
        isinstance(asked, dict) and asked.keys() == {"query", "variables"} and str(asked["query"]).startswith("query ")
    )


def _by_operation(workspace: BaseWorkspace, system: str, spec: CallSpec) -> CallSpec | None:
    """The call of an operation that the description of a system names; None where it is none."""
    name, _ = workspace.target(system)
    if spec.where.startswith(("/", "http:", "https:", "?")) or spec.where in workspace.dialect(name).tables:
        return None
    known = kept_description(workspace, system)
    operation = known.named(spec.where) if known is not None else None
    if operation is None:
        return None
    if is_question(
        workspace, system, operation
    ):  # of GraphQL the values are variables of what is asked at the one path
        variables = {name: plain(value) for name, value in spec.values}
        asked = orjson.dumps({"query": operation.question, "variables": variables}).decode()
        path = address_of(workspace, system, operation).partition("#")[0]
        return CallSpec(where=path, method="POST", json=spec.json or asked, headers=spec.headers)
    stands = {parameter.name: parameter.stands for parameter in operation.parameters}
    body = {name: plain(value) for name, value in spec.values if stands.get(name) == "body"}
    headers = {name: value for name, value in spec.values if stands.get(name) == "header"}
    rest = [(name, value) for name, value in spec.values if name not in body and name not in headers]
    return CallSpec(
        where=address_of(workspace, system, operation).partition("#")[0], values=rest,
        method=spec.method or operation.method,
        json=spec.json or (orjson.dumps(body).decode() if body else None), content=spec.content,
        headers={**headers, **spec.headers},
    )  # fmt: skip


def check_write(workspace: BaseWorkspace, call: PreparedCall, *, any_time: bool = False) -> None:
    """Raise Stopped where a call that may alter something may not be sent now."""
    settings = workspace.config.systems.get(call.system)
    if settings is not None and settings.read_only:
        raise Stopped(f"{call.system} is read-only: nothing is written to it")
    if not any_time:
        check_window(workspace, call.system, "call it then, or with --any-time")


def send(workspace: BaseWorkspace, call: PreparedCall, *, every: bool = False, wrote: bool = False) -> Called:
    """Send a call, and with ``every`` ask for all pages; what altered something is noted before it leaves.

    Raises Stopped for what may alter something and is not said to be meant so.
    """
    if every and not call.reads:
        raise CalledWrongly(
            "--all reads page after page, and this may alter something each time", advice="without --all"
        )
    if not call.reads and not wrote:
        raise Stopped(f"{call.request.method} may alter something", advice="say --write to send it")
    workspace.allowed.require("pull" if call.reads else "run", call.system)
    return completed(_sent(workspace, call, every=every))


async def _sent(workspace: BaseWorkspace, call: PreparedCall, *, every: bool) -> Called:
    log, dialect = CallLog(workspace.store), workspace.dialect(call.system)
    workspace.store.mkdir(parents=True, exist_ok=True)
    async with workspace.session(call.system) as session:
        await session.sign_in()
        number = log.sent({
            "at": datetime.now(UTC).isoformat(timespec="seconds"), "by": workspace.allowed.who, "system": call.system,
            "sent": call.request.rpc or call.request.method, "wrote": not call.reads, **call.spec.row(),
        })  # fmt: skip
        try:
            exchange = await session.exchange(call.request)
        except ConcordexError as error:
            log.answered(number, {"failed": error.what})
            if not call.reads and not getattr(error, "untouched", False):
                error.advice = "whether it was done is not known: look, before it is sent again"
            raise
        reply = exchange.reply
        log.answered(number, {
            "status": reply.status, "bytes": len(reply.content), "ms": round(exchange.seconds * 1000),
            "address": _below(exchange.url, session.endpoint.url),
        })  # fmt: skip
        body = decoded(reply, dialect)
        words = _words(session, call.request, exchange, body)
        called = Called(number=number, exchange=exchange, words=words, body=body)
        return await _all_of(session, call, called) if every and called.ok else called


def _words(session: Session, asked: Request, exchange: Exchange, body: Any) -> str:
    """What an answer that is an error says itself."""
    reply = exchange.reply
    if asked.rpc is not None and isinstance(body, Mapping) and isinstance(body.get("error"), Mapping):
        error = body["error"]
        return f"{error.get('code')}: {error.get('message')}"  # JSON-RPC 2.0, section 5.1
    return session.judge.words(reply, asked.shape)


async def _all_of(session: Session, call: PreparedCall, called: Called) -> Called:
    """The same with every page: as the dialect reads that list, or else as the answer itself leads onward."""
    name = _table_of(session.dialect, call.spec)
    if name is not None:
        reads = dict([read async for read in read_tables(session, [name])])
        read, spec = reads[name], session.dialect.tables[name].read
        how = f"as the dialect reads {name}: {read.outcome}" + (f", {read.why}" if read.why else "")
        records = [orjson.loads(text) for text in read.frame[ORIGINAL]]
        return replace(called, records=records, at=str(spec.records), notes=[how])
    bodies, seen, at = [called.body], {called.exchange.url}, called.exchange
    notes = ["the answer leads no further, by the header Link (RFC 8288) or a member; whether it is all is not known"]
    while (leads := onward(session, at, bodies[-1])) is not None:
        if leads.address in seen:
            notes = [f"the next page is one that was read already: {leads.address}"]
            break
        seen.add(leads.address)
        at = await session.exchange(_at(call.request, leads))
        if at.reply.status >= 400:
            notes = [f"{leads.address} answered {at.reply.status}: what came before it is not all"]
            break
        bodies.append(decoded(at.reply, session.dialect))
        notes = [f"{len(bodies)} pages, each led to by {leads.how}; that they are all is not proved"]
    return replace(called, bodies=bodies, notes=notes)


def _at(asked: Request, leads: Onward) -> Request:
    return Request(method=asked.method, path=leads.address, shape=asked.shape, headers=asked.headers, body=asked.body,
                   content=asked.content, sent_as=asked.sent_as)  # fmt: skip


def _table_of(dialect: Dialect, spec: CallSpec) -> str | None:
    """The table that the dialect reads by this very call: by its name, or by a path that it asks for nothing else.

    A method, or a path with parameters of the dialect's own, may serve for several tables: then only the name tells.
    """
    if spec.values or spec.is_altered:
        return None
    for name, table in dialect.tables.items():
        read = table.read
        bare = not (read.rpc or read.query or read.headers or read.json_body or read.form or read.xml)
        by_path = bare and read.method == "GET" and str(read.path).strip("/") == spec.where.strip("/")
        if (name == spec.where or by_path) and not read.file and not read.each:
            return name
    return None


def _below(url: str, base: str) -> str:
    """An address without the system's own, which concordex.yaml says."""
    return url.removeprefix(base.rstrip("/")) if base else url


def history(workspace: BaseWorkspace) -> list[dict[str, Any]]:
    """The calls that were made, the latest first."""
    return CallLog(workspace.store).rows()[::-1]


def again(workspace: BaseWorkspace, number: int) -> tuple[str, CallSpec]:
    """The system and the call of an earlier number; an error where a secret of it was not kept."""
    row = next((row for row in CallLog(workspace.store).rows() if row["call"] == number), None)
    if row is None:
        raise CalledWrongly(f"there is no call {number}", advice="concordex call --history")
    if WITHHELD in str(row) or MASK in str(row):
        raise Withheld(f"call {number} held a secret, which was not kept", where=row["system"], advice="type it anew")
    return row["system"], CallSpec.of_row(row)
