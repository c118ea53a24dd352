"""One night in about a minute, for ``concordex demo --night``: what fails, what is found, who is told, who goes on."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from email import message_from_bytes
from email.message import Message
from email.policy import default
from pathlib import Path
from typing import TYPE_CHECKING, Any

from concordex.cli import draw
from concordex.errors import CalledWrongly

if TYPE_CHECKING:
    from concordex import Workspace
    from concordex.standins.server import Harbour
    from concordex.store.runs import JobRun

#: No job comes by itself: a night is long, and each is left to the runners when the story has come to it.
_JOBS = """
timetable: {{at_once: 4}}
jobs:
  round:
    about: the night's round
    systems: [fairlead, muster, stowage]
    steps:
    - pull {{systems}}
    - {{run: reconcile}}
    - "findings --where 'kind = missing_in_inventory'"
  drift:
    steps: [drift muster --from baselines]
  morning:
    steps: [report -o night.html]
tell:
  watch:
    by: mail
    server: smtp://127.0.0.1:{port}
    from: concordex@saltmarsh.example
    to: [watch@saltmarsh.example]
"""
#: Seconds that are waited for something to happen, on a slow machine.
_PATIENCE = 150.0
#: So many lines of each mail are shown.
_LINES = 6


class Night:
    """The stand-ins at night, the runners, and the mail that comes of it."""

    def __init__(self, folder: Path, harbour: Harbour, run: Callable[[list[str]], int]) -> None:
        self._folder, self._harbour, self._run = folder, harbour, run
        self._mails: list[Message] = []
        self._shown = 0
        self._runners: list[subprocess.Popen[bytes]] = []

    def play(self) -> bool:
        """Play it; whether all came that was to come."""
        with self._post() as port, _database() as server:
            self._prepare(port, server)
            try:
                with self._at_work(3 if server else 1):
                    self._events(several=server is not None)
            except TimeoutError as error:
                draw.note(str(error), "red")
                return False
            self._morning(shared=server is not None)
        return True

    def _prepare(self, port: int, server: str | None) -> None:
        self._say("Evening: all is pulled, and the configuration of muster is kept.")
        self._command(["pull"])
        self._command(["config", "save", "muster", "--into", "baselines"])
        if server is None:
            draw.note("there is no PostgreSQL on this machine: one runner, and the store below the workspace", "yellow")
        else:
            self._say("The store is moved to where several machines share it.")
            self._command(["store", "move", "--catalogue", server, "--snapshots", "shared"])
        settings = self._folder / "concordex.yaml"
        settings.write_text(settings.read_text(encoding="utf-8") + _JOBS.format(port=port), encoding="utf-8")

    @contextmanager
    def _at_work(self, count: int) -> Iterator[None]:
        self._say(f"{count} runner{'s' if count > 1 else ''} begin{'' if count > 1 else 's'} to work.")
        for number in range(count):
            draw.heading(f"$ concordex work    # machine {number + 1}")
            log = (self._folder.parent / f"{self._folder.name}-runner-{number + 1}.log").open("wb")
            with log:
                self._runners.append(
                    subprocess.Popen(
                        [sys.executable, "-m", "concordex", "work"], cwd=self._folder, stdin=subprocess.DEVNULL,
                        stdout=log, stderr=subprocess.STDOUT, start_new_session=True,
                    )
                )  # fmt: skip
        try:
            yield
        finally:
            for process in self._runners:
                process.send_signal(signal.SIGTERM)
            for process in self._runners:
                process.wait()

    def _events(self, *, several: bool) -> None:
        from concordex import Workspace

        with Workspace(self._folder) as here:
            self._until("somebody at work", here.jobs.is_at_work)
            self._say("22:40  The first round.")
            self._leave(here, "round")
            if several:
                self._lose_a_runner(here)
            self._mail("findings")
            self._say("23:15  muster answers with a web page.")
            muster: Any = self._harbour.named("muster")
            fault = muster.faults.add("page", "/muster/devices")
            self._leave(here, "round")
            self._mail("was done in part")
            self._say("02:10  It is well again.  Somebody gives a role there one right more.")
            fault.times = 0
            role = next(iter(muster.objects["roles"].values()))
            role["rights"] = [*role["rights"], "wipe"]
            self._leave(here, "drift")
            self._mail("drift")
            self._say("03:30  Somebody takes devices out of the inventory.")
            stowage: Any = self._harbour.named("stowage")
            for number in [number for number, gear in stowage.lists["gear"].items() if gear["serialNumber"]][:6]:
                del stowage.lists["gear"][number]
            self._leave(here, "round")
            self._mail("is well again", "findings")
            self._say("06:00  The report of the night.")
            self._leave(here, "morning")
            self._until("the report", lambda: any(run.job == "morning" and run.ended for run in _history(here)))

    def _lose_a_runner(self, here: Workspace) -> None:
        run = self._until("a round", lambda: next((r for r in _history(here) if _reads(r)), None))
        self._say("22:41  The machine that has the round loses its power.")
        os.killpg(run.process, signal.SIGKILL)
        gone = self._until("somebody goes on", lambda: _gone_on(here, run.id))
        draw.line(f"run {run.id} stopped: {gone.why}")
        self._command(["job", "runners"])

    def _leave(self, here: Workspace, job: str) -> None:
        """Let the runners do a job now."""
        self._until(f"the end of {job}", lambda: not here.locks.is_held_for(job))
        self._command(["job", "run", job, "--leave"])

    def _morning(self, *, shared: bool) -> None:
        self._say("Morning: what was done, by whom, and what is left to look at?")
        self._command(["job", "list"])
        self._command(["job", "history", "-n", "8"])
        self._command(["system", "list"])
        self._command(["tell", "pending", "--sent", "-n", "6"])
        if shared:
            self._say("The database of the night goes; what it holds is taken back to the workspace's own folder.")
            self._command(["store", "move", "--here"])
        draw.line()
        draw.heading(f"# The mail of the night ({len(self._mails)}):")
        for mail in self._mails:
            draw.line(f"  {str(mail['Subject']).strip()}")
        draw.line(f"# The report: {self._folder / 'night.html'}")

    def _mail(self, *matters: str) -> None:
        """Wait until mails have told of all these, in one or several, and show them."""
        shown = self._shown

        def told() -> bool:
            return all(any(matter in _text(mail) for mail in self._mails[shown:]) for matter in matters)

        self._until(f"a mail: {', '.join(matters)}", told)
        for mail in self._mails[shown:]:
            draw.line(f"mail to {mail['To']}: {str(mail['Subject']).strip()}")
            for line in [line for line in _text(mail).splitlines()[1:] if line.strip()][:_LINES]:
                draw.line(f"  {line}")
            self._shown += 1

    def _until(self, what: str, found: Callable[[], Any]) -> Any:
        ends = time.monotonic() + _PATIENCE
        while not (told := found()):
            if time.monotonic() > ends:
                raise TimeoutError(f"{what} did not come within {_PATIENCE:.0f} s; see {self._folder}-runner-*.log")
            if all(process.poll() is not None for process in self._runners):
                raise TimeoutError(f"no runner is at work any more; see {self._folder}-runner-*.log")
            time.sleep(0.2)
        return told

    def _say(self, text: str) -> None:
        draw.line()
        draw.heading(f"# {text}")

    def _command(self, words: list[str]) -> None:
        draw.heading(f"$ concordex {' '.join(words)}")
        self._run(words)

    @contextmanager
    def _post(self) -> Iterator[int]:
        """A mail server of our own, which keeps what it is given; its port."""
        try:
            from aiosmtpd.controller import Controller
        except ImportError as error:
            raise CalledWrongly("the night needs further packages", advice="pip install 'concordex[demo]'") from error
        mails = self._mails

        class Keeps:
            async def handle_DATA(self, _server: Any, _session: Any, envelope: Any) -> str:  # noqa: N802 - its name
                mails.append(message_from_bytes(envelope.content, policy=default))
                return "250 kept"

        controller = Controller(Keeps(), hostname="127.0.0.1", port=_free_port())
        controller.start()
        try:
            yield int(controller.port)
        finally:
            controller.stop()


def _text(mail: Message) -> str:
    """The subject of a mail, and its text below."""
    body = mail.get_content() if hasattr(mail, "get_content") else ""
    text, _, _ = "\n".join(body.splitlines()).partition("\n-- \n")
    return f"{str(mail['Subject']).strip()}\n{text}"


def _history(here: Workspace) -> list[JobRun]:
    return here.catalogue.runs.newest(20)


def _reads(run: JobRun) -> bool:
    """Whether a round is under way, and in its first line."""
    return run.job == "round" and run.outcome == "running" and not run.steps


def _gone_on(here: Workspace, number: int) -> JobRun | None:
    run = here.catalogue.runs.run(number)
    return run if run is not None and run.outcome == "stopped" else None


def _free_port() -> int:
    with closing(socket.socket()) as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])


@contextmanager
def _database() -> Iterator[str | None]:
    """A PostgreSQL of the night's own; None where there is none on this machine."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    program = shutil.which("initdb") or (str(found[-1]) if found else None)
    if program is None:
        yield None
        return
    bins, folder, port = Path(program).resolve().parent, Path(tempfile.mkdtemp()), _free_port()
    person: dict[str, Any] = {}
    if os.geteuid() == 0:  # it runs as nobody that may do everything
        shutil.chown(folder, "postgres")
        person = {"user": "postgres", "group": "postgres", "extra_groups": []}
    data = str(folder / "data")

    def run(*words: str) -> None:
        subprocess.run([str(bins / words[0]), *words[1:]], check=True, capture_output=True, cwd=folder, **person)

    run("initdb", "-D", data, "-U", "keeper", "-A", "trust")
    settings = f"-p {port} -c listen_addresses=127.0.0.1 -c unix_socket_directories="
    run("pg_ctl", "-D", data, "-w", "-l", str(folder / "log"), "-o", settings, "start")
    try:
        yield f"postgresql://keeper@127.0.0.1:{port}/postgres"
    finally:
        run("pg_ctl", "-D", data, "-m", "fast", "stop")
        shutil.rmtree(folder, ignore_errors=True)
