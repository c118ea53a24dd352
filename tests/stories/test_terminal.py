"""What a person at a terminal sees and is asked."""

from __future__ import annotations

import os
import pty
import re
import subprocess
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress

import pytest

from concordex.cli.draw import console
from tests.conftest import Near, Shell

TERMINAL = {"TERM": "xterm-256color", "COLUMNS": "150"}


def at_a_terminal(shell: Shell, *words: str, typed: str = "", **environment: str) -> tuple[int, str]:
    """Run the program in a terminal of its own; its exit status and all that it wrote there."""
    ours, theirs = pty.openpty()
    settings = shell.settings(env={**TERMINAL, **environment})
    settings.pop("capture_output")
    process = subprocess.Popen(
        shell.command(*words), **settings | {"stdin": theirs, "stdout": theirs, "stderr": theirs}
    )
    os.close(theirs)
    os.write(ours, typed.encode())
    written = all_from(ours)
    return process.wait(60), written


def shown(shell: Near, *words: str, **environment: str) -> tuple[int, str]:
    """What a terminal shows of a command that is run here, without a process of its own."""
    ours, theirs = pty.openpty()
    with ThreadPoolExecutor(1) as reader:
        written = reader.submit(all_from, ours)
        with os.fdopen(theirs, "w", encoding="utf-8") as terminal, os.fdopen(os.dup(theirs), encoding="utf-8") as keys:
            console.cache_clear()  # another terminal, which may be without colours
            status = shell.heard(words, (keys, terminal, terminal), env={**TERMINAL, **environment})
            console.cache_clear()
        return status, written.result()


def all_from(ours: int) -> str:
    """All that is written to a terminal until its other end is closed."""
    written = b""
    with suppress(OSError):
        while piece := os.read(ours, 65536):
            written += piece
    os.close(ours)
    return written.decode()


def test_a_long_table_is_cut_to_a_screenful_and_says_so(pulled):
    status, text = at_a_terminal(pulled, "show", "devices")
    assert status == 0
    assert "the first 40 rows; --limit 0 shows all" in text
    assert "\x1b[" in text
    _, everything = shown(pulled, "show", "devices", "--limit", "0")
    assert everything.count("\n") > pulled.workspace.show("devices").frame.height
    assert "the first 40 rows" not in everything


def test_findings_of_a_whole_fleet_show_counts_first_and_a_comparison_in_a_pipe_is_whole(pulled):
    _, text = shown(pulled, "findings", NO_COLOR="1", COLUMNS="180")
    lines = re.sub(r"\x1b\[[0-9;]*m", "", text).splitlines()
    assert lines[0].split() == ["kind", "severity", "count"]
    assert sum(int(line.split()[-1]) for line in lines[2 : lines.index("")]) == 40 + int(
        re.search(r"(\d+) more; --limit 0 shows all", text)[1]
    )
    _, text = shown(pulled, "compare", "muster", "stowage", NO_COLOR="1")
    more = int(re.search(r"(\d+) more; --limit 0 shows all", text)[1])
    assert len(pulled("compare", "muster", "stowage", status=3).stdout.splitlines()) == 1 + 40 + more


@pytest.mark.parametrize(
    ("table", "width"),
    [("devices", 80), ("devices", 100), ("records", 80), ("entries", 100), ("interfaces", 80), ("hosts", 100)],
)
def test_nothing_is_broken_inside_at_the_width_of_a_terminal(pulled, width, table):
    """Names, serials, addresses and dates stand whole; what has no room is left out and named."""
    _, text = shown(pulled, "show", table, "-n", "12", COLUMNS=str(width), NO_COLOR="1")
    lines = [line for line in re.sub(r"\x1b\[[0-9;]*m", "", text).splitlines() if line.strip()]
    assert max(map(len, lines)) <= width
    frame = pulled.workspace.show(table, limit=12).frame
    columns = lines[0].split()
    for name in {"name", "serial", "site", "last_seen"} & set(columns):
        for value in frame[name].drop_nulls():
            said = value.strftime("%Y-%m-%d %H:%M") if name == "last_seen" else str(value)
            assert any(said in line for line in lines)
    left_out = " ".join(line for line in lines if not line.startswith(tuple(map(str, frame["name"].drop_nulls()))))
    usual = [name for name in ("system", "name", "kind", "serial", "site", "model") if name in frame.columns]
    assert all(name in columns or name in left_out for name in usual)


def test_columns_that_are_named_are_all_shown_whatever_the_width(pulled):
    _, text = shown(pulled, "show", "devices", "-c", "system,name,serial,macs,ips,last_seen,model,site",
                            "-n", "3", COLUMNS="80")  # fmt: skip
    assert "left out" not in text
    assert text.split()[:8] == ["system", "name", "serial", "macs", "ips", "last_seen", "model", "site"]


def test_no_colour_is_respected(pulled):
    _, text = shown(pulled, "findings", "--count", NO_COLOR="1")
    assert "\x1b[31" not in text
    assert "\x1b[1;31" not in text


def test_what_devices_are_called_does_not_act_on_the_terminal(pulled):
    """The escape that a name holds is not written, in any format that a terminal is given."""
    for form in ("table", "csv", "markdown", "ndjson", "yaml"):
        _, text = shown(
            pulled, "show", "devices", "--where", "name like '*red*'", "-c", "name", "-f", form, NO_COLOR="1"
        )
        assert "red" in text
        assert "\x1b[31mred" not in text


def test_binary_formats_are_not_poured_over_a_terminal(pulled):
    status, text = shown(pulled, "show", "devices", "--format", "parquet")
    assert status == 2
    assert "not for a terminal" in text


def test_a_sync_asks_and_takes_no_for_no_and_yes_for_yes(writing, fresh_harbour):
    status, text = at_a_terminal(writing, "sync", "stowage", typed="n\n")
    assert status == 5
    assert "steps of change 1 against stowage? [y/N]" in text
    assert not [method for method, _ in fresh_harbour.stowage.faults.requests if method != "GET"]
    status, text = at_a_terminal(writing, "change", "run", "1", typed="y\n")
    assert status == 4
    assert "change 1 is incomplete: 57 steps written" in text


@pytest.mark.parametrize(
    ("method", "path", "words", "seen"),
    [
        ("GET", "/", ("pull", "stowage", "--table", "sites"), r"stowage/sites.* 0/\?"),
        ("PATCH", "/v2/gear", ("set", "stowage", "name = {name}", "comment=seen", "--yes"), r"change 1.* 0/1 "),
    ],
)  # fmt: skip
def test_a_system_that_is_long_silent_is_seen_to_be_waited_for(writing, fresh_harbour, method, path, words, seen):
    """The bar stands before the first answer comes, and is gone when the work is done."""
    name = writing.workspace.show("devices", systems=["stowage"]).frame["name"][0]
    fresh_harbour.stowage.faults.add("slow", path, method=method, seconds=1.5)
    status, text = at_a_terminal(writing, *(word.format(name=name) for word in words), NO_COLOR="1")
    assert status == 0
    assert re.search(seen, text)
    assert text.rindex("\x1b[?25h") > text.rindex("\x1b[?25l")
