"""Devices with a command interface: lines from a template, entered as one; commands that only show."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from concordex.change.rows import Mistake, Row
from concordex.change.steps import Change, Step
from concordex.errors import CalledWrongly, ConcordexError
from concordex.parallel import all_of, completed
from concordex.wire import dialect as d
from concordex.words import suggestion
from concordex.work.change.line_templates import rendered
from concordex.work.change.onboarding import ADDRESS
from concordex.work.workspace.devices import ask, check_devices

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True)
class Lines:
    """The change that enters lines, how many rows it is made of, and what is wrong with some."""

    change: Change
    rows: int
    mistakes: list[Mistake]
    rejected: list[Row]
    equal: int


def prepare_lines(workspace: BaseWorkspace, devices: str, template: Path, rows: Sequence[Row]) -> Lines:
    """The change that enters, on the device of each row, the lines that the template makes of it.

    Lines that a device keeps already are left out; a device that keeps them all has no step.
    """
    spec = commands_of(workspace, devices)
    check_devices(workspace, devices, spec.table)
    mistakes: list[Mistake] = []
    wanted: dict[str, list[str]] = {}
    for row in rows:
        address = str(row.typed.get(ADDRESS) or "")
        if not workspace.config.devices[devices].reaches(address):
            what = f"is not among the addresses of {devices} in concordex.yaml" if address else "is missing"
            mistakes.append(Mistake(place=row.place, column=ADDRESS, value=address, what=what))
            continue
        try:
            wanted[row.place] = rendered(template, row.typed)
        except ValueError as error:
            mistakes.append(Mistake(place=row.place, column=template.name, value="", what=str(error)))
    asked = {row.place: str(row.typed[ADDRESS]) for row in rows if row.place in wanted}
    there = completed(ask(workspace, devices, asked.values(), spec.table))
    steps = list[Step]()
    equal = 0
    for place, address in asked.items():
        now = there[address]
        if isinstance(now, ConcordexError):
            why = f": {now.why}" if now.why else ""
            mistakes.append(Mistake(place=place, column=ADDRESS, value=address, what=f"{now.what}{why}"))
            continue
        kept = list(now.get("lines") or [])
        lines = [line for line in wanted[place] if line not in kept and not _gone(line, kept)]
        equal += not lines
        if lines:
            steps.append(Step(
                number=len(steps) + 1, table=spec.table, operation="action", action="enter", at=address, label=address,
                key={"name": now["record_id"]}, before={"lines": kept}, desired={"lines": lines},
                record_id=now["record_id"], source=place,
            ))  # fmt: skip
    bad = {mistake.place for mistake in mistakes}
    change = Change(kind="lines", system=devices, steps=tuple(steps))
    return Lines(change, len(rows), mistakes, [row for row in rows if row.place in bad], equal)


def rows_at(addresses: Sequence[str], rows: Sequence[Row] | None) -> list[Row]:
    """The rows of these addresses, or a row of its own for each where there is no table."""
    if rows is None:
        return [Row(place=f"device {address}", typed={ADDRESS: address}) for address in dict.fromkeys(addresses)]
    chosen = [row for row in rows if row.typed.get(ADDRESS) in addresses]
    lacking = [a for a in addresses if a not in {row.typed[ADDRESS] for row in chosen}]
    if lacking:
        raise CalledWrongly(f"no row of the table has the address {lacking[0]!r}", advice=_nearest(lacking[0], rows))
    return chosen


def _nearest(address: str, rows: Sequence[Row]) -> str:
    return suggestion(address, [str(row.typed[ADDRESS]) for row in rows if row.typed.get(ADDRESS)])


def _gone(line: str, kept: Sequence[str]) -> bool:
    return line.startswith("no ") and line.removeprefix("no ") not in kept


def commands_of(workspace: BaseWorkspace, name: str) -> d.Commands:
    """The command interface of a system, or of devices; an error where it has none."""
    known = {**workspace.config.systems, **workspace.config.devices}
    if name not in known:
        raise CalledWrongly(
            f"there is no system, and there are no devices, called {name!r}", advice=suggestion(name, known)
        )
    commands = workspace.dialect(name).commands
    if commands is None:
        raise CalledWrongly(f"{name} has no command interface, as far as its dialect says")
    return commands


def look(
    workspace: BaseWorkspace, name: str, line: str, addresses: Sequence[str], form: Literal["data", "text"]
) -> dict[str, Any]:
    """What a command shows, by address (or by the system's name); an error in place of an answer where it failed."""
    spec = commands_of(workspace, name)
    if name in workspace.config.devices and not addresses:
        raise CalledWrongly(f"{name} are many: say at which address", advice="--at ADDRESS, repeatable")

    async def answer_at(address: str | None) -> Any:
        session = workspace.device_session(name, address) if address else workspace.session(name)
        async with session as entered:
            answer = await entered.get(spec.show, {"line": line, "form": spec.forms.get(form, form)})
        return answer.body

    async def each(address: str | None) -> Any:
        try:
            return await answer_at(address)
        except ConcordexError as error:
            return error

    async def every() -> list[Any]:
        return await all_of([each(address) for address in addresses] or [each(None)])

    return dict(zip(addresses or [name], completed(every()), strict=True))
