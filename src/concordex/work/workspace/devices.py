"""Devices that answer for themselves, each at its own address: asked and written to, many at once."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial
from typing import TYPE_CHECKING, Any

from concordex.errors import CalledWrongly, ConcordexError, WireError
from concordex.parallel import at_most
from concordex.wire.reading.read import read_table
from concordex.words import suggestion
from concordex.work.workspace.tabular import read_rows

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: Devices that are spoken with at once: each is slow by itself, and none knows of the others.
AT_ONCE = 16


def check_devices(workspace: BaseWorkspace, devices: str, table: str) -> None:
    """Raise CalledWrongly unless the workspace knows ``devices``, and they have ``table``."""
    known = workspace.config.devices
    if devices not in known:
        raise CalledWrongly(
            f"there are no devices called {devices!r}",
            advice=suggestion(devices, known) if known else "concordex.yaml says none under devices: (docs/changes.md)",
        )
    if table not in workspace.dialect(devices).tables:
        raise CalledWrongly(f"the dialect of {devices} has no table {table!r}, which is asked for")


def named(workspace: BaseWorkspace, devices: str, table: str) -> list[str]:
    """The devices in a table of rows that each say an ``address``: DEVICES:ADDRESS; every mistake at once."""

    known = workspace.config.devices
    if devices not in known:
        raise CalledWrongly(f"there are no devices called {devices!r}", advice=suggestion(devices, known))
    rows = read_rows(table)
    odd = [row.place for row in rows if not known[devices].reaches(str(row.typed.get("address") or ""))]
    if odd:
        raise CalledWrongly(
            f"{table}: {', '.join(odd[:8])}: no address, or none that is among the addresses of {devices}",
            advice=f"devices: {devices}: addresses: in concordex.yaml says which are called",
        )
    return list(dict.fromkeys(f"{devices}:{row.typed['address']}" for row in rows))


async def ask(
    workspace: BaseWorkspace, devices: str, addresses: Iterable[str], table: str
) -> dict[str, dict[str, Any] | ConcordexError]:
    """The one record of ``table`` at each address, or why it could not be had."""
    answers: dict[str, dict[str, Any] | ConcordexError] = {}

    async def ask_at(address: str) -> None:
        try:
            async with workspace.device_session(devices, address) as session:
                look = await read_table(session, table)
            if look.frame.height != 1:
                raise WireError(f"its {table} has {look.frame.height} records, not one")
            answers[address] = look.frame.row(0, named=True)
        except ConcordexError as error:
            answers[address] = error

    await at_most(AT_ONCE, [partial(ask_at, address) for address in dict.fromkeys(addresses)])
    return answers
