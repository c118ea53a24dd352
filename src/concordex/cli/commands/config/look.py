"""Looking at configuration objects: listed, shown, saved, compared."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from concordex.change.depend import users
from concordex.change.objects import in_sequence, mentioned
from concordex.cli import draw
from concordex.cli.commands.config.choose import Address, Kind, KindNames, System, Where, live
from concordex.cli.differences import draw_differences
from concordex.cli.options import Columns, Limit, Output, OutputFormat, complete_systems, words, workspace
from concordex.cli.rows import emit_rows
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly, ConcordexError
from concordex.model.scalars import parse_time
from concordex.words import plural

if TYPE_CHECKING:
    from concordex import Workspace
    from concordex.work.objects.files import Saved


def list_objects(
    system: System,
    kinds: KindNames = None,
    where: Where = None,
    limit: Limit = None,
    columns: Columns = None,
    form: OutputFormat = None,
    output: Output = None,
) -> None:
    """List the objects that a system has now: what each needs, how many use it, who changed it last.

    Examples:

    concordex config list bollard

    concordex config list muster policies
    """

    here = workspace()
    chosen, every = here.kinds.chosen(system, kinds or []), here.kinds.every(system)
    held = live(here, system, every)
    used: dict[tuple[str, str], int] = {}
    for _, _, name in users([(obj.kind, obj.name) for obj in held.objects], held.objects, every):
        used[name] = used.get(name, 0) + 1
    dated = any(kind.at or kind.by for kind in chosen.values())
    rows = [
        {
            "kind": obj.kind, "name": obj.name + (f" (no. {obj.nth})" if obj.nth > 1 else ""),
            "needs": sum(1 for _ in mentioned(obj, every)), "used by": used.get((obj.kind, obj.name), 0),
            **({"altered": parse_time(obj.at or "") or obj.at, "by": obj.by} if dated else {}),
        }
        for obj in in_sequence(here.objects.matching(held, chosen, where), every)
    ]  # fmt: skip
    emit_rows(rows, form, output, columns=words(columns), limit=limit)
    draw.note(f"{plural(len(rows), 'object')} of {plural(len(chosen), 'kind')} in {system}")


def show(address: Address) -> None:
    """Show one object as its file has it, with what it needs and who uses it.

    Example: concordex config show muster/roles/office
    """

    here = workspace()
    system, kind, name = here.objects.find(address)
    every = here.kinds.every(system)
    held = live(here, system, every)
    obj = here.objects.get(held, address)
    draw.line(here.objects.text(obj).rstrip())
    if obj.at or obj.by:
        draw.note(f"altered last {draw.moment(obj.at)} by {obj.by or 'an unknown user'}")
    needed = dict.fromkeys(f"{table}/{other}" for _, table, other in mentioned(obj, every))
    used = [other.label for other, _, _ in users([(kind, name)], held.objects, every)]
    draw.note(f"needs: {', '.join(needed) or 'nothing'}")
    draw.note(f"used by: {', '.join(used) or 'nobody'}")


def save(
    into: Annotated[Path, typer.Option("--into", help="The folder; each system gets one of its own in it.")],
    system: Annotated[
        str | None,
        typer.Argument(help="The system, or one of many devices: DEVICES:ADDRESS.", autocompletion=complete_systems),
    ] = None,
    kinds: KindNames = None,
    where: Where = None,
    every: Annotated[bool, typer.Option("--all", help="Every system that has such objects, many at once.")] = False,
    table: Annotated[
        str | None, typer.Option("--with", help="Many devices: a table with a row and an `address` for each.")
    ] = None,
) -> int:
    """Save objects as one readable file each: names instead of ids, nothing that moves by itself.

    When saved again, only files whose object has changed are rewritten; comments in the others stay.
    Many systems are asked at once, and one that cannot be reached does not hold up the others.

    Examples:

    concordex config save muster --into baselines

    concordex config save bollard addresses services --where 'name like net-*' --into pilot

    concordex config save --all --into baselines

    concordex config save switches --with switches.csv --into baselines
    """

    here = workspace()
    if every:
        if system or table:
            raise CalledWrongly("--all means every system: name none beside it")
        return _save_many(here, here.kinds.systems(), [], where, into, "system")
    if system is None:
        raise CalledWrongly("which system?", advice="concordex config save SYSTEM --into DIR, or --all")
    if table:
        return _save_many(
            here, here.objects.devices_named(system, table), kinds or [], where, into, f"device of {system}"
        )
    chosen = here.kinds.chosen(system, kinds or [])
    held = live(here, system, chosen)
    with draw.progress() as progress:
        folder, done = here.objects.save(system, held, chosen, into, where, progress)
    for path in done.removed:
        draw.note(f"gone: {path}")
    draw.note(f"{plural(done.count, 'object')} in {folder}: {_counts([done])}")
    _tell_open(done.open)
    return Status.DONE


def _tell_open(members: Sequence[str]) -> None:
    """Which secrets stand in the files, as a person should know who shares them."""
    if members:
        draw.note(
            f"the files hold what looks like secrets in clear text: {'; '.join(members)}"
            " (`secret: true` in the dialect leaves a member out)", "yellow"
        )  # fmt: skip


def _save_many(here: Workspace, names: list[str], kinds: list[str], where: str | None, into: Path, what: str) -> int:
    with draw.progress() as progress:
        outcomes = here.objects.save_many(names, into, kinds, where, progress)
    done = {name: outcome for name, outcome in outcomes.items() if not isinstance(outcome, ConcordexError)}
    for name, outcome in outcomes.items():
        if isinstance(outcome, ConcordexError):
            draw.note(f"not saved: {name}: {outcome.what}" + (f" ({outcome.why})" if outcome.why else ""), "red")
        elif outcome.written or outcome.removed:
            draw.note(f"{name}: {_counts([outcome])}")
            _tell_open(outcome.open)
    noun, _, of = what.partition(" ")
    many = plural(len(done), noun) + (f" {of}" if of else "")
    objects = plural(sum(outcome.count for outcome in done.values()), "object")
    draw.note(f"{many} in {into}: {objects}, {_counts(list(done.values()))}")
    return Status.DONE if len(done) == len(outcomes) else Status.PARTLY if done else Status.FAILED


def _counts(done: list[Saved]) -> str:
    """What saving came to, in words."""
    written, same, removed = (
        sum(len(folder.written) for folder in done), sum(folder.same for folder in done),
        sum(len(folder.removed) for folder in done),
    )  # fmt: skip
    return f"{written:,} written, {same:,} as they were" + (f", {removed:,} removed" if removed else "")


def diff(
    before: Annotated[str, typer.Argument(help="A folder, a file, a SYSTEM, or a SYSTEM@DATE.")],
    now: Annotated[str, typer.Argument(help="Another.")],
    kind: Kind = None,
    bound: Annotated[
        bool, typer.Option("--bound", help="Of two systems: also what binds objects to people and devices.")
    ] = False,
    form: OutputFormat = None,
    output: Output = None,
) -> int:
    """How two sides differ by meaning: files against live, two systems, two dates.  Exit status 3 if they do.

    Order counts where it means something, as in rules; not where it does not, as in a role's rights.  Files that
    `config save` wrote are compared with all that was saved then; other files only with the objects of their names.

    Examples:

    concordex config diff baselines/muster muster

    concordex config diff pilot production --kind policies

    concordex config diff bollard@2026-11-01 bollard
    """
    here = workspace()
    with draw.progress() as progress:
        earlier, later = here.objects.sides(before, now, words(kind), progress)
    apart = here.objects.are_two_systems(before, now)
    differences = here.objects.differences(earlier, later, bound=bound or not apart)
    if apart and not bound and any(spec.bound for spec in earlier.kinds.values()):
        draw.note("what binds objects to people and devices is not compared; --bound does")
    if left := earlier.left + later.left:
        draw.note(f"{plural(left, 'other object')} of these kinds in the system: not compared")
    draw_differences(differences, form, output)
    draw.note(_count(differences, f"from {before} to {now}", max(len(earlier.objects), len(later.objects))))
    return Status.FOUND if differences else Status.DONE


def _count(diffs: list[Any], what: str, of: int) -> str:
    if not diffs:
        return f"no difference {what}, in {plural(of, 'object')}"
    counts = [
        f"{sum(diff.what == word for diff in diffs):,} {word}" for word in ("added", "removed", "changed", "moved")
    ]
    return f"{what}: {', '.join(diff for diff in counts if not diff.startswith('0 '))}"
