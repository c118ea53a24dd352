"""Two-sided adoption: rows completed with what only the device itself can tell, and what is set on it first."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

from concordex.change.compare import same
from concordex.change.reasons import Reasons, Why, because
from concordex.change.rows import FieldLimits, Mistake, Row, columns_of, read_values
from concordex.change.steps import Change, Step
from concordex.errors import CalledWrongly, ConcordexError
from concordex.model.fields import Type
from concordex.parallel import completed
from concordex.wire import dialect as d
from concordex.words import shown
from concordex.work.change.choose import matching
from concordex.work.targets.records import writable
from concordex.work.workspace.devices import ask, check_devices

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: The column that says where a device is.
ADDRESS = "address"


@dataclass(frozen=True, kw_only=True)
class Onboarding:
    """Rows about to be pushed, of which each has a device that is to be asked.

    ``read`` holds for each row what it says of its device: the address, and what is to be set there.
    """

    devices: str
    spec: d.OnDevice
    rows: Sequence[Row]
    read: Sequence[Row]
    columns: Sequence[str]
    mistakes: list[Mistake]
    #: Why a field that a row needs is missing, by the row's place and the field: its device does not tell it.
    silent: dict[tuple[str, str], str] = field(default_factory=dict)

    @property
    def addresses(self) -> dict[str, str]:
        """At which address the device of each row is, by the row's place."""
        return {row.place: str(row.values[ADDRESS]) for row in self.read if row.values.get(ADDRESS)}


def onboarding_of(
    workspace: BaseWorkspace,
    system: str,
    table: str,
    devices: str,
    rows: Sequence[Row],
    given: Mapping[str, str],
    defaults: Sequence[tuple[str | None, Mapping[str, str]]] = (),
) -> Onboarding:
    """What ``rows`` say of their devices; refused where the table needs nothing that a device could tell.

    ``defaults`` are what groups of rows are to be set to where they do not say it.
    """
    workspace.systems([system])
    spec = writable(workspace.dialect(system), table, system).device
    if spec is None:
        raise CalledWrongly(f"{system}/{table} needs nothing that a device would have to be asked for")
    check_devices(workspace, devices, spec.table)
    there = workspace.dialect(devices).tables[spec.table]
    fields = {ADDRESS, *spec.sets}
    rows = _with_settings(workspace, rows, defaults, spec.sets)
    names = list(dict.fromkeys(name for row in rows for name in row.typed))
    meant, _ = columns_of(names, fields, {column: name for column, name in given.items() if name in fields})
    if ADDRESS not in meant.values():
        raise CalledWrongly("no column says at which address each device is", advice="--column 'COLUMN=address'")
    types = {name: there.type_of(name) for name in spec.sets} | {ADDRESS: Type.TEXT}
    limits = {
        name: FieldLimits(choices=rule.choices, longest=rule.longest)
        for name, rule in (there.write.fields if there.write else {}).items()
    }
    read, mistakes = read_values(rows, meant, types, limits)
    heading = next(column for column, name in meant.items() if name == ADDRESS)
    for row in read:
        if not row.values.get(ADDRESS):
            mistakes.append(Mistake(place=row.place, column=heading, value="", what="is missing"))
        elif not workspace.config.devices[devices].reaches(row.values[ADDRESS]):
            what = f"is not among the addresses of {devices} in concordex.yaml"
            mistakes.append(Mistake(place=row.place, column=heading, value=row.values[ADDRESS], what=what))
    return Onboarding(devices=devices, spec=spec, rows=rows, read=read, columns=list(meant), mistakes=mistakes)


def _with_settings(
    workspace: BaseWorkspace,
    rows: Sequence[Row],
    defaults: Sequence[tuple[str | None, Mapping[str, str]]],
    sets: Sequence[str],
) -> list[Row]:
    """The rows with the settings of their devices that they do not say; the first group that speaks counts."""
    done = list(rows)
    for where, settings in defaults:
        mine = {name: value for name, value in settings.items() if name in sets}
        if not mine:
            continue
        values = [{name.lower(): value for name, value in row.typed.items()} for row in done]
        holds = matching(workspace, values, where) if where else [True] * len(done)
        for at, (row, is_meant) in enumerate(zip(done, holds, strict=True)):
            more = {name: value for name, value in mine.items() if is_meant and row.typed.get(name) in (None, "")}
            done[at] = replace(row, typed={**row.typed, **more})
    return done


