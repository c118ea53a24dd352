"""The command line as a whole: help, exit statuses, broken files, folders that cannot be written, the demo."""

from __future__ import annotations

import ctypes
import json
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest
import typer

from concordex import errors
from concordex.cli.parts import SUMMARIES, load, target_of
from concordex.errors import CalledWrongly, ConcordexError, RequestRefused
from concordex.version import __version__
from tests.conftest import Near, Shell

ROOT = Path(__file__).parents[2]
PR_CAPBSET_DROP, CAP_DAC_OVERRIDE, CAP_DAC_READ_SEARCH = 24, 1, 2


def every_command():
    """Each command's name, as it is typed, and its function's docstring."""
    for name in SUMMARIES:
        target = target_of(name)
        if isinstance(target, typer.Typer):
            for info in target.registered_commands:
                yield f"{name} {info.name}", info.callback.__doc__
        else:
            yield name, target.__doc__


@pytest.mark.parametrize(("name", "text"), list(every_command()))
def test_every_command_has_an_example_and_is_documented(name, text):
    assert f"concordex {name}" in text
    told = "".join(path.read_text() for path in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")])
    assert f"concordex {name}" in told


def test_every_command_can_be_loaded_and_told():
    for name in SUMMARIES:
        assert load(name).get_short_help_str()


def test_the_version_is_told_and_help_names_every_command(tmp_path):
    shell = Shell(tmp_path)
    assert shell("--version").stdout == f"concordex {__version__}\n"
    told = shell("--help").stdout
    assert all(f"  {name} " in told for name in SUMMARIES)
    assert "Did you mean 'show'" in shell("shw", status=2).stderr


@pytest.mark.parametrize("columns", ["", "0", "52", "79", "80", "200"])
def test_what_is_told_at_once_is_what_the_whole_command_line_would_tell(tmp_path, columns):
    """However wide the terminal is, and under either name."""
    near = Near(tmp_path)("--help", env={"COLUMNS": columns}).stdout
    told = Shell(tmp_path)("-h", env={"COLUMNS": columns}).stdout
    assert told.startswith("Usage: python -m concordex [OPTIONS]")
    assert told.partition("\n\n")[2] == near.partition("\n\n")[2] != ""
    assert Near(tmp_path)("--debug", "--version").stdout == f"concordex {__version__}\n"


def test_help_and_version_load_no_command_line(tmp_path):
    for word in ("--help", "-h", "--version"):
        code = f"import sys; sys.argv = ['concordex', '{word}']; from concordex.__main__ import main; main();"
        code += "sys.exit('typer' in sys.modules or 'pathlib' in sys.modules)"
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False, cwd=tmp_path)
        assert done.returncode == 0, word
        assert done.stdout.startswith(("Usage: concordex ", "concordex "))


def test_help_imports_nothing_heavy(tmp_path):
    code = "import sys; from concordex.cli.app import status_of; status_of(['--help']); print(*sys.modules, sep='\\n')"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, cwd=tmp_path)
    heavy = {"polars", "aiohttp", "pydantic", "numpy", "scipy", "rich", "ruamel.yaml", "sqlite3", "orjson", "asyncio"}
    assert not heavy & set(done.stdout.splitlines())


def test_what_looks_at_the_catalogue_alone_and_a_runner_that_waits_load_nothing_heavy(shell):
    """A second of each call, and of a runner most of its memory."""
    shell.config(lambda text: text + "jobs: {a: {every: 1d, steps: [pull]}}\n")
    asked = [["job", "list"], ["job", "history"], ["pulls"], ["change", "list"], ["work", "--once"], ["job", "runners"]]
    code = (
        "import sys; from concordex.cli.app import status_of\n"
        f"for words in {asked}: assert status_of(words) == 0, words\n"
        "print(*sys.modules, sep='\\n')"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, cwd=shell.folder)
    assert not {"polars", "aiohttp", "numpy", "scipy"} & set(done.stdout.splitlines())


