"""Two-sided adoption: rows completed with what only the device itself can tell, and what is set on it first."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from concordex.change.compare import same, shown
from concordex.change.rows import Limits, Mistake, Row, columns_of, read_values
from concordex.change.steps import Change, Step
from concordex.errors import CalledWrongly, ConcordexError
from concordex.model.fields import Type
from concordex.wire import dialect as d
from concordex.work.devices import ask, check_devices
from concordex.work.target import writable

if TYPE_CHECKING:
    from concordex.work.workspace import Workspace

#: The column that says where a device is.
ADDRESS = "address"


@dataclass(frozen=True, kw_only=True)
class Asking:
    """Rows about to be pushed, of which each has a device that is to be asked.

    ``read`` holds for each row what it says of its device: the address, and what is to be set there.
    """

    devices: str
    spec: d.OnDevice
    rows: Sequence[Row]
    read: Sequence[Row]
    columns: Sequence[str]
    mistakes: list[Mistake]


def asking(
    workspace: Workspace, system: str, table: str, devices: str, rows: Sequence[Row], given: Mapping[str, str]
) -> Asking:
    """What ``rows`` say of their devices; refused where the table needs nothing that a device could tell."""
    workspace.systems([system])
    spec = writable(workspace.dialect(system), table, system).device
    if spec is None:
        raise CalledWrongly(f"{system}/{table} needs nothing that a device would have to be asked for")
    check_devices(workspace, devices, spec.table)
    there = workspace.dialect(devices).tables[spec.table]
    fields = {ADDRESS, *spec.sets}
    names = list(dict.fromkeys(name for row in rows for name in row.said))
    meant, _ = columns_of(names, fields, {column: name for column, name in given.items() if name in fields})
    if ADDRESS not in meant.values():
        raise CalledWrongly("no column says at which address each device is", advice="--column 'COLUMN=address'")
    types = {name: there.type_of(name) for name in spec.sets} | {ADDRESS: Type.TEXT}
    limits = {
        name: Limits(choices=one.choices, longest=one.longest)
        for name, one in (there.write.fields if there.write else {}).items()
    }
    read, mistakes = read_values(rows, meant, types, limits)
    heading = next(column for column, name in meant.items() if name == ADDRESS)
    for row in read:
        if not row.values.get(ADDRESS):
            mistakes.append(Mistake(place=row.place, column=heading, value="", what="is missing"))
        elif not workspace.config.devices[devices].reaches(row.values[ADDRESS]):
            what = f"is not among the addresses of {devices} in concordex.yaml"
            mistakes.append(Mistake(place=row.place, column=heading, value=row.values[ADDRESS], what=what))
    return Asking(devices=devices, spec=spec, rows=rows, read=read, columns=list(meant), mistakes=mistakes)


def prepare_settings(workspace: Workspace, made: Asking) -> tuple[Change, Asking]:
    """The change that sets on each device what its row says and what is not so yet; who cannot be asked is told."""
    setting = [row for row in _sound(made) if len(row.values) > 1]
    if not setting:
        return Change(kind="push", system=made.devices, steps=()), made
    there = asyncio.run(ask(workspace, made.devices, [row.values[ADDRESS] for row in setting], made.spec.table))
    steps, mistakes = list[Step](), list(made.mistakes)
    for row in setting:
        address = row.values[ADDRESS]
        now = there[address]
        if isinstance(now, ConcordexError):
            mistakes.append(_unheard(row, now))
            continue
        shall = {n: v for n, v in row.values.items() if n != ADDRESS and not same(now.get(n), v)}
        if shall:
            steps.append(Step(
                number=len(steps) + 1, table=made.spec.table, action="update", at=address, source=row.place,
                label=str(now.get("name") or now["record_id"]), key={"record_id": now["record_id"]},
                was={name: now.get(name) for name in shall}, shall=shall, record_id=now["record_id"],
            ))  # fmt: skip
    change = Change(kind="push", system=made.devices, steps=tuple(steps))
    return change, replace(made, mistakes=mistakes)


def answered(workspace: Workspace, made: Asking) -> tuple[list[Row], list[Mistake], list[Row]]:
    """The rows with what their devices tell; what is wrong; and the rows that are left out for it."""
    asked = _sound(made)
    there = asyncio.run(ask(workspace, made.devices, [row.values[ADDRESS] for row in asked], made.spec.table))
    mistakes = list(made.mistakes)
    answers: dict[str, Mapping[str, Any]] = {}
    for row in asked:
        now = there[row.values[ADDRESS]]
        if isinstance(now, ConcordexError):
            mistakes.append(_unheard(row, now))
            continue
        for name in made.spec.asks:
            typed = row.said.get(name)
            if typed not in (None, "") and not same(now.get(name), typed):
                what = f"is not what the device at {row.values[ADDRESS]} says: {shown(now.get(name))}"
                mistakes.append(Mistake(place=row.place, column=name, value=str(typed), what=what))
        answers[row.place] = {name: now[name] for name in made.spec.asks if now.get(name) is not None}
    bad = {mistake.place for mistake in mistakes}
    rows = [
        replace(row, said={**{n: v for n, v in row.said.items() if n not in made.columns}, **answers[row.place]})
        for row in made.rows
        if row.place not in bad
    ]
    return rows, mistakes, [row for row in made.rows if row.place in bad]


def _sound(made: Asking) -> list[Row]:
    bad = {mistake.place for mistake in made.mistakes}
    return [row for row in made.read if row.place not in bad]


def _unheard(row: Row, error: ConcordexError) -> Mistake:
    why = f": {error.why}" if error.why else ""
    return Mistake(place=row.place, column=ADDRESS, value=str(row.values[ADDRESS]), what=f"{error.what}{why}")
