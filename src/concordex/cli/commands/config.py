"""``concordex config``: configuration objects, by name."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.differences import draw_differences
from concordex.cli.options import Form, Output, complete_systems, words, workspace
from concordex.cli.propose import Answers, AnyTime, Count, Draft, Every, Most, Stage, Together, Yes, propose
from concordex.cli.statuses import Status
from concordex.words import plural

if TYPE_CHECKING:
    from concordex.change.objects import Object
    from concordex.cli.emit import Format
    from concordex.wire.staging import Pending
    from concordex.work import Workspace
    from concordex.work.objects import Held

config = typer.Typer(
    help="Configuration objects (roles, policies, rules, …): save them as files, compare, load back, copy, carry over.",
    no_args_is_help=True,
    rich_markup_mode=None,
)
System = Annotated[str, typer.Argument(help="The system.", autocompletion=complete_systems)]
KindNames = Annotated[list[str] | None, typer.Argument(help="Kinds of object; all, if none is named.")]
Kind = Annotated[list[str] | None, typer.Option("--kind", help="Only these kinds. Repeatable.")]
Address = Annotated[str, typer.Argument(help="SYSTEM/KIND/NAME, as `config list` has them.")]
Addresses = Annotated[list[str], typer.Argument(help="SYSTEM/KIND/NAME, as `config list` has them.")]
Where = Annotated[str | None, typer.Option("--where", help="A filter on their records (docs/filters.md).")]
Bound = Annotated[
    bool, typer.Option("--bound", help="Take along what binds them to people and devices, such as assignments.")
]


@config.command("list")
def list_objects(system: System, kinds: KindNames = None, where: Where = None, form: Form = None) -> None:
    """List the objects that a system has now: what each needs, how many use it, who altered it last.

    Examples:

    concordex config list bollard

    concordex config list muster policies
    """
    from concordex.change.depend import needs, users
    from concordex.change.objects import in_sequence
    from concordex.cli.rows import emit_rows
    from concordex.model.values import parse_time
    from concordex.work.configure import matching
    from concordex.work.objects import chosen_kinds, kinds_of

    here = workspace()
    chosen, every = chosen_kinds(here, system, kinds or []), kinds_of(here.dialect(system))
    held = _live(here, system, every)
    used: dict[tuple[str, str], int] = {}
    for _, _, name in users([(one.kind, one.name) for one in held.objects], held.objects, every):
        used[name] = used.get(name, 0) + 1
    told = any(kind.at or kind.by for kind in chosen.values())
    rows = [
        {
            "kind": one.kind, "name": one.name + (f" (no. {one.nth})" if one.nth > 1 else ""),
            "needs": len(needs(one, every)), "used by": used.get((one.kind, one.name), 0),
            **({"altered": parse_time(one.at or "") or one.at, "by": one.by} if told else {}),
        }
        for one in in_sequence(matching(here, held, chosen, where), every)
    ]  # fmt: skip
    emit_rows(rows, form, None)
    draw.note(f"{plural(len(rows), 'object')} of {plural(len(chosen), 'kind')} in {system}")


@config.command("show")
def show(address: Address) -> None:
    """Show one object as its file has it, with what it needs and who uses it.

    Example: concordex config show muster/roles/office
    """
    from concordex.change.depend import needs, users
    from concordex.work.configure import find, one_of
    from concordex.work.objectfiles import written
    from concordex.work.objects import kinds_of

    here = workspace()
    system, kind, name = find(here, address)
    every = kinds_of(here.dialect(system))
    held = _live(here, system, every)
    one = one_of(held, system, kind, name)
    draw.line(written(one, one.key).rstrip())
    if one.at or one.by:
        draw.note(f"altered last {draw.moment(one.at)} by {one.by or 'nobody knows whom'}")
    needed = [f"{table}/{other}" for table, other in needs(one, every)]
    used = [other.label for other, _, _ in users([(kind, name)], held.objects, every)]
    draw.note(f"needs: {', '.join(needed) or 'nothing'}")
    draw.note(f"used by: {', '.join(used) or 'nobody'}")


@config.command("save")
def save(
    system: System,
    into: Annotated[Path, typer.Option("--into", help="The folder; the system gets one of its own in it.")],
    kinds: KindNames = None,
    where: Where = None,
) -> None:
    """Save objects as one readable file each: names instead of ids, nothing that moves by itself.

    Saved again, only files of objects that became otherwise are touched; comments in the others stay.

    Examples:

    concordex config save muster --into baselines

    concordex config save bollard addresses services --where 'name like net-*' --into pilot
    """
    from concordex.work.baselines import folder_of, say
    from concordex.work.configure import matching
    from concordex.work.objectfiles import save as write
    from concordex.work.objects import chosen_kinds

    here = workspace()
    chosen = chosen_kinds(here, system, kinds or [])
    held = _live(here, system, chosen)
    objects = matching(here, held, chosen, where)
    folder = folder_of(into, system)
    done = write(objects, folder, chosen, () if where else list(chosen))
    say(folder, chosen, where)
    for path in done.removed:
        draw.note(f"gone: {path}")
    removed = f", {len(done.removed):,} removed" if done.removed else ""
    told = f"{len(done.written):,} written, {done.same:,} as they were{removed}"
    draw.note(f"{plural(len(objects), 'object')} in {folder}: {told}")


@config.command("diff")
def diff(
    was: Annotated[str, typer.Argument(help="A folder, a file, a SYSTEM, or a SYSTEM@DATE.")],
    now: Annotated[str, typer.Argument(help="Another.")],
    kind: Kind = None,
    bound: Annotated[
        bool, typer.Option("--bound", help="Of two systems: also what binds objects to people and devices.")
    ] = False,
    form: Form = None,
    output: Output = None,
) -> int:
    """How two sides differ by meaning: files against live, two systems, two dates.  Exit status 3 if they do.

    Order counts where it means something, as in rules; not where it does not, as in a role's rights.

    Examples:

    concordex config diff baselines/muster muster

    concordex config diff pilot production --kind policies

    concordex config diff bollard@2026-11-01 bollard
    """
    from concordex.work.configure import compared, is_known, sides

    here = workspace()
    one, other = sides(here, was, now, words(kind))
    systems = {text.partition("@")[0] for text in (was, now)}
    apart = len(systems) == 2 and all(is_known(here, name) for name in systems)
    found = compared(one, other, bound=bound or not apart)
    if apart and not bound and any(spec.bound for spec in one.kinds.values()):
        draw.note("what binds objects to people and devices is not compared; --bound does")
    draw_differences(found, form, output)
    draw.note(_count(found, f"from {was} to {now}", max(len(one.objects), len(other.objects))))
    return Status.FOUND if found else Status.DONE


def _count(found: list[Any], what: str, of: int) -> str:
    if not found:
        return f"no difference {what}, in {plural(of, 'object')}"
    told = [f"{sum(one.what == word for one in found):,} {word}" for word in ("added", "removed", "changed", "moved")]
    return f"{what}: {', '.join(one for one in told if not one.startswith('0 '))}"


@config.command("push")
def push(
    path: Annotated[Path, typer.Argument(help="A file, or a folder of them.")],
    to: Annotated[str, typer.Option("--to", help="The system to write to.", autocompletion=complete_systems)],
    kind: Kind = None,
    gone: Annotated[bool, typer.Option("--gone", help="Also delete what the folder no longer has.")] = False,
    draft: Draft = False,
    yes: Yes = False,
    together: Together = False,
    most: Most = None,
    stage: Stage = False,
    any_time: AnyTime = False,
    every: Every = False,
    form: Form = None,
) -> int:
    """Load objects back: what is new is made, what is otherwise is altered, each after what it needs.

    Examples:

    concordex config push baselines/muster --to muster

    concordex config push 'pilot/policies/handhelds.yaml' --to production --draft
    """
    from concordex.work.baselines import covered, said
    from concordex.work.configure import prepare_objects
    from concordex.work.objectfiles import read_objects
    from concordex.work.objects import chosen_kinds

    here = workspace()
    chosen = chosen_kinds(here, to, words(kind))
    wanted = [one for one in read_objects(path, chosen_kinds(here, to, [])) if one.kind in chosen]
    # who uses what goes is asked of all kinds
    held = _live(here, to, chosen_kinds(here, to, []) if gone else sorted({one.kind for one in wanted}))
    saved = {name: one for name, one in said(path).items() if name in chosen} if path.is_dir() else {}
    may_go = covered(here, held, saved, wanted) if gone else []
    change, extra = prepare_objects(here, to, wanted, held, may_go=may_go)
    if extra and not gone and len(extra) <= len(wanted):  # else the files were never meant to be all
        only = f"{plural(len(extra), 'object')} of these kinds only {to} has, such as {extra[0].one.label}"
        draw.note(f"{only}; --gone deletes what the files do not have")
    altered = sum(step.action in ("create", "update") for step in change.steps)
    draw.note(f"{plural(len(wanted), 'object')} in {path}: {len(wanted) - altered:,} are so in {to} already")
    change = replace(change, about={**change.about, "from": str(path), "command": "config push"})
    answers = Answers(
        stage=stage, together=together, most=most, draft=draft, yes=yes, every=every, form=form, any_time=any_time
    )
    return propose(here, change, answers, f"{to} has {plural(len(wanted), 'object')} as the files say")


@config.command("copy")
def copy(
    address: Address,
    name: Annotated[str | None, typer.Option("--as", help="The new name.")] = None,
    to: Annotated[str | None, typer.Option("--to", help="Another system.", autocompletion=complete_systems)] = None,
    sets: Annotated[
        list[str] | None, typer.Option("--set", help="PATH=VALUE, such as lock.afterMinutes=5. Repeatable.")
    ] = None,
    drops: Annotated[
        list[str] | None, typer.Option("--drop", help="A PATH, such as rights[=restart]. Repeatable.")
    ] = None,
    edit: Annotated[bool, typer.Option("--edit", help="Open it in $EDITOR on the way.")] = False,
    bound: Bound = False,
    draft: Draft = False,
    yes: Yes = False,
    stage: Stage = False,
    any_time: AnyTime = False,
    form: Form = None,
) -> int:
    """Make an object like another one, under a new name or in another system, with edits on the way.

    Paths are members with dots; [0] is an item of a list, [=word] the item of that value, [+] one more.

    Examples:

    concordex config copy muster/roles/office --as 'office, no restart' --drop 'rights[=restart]'

    concordex config copy muster/policies/laptops --as 'laptops 2027' --set leastRelease=24.0.0
    """
    from concordex.work.carry import Edits, prepare_copy, renamed
    from concordex.work.configure import find, one_of
    from concordex.work.objects import chosen_kinds, live

    here = workspace()
    system, kind, own = find(here, address)
    made = one_of(live(here, system, [kind]), system, kind, own)
    kinds = chosen_kinds(here, to or system, [])
    if not bound:
        made = _unbound(made, kinds)
    edits = Edits(sets=[_value(text) for text in sets or []], drops=drops or [])
    made = edits.of(renamed(made, name, kinds) if name else replace(made, nth=1), kinds)
    made = _edited(made, kinds) if edit else made
    held = _live(here, to or system, [kind])
    while not kinds[kind].shares and any((one.kind, one.name) == (kind, made.name) for one in held.objects):
        other = draw.ask_text(f"{to or system} has {made.label} already, and takes no two of one name.  Another name:")
        if not other:
            break
        made = renamed(made, other, kinds)
    change, notes = prepare_copy(here, to or system, made, held)
    for text in notes:
        draw.note(text, "yellow")
    change = replace(change, about={**change.about, "from": address, "command": "config copy"})
    answers = Answers(stage=stage, draft=draft, yes=yes, form=form, any_time=any_time)
    return propose(here, change, answers, f"{to or system} has it so")


@config.command("carry")
def carry(
    addresses: Annotated[list[str], typer.Argument(help="SYSTEM/KIND/NAME, SYSTEM/KIND, or a SYSTEM as a whole.")],
    to: Annotated[str, typer.Option("--to", help="The system to write to.", autocompletion=complete_systems)],
    told: Annotated[
        Path | None, typer.Option("--map", help="A YAML file: what is called otherwise there (docs/configuration.md).")
    ] = None,
    bound: Bound = False,
    draft: Draft = False,
    yes: Yes = False,
    together: Together = False,
    most: Most = None,
    stage: Stage = False,
    any_time: AnyTime = False,
    every: Every = False,
    form: Form = None,
) -> int:
    """Bring objects into another system with all that they need; what is there already is compared by name.

    Assignments to people and devices stay behind, and that is told, unless --bound takes them along; those
    that objects have there stay as they are.

    Examples:

    concordex config carry pilot/policies --to production --map names.yaml --draft

    concordex config carry 'pilot/rules/quay/let the crew in' --to production
    """
    from concordex.work.carry import carried, read_map
    from concordex.work.configure import prepare_objects
    from concordex.work.objects import kinds_of

    here = workspace()
    system = addresses[0].partition("/")[0]
    held, chosen = _chosen(here, system, addresses)
    kinds = kinds_of(here.dialect(system)), kinds_of(here.dialect(to))
    made, notes = carried(chosen, held, *kinds, read_map(told) if told else None, bound=bound)
    for text in notes:
        draw.note(text, "yellow")
    change, _ = prepare_objects(here, to, made, _live(here, to, sorted({one.kind for one in made})), unbound=not bound)
    change = replace(change, about={**change.about, "from": ", ".join(addresses), "command": "config carry"})
    draw.note(f"{plural(len(chosen), 'object')} of {system}, with {len(made) - len(chosen):,} that they need")
    answers = Answers(
        stage=stage, together=together, most=most, draft=draft, yes=yes, every=every, form=form, any_time=any_time
    )
    return propose(here, change, answers, f"{to} has them so")


@config.command("install")
def install(
    addresses: Addresses,
    on: Annotated[list[str] | None, typer.Option("--on", help="Only these of its targets. Repeatable.")] = None,
    off: Annotated[bool, typer.Option("--off", help="Take it off instead.")] = False,
    draft: Draft = False,
    yes: Yes = False,
    any_time: AnyTime = False,
    every: Every = False,
    form: Form = None,
) -> int:
    """Push objects onward to the devices that they are assigned to, each for itself; read back from there.

    Examples:

    concordex config install bollard/rulesets/quay

    concordex config install bollard/rulesets/quay --on fw-fishgate-01 --yes
    """
    from concordex.work.configure import prepare_installation

    here = workspace()
    system = addresses[0].partition("/")[0]
    _, chosen = _chosen(here, system, addresses)
    change = prepare_installation(here, system, chosen, words(on), "uninstall" if off else "install")
    change = replace(change, about={**change.about, "from": ", ".join(addresses), "command": "config install"})
    answers = Answers(draft=draft, yes=yes, every=every, form=form, any_time=any_time)
    return propose(here, change, answers, "it has no target")


@config.command("pending")
def pending(system: System, form: Form = None) -> int:
    """What is staged in a system and not committed: by whom, and since when.  Exit status 3 if anything is.

    Example: concordex config pending bollard
    """
    from concordex.work.staged import staged

    found = staged(workspace(), system)
    if found or form:
        _draw_staged(found, form)
    draw.note(f"{len(found):,} staged and not committed in {system}" if found else f"nothing is staged in {system}")
    return Status.FOUND if found else Status.DONE


def _draw_staged(found: list[Pending], form: Format | None = None) -> None:
    from concordex.cli.rows import emit_rows

    rows = [{"who": one.who, "ours": one.ours, "since": one.since, "what": one.what} for one in found]
    emit_rows(rows, form, None)


@config.command("commit")
def commit(system: System, yes: Yes = False, any_time: AnyTime = False) -> int:
    """Put into effect what is staged in a system by this user; changes that were staged are read back.

    Example: concordex config commit bollard
    """
    from concordex.cli.propose import run_and_tell
    from concordex.work.staged import put_into_effect, staged, waiting

    here = workspace()
    ours = [one for one in staged(here, system) if one.ours]
    changes = waiting(here, system)
    if not ours and not changes:
        draw.note(f"nothing of this user's is staged in {system}")
        return Status.DONE
    _draw_staged(ours)
    told = f" (of {', '.join(f'change {number}' for number in changes)})" if changes else ""
    if not (yes or draw.ask(f"Commit this in {system}?{told}")):
        draw.note("not agreed; it stays staged")
        return Status.STOPPED
    if not changes:
        put_into_effect(here, system, any_time=any_time)
        draw.note(f"{len(ours):,} committed in {system}", "green")
        return Status.DONE
    ended = []
    for number, steps in changes.items():
        chosen = {step.number for step in steps}
        part = len(chosen) < len(here.change(number).writes)
        ended.append(run_and_tell(here, number, chosen, part=part, any_time=any_time))
    return max(ended)


@config.command("unstage")
def unstage(system: System, yes: Yes = False) -> int:
    """Take back what is staged in a system by this user; nothing of it comes into effect.

    Example: concordex config unstage bollard
    """
    from concordex.work.staged import staged, take_back

    here = workspace()
    ours = [one for one in staged(here, system) if one.ours]
    if not ours:
        draw.note(f"nothing of this user's is staged in {system}")
        return Status.DONE
    _draw_staged(ours)
    if not (yes or draw.ask(f"Take this back in {system}?")):
        draw.note("not agreed; it stays staged")
        return Status.STOPPED
    changes = take_back(here, system)
    draw.note(f"{len(ours):,} taken back in {system}", "green")
    for number in changes:
        draw.note(f"change {number} can be run anew: concordex change run {number}")
    return Status.DONE


@config.command("remove")
def remove(
    addresses: Addresses,
    count: Count = None,
    draft: Draft = False,
    stage: Stage = False,
    any_time: AnyTime = False,
    every: Every = False,
    form: Form = None,
) -> int:
    """Remove objects, or all of a kind (SYSTEM/KIND), users first; refused while others use them, and told by whom.

    The number of objects must be typed, or said with --count.

    Examples:

    concordex config remove 'bollard/rules/quay/let the crew in' --count 1

    concordex config remove bollard/rules --draft
    """
    from concordex.work.configure import prepare_removal

    here = workspace()
    system = addresses[0].partition("/")[0]
    held, chosen = _chosen(here, system, addresses)
    change = prepare_removal(here, system, chosen, held)
    change = replace(change, about={**change.about, "from": ", ".join(addresses), "command": "config remove"})
    answers = Answers(stage=stage, draft=draft, yes=False, every=every, form=form, any_time=any_time, count=count)
    return propose(here, change, answers, "there is nothing of that")


def _live(here: Workspace, system: str, kinds: Iterable[str]) -> Held:
    """The objects as they are now; what of them is only staged by ourselves is told."""
    from concordex.work.objects import live

    held = live(here, system, list(kinds))
    ours = [one.what for one in held.staged if one.ours]
    if ours:
        more = f", and {len(ours) - 3:,} more" if len(ours) > 3 else ""
        draw.note(f"seen in {system} with what is staged and not committed: {', '.join(ours[:3])}{more}", "yellow")
    return held


def _chosen(here: Workspace, system: str, addresses: list[str]) -> tuple[Any, list[Object]]:
    """What a system holds, and the objects of it that are meant."""
    from concordex.errors import CalledWrongly
    from concordex.work.configure import find, one_of
    from concordex.work.objects import chosen_kinds

    held = _live(here, system, chosen_kinds(here, system, []))
    chosen: dict[Any, Object] = {}
    for address in addresses:
        other, _, rest = address.partition("/")
        if other != system:
            raise CalledWrongly(f"{address} is not of {system}: one system at a time")
        kind, _, name = rest.partition("/")
        if name:
            found = [one_of(held, *find(here, address))]
        else:
            found = held.of(chosen_kinds(here, system, [kind] if kind else []))
        chosen |= {one.key: one for one in found}
    return held, list(chosen.values())


def _unbound(one: Object, kinds: Any) -> Object:
    from concordex.change.objects import get, pruned

    left = [member for member in kinds[one.kind].bound if get(one.body, member) not in (None, "", [])]
    for member in left:
        draw.note(f"{member} stays behind (--bound takes it along)", "yellow")
    return replace(one, body=pruned(one.body, left))


def _value(text: str) -> tuple[str, str]:
    """PATH=VALUE; the path may hold a sign of equality in brackets."""
    from concordex.errors import CalledWrongly

    at = text.find("=", text.rfind("]") + 1)
    if at < 1:
        raise CalledWrongly(f"--set {text}: say PATH=VALUE")
    return text[:at], text[at + 1 :]


def _edited(one: Object, kinds: Any) -> Object:
    """The object as the person leaves it in an editor."""
    import os
    import shlex
    import subprocess
    import tempfile

    from concordex.errors import CalledWrongly
    from concordex.work.objectfiles import read_objects, written

    editor = os.environ.get("VISUAL") or os.environ.get("EDITOR")
    if not editor:
        raise CalledWrongly("--edit needs an editor", advice="EDITOR says which")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "object.yaml")
        path.write_text(written(one, one.key), encoding="utf-8")
        done = subprocess.run([*shlex.split(editor), str(path)], check=False)
        if done.returncode:
            raise CalledWrongly(f"{editor} ended with {done.returncode}: nothing was prepared")
        (made,) = read_objects(path, kinds)
        return replace(made, source=None)
