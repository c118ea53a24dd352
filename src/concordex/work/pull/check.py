"""Trying a system step by step, up to the first step that fails."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import (
    BadAnswer,
    ConcordexError,
    RequestRefused,
    ServerFault,
    SignInRefused,
    Unreachable,
    Untrusted,
)
from concordex.model.fields import ORIGINAL
from concordex.parallel import all_of, completed
from concordex.wire.dialect import Dialect
from concordex.wire.dialect.order import order, refers_to
from concordex.wire.http.probe import certificate, connect, judged, resolve
from concordex.wire.http.session import Session
from concordex.wire.http.transport import Endpoint, reach
from concordex.wire.reading.read import peek
from concordex.wire.reading.table_read import TableRead
from concordex.words import plural
from concordex.work.pull.check_reading import doubts, filters

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: Seconds by which clocks may differ before it is worth a word: tokens and signatures bear little more.
_SKEW = 60
#: Days before its end at which a certificate is worth a word.
_ENDING = 21


@dataclass(frozen=True, kw_only=True)
class Finding:
    """One step of a check: what was tried, whether it went well, and what was seen."""

    system: str
    step: str
    ok: bool
    seen: str
    advice: str = ""


@dataclass
class CheckSeen:
    """What a step saw, with advice where it is worth a word."""

    text: str
    advice: str = ""
    ok: bool = True


def check(workspace: BaseWorkspace, systems: Sequence[str] = (), dialect: Dialect | None = None) -> list[Finding]:
    """Try each system: network, certificate, signing in, the first page of every table, the clock.

    ``dialect`` is tried in the place of the systems' own, where it is given.
    """
    names = workspace.active(workspace.systems(systems))
    for name in names:
        workspace.allowed.require("pull", name)
    every = completed(all_of(_one(workspace, name, dialect) for name in names))
    if dialect is None and (workspace.can_write or not workspace.store.exists()):
        for name, findings in zip(names, every, strict=True):
            fault = next((f"{finding.step}: {finding.seen}" for finding in findings if not finding.ok), "")
            workspace.catalogue.contacts.note_check(name, fault)
    return [finding for findings in every for finding in findings]


async def _one(workspace: BaseWorkspace, name: str, dialect: Dialect | None) -> list[Finding]:
    findings: list[Finding] = []
    step = ""
    try:
        async for step, seen in _steps(workspace, name, dialect):
            if seen is not None:
                findings.append(Finding(system=name, step=step, ok=seen.ok, seen=seen.text, advice=seen.advice))
    except ConcordexError as error:
        text = f"{_fault(error)}: {error.what}" + (f" ({error.why})" if error.why else "")
        findings.append(Finding(system=name, step=step, ok=False, seen=text, advice=error.advice))
    return findings


Steps = AsyncIterator[tuple[str, CheckSeen | None]]


async def _steps(workspace: BaseWorkspace, name: str, tried: Dialect | None) -> Steps:
    """Each step's name before it is tried, and again with what was seen."""
    yield "dialect", None
    dialect = tried or workspace.dialect(name)
    yield "dialect", CheckSeen(f"{dialect.title}; {plural(len(dialect.tables), 'table')}: {', '.join(dialect.tables)}")
    yield "secrets", None
    session = workspace.session(name, tried)
    yield "secrets", CheckSeen(", ".join(workspace.config.systems[name].credentials) or "none needed")
    if session.endpoint.url and not session.is_played:
        async for step in _network(workspace, session.endpoint):
            yield step
    async with session:
        yield "sign-in", None
        await session.sign_in()
        yield "sign-in", CheckSeen(_SIGNED_IN.get(dialect.sign_in.by, "tried with the first table"))
        async for step in _tables(session, dialect, workspace.now(), thoroughly=tried is not None):
            yield step
        if session.skew is not None:
            yield "clock", _clock(session.skew)


_SIGNED_IN = {
    "none": "not needed", "call": "a session was opened", "client_credentials": "a token was given",
    "signature": "requests are signed; tried with the first table",
}  # fmt: skip


async def _network(workspace: BaseWorkspace, endpoint: Endpoint) -> Steps:
    if endpoint.proxy:
        yield "proxy", CheckSeen(f"{endpoint.proxy} is in between, and resolves name and port")
        return
    yield "name", None
    yield "name", CheckSeen(", ".join(await resolve(endpoint)))
    yield "connects", None
    yield "connects", CheckSeen(f"in {await connect(endpoint) * 1000:.0f} ms")
    if not endpoint.url.startswith("https:"):
        yield "tls", CheckSeen("none: everything can be read on the way", "use https: where the system has it")
        return
    yield "tls", None
    shown = await certificate(endpoint)
    now = workspace.now()
    text = f"{shown.subject}, signed by {_signer(shown.subject, shown.issuer)}, until {shown.ends:%Y-%m-%d}"
    pin = f"fingerprint sha256:{shown.fingerprint}"
    refused = judged(endpoint, shown, now)
    if refused:
        advice = f"to accept it, after checking it with its owner: tls: {{fingerprint: {shown.fingerprint}}}"
        raise Untrusted(f"its certificate is refused: {refused}", why=f"{text}; {pin}", advice=advice)
    if not endpoint.verify and not endpoint.fingerprint:
        yield (
            "tls",
            CheckSeen(f"NOT VERIFIED: {text}; {pin}", f"pin it instead: tls: {{fingerprint: {shown.fingerprint}}}"),
        )
        return
    if not endpoint.fingerprint:
        await _trusted(endpoint, f"{text}; {pin}", shown.fingerprint)
    days = (shown.ends - now).days
    ends = f"it ends in {plural(days, 'day')}" if 0 <= days < _ENDING else "it has expired" if days < 0 else ""
    yield "tls", CheckSeen(f"{text}; {'pinned' if endpoint.fingerprint else pin}", ends)


