"""Files that are kept: whole or as they were, theirs beside ours, on disks that fill and under several hands."""

from __future__ import annotations

import errno
import json
import os
import shutil
import sqlite3
import stat
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from concordex.errors import StoreError
from concordex.landing import landing, write_text
from concordex.work.workspace import handwritten
from tests.conftest import Near, Shell
from tests.stories.test_decisions import lists, lists_once, row

__all__ = ["lists", "lists_once"]  # fixtures


def test_decisions_and_systems_that_come_at_one_time_all_stand(lists):
    lists.say("net", *[row(id=str(at), name=f"sw-{at}", serial=f"AAAA{at:04}") for at in range(8)])
    lists.reconcile()
    shell = Shell(lists.folder)
    with (lists.folder / "concordex.yaml").open("a") as file:
        file.write("# a remark of ours\n")
    commands = [("ruling", "value", f"net/{at}", "site", f"quay {at}", "--why", "seen") for at in range(3)]
    commands += [("system", "add", f"more-{at}", "-d", "net", "--folder", "net") for at in range(3)]
    with ThreadPoolExecutor(2) as pool:
        told = [*pool.map(lambda mine: shell.several(*mine), (commands[::2], commands[1::2]))]
    assert {one.returncode for several in told for one in several} == {0}, told
    assert len(json.loads(lists("ruling", "list", "-f", "json").stdout)) == 3
    assert {f"more-{at}" for at in range(3)} <= set(lists.workspace.config.systems)
    assert "# a remark of ours" in (lists.folder / "concordex.yaml").read_text()


def test_what_a_person_saves_meanwhile_is_not_lost(lists, monkeypatch):
    """They write between our reading and our writing, twice."""
    path, saved, parse = lists.folder / "concordex.yaml", [], handwritten.parse_yaml

    def parsed(text: str, name: str):
        document = parse(text, name)
        if len(saved) < 2:
            saved.append(path.write_text(path.read_text() + f"# saved {len(saved)}\n"))
        return document

    monkeypatch.setattr(handwritten, "parse_yaml", parsed)
    lists("system", "pause", "net")
    text = path.read_text()
    assert "# saved 0" in text
    assert "# saved 1" in text
    assert lists.workspace.config.systems["net"].paused


@pytest.mark.parametrize("when", ["writing", "flushing", "replacing"])
def test_on_a_full_disk_what_was_there_stays(tmp_path, monkeypatch, when):
    path = tmp_path / "rulings.yaml"
    path.write_text("what was there")
    path.chmod(0o640)

    def full(*_given):
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(
        *{"writing": (Path, "write_bytes"), "flushing": (os, "fsync"), "replacing": (Path, "replace")}[when], full
    )
    with pytest.raises(StoreError, match=r"cannot be written \(No space left"):
        write_text(path, "what is new")
    monkeypatch.undo()
    assert path.read_text() == "what was there"
    assert [one.name for one in tmp_path.iterdir()] == ["rulings.yaml"]
    write_text(path, "what is new")
    assert (path.read_text(), stat.S_IMODE(path.stat().st_mode)) == ("what is new", 0o640)


def test_a_workspace_that_could_not_be_made_is_none(tmp_path):
    """On a disk without room: nothing of it is half there, and the next try makes it."""
    code = (
        "import resource, signal, sys; from concordex.cli.app import status_of;"
        "signal.signal(signal.SIGXFSZ, signal.SIG_IGN); resource.setrlimit(resource.RLIMIT_FSIZE, (100, 100));"
        "sys.exit(status_of(['init', 'quay']))"
    )
    command = [sys.executable, "-B", "-c", code]  # byte code would be cut as well, and be found by others
    done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=False)
    assert done.returncode == 1
    assert "cannot be written" in done.stderr
    assert not (tmp_path / "quay" / "concordex.yaml").exists()
    Near(tmp_path)("init", "quay")


