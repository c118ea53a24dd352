"""The stand-ins over real HTTP, a workspace for them, and the built program as a process."""

from __future__ import annotations

import gc
import io
import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from typing import IO

import pytest
from hypothesis import Phase, settings

from concordex import Workspace
from concordex.cli.app import status_of
from concordex.standins.server import Harbour
from concordex.unseen import UNSEEN
from tests.lamplight import serve  # noqa: F401 - a fixture
from tests.servers import Postgres, object_store, postgres_server

EXAMPLES = max(32, int(os.environ.get("CONCORDEX_FUZZ", "0")))
settings.register_profile("machine", deadline=None, max_examples=EXAMPLES)  # how long they take is for benchmarks/
settings.register_profile(
    "first", deadline=None, phases=[Phase.explicit, Phase.reuse, Phase.generate]
)  # not the smallest
settings.load_profile("machine")

gc.freeze()  # what is loaded by now stays; to look through it again and again takes a twelfth of all the time
gc.set_threshold(50_000, 20, 50)

DEVICES = 130


@dataclass
class Shell:
    """A person at a prompt in a workspace."""

    folder: Path

    def __call__(self, *words: str, status: int | None = 0, said: str = "", **more) -> subprocess.CompletedProcess:
        """Run the program; ``status`` is what it must end with, None if that does not matter."""
        done = subprocess.run(self.command(*words), **self.settings(**more), input=said, timeout=300, check=False)
        if status is not None:
            assert done.returncode == status, f"{words}\n{done.stdout}\n{done.stderr}"
        return done

    def several(self, *commands: Sequence[str], **more) -> list[subprocess.CompletedProcess]:
        """Run commands one after another in one new process, which costs a second to start."""
        settings = self.settings(**more)
        settings["env"] |= {"PYTHONPATH": str(Path(__file__).parents[1])}
        words = [sys.executable, "-m", "tests.several", json.dumps(commands)]
        done = subprocess.run(words, **settings, timeout=300, check=True)
        told = [json.loads(line) for line in done.stdout.splitlines()]
        return [subprocess.CompletedProcess(*one) for one in zip(commands, *zip(*told, strict=True), strict=True)]

    def begin(self, *words: str) -> subprocess.Popen:
        """Start the program and leave it running."""
        settings = self.settings() | {"stdin": subprocess.DEVNULL, "stdout": subprocess.PIPE, "stderr": subprocess.PIPE}
        settings.pop("capture_output")
        return subprocess.Popen(self.command(*words), **settings)

    @staticmethod
    def command(*words: str) -> list[str]:
        return [sys.executable, "-m", "concordex", *words]

    def settings(self, **more) -> dict:
        environment = {k: v for k, v in os.environ.items() if not k.startswith("CONCORDEX")} | more.pop("env", {})
        return {"cwd": self.folder, "capture_output": True, "text": True, "env": environment, **more}

    @property
    def workspace(self) -> Workspace:
        return Workspace(self.folder)

    def config(self, change: Callable[[str], str]) -> None:
        """Edit concordex.yaml."""
        path = self.folder / "concordex.yaml"
        path.write_text(change(path.read_text()))


class Near(Shell):
    """The same person, spared a new interpreter for every command: the same arguments, output and status."""

    def __call__(self, *words: str, status: int | None = 0, said: str = "", **more) -> subprocess.CompletedProcess:
        if more.keys() - {"env"}:  # what only a process of its own can have
            return super().__call__(*words, status=status, said=said, **more)
        out, err = (io.TextIOWrapper(io.BytesIO(), encoding="utf-8", newline="\n") for _ in range(2))
        code = self.heard(words, (io.TextIOWrapper(io.BytesIO(said.encode())), out, err), **more)
        told = []
        for stream in (out, err):
            stream.flush()
            told.append(stream.buffer.getvalue().decode())
        if status is not None:
            assert code == status, f"{words}\n{told[0]}\n{told[1]}"
        return subprocess.CompletedProcess(words, code, *told)

    def heard(self, words: Sequence[str], streams: tuple[IO[str], IO[str], IO[str]], **more) -> int:
        """Run a command here, with these for its standard input, output and error; its exit status."""
        settings = self.settings(**more)
        before, kept, here = (sys.stdin, sys.stdout, sys.stderr), dict(os.environ), Path.cwd()
        try:
            os.environ.clear()
            os.environ.update(settings["env"])
            os.chdir(settings["cwd"])
            sys.stdin, sys.stdout, sys.stderr = streams
            return status_of(list(words))
        finally:
            sys.stdin, sys.stdout, sys.stderr = before
            os.environ.clear()
            os.environ.update(kept)
            os.chdir(here)


THREE = ("fairlead", "muster", "stowage")


