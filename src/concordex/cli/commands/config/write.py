"""Changes of configuration objects: loaded back, copied, migrated, removed, installed."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from concordex.change.objects import bonds
from concordex.cli import draw
from concordex.cli.change_options import ChangeOptions, change_options
from concordex.cli.commands.config.choose import (
    Address,
    Addresses,
    Bound,
    Kind,
    Where,
    complete_objects,
    live,
    objects_at,
)
from concordex.cli.options import complete_systems, words, workspace
from concordex.cli.propose import propose
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly
from concordex.words import plural

if TYPE_CHECKING:
    from concordex import Workspace
    from concordex.change.objects import Object
    from concordex.work.objects.migrate import Original


#: How many odd members are told.
_ODD = 8


@change_options("together", "batch_size", "stage", "note")
def push(
    path: Annotated[Path, typer.Argument(help="A file, or a folder of them.")],
    to: Annotated[str, typer.Option("--to", help="The system to write to.", autocompletion=complete_systems)],
    kind: Kind = None,
    gone: Annotated[bool, typer.Option("--gone", help="Also delete what the folder no longer has.")] = False,
    *,
    answers: ChangeOptions,
) -> int:
    """Load objects back: new ones are created, changed ones updated, each after what it depends on.

    Examples:

    concordex config push baselines/muster --to muster

    concordex config push 'pilot/policies/handhelds.yaml' --to production --draft
    """
    here = workspace()
    chosen, every_kind = here.kinds.chosen(to, words(kind)), here.kinds.chosen(to)
    with draw.progress() as progress:
        wanted = [obj for obj in here.objects.read(path, every_kind, progress) if obj.kind in chosen]
    # who uses what goes is asked of all kinds
    held = live(here, to, every_kind if gone else sorted({obj.kind for obj in wanted}))
    may_go = here.objects.may_go(path, chosen, held, wanted) if gone else []
    change, extra = here.objects.push(to, wanted, held, may_go=may_go)
    if extra and not gone and len(extra) <= len(wanted):  # else the files were never meant to be all
        only = f"{plural(len(extra), 'object')} of these kinds only {to} has, such as {extra[0].either.label}"
        draw.note(f"{only}; --gone deletes what the files do not have")
    going = {obj.key for obj in may_go}
    for obj in sorted({surplus.key[0] for surplus in extra if gone and surplus.key not in going}):
        draw.note(
            f"nothing of {obj} is deleted: {path} does not say that it holds all of them (config save does, when it has"
            " ended)", "yellow"
        )  # fmt: skip
    for text in here.objects.odd_members(wanted, held)[:_ODD]:
        draw.note(text, "yellow")
    altered = sum(step.operation in ("create", "update") for step in change.steps)
    draw.note(f"{plural(len(wanted), 'object')} in {path}: {len(wanted) - altered:,} are already so in {to}")
    change = change.described(source=str(path), command="config push")
    if not change.steps and any(obj.ours for obj in held.staged):
        draw.note(f"{to} already has it, but only staged: concordex config commit {to}", "yellow")
        return Status.PARTLY
    return propose(here, change, answers, f"{to} has {plural(len(wanted), 'object')} as the files say")


@change_options("stage")
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
    *,
    answers: ChangeOptions,
) -> int:
    """Make an object like another one, under a new name or in another system, with edits on the way.

    What stands in it is copied with it, such as the rules of a rule set.
    Paths are members with dots; [0] is an item of a list, [=word] the item of that value, [+] one more.

    Examples:

    concordex config copy muster/roles/office --as 'office, no restart' --drop 'rights[=restart]'

    concordex config copy muster/policies/laptops --as 'laptops 2027' --set leastRelease=24.0.0

    concordex config copy bollard/rulesets/quay --as pier
    """
    here = workspace()
    original = here.objects.original(address, to, partial(live, here))
    if not bound:
        _tell_what_stays(original)
    made = here.objects.copied(original, [_value(text) for text in sets or []], drops or [], name=name, bound=bound)
    made = _under_a_free_name(here, original, _edited(here, made, original.here) if edit else made)
    change, notes = here.objects.copy(original, made, bound=bound)
    for text in [*notes, *here.objects.odd_members([made], original.around)]:
        draw.note(text, "yellow")
    change = change.described(source=address, command="config copy")
    return propose(here, change, answers, f"{original.target} has it so")


def _under_a_free_name(here: Workspace, original: Original, made: Object) -> Object:
    """The object under a name that the target takes, as far as a person is there to be asked for one."""
    while not original.takes(made):
        what = f"{original.target} has {made.label} already, and does not allow two of one name."
        other = draw.ask_text(f"{what}  Another name:")
        if not other:
            break
        made = here.objects.renamed(made, other, original.here)
    return made


@change_options("together", "batch_size", "stage")
def migrate(
    addresses: Annotated[
        list[str],
        typer.Argument(help="SYSTEM/KIND/NAME, SYSTEM/KIND, or a SYSTEM as a whole.", autocompletion=complete_objects),
    ],
    to: Annotated[str, typer.Option("--to", help="The system to write to.", autocompletion=complete_systems)],
    mapping: Annotated[
        Path | None, typer.Option("--map", help="A YAML file: what is called otherwise there (docs/configuration.md).")
    ] = None,
    bound: Bound = False,
    where: Where = None,
    *,
    answers: ChangeOptions,
) -> int:
    """Bring objects into another system with everything they need; what exists there is compared by name.

    What they contain comes along, such as the rules of a rule set.  Assignments to people and devices stay
    behind, and that is reported, unless --bound takes them along; existing assignments there are kept.

    Examples:

    concordex config migrate pilot/policies --to production --map names.yaml --draft

    concordex config migrate 'pilot/rules/quay/let the crew in' --to production

    concordex config migrate pilot/addresses --to production --where 'name like net-*'
    """
    here = workspace()
    system = addresses[0].partition("/")[0]
    held, chosen = objects_at(here, system, addresses, where)
    made, notes = here.objects.migrated(system, to, chosen, held, mapping, bound=bound)
    for text in notes:
        draw.note(text, "yellow")
    change, _ = here.objects.push(to, made, live(here, to, sorted({obj.kind for obj in made})), free=not bound)
    change = change.described(source=", ".join(addresses), command="config migrate")
    more = f", with {len(made) - len(chosen):,} that stand in them or that they need" if len(made) > len(chosen) else ""
    draw.note(f"{plural(len(chosen), 'object')} of {system}{more}")
    return propose(here, change, answers, f"{to} has them so")


@change_options()
def install(
    addresses: Addresses,
    on: Annotated[list[str] | None, typer.Option("--on", help="Only these of its targets. Repeatable.")] = None,
    off: Annotated[bool, typer.Option("--off", help="Take it off instead.")] = False,
    *,
    answers: ChangeOptions,
) -> int:
    """Push objects onward to the devices that they are assigned to, each for itself; read back from there.

    Examples:

    concordex config install bollard/rulesets/quay

    concordex config install bollard/rulesets/quay --on fw-fishgate-01-a --yes
    """
    here = workspace()
    system = addresses[0].partition("/")[0]
    held, chosen = objects_at(here, system, addresses)
    change = here.objects.install(system, chosen, words(on), held, off=off)
    change = change.described(source=", ".join(addresses), command="config install")
    return propose(here, change, answers, "no device has it" if off else "it has no target")


@change_options("stage", "count", without=["yes"])
def remove(
    addresses: Addresses,
    *,
    answers: ChangeOptions,
) -> int:
    """Remove objects, or all of a kind (SYSTEM/KIND), users first; refused while others use them, and told by whom.

    The number of objects must be typed, or said with --count.

    Examples:

    concordex config remove 'bollard/rules/quay/let the crew in' --count 1

    concordex config remove bollard/rules --draft
    """
    here = workspace()
    system = addresses[0].partition("/")[0]
    held, chosen = objects_at(here, system, addresses)
    change = here.objects.remove(system, chosen, held)
    change = change.described(source=", ".join(addresses), command="config remove")
    return propose(here, change, answers, "there is nothing of that")


def _tell_what_stays(original: Original) -> None:
    """What binds an object to people and devices, and is not copied."""

    for member in bonds(original.obj, original.here[original.obj.kind]):
        draw.note(f"{member} stays behind (--bound takes it along)", "yellow")


def _value(text: str) -> tuple[str, str]:
    """PATH=VALUE; the path may hold a sign of equality in brackets."""

    at = text.find("=", text.rfind("]") + 1)
    if at < 1:
        raise CalledWrongly(f"--set {text}: say PATH=VALUE")
    return text[:at], text[at + 1 :]


def _edited(here: Workspace, obj: Object, kinds: Any) -> Object:
    """The object as the person leaves it in an editor."""
    import os
    import shlex
    import subprocess
    import tempfile

    editor = os.environ.get("VISUAL") or os.environ.get("EDITOR")
    if not editor:
        raise CalledWrongly("--edit needs an editor", advice="EDITOR says which")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "object.yaml")
        path.write_text(here.objects.text(obj), encoding="utf-8")
        done = subprocess.run([*shlex.split(editor), str(path)], check=False)
        if done.returncode:
            raise CalledWrongly(f"{editor} ended with {done.returncode}: nothing was prepared")
        (made,) = here.objects.read(path, kinds)
        return replace(made, source=None)