@pytest.mark.skipif(os.getuid() != 0, reason="only root could put a file in the place of a device")
def test_what_is_no_file_is_written_to_and_stays_what_it_is(tmp_path, pulled):
    """A device, or the pipe of another program: nobody else's either is replaced."""
    device, pipe = tmp_path / "null", tmp_path / "pipe"
    os.mknod(device, 0o666 | stat.S_IFCHR, os.makedev(1, 3))
    os.mkfifo(pipe)
    with subprocess.Popen(["cat", str(pipe)], stdout=subprocess.PIPE, text=True) as reader:
        for path in (device, pipe):
            pulled("show", "devices", "-n", "2", "-f", "csv", "-o", str(path))
        assert reader.communicate()[0].count("\n") == 3
    assert stat.S_ISCHR(device.stat().st_mode)
    assert stat.S_ISFIFO(pipe.stat().st_mode)
    said = Shell(pulled.folder)("show", "devices", "-n", "2", "-f", "csv", "-o", "/dev/stdout").stdout
    assert said.count("\n") == 3
    full = tmp_path / "full"
    os.mknod(full, 0o666 | stat.S_IFCHR, os.makedev(1, 7))
    assert "cannot be written" in pulled("show", "devices", "-f", "csv", "-o", str(full), status=1).stderr


def test_what_a_killed_process_left_is_in_the_way_of_none_that_bears_its_number(tmp_path):
    """As in a container, whose first process always has the same, and does the same things in the same order."""
    for at in range(3):
        with landing(tmp_path / "x.parquet") as making:
            making.write_text(str(at))
            left = making.name
        begin, _, number = left.removesuffix(".new").rpartition("-")
        (tmp_path / f"{begin}-{int(number) + 1 if number.isdecimal() else number}.new").touch()
    with landing(tmp_path / "x.parquet") as making:
        making.write_text("whole")
    assert (tmp_path / "x.parquet").read_text() == "whole"


def test_a_link_stays_a_link_and_what_is_private_is_so_from_the_beginning(tmp_path):
    real = tmp_path / "kept" / "rulings.yaml"
    real.parent.mkdir()
    real.write_text("old")
    link = tmp_path / "rulings.yaml"
    link.symlink_to(real)
    write_text(link, "new")
    assert link.is_symlink()
    assert real.read_text() == "new"
    before = os.umask(0)
    try:
        with landing(tmp_path / "x.parquet", private=True) as making:
            assert stat.S_IMODE(making.stat().st_mode) == 0o600
            making.write_text("x")
    finally:
        os.umask(before)
    assert stat.S_IMODE((tmp_path / "x.parquet").stat().st_mode) == 0o600
    (tmp_path / "x.parquet").chmod(0o644)  # by an earlier release, or by hand
    write_text(tmp_path / "x.parquet", "y", private=True)
    assert stat.S_IMODE((tmp_path / "x.parquet").stat().st_mode) == 0o600


def test_all_that_is_kept_of_a_workspace_is_its_owners_alone(writing):
    writing("reconcile")
    writing("sync", "stowage", "--draft")
    writing("change", "save", "1", "-o", "change.yaml")
    store = writing.folder / ".concordex"
    assert stat.S_IMODE(store.stat().st_mode) == 0o700
    open_to_others = [path for path in [*store.rglob("*"), writing.folder / "change.yaml"]
                      if path.is_file() and path.stat().st_mode & 0o077 and path.name != ".gitignore"]  # fmt: skip
    assert not open_to_others


def test_what_may_hold_a_one_time_code_is_its_owners_alone(lists):
    path = lists.folder / "dialects" / "net.yaml"
    write = "write: {keys: name, fields: {code: {to: code, once: true}}, create: {path: /x}}"
    path.write_text(
        path.read_text().replace("{record_id:", "{code: {from: $.code, type: text}, record_id:") + f"    {write}\n"
    )
    lists("pull", "net")
    for name, words, mode in (("all.csv", (), 0o600), ("names.csv", ("-c", "name"), 0o644)):
        lists("show", "devices", "--system", "net", "-o", name, *words)
        assert stat.S_IMODE((lists.folder / name).stat().st_mode) == mode


