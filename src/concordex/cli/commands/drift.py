"""``concordex drift``."""

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.differences import draw_differences, emit_differences, is_data
from concordex.cli.options import Form, Output, complete_systems, workspace
from concordex.cli.propose import Answers, AnyTime, Draft, Every, Yes, propose
from concordex.cli.statuses import Status
from concordex.words import plural

if TYPE_CHECKING:
    from concordex.change.steps import Step
    from concordex.work import Workspace
    from concordex.work.drift import Drift


def drift(
    systems: Annotated[
        list[str] | None,
        typer.Argument(help="Systems; all that have a baseline, if none is named.", autocompletion=complete_systems),
    ] = None,
    baselines: Annotated[
        Path | None, typer.Option("--from", help="Where `config save` put them; else baselines in the workspace.")
    ] = None,
    accept: Annotated[bool, typer.Option("--accept", help="Write what is live into the baseline.")] = False,
    restore: Annotated[bool, typer.Option("--restore", help="Prepare a change that puts the baseline back.")] = False,
    draft: Draft = False,
    yes: Yes = False,
    any_time: AnyTime = False,
    every: Every = False,
    form: Form = None,
    output: Output = None,
) -> int:
    """What was added, removed or changed since objects were saved: member by member, by whom, and when.

    Exit status 3 when there is any.  In a git repository, the last commit that touched a drifted object's
    file is named.  What may move is said under drift: in concordex.yaml.

    Examples:

    concordex drift

    concordex drift bollard --from baselines --restore
    """
    from concordex.errors import CalledWrongly
    from concordex.work.drift import drift as compare
    from concordex.work.drift import folders

    if accept and restore:
        raise CalledWrongly("--accept and --restore are opposites: say one of them")
    here = workspace()
    there = folders(here, systems or [], baselines or here.root / "baselines")
    found = [compare(here, name, folder) for name, folder in there.items()]
    if accept:
        return _accept(found)
    if restore:
        answers = Answers(draft=draft, yes=yes, every=every, form=form, any_time=any_time)
        return max(_restore(here, one, answers) for one in found)
    if is_data(form, output):
        emit_differences([(one.system, one.found) for one in found], form, output)
    for one in found:
        if not is_data(form, output):
            draw_differences(one.found, None, None, system=one.system, told=_told(one))
        _count(one)
    waiting = [_waiting(here, one.system) for one in found]
    return Status.FOUND if any(one.found for one in found) or any(waiting) else Status.DONE


def _waiting(here: "Workspace", system: str) -> bool:
    """Tell what somebody has staged and not committed: it will be drift when they do, or was forgotten."""
    from concordex.work.objects import staged

    found = staged(here, system)
    for one in found:
        draw.note(f"{system}: {one.what}, staged by {one.who} since {one.since} and not committed", "yellow")
    return bool(found)


def _count(one: "Drift") -> None:
    ignored = f"; {one.ignored:,} that may be" if one.ignored else ""
    if not one.found:
        draw.note(f"{one.system}: no drift in {plural(len(one.baseline), 'object')}{ignored}", "green")
        return
    counts = {word: sum(found.what == word for found in one.found) for word in ("added", "removed", "changed", "moved")}
    told = ", ".join(f"{count:,} {word}" for word, count in counts.items() if count)
    draw.note(f"{one.system}: {told} since the baseline in {_near(one.folder)}{ignored}", "yellow")


def _near(folder: Path) -> Path:
    """A folder as one would type it here."""
    return folder.relative_to(Path.cwd()) if folder.is_relative_to(Path.cwd()) else folder


def _told(one: "Drift") -> dict[Any, list[str]]:
    """Who touched each drifted object last, there and in the baseline."""
    from concordex.work.drift import last_commit

    lines: dict[Any, list[str]] = {}
    for found in one.found:
        if found.now and (found.now.by or found.now.at):
            lines.setdefault(found.key, []).append(f"altered there by {found.now.by or '?'}, {found.now.at or '?'}")
        if found.was and found.was.source and (commit := last_commit(Path(found.was.source))):
            lines.setdefault(found.key, []).append(f"baseline last touched in {commit}")
    return lines


def _accept(found: "list[Drift]") -> int:
    from concordex.work.objectfiles import save

    for one in found:
        done = save(one.held.of(one.kinds), one.folder, one.kinds, list(one.kinds))
        draw.note(
            f"{one.system}: {len(done.written):,} files written, {len(done.removed):,} removed in {_near(one.folder)}"
        )
    return Status.DONE


def _restore(here: "Workspace", one: "Drift", answers: Answers) -> int:
    from concordex.work.configure import prepare_objects
    from concordex.work.objects import chosen_kinds, live

    moved = {
        found.key: {path.partition(".")[0].partition("[")[0] for path, _, _ in found.deltas} for found in one.found
    }
    held = live(here, one.system, list(chosen_kinds(here, one.system, [])))
    change, _ = prepare_objects(here, one.system, one.baseline, held, gone=True)
    keyed = [(step, (step.table, step.key["name"], step.key.get("nth", 1))) for step in change.steps]
    steps = [_only(step, moved[key]) for step, key in keyed if key in moved]
    steps = [replace(step, number=at) for at, step in enumerate(steps, start=1)]
    change = replace(change, steps=tuple(steps), about={**change.about, "from": str(one.folder), "command": "drift"})
    return propose(here, change, answers, f"{one.system} is as the baseline says")


def _only(step: "Step", members: set[str]) -> "Step":
    """Of an update the members that drifted; what may move stays as it is."""
    if step.action != "update":
        return step
    was, shall = ({n: v for n, v in part.items() if n in members} for part in (step.was, step.shall))
    return replace(step, was=was, shall=shall)
