"""``concordex system``: who we talk to."""

from typing import TYPE_CHECKING, Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.commands.pull import STYLES, draw_unverified
from concordex.cli.options import (
    Columns,
    Labels,
    Limit,
    Output,
    OutputFormat,
    Systems,
    Tags,
    chosen,
    complete_systems,
    words,
    workspace,
)
from concordex.cli.rows import emit_rows
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly

if TYPE_CHECKING:
    from concordex.work.pull.check import Finding

Named = Annotated[list[str] | None, typer.Argument(help="Systems.", autocompletion=complete_systems)]

system = typer.Typer(
    help="Who we talk to: add systems, list them, try them, pause them.", no_args_is_help=True, rich_markup_mode=None
)


@system.command("add")
def add(
    name: Annotated[str, typer.Argument(help="Its name here: lower-case letters, digits, dashes.")],
    dialect: Annotated[str, typer.Option("--dialect", "-d", help="How it speaks: see `concordex dialect list`.")],
    url: Annotated[
        str | None, typer.Option("--url", "-u", help="Where it is, such as https://controller.example.")
    ] = None,
    credential: Annotated[
        list[str] | None,
        typer.Option(
            "--credential",
            "-c",
            help="NAME=VALUE; a secret as env:, file:, keyring: or command:. Repeatable.",
        ),
    ] = None,
    label: Annotated[str, typer.Option("--label", help="A name for people.")] = "",
    tag: Annotated[list[str] | None, typer.Option("--tag", help="A tag to select it by. Repeatable.")] = None,
    ca: Annotated[str | None, typer.Option("--ca", help="A file with the CA that signed its certificate.")] = None,
    fingerprint: Annotated[
        str | None, typer.Option("--fingerprint", help="SHA-256 of its certificate, where that is to be pinned.")
    ] = None,
    folder: Annotated[str | None, typer.Option("--folder", help="Instead of --url: where its files are.")] = None,
    database: Annotated[
        str | None, typer.Option("--database", help="Instead of --url: sqlite:///FILE or postgresql://USER@HOST/NAME.")
    ] = None,
) -> None:
    """Add a system to concordex.yaml; comments there are kept.

    Example: concordex system add muster -d muster -u https://muster.example -c client=ops -c secret=env:MUSTER_SECRET
    """
    credentials = dict(_pair(text) for text in credential or [])
    settings: dict[str, Any] = {
        "dialect": dialect, "url": url, "folder": folder, "database": database, "label": label, "tags": words(tag),
        "credentials": credentials,
        "tls": {key: value for key, value in (("ca", ca), ("fingerprint", fingerprint)) if value},
    }  # fmt: skip
    workspace().add_system(name, settings)
    draw.note(f"added {name}; try it: concordex system check {name}")


def _pair(text: str, what: str = "--credential") -> tuple[str, str]:
    name, equals, value = text.partition("=")
    if not equals:
        raise CalledWrongly(f"{what} {text}: should be NAME=VALUE")
    return name, value


@system.command("list")
def list_systems(
    systems: Systems = None,
    tag: Tags = None,
    label: Labels = None,
    limit: Limit = None,
    columns: Columns = None,
    form: OutputFormat = None,
    output: Output = None,
) -> None:
    """List the systems, and what is known of each without asking any: connected, failing since when, paused or never
    met, its last pull, the age of its data, and when a job pulls it next.  `system check` tries them.

    Examples:

    concordex system list

    concordex system list --tag quays
    """

    here = workspace()
    known = here.overview(chosen(systems, tag, label))
    failing = any(row.contact.failing_since and not row.paused for row in known)
    comes = here.jobs.next_pulls()
    with_labels, with_tags = any(row.label for row in known), any(row.tags for row in known)
    rows = [
        {
            "system": row.name, **({"label": row.label} if with_labels else {}),
            **({"tags": ", ".join(row.tags)} if with_tags else {}), "state": row.state,
            **({"since": row.contact.failing_since} if failing else {}),
            "last pull": row.outcome or "never", "proof": row.proof, "records": row.records,
            "age": draw.ago(row.taken, here.now()) if row.taken else None,
            **({"next pull": comes.get(row.name)} if comes else {}), "role": row.role, "dialect": row.dialect,
            "where": row.where, **({"fault": row.contact.fault or None} if failing else {}),
        }
        for row in known
    ]  # fmt: skip
    emit_rows(rows, form, output, columns=words(columns), limit=limit, styles=STYLES | _STATES)


_STATES = {"paused": "yellow", "never": "dim", "connected": "green", "failing": "bold red", "failing in part": "yellow"}


@system.command("set")
def set_settings(
    name: Annotated[str, typer.Argument(help="A system.", autocompletion=complete_systems)],
    settings: Annotated[
        list[str] | None, typer.Argument(help="KEY=VALUE, as concordex.yaml has it; KEY= takes it away.")
    ] = None,
    tag: Annotated[list[str] | None, typer.Option("--tag", help="Add a tag. Repeatable.")] = None,
    untag: Annotated[list[str] | None, typer.Option("--untag", help="Take a tag away. Repeatable.")] = None,
) -> None:
    """Set what concordex.yaml says of a system; comments there are kept, and what could not be meant is refused.

    Examples:

    concordex system set muster url=https://muster.example concurrency=4

    concordex system set muster credentials.secret=env:MUSTER_SECRET tls.ca=muster.pem --tag quays --untag harbour

    concordex system set muster label=
    """
    given = [_pair(text, "a setting") for text in settings or []]
    if not (given or tag or untag):
        raise CalledWrongly("nothing is set", advice=f"concordex system set {name} KEY=VALUE, or --tag")
    altered = workspace().set_system(name, dict(given), words(tag), words(untag))
    draw.note(f"{name}: {', '.join(altered)}" if altered else f"nothing to do: {name} says so already")