BOMB = "a0: &a0 [x, x, x, x, x, x, x, x, x]\n" + "".join(
    f"a{at}: &a{at} [{', '.join([f'*a{at - 1}'] * 9)}]\n" for at in range(1, 12)
)
HUGE = {
    "aliases": (BOMB, "with its aliases"),
    "within itself": ("format: 1\nx: &x [*x]\n", ""),
    "deep": (f"format: 1\nx: {'[' * 900}{']' * 900}\n", "is nested more than 100 deep"),
    "deeper": (f"format: 1\nx: {'[' * 200_000}\n", "is nested more than 100 deep"),
    "lists": (f"format: 1\nx:\n  {'- ' * 50_000}\n", "is nested more than 100 deep"),
    "long": ("format: 1\n" + "# remark\n" * 4_000_000, "is longer than"),
}


@pytest.mark.parametrize("kind", HUGE)
@pytest.mark.parametrize("file", ["concordex.yaml", "rulings.yaml", "dialects/net.yaml", "change.yaml", "x.yaml"])
def test_no_document_is_larger_than_it_looks(lists, kind, file):
    text, why = HUGE[kind]
    if kind in ("deeper", "lists", "long", "within itself") and file != "x.yaml":
        return  # they take their time to be written
    (lists.folder / file).write_text(text)
    words = {
        "change.yaml": ("change", "load", "change.yaml"),
        "x.yaml": ("push", "x.yaml", "--to", "inv", "--table", "devices"),
    }
    begun = time.monotonic()
    done = lists(*words.get(file, ("reconcile",) if file == "rulings.yaml" else ("pull",)), status=None)
    assert done.returncode in (1, 2, 4)
    assert why in done.stdout + done.stderr
    assert "of our own" not in done.stderr
    assert time.monotonic() - begun < 10


