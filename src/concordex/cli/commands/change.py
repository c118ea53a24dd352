"""``concordex change``: prepared sets of writes."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from concordex.change.run_options import RunOptions
from concordex.cli import draw
from concordex.cli.change_options import AnyTime, ChangeOptions, Every, Wait, change_options
from concordex.cli.emit import Format
from concordex.cli.options import LARGEST, Columns, Limit, Output, OutputFormat, Where, words, workspace
from concordex.cli.outcome import troubled, write_results
from concordex.cli.preview import draw_change, draw_diff, summary
from concordex.cli.propose import agreed, draw_steps, propose, run_and_tell
from concordex.cli.reasons import words as words_of
from concordex.cli.rehearsed import tell_rehearsal
from concordex.cli.rows import emit_rows
from concordex.cli.statuses import Status
from concordex.cli.writes import rows_of
from concordex.errors import CalledWrongly

if TYPE_CHECKING:
    from concordex import Workspace
    from concordex.change.steps import Change

change = typer.Typer(
    help="Prepared sets of writes: look at them, run them whole or in part, go on, take them back.",
    no_args_is_help=True,
    rich_markup_mode=None,
)
#: How many steps that no longer rest on what they did are named.
_MOVED = 20
#: What a change knows for its own use.
_UNTOLD = ("agreed", "chosen", "how", "token", "asks", "irreversible", "objects", "sizes", "once")
Number = Annotated[int, typer.Argument(min=1, max=LARGEST, help="The number of the change.")]


@change.command("list")
def list_changes(
    limit: Limit = None, columns: Columns = None, form: OutputFormat = None, output: Output = None
) -> None:
    """List the changes, newest first.

    Example: concordex change list -n 5
    """

    rows = [
        {
            "change": row["id"], "made": datetime.fromisoformat(row["made"]), "kind": row["kind"],
            "system": row["system"], "state": row["state"],
            "steps": ", ".join(f"{count:,} {state}" for state, count in sorted(row["steps"].items())),
            "by": row["about"].get("by"),
            "agreed": ", ".join(one["by"] for one in row["about"].get("agreed", ())) or None,
        }
        for row in workspace().changes()
    ]  # fmt: skip
    if not any(row["agreed"] for row in rows):
        rows = [{name: value for name, value in row.items() if name != "agreed"} for row in rows]
    if not rows:
        draw.note("there is no change yet; push, sync, set, config push, … prepare one")
    if rows or output or form not in (None, Format.TABLE):
        emit_rows(rows, form, output, columns=words(columns), limit=limit)


@change.command("show")
def show(
    number: Number,
    every: Every = False,
    diff: Annotated[bool, typer.Option("--diff", help="Record by record, line by line.")] = False,
    form: OutputFormat = None,
) -> None:
    """Show a change: every step with what was, what shall be, and how it stands.

    Examples:

    concordex change show 1

    concordex change show 1 --diff
    """
    here = workspace()
    prepared = here.change(number)
    if diff:
        draw_diff(prepared)
    else:
        draw_change(prepared, form, every=every)
    facts = ", ".join(f"{name} {value}" for name, value in prepared.about.document().items() if name not in _UNTOLD)
    draw.note(f"change {number} ({prepared.state}): {summary(prepared)}" + (f"; {facts}" if facts else ""))
    for one in prepared.about.agreed:
        draw.note(f"{one['by']} agreed to it at {one['when'][:16].replace('T', ' ')} UTC")
    if here.waits_for_second(prepared):
        draw.note(f"it waits for a second person: concordex change agree {number}", "yellow")
    if prepared.state == "draft":
        _tell_freshness(here, prepared)


@change.command("run")
@change_options("batch_size", "together", "stage", "count", "note", "wait", without=["draft", "every", "form"])
def run(
    number: Number,
    only: Annotated[
        list[str] | None, typer.Option("--only", help="create, update, delete or action. Repeatable.")
    ] = None,
    table: Annotated[str | None, typer.Option("--table", help="Only steps of this table.")] = None,
    where: Where = None,
    first: Annotated[
        int | None, typer.Option("--first", min=1, max=LARGEST, help="Only the first few, to see how it goes.")
    ] = None,
    force: Annotated[
        bool, typer.Option("--force", help="Overwrite what others have altered since it was prepared.")
    ] = False,
    against_copy: Annotated[
        bool, typer.Option("--against-copy", help="Rehearse it on a copy of what was pulled last; nothing is sent.")
    ] = False,
    *,
    answers: ChangeOptions,
) -> int:
    """Run what is still open of a change, or a part of it; what was cut off is looked for, and not sent again.

    Creations that chosen steps refer to run with them.

    Examples:

    concordex change run 1 --first 5

    concordex change run 1 --only create --where 'site = depot' --yes

    concordex change run 1 --against-copy
    """
    here = workspace()
    prepared = here.change(number)
    if not prepared.writes:
        return _nothing_left(prepared)
    numbers = {step.number for step in prepared.writes}
    if only or table or where or first:
        numbers = {step.number for step in here.choose_steps(prepared, words(only), table, where, first)}
    if not numbers:
        draw.note("no open step is chosen")
        return Status.DONE
    part = len(numbers) < len(prepared.writes)
    if against_copy:
        return _rehearse(here, number, numbers, part=part, how=replace(answers, force=force).run_options())
    if not answers.yes:
        draw_change(_part(prepared, numbers), None)
    if not agreed(prepared, answers, numbers):
        draw.note("not agreed; nothing was sent")
        return Status.STOPPED

    how = replace(answers, force=force).run_options()
    return run_and_tell(here, number, numbers, part=part, how=how, any_time=answers.any_time, wait=answers.wait)


def _rehearse(here: Workspace, number: int, numbers: Collection[int], *, part: bool, how: RunOptions) -> int:
    with draw.progress() as progress:
        shown = here.rehearsals.change(
            number, lambda ended, of: progress(f"change {number}, rehearsed", ended, of),
            only=numbers if part else None, how=how,
        )  # fmt: skip
    return tell_rehearsal(shown, numbers, here.now())


@change.command("resume")
def resume(
    number: Number,
    send_again: Annotated[
        bool, typer.Option("--send-again", help="Also what was sent, looked for twice, and is not there.")
    ] = False,
    any_time: AnyTime = False,
    wait: Wait = None,
) -> int:
    """Go on with a change that was stopped or cut off: look at what arrived, send the rest.

    It was agreed to when it began, so nothing is asked again; of a run in part, that part goes on, and as it was
    asked for.  What was sent and does not show is looked for once more after a while, and sent again only with
    --send-again.

    Examples:

    concordex change resume 1

    concordex change resume 1 --send-again
    """
    here = workspace()
    begun = here.change(number)
    if begun.state == "draft":
        raise CalledWrongly(f"change {number} has not begun yet", advice=f"concordex change run {number}")
    if begun.state == "staged":
        raise CalledWrongly(
            f"change {number} is staged, as it was asked",
            advice=f"to commit it: concordex config commit {begun.system}",
        )
    if begun.state == "partly":
        raise CalledWrongly(
            f"change {number} was run in part, as it was asked", advice=f"for the rest: concordex change run {number}"
        )
    if not begun.writes:
        return _nothing_left(begun)
    part = set(begun.about.chosen)
    numbers = {step.number for step in begun.writes if not part or step.number in part}

    how = replace(RunOptions(**begun.about.how), send_again=send_again)
    return run_and_tell(here, number, numbers, part=bool(part), how=how, any_time=any_time, wait=wait)


@change.command("agree")
def agree(
    number: Number,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Agree without being asked.")] = False,
) -> int:
    """Agree to a change that somebody else prepared, as it is now, where the rights ask for a second person.

    It is noted in the journal, with a digest of the steps; it is run as any other then.

    Example: concordex change agree 7
    """
    here = workspace()
    prepared = here.change(number)
    draw_change(_part(prepared, {step.number for step in prepared.writes}), None)
    if not yes and not draw.ask(f"agree to change {number} of {prepared.about.by or 'somebody'}?"):
        draw.note("nobody has agreed")
        return Status.STOPPED
    here.agree(number)
    draw.note(f"change {number} is agreed to by {here.allowed.who}; concordex change run {number}")
    return Status.DONE


@change.command("settle")
def settle(
    number: Number,
    step: Annotated[int, typer.Argument(min=1, max=LARGEST, help="The number of the step.")],
    done: Annotated[
        bool | None, typer.Option("--done/--not-done", help="What you saw at the system.", show_default=False)
    ] = None,
) -> None:
    """Say of a step whose outcome is unknown what you saw: that it was done, or that it was not.

    An action is then confirmed on your word.  A write that was done is read back when the change is resumed; one that
    was not is sent then.

    Example: concordex change settle 7 3 --done
    """

    if done is None:
        raise CalledWrongly("say what you saw there", advice="--done or --not-done")
    after = workspace().settle(number, step, done=done)
    word = "done" if done else "not done"
    draw.note(f"step {step} of change {number} is {word}, on your word; the change is {after.state}")
    if after.writes:
        draw.note(f"to go on: concordex change resume {number}")


@change.command("undo")
@change_options()
def undo(
    number: Number,
    force: Annotated[bool, typer.Option("--force", help="Even where others have altered it since.")] = False,
    *,
    answers: ChangeOptions,
) -> int:
    """Take a change back: what it made is deleted, what it altered is as it was; itself a change.

    What was altered by others since is left as it is, and told.

    Example: concordex change undo 1
    """
    here = workspace()
    answers = replace(answers, force=force)
    return propose(here, here.undo(number), answers, f"nothing of change {number} is to be taken back")


@change.command("drop")
def drop(number: Number) -> None:
    """Put a change aside for good; what it has written stays.

    Example: concordex change drop 1
    """
    workspace().drop(number)
    draw.note(f"change {number} is dropped")


@change.command("results")
def results(
    number: Number,
    form: Annotated[
        str, typer.Option("--as", help="junit (XML), markdown, or rejects (what was not written).")
    ] = "markdown",
    output: Output = None,
) -> None:
    """What came of a change, for a pipeline, for people, or as the rows that were not written.

    Examples:

    concordex change results 1 --as junit -o results.xml

    concordex change results 1 --as rejects -o again.csv
    """

    write_results(workspace().change(number), form, output)


@change.command("journal")
def journal(
    number: Annotated[int | None, typer.Argument(min=1, max=LARGEST, help="Only of this change.")] = None,
    limit: Limit = None,
    columns: Columns = None,
    form: OutputFormat = None,
    output: Output = None,
) -> None:
    """Every write that left here, the newest first: when, by whom, what, and what came of it.

    Example: concordex change journal -o writes.csv
    """

    rows = rows_of(workspace().writes(number))
    emit_rows(rows, form, output, columns=words(columns), limit=limit)


@change.command("save")
def save(number: Number, output: Annotated[Path, typer.Option("--output", "-o", help="The file to write.")]) -> None:
    """Write a change into a YAML file that a colleague reviews, and runs with `change load`.

    Example: concordex change save 1 -o tonight.yaml
    """
    workspace().save_change(number, output)
    draw.note(f"change {number} is in {output}; to run it elsewhere: concordex change load {output}")


@change.command("load")
@change_options("count")
def load(
    file: Annotated[Path, typer.Argument(help="A file that `change save` wrote.")],
    *,
    answers: ChangeOptions,
) -> int:
    """Take a change from a file: preview, agree, run. What has moved since it was prepared is not written.

    Example: concordex change load tonight.yaml --draft
    """
    here = workspace()
    return propose(here, here.load_change(file), answers, "the file holds no open step")


def _tell_freshness(here: Workspace, draft: Change) -> None:
    """How old what a draft rests on is, and which steps rest on what is no longer so."""
    fresh = here.freshness(draft)
    made = next(datetime.fromisoformat(row["made"]) for row in here.changes() if row["id"] == draft.number)
    text = f"prepared {draw.ago(made, here.now())} ago"
    if fresh.pulled is not None:
        text += f"; {draft.system} was last pulled {draw.ago(fresh.pulled, here.now())} ago"
    draw.note(f"{text}; a run looks again before it sends anything")
    if fresh.moved:
        rows = [[step.number, step.table, step.label, words_of(moved)] for step, moved in fresh.moved[:_MOVED]]
        draw.table(["step", "table", "record", "no longer as it was"], rows, right=["step"])
        count = f"{len(fresh.moved):,} of {len(draft.writes):,} steps"
        draw.note(f"{count} rest on what has changed: they would be held", "yellow")


def _nothing_left(ended: Change) -> int:
    """Tell that no step is open; held and other steps that did not come to what they should, by name."""

    wrong = [step for step in ended.steps if troubled(step)]
    draw.note(f"change {ended.number} has nothing left to do")
    if not wrong:
        return Status.DONE
    draw_steps(wrong)
    draw.note(f"not confirmed: {len(wrong):,} of {len(ended.steps):,} steps", "yellow")
    return Status.PARTLY


def _part(whole: Change, numbers: set[int]) -> Change:
    return replace(whole, steps=tuple(step for step in whole.steps if step.number in numbers))
