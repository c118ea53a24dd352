"""``concordex demo``: the whole job on stand-ins, each command printed before its output."""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
from contextlib import chdir, nullcontext, redirect_stderr
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from concordex.cli import draw
from concordex.cli.app import status_of
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly
from concordex.landing import make_folder

if TYPE_CHECKING:
    from concordex.standins.server import Harbour

_RULES = """\
# The demo workspace of Saltmarsh Ferries, an invented ferry operator.
format: 1

reconcile:
  # whose word counts, where they differ
  prefer: [fairlead, masthead, bollard, pilotage, muster, binnacle, crowsnest, stowage, purser]
  fields:
    site: [muster, fairlead, stowage]   # scanners wander: the endpoint manager knows best
  stale_after: 14d
  at_rest: status = stored              # spares: no manager is expected to know them

sync:
  stowage:
    owners:
      comment: theirs                   # what people write there is never touched
  purser:                               # a register of some kinds only
    where: kind in (laptop, server, router, firewall)

devices:
  afloat:                               # routers fresh from the box, each at an address of its own
    dialect: binnacle
    url: http://{address}
    addresses: [127.0.0.0/8]            # their password goes nowhere else
    credentials: {user: steer, password: "file:../{aside}/afloat-password"}
  switches:                             # with a command interface
    dialect: capstan
    url: http://{address}
    addresses: [127.0.0.0/8]
    credentials: {user: deck, password: "file:../{aside}/switches-password"}

health:
  thresholds:
  - {metric: battery.level, unit: "%", over: 3d, warning: "< 20", error: "< 10"}
  - {metric: host.load, over: 7d, error: "> 95"}
  - {metric: interface.errors_in, per: minute, over: 7d, warning: "> 1"}

guards:
  creations: {most}
  updates: {most}
  share: 0.5

"""

_WANTED = """\
# What devices shall run, from which day on; of rules that hold for a device the last one counts.
format: 1
wanted:
- {{where: os = TideOS, version: 7.2.10, since: {since}}}
- {{where: os = TideOS and site = gull-stairs, version: 7.2.11, since: {since}}}   # the head office goes first
- {{where: os = "Ostrel Base", version: 4.10.3}}
support:
- {{where: os = TideOS, below: "7.2", ends: {ends}}}
- {{where: model = "Palisade 90", below: "9.1", ends: {soon}}}
"""

_STEPS: tuple[tuple[str, str], ...] = (
    ("Can each system be reached, and read?", "system check"),
    ("One of them step by step: its certificate signed itself, and is pinned.", "system check masthead"),
    ("Fetch everything, and prove that it is everything.", "pull"),
    ("What do we have now, and how old is it?", "system list"),
    (
        "Look: which switches run an old release?",
        "show devices --where 'kind = switch and os = TideOS and os_version < 7.2.10'"
        " --columns name,serial,site,os_version,last_seen --limit 8",
    ),
    ("Count what there is.", "show devices --count-by system,kind"),
    (
        "Narrow down, clause by clause; ask the systems now, and let them filter what they can.",
        "show devices --live --system muster"
        " --where 'kind in (tablet, handheld) and last_seen newer than 7d and battery.level < 20' --funnel",
    ),
    ("Ask one of them anything: what can be called there, and what does it answer?", "call muster --list roles"),
    ("Which records are the same device?", "reconcile"),
    ("What should a person look at?", "findings --count"),
    ("The grave ones.", "findings --where 'severity = high' --limit 8"),
    ("Why is that one device, and who says what?", "explain {device}"),
    ("Where are four units free, one above the other?", "racks --fits 4U --limit 5"),
    ("Who runs an old release, or one that is out of support?", "versions --limit 6"),
    ("What would a sync write into the inventory?  Nothing is sent yet.", "sync stowage --draft"),
    ("Agreed: write it once, read it back; what cannot be written is named, and why.", "change run 1 --yes"),
    ("Again: is anything left to do?", "sync stowage"),
    ("Routers fresh from the box: set, asked for their codes, enrolled, waited for.",
     "push new-units.csv --to pilotage --ask afloat --yes"),
    ("Keep what configures the systems, a readable file each.", "config save --all --into baselines"),
    ("A role like another one, without one right.",
     "config copy muster/roles/office --as 'office, no restart' --drop 'rights[=restart]' --yes"),
    ("Has anybody altered anything since it was kept?", "drift"),
    ("What was done?", "change list"),
)  # fmt: skip


