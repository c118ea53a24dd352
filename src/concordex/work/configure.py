"""Looking at configuration objects, and preparing changes of them: loaded back, copied, carried over, removed."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from concordex.change.depend import InACircle, dangling, users
from concordex.change.differ import Difference, differ
from concordex.change.objects import Kinds, Object, get, members, own_name, pruned, settled
from concordex.change.plan import plan
from concordex.change.steps import Change, Step
from concordex.errors import CalledWrongly, Stopped
from concordex.model.values import parse_time
from concordex.query.bind import Binder
from concordex.query.frames import to_polars
from concordex.words import suggestion
from concordex.work.objectfiles import read_objects
from concordex.work.objects import Held, chosen_kinds, kinds_of, live, pulled
from concordex.work.show import Shape

if TYPE_CHECKING:
    from concordex.work.workspace import Workspace


@dataclass(frozen=True)
class Side:
    """One side of a comparison: what it is called, and its objects."""

    name: str
    objects: list[Object]
    kinds: Kinds


def find(workspace: Workspace, address: str) -> tuple[str, str, str]:
    """``SYSTEM/KIND/NAME`` in its parts; the name may hold slashes."""
    system, _, rest = address.partition("/")
    kind, _, name = rest.partition("/")
    if not (system and kind and name):
        raise CalledWrongly(f"{address!r} is no object", advice="say SYSTEM/KIND/NAME, as `config list` has them")
    chosen_kinds(workspace, system, [kind])
    return system, kind, name


def one_of(held: Held, system: str, kind: str, name: str) -> Object:
    """The object of that name; an error with the nearest where there is none, or several."""
    found = [one for one in held.objects if one.kind == kind and one.name == name]
    if not found:
        names = [one.name for one in held.objects if one.kind == kind]
        raise CalledWrongly(f"{system} has no object {kind}/{name}", advice=suggestion(name, names))
    if len(found) > 1:
        raise CalledWrongly(
            f"{system} has {len(found)} objects {kind}/{name}",
            advice="save them, and push the file of the one you mean",
        )
    return found[0]


def matching(workspace: Workspace, held: Held, kinds: Iterable[str], where: str | None) -> list[Object]:
    """The objects of ``kinds`` whose records a filter holds for; all without one."""
    if where is None:
        return held.of(kinds)
    chosen: set[tuple[str, str]] = set()
    query = workspace.query(where)
    for kind in kinds:
        frame = held.frames[kind]
        binder = Binder(query, Shape(frame.lazy()).types, workspace.now())
        binder.check()
        chosen |= {(kind, rid) for rid in frame.filter(to_polars(query.node, binder))["record_id"]}
    return [one for one in held.of(kinds) if (one.kind, str(one.record_id)) in chosen]


def sides(workspace: Workspace, was: str, now: str, names: Sequence[str]) -> tuple[Side, Side]:
    """Two of: a file or folder, a system, a system at a date (``SYSTEM@DATE``); at least one is a system."""
    systems = [name for name in (text.partition("@")[0] for text in (was, now)) if is_known(workspace, name)]
    if not systems:
        raise CalledWrongly("neither side is a system: whose objects are these?", advice="name a system on one side")
    kinds = chosen_kinds(workspace, systems[0], names)
    files = [read_objects(Path(text), kinds) for text in (was, now) if text.partition("@")[0] not in systems]
    if files and not names:  # what a folder says nothing about is not compared
        said = {one.kind for found in files for one in found}
        kinds = {name: kind for name, kind in kinds.items() if name in said} if said else kinds
    return _side(workspace, was, kinds), _side(workspace, now, kinds)


def is_known(workspace: Workspace, name: str) -> bool:
    """Whether a word means a system or a device, and no file."""
    return name in workspace.config.systems or workspace.is_device(name)


def _side(workspace: Workspace, text: str, kinds: Kinds) -> Side:
    system, at, moment = text.partition("@")
    if not is_known(workspace, system):
        return Side(text, [one for one in read_objects(Path(text), kinds) if one.kind in kinds], kinds)
    chosen_kinds(workspace, system, list(kinds))
    if at:
        when = parse_time(moment)
        if when is None:
            raise CalledWrongly(f"{text}: {moment!r} is no date", advice="an ISO 8601 date or time (UTC)")
        return Side(text, pulled(workspace, system, list(kinds), _end(when, moment)).of(kinds), kinds)
    return Side(text, live(workspace, system, list(kinds)).of(kinds), kinds)


def _end(when: datetime, said: str) -> datetime:
    """A date means its end."""
    return when.replace(hour=23, minute=59, second=59) if len(said) == len("2026-11-01") else when


def compared(was: Side, now: Side, *, bound: bool = True) -> list[Difference]:
    """How the two sides differ; without what is ``bound`` to people and devices, if that is to be left aside."""
    one, other = (side.objects if bound else [_unbound(o, side.kinds) for o in side.objects] for side in (was, now))
    return differ(_sections(one, other, now.kinds), _sections(other, one, now.kinds), now.kinds)


def _sections(mine: Sequence[Object], theirs: Sequence[Object], kinds: Kinds) -> list[Object]:
    """Of settings that stand alone, the sections of which both sides speak."""
    said = {one.key: one.body.keys() for one in theirs if kinds[one.kind].single}
    return [
        replace(one, body={name: value for name, value in one.body.items() if name in said[one.key]})
        if one.key in said
        else one
        for one in mine
    ]


def _unbound(one: Object, kinds: Kinds) -> Object:
    return replace(one, body=pruned(one.body, kinds[one.kind].bound))


def prepare_objects(
    workspace: Workspace,
    system: str,
    wanted: Sequence[Object],
    held: Held,
    *,
    may_go: Sequence[Object] = (),
    unbound: bool = False,
) -> tuple[Change, list[Difference]]:
    """The change that makes ``wanted`` so in a system; and what of these kinds only the system has.

    Of that, objects that are among ``may_go`` are deleted.  With ``unbound``, what binds objects to people and
    devices stays there as it is.

    Refused with every mistake at once: members that the kind does not have, names that do not fit, references
    to nothing, objects that need each other in a circle, and objects that would go and are still used.
    """
    kinds = kinds_of(workspace.dialect(system))
    mine, going = {one.kind for one in (*wanted, *may_go)}, {one.key for one in may_go}
    actual = [_unbound(one, kinds) for one in held.of(mine)] if unbound else held.of(mine)
    alone = {one.key: one.body for one in actual if kinds[one.kind].single}  # what is not said of it stays
    wanted = [replace(one, body=settled({**alone.get(one.key, {}), **one.body}, kinds[one.kind])) for one in wanted]
    mistakes = [*_unfit(workspace, system, wanted, actual, kinds), *_lost(wanted, held, kinds)]
    if mistakes:
        raise CalledWrongly("\n".join(mistakes))
    try:
        change, extra = plan(system, wanted, actual, kinds, going=going)
    except InACircle as circle:
        raise CalledWrongly(f"these need each other, so that none can be made first: {circle}") from circle
    said = {one.key for one in wanted}
    stay = [*(one for one in held.objects if one.key not in said), *wanted]
    _refuse_used([found.one for found in extra if found.key in going], stay, kinds)
    return change, extra


def _unfit(
    workspace: Workspace, system: str, wanted: Sequence[Object], actual: Sequence[Object], kinds: Kinds
) -> list[str]:
    """Names and members that cannot be meant."""
    told = []
    for kind in dict.fromkeys(one.kind for one in wanted):
        spec = kinds[kind]
        fields = workspace.dialect(system).tables[kind].fields.values()
        known = {path.partition(".")[0] for field in fields for path in field.from_} - {spec.id}
        learned = {name for one in actual if one.kind == kind for name in one.body}  # of none there, nothing is known
        known |= learned
        for one in wanted:
            if one.kind != kind:
                continue
            where = one.source or one.label
            try:
                own_name(one.name, one.body, spec)
            except ValueError as error:
                told.append(f"{where}: {error}")
            told += [
                f"{where}: {kind} have no member {name!r}; {suggestion(name, known)}"
                for name in one.body
                if one.source and learned and name not in known
            ]
    return told


def odd_members(wanted: Sequence[Object], held: Held) -> list[str]:
    """Members deep in objects that no other object of the kind has: perhaps only written wrongly."""
    notes = []
    for kind in dict.fromkeys(one.kind for one in wanted):
        known = {path for one in held.of([kind]) for path in members(one.body)}
        for one in wanted:
            odd = [path for path in dict.fromkeys(members(one.body)) if one.kind == kind and path not in known]
            for path in odd:
                above, _, name = path.rpartition(".")
                beside = [other.rpartition(".")[2] for other in known if other.rpartition(".")[0] == above]
                if above and beside:
                    notes.append(f"{one.label}: no other of the {kind} has {path}; {suggestion(name, beside)}")
    return notes


def _lost(wanted: Sequence[Object], held: Held, kinds: Kinds) -> list[str]:
    """References to what is not there and is not made."""
    there = {(one.kind, one.name) for one in held.objects}

    def known(table: str, name: str) -> bool:
        return (table, name) in there or (table not in kinds and held.has(table, name))

    told = []
    for one, member, table, name in dangling(wanted, kinds, known):
        names = [other for kind, other in there if kind == table] or list(held.others.get(table, ()))
        told.append(
            f"{one.source or one.label}: {member} names {name!r}, which is not in {table}; {suggestion(name, names)}"
        )
    return told


def _refuse_used(gone: Sequence[Object], left: Sequence[Object], kinds: Kinds) -> None:
    """Raise Stopped where somebody who stays refers to what goes, and say who."""
    out = {one.key for one in gone}
    found = users([(one.kind, one.name) for one in gone], [one for one in left if one.key not in out], kinds)
    if found:
        told = [f"{kind}/{name} is used by {one.label} ({member})" for one, member, (kind, name) in found[:20]]
        more = f"\nand {len(found) - 20:,} more" if len(found) > 20 else ""
        raise Stopped("\n".join(told) + more, advice="remove or alter those first, or together with it")


def prepare_removal(workspace: Workspace, system: str, gone: Sequence[Object], held: Held) -> Change:
    """The change that removes objects, users before what they use."""
    kinds = kinds_of(workspace.dialect(system))
    _refuse_used(gone, held.objects, kinds)
    try:
        change, _ = plan(system, [], gone, kinds, going={one.key for one in gone})
    except InACircle as circle:
        raise CalledWrongly(f"these need each other: {circle}") from circle
    return replace(change, about={**change.about, "grave": True})


def prepare_installation(
    workspace: Workspace, system: str, chosen: Sequence[Object], on: Sequence[str], act: str = "install"
) -> Change:
    """The change that does ``act`` with each object on each of its targets, or on those named, each for itself."""
    steps = list[Step]()
    for one in chosen:
        write = workspace.dialect(system).tables[one.kind].write
        how = write.acts.get(act) if write else None
        if how is None or how.each is None:
            raise CalledWrongly(f"{one.kind} of {system} are not installed anywhere, as far as the dialect says")
        targets = [str(name) for name in get(one.body, how.each) or []]
        strange = [name for name in on if name not in targets]
        if strange:
            raise CalledWrongly(
                f"{strange[0]} is no target of {one.label}: assign it first ({how.each})",
                advice=f"its targets: {', '.join(targets) or 'none'}",
            )
        steps += [
            Step(
                number=len(steps) + at, table=one.kind, action="act", act=act, label=f"{one.name} on {target}",
                key={"name": one.name}, shall={"target": target}, record_id=one.record_id,
            )
            for at, target in enumerate([name for name in targets if not on or name in on], start=1)
        ]  # fmt: skip
    return Change(kind="install", system=system, steps=tuple(steps), about={"objects": True})


def onward(workspace: Workspace, change: Change) -> list[str]:
    """What a change has altered that devices have only once it is installed on them: SYSTEM/KIND/NAME."""
    dialect = workspace.dialect(change.system)
    kinds, found = kinds_of(dialect), dict[str, None]()
    gone = {(step.table, str(step.key.get("name"))) for step in change.steps if step.action == "delete"}
    for step in change.steps:
        kind, name = kinds.get(step.table), str(step.key.get("name"))
        if kind is None or step.state != "confirmed" or step.action in ("act", "report"):
            continue
        table = kind.table
        if kind.within:
            table = kind.references[kind.within]
            name = str(step.shall.get(kind.within) or step.was.get(kind.within) or name.partition("/")[0])
        write = dialect.tables[table].write
        if (table, name) not in gone and write and (how := write.acts.get("install")) and how.each:
            found[f"{change.system}/{table}/{name}"] = None
    return list(found)
