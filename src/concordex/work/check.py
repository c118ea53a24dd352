"""Trying a system step by step, up to the first step that fails."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from concordex.errors import ConcordexError, ServerFault, SignInRefused, Unreachable
from concordex.model.fields import ORIGINAL
from concordex.wire.read import Look, peek
from concordex.words import plural

if TYPE_CHECKING:
    from concordex.work.workspace import Workspace


@dataclass(frozen=True, kw_only=True)
class Finding:
    """One step of a check: what was tried, whether it went well, and what was seen."""

    system: str
    step: str
    well: bool
    seen: str
    advice: str = ""


def check(workspace: Workspace, systems: Sequence[str] = ()) -> list[Finding]:
    """Try each system: its dialect and secrets, signing in, the first page of every table."""
    names = workspace.systems(systems)

    async def everything() -> list[list[Finding]]:
        return list(await asyncio.gather(*(_one(workspace, name) for name in names)))

    return [finding for found in asyncio.run(everything()) for finding in found]


async def _one(workspace: Workspace, name: str) -> list[Finding]:
    found: list[Finding] = []
    step = ""
    try:
        async for step, seen in _steps(workspace, name):
            if seen is not None:
                found.append(Finding(system=name, step=step, well=True, seen=seen))
    except ConcordexError as error:
        seen = f"{_fault(error)}: {error.what}" + (f" ({error.why})" if error.why else "")
        found.append(Finding(system=name, step=step, well=False, seen=seen, advice=error.advice))
    return found


async def _steps(workspace: Workspace, name: str) -> AsyncIterator[tuple[str, str | None]]:
    """Each step's name before it is tried, and again with what was seen."""
    yield "dialect", None
    dialect = workspace.dialect(name)
    yield "dialect", f"{dialect.title}; {plural(len(dialect.tables), 'table')}: {', '.join(dialect.tables)}"
    yield "secrets", None
    session = workspace.session(name)
    yield "secrets", ", ".join(workspace.config.systems[name].credentials) or "none needed"
    async with session:
        yield "sign-in", None
        await session.sign_in()
        how = {
            "none": "not needed",
            "basic": "tried with the first table",
            "header": "tried with the first table",
        }
        yield "sign-in", how.get(dialect.sign_in.by, "a session was opened")
        for table in dialect.tables:
            yield table, None
            look, total = await peek(session, table)
            yield table, _told(look, total)


def _told(look: Look, total: int | None) -> str:
    announced = "a total that is not announced" if total is None else plural(total, "record")
    told = [f"{announced}, {look.received:,} of them on the first page"]
    empty = [
        name for name in look.frame.columns if name != ORIGINAL and look.frame[name].null_count() == look.frame.height
    ]
    if empty and look.received:
        told.append(f"always empty there: {', '.join(empty)}")
    if look.lost:
        told.append(f"could not be read: {', '.join(f'{n} ({count})' for n, count in look.lost.items())}")
    return "; ".join(told)


def _fault(error: ConcordexError) -> str:
    if isinstance(error, Unreachable):
        return "network fault"
    if isinstance(error, ServerFault):
        return "fault of the system"
    return "refused" if isinstance(error, SignInRefused) else "fault"