#: With so many devices at the most, starting the program takes longer than what it does; with more of them, stand-ins
#: and program had better not share a process.
_SMALL = 1000


def demo(
    folder: Annotated[
        Path | None, typer.Argument(help="A new folder for the workspace; by default concordex-demo here.")
    ] = None,
    devices: Annotated[int, typer.Option("--devices", min=50, max=1_000_000, help="The size of the fleet.")] = 400,
    seed: Annotated[int, typer.Option("--seed", help="Each seed makes another fleet.")] = 1,
    latency: Annotated[
        int, typer.Option("--latency", min=0, help="Milliseconds that each answer takes, as over a long line.")
    ] = 0,
    by_hand: Annotated[
        bool, typer.Option("--by-hand", help="Only make the workspace, and serve: you type the commands.")
    ] = False,
    night: Annotated[
        bool,
        typer.Option("--night", help="Play one night: jobs, runners, what fails and what is found, and who is told."),
    ] = False,
    serve: Annotated[
        bool, typer.Option("--serve", help="Keep the stand-ins up, until interrupted, to play with.")
    ] = False,
) -> int:
    """Go through the whole job on stand-ins, from a check to a verified sync.

    Starts ten simulated systems on free loopback ports, makes a workspace, and runs the commands that
    a practitioner would, printing each before its output.

    Examples:

    concordex demo

    concordex demo ferries --devices 20000 --serve

    concordex demo ferries --by-hand --latency 200

    concordex demo --night
    """
    from datetime import UTC, datetime

    try:
        from concordex.standins.server import Harbour
    except ImportError as error:
        raise CalledWrongly("the demo needs further packages", advice="pip install 'concordex[demo]'") from error
    target = _new_folder(folder).resolve()  # of . as well the name is asked for
    with Harbour.of(devices, moment=datetime.now(UTC), seed=seed) as harbour:
        for standin in harbour.standins:
            standin.faults.latency = latency / 1000
        _make_workspace(target, harbour, devices)
        if night:
            from concordex.cli.night import Night

            ours = partial(_in_a_process if devices > _SMALL else _here, target)
            return Status.DONE if Night(target, harbour, ours).play() else Status.FAILED
        failed = 0
        for purpose, command in () if by_hand else _STEPS:
            arguments = shlex.split(command.replace("{device}", _worth_explaining(harbour)))
            held = {Status.PARTLY} if arguments[0] in ("change", "sync") else set()
            status = _run(target, purpose, arguments, apart=devices > _SMALL)
            if status == Status.STOPPED:  # Ctrl-C
                return status
            failed += status not in {Status.DONE, Status.FOUND, *held}
        if not by_hand:
            _tell_score(target, harbour)
        _tell_next(target, serve=serve or by_hand, by_hand=by_hand)
        if serve or by_hand:
            _wait()
    return Status.FAILED if failed else Status.DONE


def _new_folder(given: Path | None) -> Path:
    if given is not None:
        if given.exists() and any(given.iterdir()):
            raise CalledWrongly(f"{given} is not empty", advice="name a new folder for the demo")
        return given
    number = 1
    while (target := Path(f"concordex-demo{f'-{number}' if number > 1 else ''}")).exists():
        number += 1
    return target


