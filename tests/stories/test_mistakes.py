"""No plain mistake is an error of our own: whatever is typed, whatever a file holds, wherever the output goes."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shlex
import shutil
import signal
import subprocess
import sys
import time

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from concordex.cli.app import status_of
from concordex.errors import WireError
from concordex.wire.dialect.load import text_of
from tests.conftest import Near, Shell
from tests.fuzz import MANNERS, WORDS, calls, commands
from tests.lamplight import lamps, reading, run

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
#: And names of what is not there, or not so.
UNKNOWN = r"""
show nosuch
show devices --where 'name ~'
show devices --sort nosuch
show devices -c nosuch
show devices --count-by nosuch
show devices -f nosuch
show devices --live --system nosuch
system check nosuch
system pause nosuch
pull nosuch
pull -t nosuch
explain nosuch
compare muster nosuch
compare muster
ruling same muster/1
ruling same muster/nosuch stowage/nosuch
ruling value muster/nosuch site x
ruling accept muster/nosuch stale
ruling remove nosuch
set muster 'name = x' nosuch=1
set stowage 'name = x' name
set stowage '' name=1
retire crowsnest 'name = x' --yes
delete stowage 'name = nosuch'
action muster nosuch 'name = x'
change results 999 --as nosuch
config show muster/nosuch
config show muster/roles/nosuch
config copy muster/roles/nosuch --as x
config migrate nosuch --to muster
config list nosuch
config pending muster
drift nosuch
lines show nosuch x
group show nosuch
group remove nosuch
group add x --where ''
group add x --where 'kind = nosuch'
group push nosuch --to crowsnest
sync nosuch
push odd.csv --to nosuch
push nosuch.csv --to stowage
dialect show nosuch
dialect show muster nosuch
-w nosuch pulls
change settle 999 1 --done --not-done
""".strip().splitlines()
FILES = {
    "odd.yaml": b"\xff\xfe\x00bad", "odd.csv": b"\xff\xfe\x00bad!", "odd.parquet": b"PAR1", "odd.xlsx": b"PK\x03\x04",
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


def test_a_name_that_is_not_known_is_told_and_nothing_is_done(throwaway):
    for words in map(shlex.split, UNKNOWN):
        done = throwaway(*words, status=None)
        is_plain(done, words)
        told = done.stderr
        assert done.returncode in (1, 2) or "nothing to do" in told or "no record" in told, (words, done)
    assert "no change yet" in throwaway("change", "list", status=None).stderr


@pytest.mark.parametrize("file", FILES)
def test_whatever_a_file_holds_it_is_a_mistake_in_it(throwaway, file):
    done = throwaway("push", file, "--to", "stowage", status=None)
    is_plain(done, file)
    assert done.returncode == 2


@pytest.mark.parametrize("words", [["show", "devices"], ["pulls"], ["--help"], ["--version"]])
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
    most = int(os.environ.get("CONCORDEX_FUZZ", "40"))

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
    _, told = process.communicate(timeout=30)
    ours = r"__main__\.py\", line \d+, in main"  # before that line is reached, it is Python itself that ends
    assert "Traceback" not in told or not re.search(ours, told)
    assert process.returncode in (0, 1, 5, -signal.SIGINT, 130)


class Panic(BaseException):
    """What a library that is not written in Python ends by: no `Exception`, and with what it met inside it."""


@pytest.mark.parametrize(("told", "status", "says"), [
    ("unwrap on an Err: PyErr { type: <class 'KeyboardInterrupt'> }", 5, "stopped"),
    ("index out of range", 1, "an error of our own: Panic: index out of range"),
])  # fmt: skip
def test_what_a_library_ends_by_is_told_in_our_words(monkeypatch, capsys, told, status, says):
    def ends(*_, **__):
        raise Panic(told)

    monkeypatch.setattr("concordex.cli.app._command", lambda: ends)
    assert status_of(["show"]) == status
    assert says in capsys.readouterr().err


def test_ctrl_c_while_a_class_is_made_is_ctrl_c(monkeypatch, capsys):
    """Python makes another error of it, of which it is the cause."""

    class Named:
        def __set_name__(self, *_):
            raise KeyboardInterrupt

    monkeypatch.setattr("concordex.cli.app._command", lambda: lambda *_, **__: type("Made", (), {"part": Named()}))
    assert status_of(["show"]) == 5
    assert capsys.readouterr().err == "\nstopped\n"


NAMES = ("l", "n", "id", "label", "next", "said", "token")
KEYS = st.sampled_from(NAMES) | st.text(max_size=4)
JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(KEYS, inner, max_size=4),
    max_leaves=12,
)
FIELDS = ("Content-Type", "Content-Encoding", "Retry-After", "Link", "Set-Cookie", "Location", "Date")
VALUES = (
    "", "application/json", "text/html", "br", "gzip", "\u00b2", "9" * 50, "<>; rel=next", "a=b; Max-Age=x",
    "</l?from=2>; rel=next", "http://[", "https://elsewhere.example/", "Sun, 99 Nov 2026", "charset=x",
)  # fmt: skip
HEADERS = st.dictionaries(st.sampled_from(FIELDS), st.sampled_from(VALUES), max_size=3)
ANSWERS = st.tuples(
    st.sampled_from([200, 200, 200, 201, 204, 206, 301, 304, 400, 401, 403, 404, 418, 422, 429, 500, 503, 599, 999]),
    JSON.map(lambda said: json.dumps(said).encode()) | st.binary(max_size=40)
    | JSON.map(lambda said: json.dumps({"l": [said, {"id": 1, "label": said}], "n": said, "next": said}).encode()),
    HEADERS.map(lambda given: list(given.items())), st.none() | st.none() | st.sampled_from(MANNERS),
)  # fmt: skip
READS = (
    "{path: /l, records: l, total: n, pages: {by: offset, offset: from, limit: many, size: 2}}",
    "{path: /l, records: l, pages: {by: cursor, cursor: after, next: next}}",
    "{path: /l, records: l, pages: {by: link_header}}",
    "{path: /l, records: l, complete: one answer holds all}",
)


def test_whatever_is_answered_is_read_or_told(serve):
    """Statuses, headers, bodies and ways of sending that no system would have: a verdict, or an error with a name."""
    plan: list = []
    url = serve(lambda *_: plan.pop(0) if plan else (200, {"l": []})).url

    @settings(max_examples=int(os.environ.get("CONCORDEX_FUZZ", "40")), suppress_health_check=[*HealthCheck])
    @given(st.sampled_from(READS), st.lists(ANSWERS, max_size=4))
    def law(read: str, answers: list) -> None:
        plan[:] = answers
        spoken = lamps(read, limits={"tries": 1, "timeout": 0.3}, errors={"message": "said"})
        with contextlib.suppress(WireError):
            run(reading(url, spoken))

    law()


def altered(data, lines: list[str]) -> list[str]:
    """Lines taken out, doubled, moved, and words put in the place of others."""
    made = list(lines)
    for _ in range(data.draw(st.integers(1, 4))):
        at = data.draw(st.integers(0, len(made) - 1))
        word = data.draw(st.sampled_from(WORDS) | st.text(max_size=6))
        made[at : at + 1] = data.draw(st.sampled_from([
            [], [made[at], made[at]], [f"  {made[at]}"], [made[at].strip()], [made[at], word],
            [f"{made[at].partition(':')[0]}: {word}"], [f"{word}: {made[at].partition(':')[2]}"],
        ])) or [""]  # fmt: skip
    return made


def test_whatever_a_workspace_file_says_it_is_read_or_told(throwaway):
    path = throwaway.folder / "concordex.yaml"
    lines = path.read_text().splitlines()

    @settings(max_examples=int(os.environ.get("CONCORDEX_FUZZ", "20")), suppress_health_check=[*HealthCheck])
    @given(st.data())
    def law(data) -> None:
        made = altered(data, lines)
        path.write_text("\n".join(made), encoding="utf-8", errors="replace")
        for words in (["system", "list"], ["show", "devices", "-n", "1"], ["pull", "stowage", "-t", "makers"]):
            is_plain(throwaway(*words, status=None), (words, made))

    law()


def test_whatever_a_dialect_says_it_is_read_or_told(throwaway):
    """What can be read is tried on a system: nothing that a dialect says makes us stumble over ourselves."""
    folder = throwaway.folder / "dialects"
    folder.mkdir(exist_ok=True)
    texts = {name: text_of(name).splitlines() for name in ("stowage", "muster", "fairlead", "bollard", "crowsnest")}

    @settings(max_examples=int(os.environ.get("CONCORDEX_FUZZ", "24")) // 3, suppress_health_check=[*HealthCheck])
    @given(st.data())
    def law(data) -> None:
        name = data.draw(st.sampled_from(sorted(texts)))
        made = altered(data, texts[name])
        path = folder / f"{name}.yaml"
        path.write_text("\n".join(made), encoding="utf-8", errors="replace")
        for words in (["dialect", "list"], ["dialect", "check", name], ["dialect", "show", name, "--requests"],
                      ["pull", name], ["show", "devices", "-n", "1"]):  # fmt: skip
            done = throwaway(*words, status=None)
            is_plain(done, (words, made))
            assert "as the dialect says" not in done.stdout + done.stderr, (words, made, done)
        path.unlink()

    law()