def test_completing_an_object_loads_nothing_that_speaks_to_systems(shell):
    code = (
        "import sys; from concordex.cli.commands.config.choose import complete_objects as known;"
        " print(*known('bol'), *known('bollard/rul'), *sys.modules, sep='\\n')"
    )
    shell.config(lambda text: text + "  bollard: {dialect: bollard, url: 'http://127.0.0.1:9'}\n")
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, cwd=shell.folder)
    told = done.stdout.splitlines()
    assert told[:3] == ["bollard", "bollard/rules/", "bollard/rulesets/"]
    assert not {"polars", "aiohttp", "numpy"} & set(told)


def test_a_workspace_is_made_and_systems_are_added_without_losing_comments(tmp_path):
    shell = Near(tmp_path)
    shell("init", "fleet")
    assert "is a workspace already" in shell("init", "fleet", status=2).stderr
    inside = Near(tmp_path / "fleet")
    path = inside.folder / "concordex.yaml"
    path.write_text(path.read_text().replace("stale_after: 14d", "stale_after: 20d   # ferries are slow"))
    add = ["system", "add", "muster", "-d", "muster", "-u", "https://muster.example"]
    assert "secret=env:NAME" in inside(*add, "-c", "client=ops", status=2).stderr
    inside(*add, "-c", "client=ops", "-c", "secret=env:MUSTER_SECRET")
    assert "# ferries are slow" in path.read_text()
    assert "there is a system 'muster' already" in inside(*add, status=2).stderr
    (row,) = json.loads(inside("system", "list", "-f", "json").stdout)
    assert (row["system"], row["last pull"], row["role"]) == ("muster", "never", "manager")
    told = inside("system", "check", status=1)
    assert "MUSTER_SECRET is not set" in told.stdout
    kept = path.read_text()
    inside(
        "system", "add", "Bad Name", "-d", "muster", "-u", "ftp://x", "-c", "client=a", "-c", "secret=env:X", status=1
    )
    assert path.read_text() == kept


@pytest.mark.parametrize(
    ("before", "after", "line", "text"),
    [
        ("format: 1", "formt: 1", 1, "formt: unknown key; did you mean `format`"),
        ("dialect: muster", "dialct: muster", 11, "systems.muster.dialct"),
        ("url: http", "url: gopher", 6, "systems.fairlead.url"),
        ("[fairlead, muster, stowage]", "[fairlead, mustr]", 2, "reconcile.prefer[1]: there is no system 'mustr'"),
        ("file:../muster.secret", "hunter2", 15, "is a secret: say where it is kept"),
        ("client: concordex", "clint: concordex", 14, "credentials.client: is missing"),
        ("systems:", "systems: [", 4, "not valid YAML"),
        ("at_rest: status = stored", "at_rest: stauts = stored", 2, 'reconcile.at_rest: there is no field "stauts"'),
    ],
)
def test_a_broken_workspace_file_is_told_with_line_and_key(shell, before, after, line, text):
    shell.config(lambda kept: kept.replace(before, after))
    done = shell("pull", "muster", status=None)
    assert done.returncode in (1, 4)
    told = done.stdout + done.stderr
    assert text in told
    assert f"line {line}:" in told or "not valid YAML" in text
    assert "hunter2" not in told


def test_outside_a_workspace_the_way_in_is_told(tmp_path):
    done = Near(tmp_path)("show", "devices", status=2)
    assert "concordex init" in done.stderr
    assert "is not a workspace" in Near(tmp_path)("-w", str(tmp_path), "pulls", status=2).stderr


def test_the_workspace_is_named_by_option_or_environment(pulled, tmp_path):
    elsewhere = Near(tmp_path)
    by_option = elsewhere("-w", str(pulled.folder), "pulls", "-f", "json").stdout
    assert by_option == elsewhere("pulls", "-f", "json", env={"CONCORDEX_WORKSPACE": str(pulled.folder)}).stdout


def _powerless() -> None:
    """Without the privilege by which root writes where nobody may."""
    libc = ctypes.CDLL(None)
    for capability in (CAP_DAC_OVERRIDE, CAP_DAC_READ_SEARCH):
        libc.prctl(PR_CAPBSET_DROP, capability, 0, 0, 0)


