"""``concordex drift``."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.change_options import ChangeOptions, change_options
from concordex.cli.differences import draw_differences, emit_differences
from concordex.cli.options import Output, OutputFormat, complete_systems, workspace
from concordex.cli.propose import propose
from concordex.cli.screenful import on_screen
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly, ConcordexError
from concordex.words import plural

if TYPE_CHECKING:
    from concordex import Workspace
    from concordex.work.objects.drift import Drift


#: How many systems without drift are told one by one.
_CLEAN = 4


@change_options("stage")
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
    output: Output = None,
    *,
    answers: ChangeOptions,
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
    with draw.progress() as progress:
        asked = here.objects.drift(systems or [], baselines, progress)
    lost = {name: outcome for name, outcome in asked.items() if isinstance(outcome, ConcordexError)}
    seen = [outcome for outcome in asked.values() if not isinstance(outcome, ConcordexError)]
    if len(lost) == len(asked) == 1:
        raise next(iter(lost.values()))
    if accept:
        status = _accept(here, seen)
    elif restore:
        status = max((_restore(here, outcome, answers) for outcome in seen), default=Status.DONE)
    else:
        status = _show(here, seen, answers.form, output)
    for name, error in lost.items():
        why = f" ({error.why})" if error.why else ""
        draw.note(f"{name} could not be looked at: {error.what}{why}", "red")
    return status if not lost else Status.PARTLY if seen else Status.FAILED


def _show(here: "Workspace", drifts: "list[Drift]", form: OutputFormat, output: Output) -> int:
    if not on_screen(form, output):
        emit_differences([(drifted.system, drifted.differences) for drifted in drifts], form, output)
    clean = [drifted for drifted in drifts if not drifted.differences]
    many = len(clean) > _CLEAN
    for drifted in drifts:
        if on_screen(form, output):
            draw_differences(drifted.differences, None, None, system=drifted.system, remarks=_told(here, drifted))
        if drifted.differences or not many:
            _count(drifted)
    if many:
        objects, ignored = sum(len(drifted.baseline) for drifted in clean), sum(drifted.ignored for drifted in clean)
        text = f"; {ignored:,} that may be" if ignored else ""
        draw.note(f"no drift in {len(clean):,} systems, {objects:,} objects{text}", "green")
    for drifted in drifts:  # it will be drift when they commit, or was forgotten
        for staged in drifted.held.staged:
            text = f"{staged.what}, staged by {staged.who} since {staged.since} and not committed"
            draw.note(f"{drifted.system}: {text}", "yellow")
    return Status.FOUND if any(drifted.differences or drifted.held.staged for drifted in drifts) else Status.DONE


def _count(drifted: "Drift") -> None:
    ignored = f"; {drifted.ignored:,} that may be" if drifted.ignored else ""
    if not drifted.differences:
        draw.note(f"{drifted.system}: no drift in {plural(len(drifted.baseline), 'object')}{ignored}", "green")
        return
    counts = {
        word: sum(diff.what == word for diff in drifted.differences)
        for word in ("added", "removed", "changed", "moved")
    }
    text = ", ".join(f"{count:,} {word}" for word, count in counts.items() if count)
    draw.note(f"{drifted.system}: {text} since the baseline in {_near(drifted.folder)}{ignored}", "yellow")


def _near(folder: Path) -> Path:
    """A folder as one would type it here."""
    return folder.relative_to(Path.cwd()) if folder.is_relative_to(Path.cwd()) else folder


def _told(here: "Workspace", drifted: "Drift") -> dict[Any, list[str]]:
    """Who touched each drifted object last, there and in the baseline."""
    lines: dict[Any, list[str]] = {}
    files = {diff.key: Path(diff.before.source) for diff in drifted.differences if diff.before and diff.before.source}
    commits = here.objects.last_commits(drifted.folder, set(files.values()))
    for diff in drifted.differences:
        if diff.now and (diff.now.by or diff.now.at):
            lines.setdefault(diff.key, []).append(f"altered there by {diff.now.by or '?'}, {draw.moment(diff.now.at)}")
        if commit := commits.get(files.get(diff.key, drifted.folder)):
            lines.setdefault(diff.key, []).append(f"baseline last touched in {commit}")
    return lines


def _accept(here: "Workspace", drifts: "list[Drift]") -> int:
    for drifted in drifts:
        done = here.objects.accept(drifted)
        draw.note(
            f"{drifted.system}: {plural(len(done.written), 'file')} written, {len(done.removed):,} removed"
            f" in {_near(drifted.folder)}"
        )
    return Status.DONE


def _restore(here: "Workspace", drifted: "Drift", answers: ChangeOptions) -> int:
    change = here.objects.restore(drifted)
    change = change.described(source=str(drifted.folder), command="drift")
    return propose(here, change, answers, f"{drifted.system} is as the baseline says")