def _signer(subject: str, issuer: str) -> str:
    return "itself" if subject == issuer else issuer


async def _trusted(endpoint: Endpoint, text: str, fingerprint: str) -> None:
    """Whether the chain and the name hold; raises Untrusted with what to do."""

    try:
        await reach(endpoint)
    except Untrusted as error:
        advice = (
            f"name the CA that signed it: tls: {{ca: FILE}}; or pin it, after checking it with its owner: "
            f"tls: {{fingerprint: {fingerprint}}}"
        )
        raise Untrusted(error.what, why=f"{error.why}; {text}", advice=advice) from error


async def _tables(session: Session, dialect: Dialect, now: datetime, *, thoroughly: bool) -> Steps:
    """The first page of every table, those that hang from another after it; what fails costs what hangs from it.

    ``thoroughly``, a second page and each filter are tried as well, and what cannot be trusted is not well.
    """
    frames: dict[str, pl.DataFrame] = {}
    missing: set[str] = set()
    for table in order(dialect, list(dialect.tables)):
        yield table, None
        needed = [other for other in refers_to(dialect.tables[table]) if other in missing]
        each = dialect.tables[table].read.each
        parents = frames.get(each.of) if each else None
        try:
            if needed:
                raise BadAnswer(f"not tried, since {needed[0]} failed")
            look, total = await peek(session, table, parents)
            read = dialect.tables[table].read
            source = "in all" if read.sql else "in the file" if session.endpoint.folder is not None else None
            seen = _told(look, None if each else total, source, refers_to(dialect.tables[table]))
            if thoroughly and not look.fault:
                seen = _doubted(seen, await doubts(session, table, parents))
        except (SignInRefused, Unreachable, Untrusted):
            raise
        except ConcordexError as error:
            missing.add(table)
            yield table, CheckSeen(f"{_fault(error)}: {error}", error.advice, ok=False)
            continue
        frames[table] = look.frame
        yield table, seen
        if thoroughly:
            async for step, came_back, text in filters(session, table, look.frame, parents, now):
                yield f"{table}: {step}", CheckSeen(text, "" if came_back else _LOSES, ok=came_back)


_LOSES = "what the system leaves out would be missing: correct the filter in the dialect, or take it out"


def _doubted(seen: CheckSeen, doubts: Sequence[str]) -> CheckSeen:
    if not doubts:
        return seen
    return CheckSeen(
        "; ".join([*doubts, seen.text]), seen.advice or "docs/dialects.md, under Whole, and what proves it", ok=False
    )


def _told(look: TableRead, total: int | None, source: str | None, below: Sequence[str]) -> CheckSeen:
    """What a look at a table showed: the first page of it, or all of it where its ``source`` gives it at once."""
    announced = f"{plural(total, 'record')}, " if total is not None else ""
    paged = "on the first page" if total is not None or not below else "in the first list"
    where = source or paged
    texts = [f"{announced}{look.received:,} {'of them ' if announced else ''}{where}"]
    texts += ["the system announces no total"] if total is None and not source and not below else []
    empty = [
        name for name in look.frame.columns if name != ORIGINAL and look.frame[name].null_count() == look.frame.height
    ]
    texts += [f"always empty there: {', '.join(empty)}"] if empty and look.received else []
    advice = ""
    if look.lost:
        texts.append(f"could not be read: {', '.join(f'{n} ({count})' for n, count in look.lost.items())}")
        advice = "does `as:` in the dialect fit how these are written?"
    if look.fault:
        texts.append(look.fault)
    return CheckSeen("; ".join([*texts, *look.notes]), advice, ok=not look.fault)


def _clock(skew: float) -> CheckSeen:
    if abs(skew) < _SKEW:
        return CheckSeen("agrees with ours")
    way = "ahead of" if skew > 0 else "behind"
    return CheckSeen(
        f"{abs(skew):.0f} s {way} ours",
        "set the clocks: times, tokens and signatures are judged by them",
    )


def _fault(error: ConcordexError) -> str:
    """Whose fault it is, in plain words."""
    kinds = (
        ((Unreachable,), "network fault"),
        ((Untrusted,), "not trusted"),
        ((ServerFault,), "fault of the system"),
        ((SignInRefused,), "refused"),
        ((RequestRefused,), "our request is at fault"),
        ((BadAnswer,), "the answer does not fit the dialect"),
    )
    return next((text for types, text in kinds if isinstance(error, types)), "fault")