def test_on_a_store_that_cannot_be_written_reading_works_and_writing_is_told(writing, fresh_harbour):
    writing = Shell(writing.folder)  # a process that ends closes its catalogue
    writing("reconcile")
    store = writing.folder / ".concordex"
    folders = [store, *(path for path in store.rglob("*") if path.is_dir())]
    files = [path for path in store.rglob("*") if path.is_file()]
    for path in files:
        path.chmod(0o444)
    for path in folders:
        path.chmod(0o555)
    try:
        reading, changing = [["show", "records"], ["findings", "--count"], ["pulls"]], [["pull"], ["reconcile"]]
        ran = writing.several(*reading, *changing, ["sync", "stowage", "--yes"], preexec_fn=_powerless)
        for done in ran[:3]:
            assert done.returncode in (0, 3), done.stderr
            assert done.stdout
        for done in ran[3:]:
            assert done.returncode == 1
            assert "cannot be" in done.stderr
            assert "may this user write there" in done.stderr
            assert "Traceback" not in done.stderr
        assert not [method for method, _ in fresh_harbour.stowage.faults.requests if method != "GET"]
    finally:
        for path in folders:
            path.chmod(0o755)


def test_a_reader_that_has_seen_enough_is_no_error(pulled):
    command = f"{sys.executable} -m concordex show devices -f ndjson | head -1; exit ${{PIPESTATUS[0]}}"
    done = subprocess.run(["bash", "-c", command], cwd=pulled.folder, capture_output=True, text=True, check=True)
    assert json.loads(done.stdout)
    assert done.stderr == ""


def test_colour_and_boxes_stay_away_from_pipes(pulled):
    for words in (["show", "devices"], ["findings"], ["system", "list"], ["explain", "E00001"]):
        done = pulled(*words, status=None)
        assert "\x1b" not in done.stdout + done.stderr
        assert "─" not in done.stdout


def test_the_demo_goes_from_a_check_to_a_verified_sync(tmp_path):
    done = Shell(tmp_path)("demo", "ferries", "--devices", "120", env={"CONCORDEX_WORKSPACE": "/somebody/elses"})
    for told in (
        "$ concordex pull",
        "$ concordex sync stowage --draft",
        "56 steps written, read back and confirmed",
        "nothing can be written: 4 held",
    ):
        assert told in done.stdout
    assert float(re.search(r"F1 ([\d.]+)", done.stdout)[1]) > 0.9
    truth = (tmp_path / "ferries-aside" / "truth.ndjson").read_text().splitlines()
    assert set(json.loads(truth[0])) == {"system", "record_id", "device"}
    assert "is not empty" in Near(tmp_path)("demo", "ferries", status=2).stderr
    left = Near(tmp_path / "ferries")
    assert left("show", "entries", "--count-by", "kind").stdout
    assert "E00001" in left("explain", "E00001").stdout
    assert (tmp_path / "ferries-aside" / "stowage-key").stat().st_mode & 0o077 == 0


def test_a_file_that_ends_too_soon_is_not_a_person_who_stopped(tmp_path, monkeypatch):
    """As a module of which half was written: what went wrong is said."""

    def cut(*_: object) -> None:
        raise EOFError("marshal data too short")

    monkeypatch.setattr("concordex.work.workspace.init.init", cut)
    told = Near(tmp_path)("init", "quay", status=1).stderr
    assert "marshal data too short" in told


def typed_in(page: str) -> list[list[str]]:
    """The commands that a page shows, as words."""
    lines = re.findall(r"^    concordex (.*)$", (ROOT / "docs" / page).read_text(), re.M)
    return [shlex.split(line, comments=True) for line in lines]


@pytest.mark.parametrize("words", typed_in("cookbook.md"), ids=" ".join)
def test_what_the_cookbook_types_is_understood(words):
    """By the command line alone: no system is asked, and no workspace is there."""
    command, rest = load(words[0]), words[1:]
    if hasattr(command, "commands"):
        command, rest = command.commands[rest[0]], rest[1:]
    assert command.make_context(words[0], rest)


def test_every_kind_of_error_has_a_page():
    told = "".join(path.read_text() for path in (ROOT / "docs/errors").glob("*.md"))
    kinds = [kind for kind in vars(errors).values() if isinstance(kind, type) and issubclass(kind, ConcordexError)]
    bases = {base for kind in kinds for base in kind.__mro__[1:]} - {CalledWrongly, RequestRefused}
    assert [kind.__name__ for kind in kinds if kind not in bases and kind.__name__ not in told] == []