def hurt(path, how):
    """What disks do to files."""
    content = path.read_bytes()
    at = len(content) // 3
    flipped = content[:at] + bytes([content[at] ^ 1]) + content[at + 1 :]
    path.write_bytes({"cut": content[: len(content) // 2], "flipped": flipped}.get(how, b""))
    if how == "gone":
        path.unlink()


HURT = pytest.mark.parametrize("how", ["cut", "emptied", "gone", "flipped"])


@pytest.mark.parametrize(
    ("part", "how"),
    [("members", "cut"), ("members", "gone"), ("members", "flipped"), ("findings", "emptied"), ("findings", "flipped"),
     ("entries", "flipped"), ("weights", "flipped")],
)  # fmt: skip
def test_a_damaged_concordance_is_made_anew(lists, part, how):
    """What is read says what is wrong and what mends it; numbers of entries stay while their file does."""
    entry = lists.entry("net/2")
    (path,) = (lists.folder / ".concordex" / "concordance").rglob(f"{part}.parquet")
    hurt(path, how)
    for words in (("findings",), ("show", "entries"), ("explain", entry)):
        done = lists(*words, status=None)
        assert "of our own" not in done.stderr
        assert done.returncode in (0, 1, 3)
        assert done.returncode != 1 or "concordex reconcile" in done.stderr
    assert "concordex reconcile" in lists("mend").stdout
    lists("reconcile")
    if part != "members":
        assert lists.entry("net/2") == entry
    lists("findings", status=None)
    lists("reconcile")
    assert "stored here is intact" in lists("mend").stderr


@HURT
def test_a_damaged_snapshot_is_named_and_a_pull_mends_it(lists, how):
    (path,) = (lists.folder / ".concordex").rglob("net/**/*.parquet") or [None]
    hurt(path, how)
    for words in (("show", "devices"), ("reconcile",)):
        told = lists(*words, status=1).stderr
        assert path.name in told
        assert "concordex pull" in told
    lists("pull", "net")
    lists("reconcile")
    assert "sw-1" in lists("show", "devices").stdout


@HURT
@pytest.mark.parametrize("by", ["reconcile", "mend"])
def test_the_snapshot_before_a_damaged_one_stands_for_it(lists, how, by):
    lists("pull", "net")
    (_, path) = sorted((lists.folder / ".concordex").rglob("net/**/*.parquet"))
    hurt(path, how)
    told = lists(by)
    assert "stands for it; concordex pull net" in told.stdout + told.stderr
    lists("reconcile")
    assert "sw-1" in lists("show", "devices").stdout
    assert path.with_name(f"{path.name}.damaged").exists() == (how != "gone")
    assert "its file was found" in lists("pulls", "2").stdout


def test_what_was_left_out_is_not_forgotten_with_its_file(writing):
    """Else a sync would make once more what the workspace was told to leave out."""
    path = writing.folder / "concordex.yaml"
    path.write_text(path.read_text().replace("  stowage:\n", "  stowage:\n    leave_out: [{where: 'position = 3'}]\n"))
    writing("pull", "stowage")
    keys = max((writing.folder / ".concordex").rglob("stowage/devices/*.keys.parquet"))
    keys.unlink()
    assert "is gone" in writing("set", "stowage", "position = 1", "face=rear", status=1).stderr
    assert "stands for it" in writing("mend").stdout


def test_an_emptied_catalogue_is_told_and_nothing_is_numbered_anew_over_what_is_there(lists):
    shutil.copytree(lists.folder, lists.folder / "copy")  # which nobody holds open
    lists = Near(lists.folder / "copy")
    store = lists.folder / ".concordex"
    for one in store.glob("catalogue.sqlite-*"):
        one.unlink()
    (store / "catalogue.sqlite").write_bytes(b"")
    before = {path: path.read_bytes() for path in store.glob("snapshots/*/*/*.parquet")}
    for words in (("pulls",), ("show", "devices"), ("pull",), ("reconcile",)):
        assert "is empty, and there are snapshots" in lists(*words, status=1).stderr
    assert {path: path.read_bytes() for path in store.glob("snapshots/*/*/*.parquet")} == before
    assert "made anew" in lists("mend").stdout
    assert {row["name"] for row in json.loads(lists("show", "devices", "-f", "json").stdout)} >= {"sw-1", "old"}


@pytest.mark.parametrize("how", ["a page", "all of it", "gone"])
def test_a_damaged_catalogue_is_made_anew_of_what_is_left(lists, how):
    """What was pulled and decided stands; what cannot be known any more is not called whole."""
    shutil.copytree(lists.folder, lists.folder / "copy")  # which nobody holds open
    lists = Near(lists.folder / "copy")
    path = lists.folder / ".concordex" / "catalogue.sqlite"
    with sqlite3.connect(path) as catalogue:
        catalogue.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        at = catalogue.execute("SELECT rootpage FROM sqlite_master WHERE name = 'reconciliations'").fetchone()[0] - 1
        size = catalogue.execute("PRAGMA page_size").fetchone()[0]
    catalogue.close()
    content = path.read_bytes()
    path.write_bytes(
        content[: at * size] + b"\xff" * size + content[(at + 1) * size :] if how == "a page" else b"x" * len(content)
    )
    if how == "gone":
        path.unlink()
    if how != "gone":
        assert "concordex mend" in lists("reconcile", status=1).stderr
    told = lists("mend").stdout
    assert "made anew with" in told
    assert how == "gone" or list(path.parent.glob("catalogue.sqlite.damaged-*"))
    shown = json.loads(lists("show", "devices", "-f", "json").stdout)
    assert {one["system"] for one in shown} == {"net", "inv"}
    outcomes = {row["outcome"] for row in json.loads(lists("pulls", "1", "-f", "json").stdout)}
    assert outcomes == ({"whole"} if how == "a page" else {"unproven"})
    lists("pull")
    lists("reconcile")
    assert "stored here is intact" in lists("mend").stderr


@pytest.mark.parametrize("what", ["torn", "later"])
def test_a_catalogue_that_cannot_be_understood_is_told_and_left(lists, what):
    shutil.copytree(lists.folder, lists.folder / "copy")  # which nobody holds open
    lists = Near(lists.folder / "copy")
    path = lists.folder / ".concordex" / "catalogue.sqlite"
    if what == "torn":
        for one in path.parent.glob("catalogue.sqlite-*"):
            one.unlink()
        path.write_bytes(b"x" * path.stat().st_size)
    else:
        with sqlite3.connect(path) as catalogue:
            catalogue.execute("PRAGMA user_version = 99")
    for words in (("pulls",), ("pull",), ("show", "devices"), ("change", "list")):
        done = lists(*words, status=1)
        assert ("concordex mend" if what == "torn" else "a later release") in done.stderr