def _make_workspace(target: Path, harbour: Harbour, devices: int) -> None:
    from concordex.standins.fleet import truth_lines

    aside = target.with_name(f"{target.name}-aside")
    make_folder(aside)
    (aside / "truth.ndjson").write_text("".join(truth_lines(harbour.accounts)), encoding="utf-8")
    draw.line("# Saltmarsh Ferries: ten stand-ins are up; a workspace is made for them.")
    draw.line(f"# Secrets and the fleet's truth lie beside it, in {aside.name}: no workspace holds a secret.")
    draw.line(f"\n$ concordex init {target}")
    _prepare(["init", str(target)])
    draw.line(f"$ cd {target}")
    for standin in harbour.standins:
        command = [
            "system",
            "add",
            standin.name,
            "--dialect",
            standin.dialect,
            "--url",
            harbour.urls[standin.name],
        ]
        command += ["--fingerprint", harbour.fingerprint] if standin.tls else []
        for name, value in standin.plain().items():
            command += ["--credential", f"{name}={value}"]
        for name, value in standin.secrets().items():
            secret = aside / f"{standin.name}-{name}"
            secret.touch(mode=0o600)
            secret.write_text(value, encoding="utf-8")
            command += ["--credential", f"{name}=file:../{aside.name}/{secret.name}"]
        draw.line(f"$ concordex {shlex.join(command)}")
        _prepare(["--workspace", str(target), *command])
    _unbox(target, aside, harbour)
    _deck(target, aside, harbour)
    _want(target)
    written = target / "concordex.yaml"
    systems = written.read_text(encoding="utf-8").partition("systems:\n")[2]
    for standin in harbour.standins:
        if standin.describes is not None:
            systems = systems.replace(
                f"  {standin.name}:\n", f"  {standin.name}:\n    describes: {standin.describes}\n", 1
            )
    rules = _RULES.replace("{most}", str(max(1000, devices))).replace("{aside}", aside.name)
    written.write_text(f"{rules}systems:\n{systems}", encoding="utf-8")
    draw.line("# The house rules (whose word counts, what people own, guards) were put into concordex.yaml.")


def _unbox(target: Path, aside: Path, harbour: Harbour) -> None:
    """The password of the routers that are in no portal yet, and a list of where they are."""
    import csv

    secret = aside / "afloat-password"
    secret.touch(mode=0o600)
    secret.write_text(harbour.afloat.password, encoding="utf-8")
    with (target / "new-units.csv").open("w", encoding="utf-8", newline="") as file:
        rows = [
            row | {"access": "control", "proxy": "http://proxy.saltmarsh.example:3128"} for row in harbour.afloat.rows
        ]
        writer = csv.DictWriter(file, list(rows[0]))
        writer.writeheader()
        writer.writerows(rows)


def _deck(target: Path, aside: Path, harbour: Harbour) -> None:
    """The password of the switches with a command interface, a list of them, and a template of lines."""
    secret = aside / "switches-password"
    secret.touch(mode=0o600)
    secret.write_text(harbour.deck.password, encoding="utf-8")
    rows = [f"127.0.0.1:{port},{at}0,kiosks quay {at}" for at, port in enumerate(harbour.deck.ports, start=2)]
    (target / "switches.csv").write_text("\n".join(["address,segment,label", *rows, ""]), encoding="utf-8")
    (target / "segments.j2").write_text(
        "segment {{ segment }} {{ label }}\n{% for at in (123, 124) %}\ntime at 10.20.0.{{ at }}\n{% endfor %}\n",
        encoding="utf-8",
    )


def _want(target: Path) -> None:
    """Which versions the ferry operator wants, and until when the older ones are supported."""
    from datetime import UTC, datetime, timedelta

    today = datetime.now(UTC).date()
    folder = target / "versions"
    folder.mkdir(exist_ok=True)
    (folder / "ferries.yaml").write_text(
        _WANTED.format(
            since=today - timedelta(days=45), ends=today - timedelta(days=12), soon=today + timedelta(days=60)
        ),
        encoding="utf-8",
    )


def _worth_explaining(harbour: Harbour) -> str:
    """A laptop that two systems know and one has enrolled twice, if there is one."""
    seen: dict[str, int] = {}
    for record in harbour.accounts.muster:
        if record["serialNo"] and len(record["serialNo"]) > 6:
            seen[record["serialNo"]] = seen.get(record["serialNo"], 0) + 1
    recorded = {record["serialNumber"] for record in harbour.accounts.stowage}
    twice = [serial for serial, count in seen.items() if count == 2 and serial in recorded]
    return (twice or list(seen))[0]


