"""All that a dialect makes us ask of a system, told before anything is asked."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from concordex.wire import dialect as d
from concordex.wire.dialect.templates import names_in

#: Methods by which nothing is altered (RFC 9110, section 9.2.1); PROPFIND and REPORT are of RFC 4918 and RFC 3253.
_SAFE = {"GET", "HEAD", "OPTIONS", "TRACE", "QUERY", "SEARCH", "PROPFIND", "REPORT"}


def calls(dialect: d.Dialect) -> list[dict[str, str]]:
    """Each request that may be sent and each file that may be read: what for, what it does, where, and with what.

    ``does`` is ``alters`` for what the dialect calls a write, and for what it calls a read by a method that may
    alter something, ``reads, it says``.
    """
    rows = [_signing(dialect)] if isinstance(dialect.sign_in, d.ClientCredentials) else []
    return [*rows, *(_row(dialect, place, call) for place, call in d.calls_of(dialect))]


def carried(dialect: d.Dialect) -> str:
    """What of the credentials goes along with every request, and where."""
    way = dialect.sign_in
    if isinstance(way, d.CallSignIn | d.ClientCredentials):
        return "what signing in gave"
    names = sorted(_named(way.model_dump(), dialect) | _named(dialect.headers, dialect))
    return ", ".join(names) or "nothing"


def summary(dialect: d.Dialect) -> Iterator[tuple[str, str]]:
    """In a few words: files read, requests that read, requests that alter, and what goes along with each."""
    every = calls(dialect)
    files = [row["where"] for row in every if row["how"] == "file"]
    if files:
        yield "files", f"{', '.join(dict.fromkeys(files))}, below the folder that the workspace names"
    for does, what in (("reads", "requests that read"), ("reads, it says", "requests that read, as it says itself"),
                       ("alters", "requests that alter")):  # fmt: skip
        hows = [_kind(row["how"]) for row in every if row["does"] == does and row["how"] != "file"]
        if hows:
            yield what, ", ".join(f"{hows.count(how)} {how}" for how in dict.fromkeys(hows))
    yield "sent with each", f"{carried(dialect)}; to the system's own address alone"


def _kind(how: str) -> str:
    return "by JSON-RPC" if how.startswith("call ") else how


def _row(dialect: d.Dialect, place: tuple[str, ...], call: d.Call) -> dict[str, str]:
    file = getattr(call, "file", None)
    link = getattr(call, "link", None)
    where = file or (f"the address at {link}" if link else f"{dialect.base}{call.path or _rpc(dialect, call)}")
    how = "file" if file else f"call {call.rpc}" if call.rpc else call.method
    each = call.each.of if isinstance(call, d.Read) and call.each else ""
    if isinstance(call, d.Details | d.Gather):
        each = place[1]
    return {
        "for": ".".join(part for part in place if part not in ("tables", "write")), "does": _does(place, call, file),
        "how": how, "where": where, "for each of": each,
        "credentials": ", ".join(sorted(_named(call.model_dump(), dialect))),
    }  # fmt: skip


def _does(place: tuple[str, ...], call: d.Call, file: str | None) -> str:
    if place[0] == "sign_in":
        return "signs out" if place[-1] == "sign_out" else "signs in"
    if isinstance(call, d.Send):
        return "alters"
    return "reads" if file or (call.method in _SAFE and not call.rpc) else "reads, it says"


def _rpc(dialect: d.Dialect, call: d.Call) -> str:
    return dialect.rpc.path if call.rpc and dialect.rpc else ""


def _signing(dialect: d.Dialect) -> dict[str, str]:
    way = dialect.sign_in
    assert isinstance(way, d.ClientCredentials)
    named = ", ".join(sorted(_named(way.model_dump(), dialect)))
    return {"for": "sign_in", "does": "signs in", "how": "POST", "where": f"{dialect.base}{way.path}",
            "for each of": "", "credentials": named}  # fmt: skip


def _named(document: Any, dialect: d.Dialect) -> set[str]:
    """The credentials that stand anywhere in what is sent."""
    return names_in(document) & set(dialect.credentials)
