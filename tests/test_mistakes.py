"""No plain mistake is an error of our own: whatever is typed, whatever a file holds, wherever the output goes."""

from __future__ import annotations

import os
import shlex
import shutil
import signal
import subprocess
import sys
import time

import pytest
from hypothesis import HealthCheck, given, settings

from tests.conftest import Near, Shell
from tests.fuzz import calls, commands

#: As they would be typed.
MISTAKES = r"""
show devices --limit -1
show devices -n 99999999999999999999
show devices -o /nonexistent/x.csv
show devices -o /
pulls -n -1
pulls 99999999999999999999999
change show 99999999999999999999999
change run 0
change settle 1 99999999999999999999 --done
findings --limit -5
push / --to stowage
pulls --since 99999999999d
pulls --since 0001-01-01T00:00+14:00
show devices --as-of 9999-12-31T23:59:59
group add '' --where a=b
group add ../x --where 'kind = router'
system add x -d ../../etc/passwd -u http://x
system add x -d muster -u http://[::1 -c client=a -c secret=env:X
system add x -d muster -u http://x:99999999 -c client=a -c secret=env:X
-w /dev/null pulls
dialect check /
dialect check /dev/null
dialect check PYTHON
config diff /dev /dev
config push /dev/null --to muster
config save muster --into /dev/null
sync stowage --where '('
change load /
change load PYTHON
demo /dev/null/x --devices 50
demo --devices 99999999999
review --limit -1
show devices --where 'name ~ "(a+)+$"'
""".strip().splitlines()
FILES = {
    "odd.yaml": b"\xff\xfe\x00bad", "odd.csv": b"\xff\xfe\x00bad", "odd.parquet": b"PAR1", "odd.xlsx": b"PK\x03\x04",
    "odd.json": b'{"a":', "odd.ndjson": b"{}\n[", "deep.json": b"[" * 100_000,
    "number.json": b'[{"name": 123456789012345678901234567890, "position": 1e400}]',
}  # fmt: skip


def is_plain(done, words) -> None:
    told = done.stdout + done.stderr
    assert "of our own" not in told, (words, told)
    assert "Traceback" not in told, (words, told)


@pytest.fixture
def throwaway(pulled, tmp_path) -> Near:
    """A copy of a workspace that was pulled, with odd files."""
    shutil.copytree(pulled.folder.parent, tmp_path / "copy")
    folder = tmp_path / "copy" / "workspace"
    for name, content in FILES.items():
        (folder / name).write_bytes(content)
    return Near(folder)


@pytest.mark.parametrize("typed", MISTAKES)
def test_a_mistake_is_told_as_one(throwaway, typed):
    words = shlex.split(typed.replace("PYTHON", sys.executable))
    done = throwaway(*words, status=None)
    is_plain(done, words)
    assert done.returncode in (1, 2, 3) or "--since" in words or "--as-of" in words or "(a+)+$" in words[-1]


@pytest.mark.parametrize("file", FILES)
def test_whatever_a_file_holds_it_is_a_mistake_in_it(throwaway, file):
    done = throwaway("push", file, "--to", "stowage", status=None)
    is_plain(done, file)
    assert done.returncode == 2


@pytest.mark.parametrize("words", [["show", "devices"], ["pulls"], ["--help"]])
@pytest.mark.parametrize("where", ["full", "closed"])
def test_output_that_goes_nowhere_is_told(pulled, words, where):
    command = " ".join([sys.executable, "-m", "concordex", *words])
    done = subprocess.run(["sh", "-c", f"{command} {'>/dev/full' if where == 'full' else '>&-'}"],
                          **Shell(pulled.folder).settings(), timeout=60, check=False)  # fmt: skip
    is_plain(done, words)
    assert done.returncode == 1
    assert done.stderr.startswith("concordex: ")


def test_whatever_is_typed_is_meant_or_told(throwaway):
    """For a minute; `make fuzz` goes on for an hour."""
    known, home = commands(), throwaway.folder.parent
    most = int(os.environ.get("CONCORDEX_FUZZ", "100"))

    @settings(max_examples=most, suppress_health_check=[*HealthCheck])
    @given(calls(known))
    def law(words: list[str]) -> None:
        env = {"HOME": str(home), "XDG_STATE_HOME": str(home / "state"), "EDITOR": "true", "COLUMNS": "100"}
        is_plain(throwaway(*words, status=None, env=env), words)

    law()


@pytest.mark.parametrize("after", [0.02, 0.05, 0.1, 0.2, 0.4])
def test_ctrl_c_at_the_very_beginning_shows_no_trace(pulled, after):
    process = Shell(pulled.folder).begin("show", "devices", "--sort", "name")
    time.sleep(after)
    process.send_signal(signal.SIGINT)
    out, told = process.communicate(timeout=30)
    assert "Traceback" not in told or "concordex" not in told  # before a line of ours is run, it is Python that ends
    assert process.returncode in (0, 5, -signal.SIGINT, 130)
    assert out == "" or process.returncode == 0