def _run(target: Path, purpose: str, arguments: list[str], *, apart: bool) -> int:
    draw.line()
    draw.heading(f"# {purpose}")
    draw.heading(f"$ concordex {' '.join(map(_quoted, arguments))}")
    return _in_a_process(target, arguments) if apart else _here(target, arguments)


def _quoted(word: str) -> str:
    return f"'{word}'" if any(sign in word for sign in ' "<>()*') and "'" not in word else shlex.quote(word)


def _prepare(arguments: list[str]) -> None:
    """Run the program in this process: a new one for each of a dozen small steps would only take time."""
    with nullcontext() if sys.stdout.isatty() else redirect_stderr(sys.stdout):
        status_of(arguments)


def _here(folder: Path, arguments: list[str]) -> int:
    """Run a command as a process of its own would, in this one: nobody answers, remarks stand where they were made."""
    with chdir(folder), Path(os.devnull).open(encoding="utf-8") as silence:
        heard, sys.stdin = sys.stdin, silence
        try:
            with nullcontext() if sys.stdout.isatty() else redirect_stderr(sys.stdout):
                return status_of(["--workspace", str(Path.cwd()), *arguments])  # whatever the environment names
        finally:
            sys.stdin = heard


def _in_a_process(folder: Path, arguments: list[str]) -> int:
    """Run the program itself, beside the stand-ins."""
    sys.stdout.flush()
    environment = {key: value for key, value in os.environ.items() if key != "CONCORDEX_WORKSPACE"}
    done = subprocess.run(
        [sys.executable, "-m", "concordex", *arguments], cwd=folder, env=environment, check=False, stderr=_together(),
        stdin=subprocess.DEVNULL,
    )  # fmt: skip
    return done.returncode


def _together() -> int | None:
    """Where output is kept in a file or piped, remarks stand where they were made."""
    return None if sys.stdout.isatty() else subprocess.STDOUT


def _tell_score(target: Path, harbour: Harbour) -> None:
    from concordex import Workspace
    from concordex.standins.score import score

    frame = Workspace(target).show("records", columns=["system", "record_id", "entry"]).frame
    entries = {(system, record_id): entry for system, record_id, entry in frame.iter_rows()}
    truth = {record: device for record, device in harbour.accounts.truth.items() if record in entries}
    result = score(entries, truth)
    draw.line()
    draw.heading("# The fleet knows the truth, and Concordex did not.  How well did it reconcile?")
    draw.line(
        f"Of the pairs of records that it calls one device, {result.precision:.1%} are;"
        f" of those that are, it found {result.recall:.1%} (F1 {result.f1:.3f})."
    )


def _tell_next(target: Path, *, serve: bool, by_hand: bool) -> None:
    draw.line()
    draw.heading("# What to try next")
    draw.line(f"cd {target}")
    if by_hand:
        for _, command in _STEPS:
            if "{device}" not in command:
                draw.line(f"concordex {command}")
        return
    for command in (
        "concordex show entries --where 'site = mv-redshank'",
        "concordex show devices --where 'mac within 0c:b1:06' --columns system,name,macs",
        "concordex show entries --where 'kind = laptop' -o laptops.xlsx",
        "concordex findings --kind replaced",
        "concordex pulls",
        *(["concordex pull muster --table devices"] if serve else []),
    ):
        draw.line(command)
    if not serve:
        draw.line("\nThe stand-ins end here; `concordex demo --serve` keeps them up, to pull and sync against.")


def _wait() -> None:
    import threading

    draw.line("\nThe stand-ins are up. Open another terminal for the commands above; Ctrl-C here ends it.")
    sys.stdout.flush()
    try:
        threading.Event().wait()
    except KeyboardInterrupt:
        draw.line("\nended")