def prepare_settings(workspace: BaseWorkspace, made: Onboarding) -> tuple[Change, Onboarding]:
    """The change that sets on each device what its row says and what is not so yet; who cannot be asked is told."""
    setting = [row for row in _sound(made) if len(row.values) > 1]
    if not setting:
        return Change(kind="push", system=made.devices, steps=()), made
    there = completed(ask(workspace, made.devices, [row.values[ADDRESS] for row in setting], made.spec.table))
    steps, mistakes = list[Step](), list(made.mistakes)
    for row in setting:
        address = row.values[ADDRESS]
        now = there[address]
        if isinstance(now, ConcordexError):
            mistakes.append(_unheard(row, now))
            continue
        desired = {n: v for n, v in row.values.items() if n != ADDRESS and not same(now.get(n), v)}
        if desired:
            steps.append(Step(
                number=len(steps) + 1, table=made.spec.table, operation="update", at=address, source=row.place,
                label=str(now.get("name") or now["record_id"]), key={"record_id": now["record_id"]},
                before={name: now.get(name) for name in desired}, desired=desired, record_id=now["record_id"],
            ))  # fmt: skip
    change = Change(kind="push", system=made.devices, steps=tuple(steps))
    return change, replace(made, mistakes=mistakes)


def answered(workspace: BaseWorkspace, made: Onboarding) -> tuple[list[Row], list[Mistake], list[Row]]:
    """The rows with what their devices tell; what is wrong; and the rows that are left out for it."""
    asked = _sound(made)
    there = completed(ask(workspace, made.devices, [row.values[ADDRESS] for row in asked], made.spec.table))
    mistakes = list(made.mistakes)
    answers: dict[str, Mapping[str, Any]] = {}
    for row in asked:
        now = there[row.values[ADDRESS]]
        if isinstance(now, ConcordexError):
            mistakes.append(_unheard(row, now))
            continue
        for name in made.spec.asks:
            typed = row.typed.get(name)
            if typed not in (None, "") and not same(now.get(name), typed):
                what = f"is not what the device at {row.values[ADDRESS]} says: {shown(now.get(name))}"
                mistakes.append(Mistake(place=row.place, column=name, value=str(typed), what=what))
            if now.get(name) is None:
                stands = ", ".join(f"{setting} is {shown(now.get(setting))}" for setting in made.spec.sets)
                made.silent[row.place, name] = f"is not told by the device at {row.values[ADDRESS]} ({stands})"
        answers[row.place] = {name: now[name] for name in made.spec.asks if now.get(name) is not None}
    bad = {mistake.place for mistake in mistakes}
    rows = [
        replace(row, typed={**{n: v for n, v in row.typed.items() if n not in made.columns}, **answers[row.place]})
        for row in made.rows
        if row.place not in bad
    ]
    return rows, mistakes, [row for row in made.rows if row.place in bad]


async def asked_again(
    workspace: BaseWorkspace,
    devices: str,
    table: str,
    at: Mapping[str, str],
    once: Sequence[str],
    steps: Sequence[Step],
) -> list[Step | Reasons]:
    """Steps with what their devices show just now, such as a code that lives for seconds; or why one does not.

    ``at`` gives the address of each row, by its place.
    """
    addresses = [at[step.source] for step in steps if step.source and step.source in at]
    there = await ask(workspace, devices, addresses, table) if addresses else {}
    answers: list[Step | Reasons] = []
    for step in steps:
        address = at.get(step.source or "", "")
        now = there.get(address)
        if now is None:
            answers.append(step)
        elif isinstance(now, ConcordexError):
            answers.append(because(Why.UNASKED, address=address, text=now.what))
        else:
            desired = {**step.desired, **{name: now[name] for name in once if now.get(name) is not None}}
            answers.append(replace(step, desired=desired))
    return answers


def _sound(made: Onboarding) -> list[Row]:
    bad = {mistake.place for mistake in made.mistakes}
    return [row for row in made.read if row.place not in bad]


def _unheard(row: Row, error: ConcordexError) -> Mistake:
    why = f": {error.why}" if error.why else ""
    return Mistake(place=row.place, column=ADDRESS, value=str(row.values[ADDRESS]), what=f"{error.what}{why}")
