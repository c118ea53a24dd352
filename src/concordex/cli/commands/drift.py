"""``concordex drift``."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.differences import draw_differences, emit_differences, is_data
from concordex.cli.options import Form, Output, complete_systems, workspace
from concordex.cli.propose import AnyTime, ChangeOptions, Draft, Every, Stage, Yes, propose
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly, ConcordexError
from concordex.words import plural

if TYPE_CHECKING:
    from concordex import Workspace
    from concordex.work.objects.drift import Drift


#: How many systems without drift are told one by one.
_CLEAN = 4


def drift(
    systems: Annotated[
        list[str] | None,
        typer.Argument(help="Systems; all that have a baseline if none is given.", autocompletion=complete_systems),
    ] = None,
    baselines: Annotated[
        Path | None, typer.Option("--from", help="Where `config save` put them; by default baselines in the workspace.")
    ] = None,
    accept: Annotated[bool, typer.Option("--accept", help="Write what is live into the baseline.")] = False,
    restore: Annotated[bool, typer.Option("--restore", help="Prepare a change that puts the baseline back.")] = False,
    draft: Draft = False,
    yes: Yes = False,
    stage: Stage = False,
    any_time: AnyTime = False,
    every: Every = False,
    form: Form = None,
    output: Output = None,
) -> int:
    """What was added, removed or changed since objects were saved: member by member, by whom, and when.

    Systems, and devices that were saved (DEVICES:ADDRESS), are asked many at once.  Exit status 3 when there
    is any.  In a git repository, the last commit that touched a drifted object's file is named.  What may
    move is said under drift: in concordex.yaml.

    Examples:

    concordex drift

    concordex drift bollard --from baselines --restore
    """

    if accept and restore:
        raise CalledWrongly("--accept and --restore are opposites: say one of them")
    here = workspace()
    with draw.progress() as told:
        asked = here.objects.drift(systems or [], baselines, told)
    lost = {name: one for name, one in asked.items() if isinstance(one, ConcordexError)}
    found = [one for one in asked.values() if not isinstance(one, ConcordexError)]
    if len(lost) == len(asked) == 1:
        raise next(iter(lost.values()))
    if accept:
        status = _accept(here, found)
    elif restore:
        answers = ChangeOptions(stage=stage, draft=draft, yes=yes, every=every, form=form, any_time=any_time)
        status = max((_restore(here, one, answers) for one in found), default=Status.DONE)
    else:
        status = _show(here, found, form, output)
    for name, error in lost.items():
        why = f" ({error.why})" if error.why else ""
        draw.note(f"{name} could not be looked at: {error.what}{why}", "red")
    return status if not lost else Status.PARTLY if found else Status.FAILED


def _show(here: "Workspace", found: "list[Drift]", form: Form, output: Output) -> int:
    if is_data(form, output):
        emit_differences([(one.system, one.found) for one in found], form, output)
    clean = [one for one in found if not one.found]
    many = len(clean) > _CLEAN
    for one in found:
        if not is_data(form, output):
            draw_differences(one.found, None, None, system=one.system, told=_told(here, one))
        if one.found or not many:
            _count(one)
    if many:
        objects, ignored = sum(len(one.baseline) for one in clean), sum(one.ignored for one in clean)
        told = f"; {ignored:,} that may be" if ignored else ""
        draw.note(f"no drift in {len(clean):,} systems, {objects:,} objects{told}", "green")
    for one in found:  # it will be drift when they commit, or was forgotten
        for staged in one.held.staged:
            told = f"{staged.what}, staged by {staged.who} since {staged.since} and not committed"
            draw.note(f"{one.system}: {told}", "yellow")
    return Status.FOUND if any(one.found or one.held.staged for one in found) else Status.DONE


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


def _told(here: "Workspace", one: "Drift") -> dict[Any, list[str]]:
    """Who touched each drifted object last, there and in the baseline."""
    lines: dict[Any, list[str]] = {}
    files = {found.key: Path(found.before.source) for found in one.found if found.before and found.before.source}
    commits = here.objects.last_commits(one.folder, set(files.values()))
    for found in one.found:
        if found.now and (found.now.by or found.now.at):
            lines.setdefault(found.key, []).append(
                f"altered there by {found.now.by or '?'}, {draw.moment(found.now.at)}"
            )
        if commit := commits.get(files.get(found.key, one.folder)):
            lines.setdefault(found.key, []).append(f"baseline last touched in {commit}")
    return lines


def _accept(here: "Workspace", found: "list[Drift]") -> int:
    for one in found:
        done = here.objects.accept(one)
        draw.note(
            f"{one.system}: {plural(len(done.written), 'file')} written, {len(done.removed):,} removed"
            f" in {_near(one.folder)}"
        )
    return Status.DONE


def _restore(here: "Workspace", one: "Drift", answers: ChangeOptions) -> int:
    change = here.objects.restore(one)
    change = change.said(source=str(one.folder), command="drift")
    return propose(here, change, answers, f"{one.system} is as the baseline says")