@system.command("remove")
def remove(
    name: Annotated[str, typer.Argument(help="A system.", autocompletion=complete_systems)],
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Agree without being asked.")] = False,
) -> int:
    """Take a system out of concordex.yaml; refused where something else there names it.

    What was pulled of it and the journal stay as they are; the next `reconcile` goes without it.

    Example: concordex system remove muster
    """
    here = workspace()
    here.systems([name])
    if not (yes or draw.ask(f"Take {name} out of concordex.yaml?")):
        draw.note("not agreed; nothing is altered")
        return Status.STOPPED
    here.remove_system(name)
    draw.note(f"{name} is taken out; what was pulled of it stays, and concordex reconcile goes without it")
    return Status.DONE


@system.command("rename")
def rename(
    old: Annotated[str, typer.Argument(help="A system.", autocompletion=complete_systems)],
    new: Annotated[str, typer.Argument(help="What it is called from now on.")],
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Agree without being asked.")] = False,
) -> int:
    """Call a system otherwise: in concordex.yaml and rulings.yaml, and in all that was pulled of it, so that what is
    known of it goes on.  The journal keeps who renamed it, and when.

    Refused while anything runs, and where the new name is taken.  Where concordex.yaml says the new name already, as on
    another machine that shares the store, the rest follows.  A text that may mean it, such as a filter, is told.

    Example: concordex system rename muster muster-east
    """
    here = workspace()
    if not (yes or draw.ask(f"Call {old} {new} from now on, in the files of this workspace and in its store?")):
        draw.note("not agreed; nothing is altered")
        return Status.STOPPED
    made = here.rename_system(old, new)
    noted = f"; the journal notes it (changes: {made.changes})" if made.changes else ""
    draw.note(f"{old} is {new} now (places in the workspace's files: {made.places}){noted}")
    for text in made.left:
        draw.note(f"look at {text}", "yellow")
    draw.note("a folder of baselines that is named after it stays as it is; concordex reconcile says the rest anew")
    return Status.DONE


@system.command("pause")
def pause(systems: Named, tag: Tags = None, label: Labels = None) -> None:
    """Pause systems: they are left alone until resumed; settings and data stay.

    Example: concordex system pause muster
    """
    _pause(systems, tag, label, paused=True)


@system.command("resume")
def resume(systems: Named, tag: Tags = None, label: Labels = None) -> None:
    """Resume systems that were paused.

    Example: concordex system resume muster
    """
    _pause(systems, tag, label, paused=False)


def _pause(systems: list[str] | None, tag: list[str] | None, label: list[str] | None, *, paused: bool) -> None:
    names = chosen(systems, tag, label)
    if not names:
        raise CalledWrongly("which systems?", advice="name them, or --tag, or --label")
    altered = workspace().set_paused(names, paused=paused)
    word = "paused" if paused else "active"
    draw.note(f"now {word}: {', '.join(altered)}" if altered else f"nothing to do: {word} already")


@system.command("check")
def check(
    systems: Systems = None,
    tag: Tags = None,
    label: Labels = None,
    steps: Annotated[bool, typer.Option("--steps", help="Every step of every system, not one line each.")] = False,
    form: OutputFormat = None,
) -> int:
    """Try systems step by step: name, connection, certificate, sign-in, each table's first page, clock.

    Stops at the first step that fails, and says why and what to do.  One system is shown step by step,
    several with one line each.  Exit status 1 when one fails.

    Examples:

    concordex system check muster

    concordex system check --tag quays --steps
    """

    names, here = chosen(systems, tag, label), workspace()
    draw_unverified(here, names)
    findings = here.check(names)
    several = len({f.system for f in findings}) > 1
    whole = steps or not several or form is not None
    emit_rows(_each_step(findings) if whole else _one_line(findings), form, None, styles=RESULTS)
    for finding in (f for f in findings if f.advice and (whole or not f.ok)):
        draw.note(f"{finding.system}: {finding.step}: {finding.advice}", "yellow" if not finding.ok else "")
    return Status.DONE if all(f.ok for f in findings) else Status.FAILED


RESULTS = {"ok": "green", "FAILED": "bold red"}


def _each_step(tried: "list[Finding]") -> list[dict[str, Any]]:
    return [{"system": f.system, "step": f.step, "result": "ok" if f.ok else "FAILED", "seen": f.seen} for f in tried]


def _one_line(findings: "list[Finding]") -> list[dict[str, Any]]:
    rows = []
    for name in dict.fromkeys(f.system for f in findings):
        mine = [f for f in findings if f.system == name]
        last = mine[-1]
        doubts = [f"{f.step}: {f.advice}" for f in mine if f.ok and f.advice and f.step != "tls"]
        held = [f"{f.step}: {f.seen}" for f in mine if f.step == "devices"] or [mine[0].seen]
        seen = "; ".join([*held, *doubts]) if last.ok else f"{last.step}: {last.seen}"
        result = "ok" if last.ok else "FAILED"
        rows.append({"system": name, "steps": sum(f.ok for f in mine), "result": result, "seen": seen})
    return rows