def make_workspace(folder: Path, harbour: Harbour, names: Sequence[str] = THREE, kind: type[Shell] = Shell) -> Shell:
    """A workspace whose systems are stand-ins; secrets lie beside it."""
    root = folder / "workspace"
    (root / "dialects").mkdir(parents=True)
    prefer = ", ".join(name for name in THREE if name in names)
    lines = ["format: 1", f"reconcile: {{prefer: [{prefer}], at_rest: status = stored}}", "systems:"]
    for standin in map(harbour.named, names):
        lines += [f"  {standin.name}:", f"    dialect: {standin.dialect}", f"    url: {harbour.urls[standin.name]}"]
        lines += ["    credentials:", *(f"      {name}: {value}" for name, value in standin.plain().items())]
        for name, value in standin.secrets().items():
            (folder / f"{standin.name}.secret").write_text(value + "\n")
            lines.append(f"      {name}: file:../{standin.name}.secret")
        lines += [f"    tls: {{fingerprint: {harbour.fingerprint}}}"] if standin.tls else []
    (root / "concordex.yaml").write_text("\n".join(lines) + "\n")
    return kind(root)


@pytest.fixture(autouse=True)
def nothing_unseen() -> None:
    """A secret of one test is a word like any other in the next."""
    UNSEEN.forget()


#: When the fleets of all tests are looked at: they say the same, wherever they stand.
MOMENT = datetime.now(UTC)


@pytest.fixture(scope="session")
def harbour_of() -> Iterator[Callable[[int], Harbour]]:
    """Stand-ins for a fleet of so many devices, made when the first test asks for them."""
    with ExitStack() as several:
        yield cache(lambda size: several.enter_context(Harbour.of(size, moment=MOMENT)))


@pytest.fixture(scope="session")
def shared_harbour(harbour_of: Callable[[int], Harbour]) -> Harbour:
    return harbour_of(DEVICES)


@pytest.fixture
def harbour(request: pytest.FixtureRequest, harbour_of: Callable[[int], Harbour]) -> Iterator[Harbour]:
    """Stand-ins that are only read, well-behaved and with nothing counted at the start of each test."""
    shared = harbour_of(_devices(request))
    for standin in shared.standins:
        standin.faults.clear()
    yield shared
    for standin in shared.standins:
        standin.faults.clear()


@pytest.fixture
def fresh_harbour(request: pytest.FixtureRequest) -> Iterator[Harbour]:
    """Stand-ins of the test's own, to be written to."""
    with Harbour.of(_devices(request), moment=MOMENT) as harbour:
        yield harbour


def _devices(request: pytest.FixtureRequest) -> int:
    """Tests in which every list takes several pages are marked by a larger fleet."""
    marked = request.node.get_closest_marker("devices")
    return marked.args[0] if marked else DEVICES


@pytest.fixture
def shell(tmp_path: Path, harbour: Harbour) -> Shell:
    return make_workspace(tmp_path, harbour, kind=Near)


@pytest.fixture(scope="session")
def pulled_once(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """What a pull and a reconcile leave in a workspace, to be copied."""
    with Harbour.of(DEVICES, moment=MOMENT) as harbour:
        shell = make_workspace(tmp_path_factory.mktemp("pulled_once"), harbour, kind=Near)
        shell("pull")
        shell("reconcile")
    return shell.folder / ".concordex"


@pytest.fixture
def writing(tmp_path: Path, fresh_harbour: Harbour, pulled_once: Path) -> Shell:
    """A workspace for stand-ins of its own, which say what was pulled."""
    shell = make_workspace(tmp_path, fresh_harbour, kind=Near)
    shutil.copytree(pulled_once, shell.folder / ".concordex")
    return shell


@pytest.fixture(scope="session")
def pulled(shared_harbour: Harbour, tmp_path_factory: pytest.TempPathFactory) -> Shell:
    """A workspace that has been pulled and reconciled; to be looked at only."""
    shell = make_workspace(tmp_path_factory.mktemp("pulled"), shared_harbour, kind=Near)
    shell("pull")
    shell("reconcile")
    return shell


@pytest.fixture(scope="session")
def postgres() -> Iterator[Postgres]:
    """A PostgreSQL of the tests' own; who stops it starts it again."""
    with postgres_server() as server:
        yield server


@pytest.fixture(scope="session")
def objects() -> Iterator[str]:
    """The address of an object store with the bucket `snapshots`."""
    with object_store() as address:
        yield address


def interrupt(process: subprocess.Popen, seen: Callable[[], bool], how: int = signal.SIGINT) -> tuple[str, str]:
    """Send a signal once ``seen`` holds; what the process wrote."""
    ends = time.monotonic() + 60
    while not seen():
        assert process.poll() is None, process.communicate()
        assert time.monotonic() < ends
        time.sleep(0.02)
    process.send_signal(how)
    return process.communicate(timeout=60)
