"""A store that several machines share: a catalogue in PostgreSQL, snapshots in a folder or an object store."""

from __future__ import annotations

import json
import shutil
import signal
import threading
import time
from collections.abc import Callable
from functools import partial
from itertools import count
from pathlib import Path

import pytest

from concordex.errors import StoreError
from concordex.store.catalogue import Catalogue
from concordex.store.postgresql import Server, opened
from concordex.store.shelf import _Shelf
from tests.conftest import Near, Shell, interrupt
from tests.servers import Between
from tests.spite import spiteful
from tests.stories.test_once import pushed, states

_schemas = count(1)


@pytest.fixture
def schema(tmp_path) -> str:
    return f"w{next(_schemas)}_{abs(hash(str(tmp_path))) % 10**9}"


@pytest.fixture
def place(postgres, schema, tmp_path) -> list[str]:
    """Where a test's own store is to be, as the words of `store move`."""
    return ["--catalogue", postgres.url, "--schema", schema, "--snapshots", str(tmp_path / "shelf")]


def beside(shell: Shell, folder: Path) -> Near:
    """The same workspace on another machine, which has the files that people keep, and nothing of the store."""
    shutil.copytree(shell.folder, folder, ignore=shutil.ignore_patterns(".concordex"))
    return Near(folder)


def seen(shell: Shell) -> str:
    return shell("show", "devices", "-f", "json").stdout


def shared(shell: Shell, postgres, schema: str, shelf: Path) -> None:
    """Let a workspace that has no store yet have a shared one."""
    store = f"store: {{catalogue: '{postgres.url}', schema: {schema}, snapshots: {{at: '{shelf}'}}}}\n"
    shell.config(lambda text: text + store)


def until(holds: Callable[[], object], seconds: float = 60) -> None:
    ends = time.monotonic() + seconds
    while not holds():
        assert time.monotonic() < ends, "it never came"
        time.sleep(0.05)


def test_a_store_that_is_moved_is_all_there_and_everything_goes_on(writing, place, tmp_path):
    """The same devices, pulls, changes, seals and concordance; another machine sees them too; and back again."""
    writing("reconcile")
    writing("set", "stowage", "kind = router", "comment=night desk", "--draft")
    before = [seen(writing), writing("pulls", "-f", "json").stdout, writing("change", "show", "1", "-f", "json").stdout]
    seal = writing("journal", "verify", "-f", "json").stdout
    assert "rows are in postgresql://" in writing("store", "move", *place).stderr
    assert not (writing.folder / ".concordex" / "catalogue.sqlite").exists()
    assert next((writing.folder / ".concordex").glob("catalogue.sqlite.moved-*"))
    assert "there already" in writing("store", "move", *place, status=2).stderr
    other = beside(writing, tmp_path / "other")
    for shell in (writing, other):
        now = [seen(shell), shell("pulls", "-f", "json").stdout, shell("change", "show", "1", "-f", "json").stdout]
        assert now == before
        assert shell("journal", "verify", "-f", "json").stdout == seal
    writing("pull", "fairlead")
    assert [row["pull"] for row in json.loads(other("pulls", "-f", "json").stdout)] == [2, 1]
    assert seen(other) == seen(writing)
    other("change", "run", "1", "--yes", "--count", str(len(json.loads(before[2]))))
    assert "done" in writing("change", "list").stdout
    assert "0 wrong" in other("doctor").stderr
    assert "shelf" in other("store", "show").stdout
    other("backup", str(tmp_path / "b.tar"))
    other("backup", str(tmp_path / "b.tar"), "--check")
    now = seen(other)
    writing("store", "move", "--here")
    assert seen(writing) == now
    assert "1 change" in writing("journal", "verify").stderr
    assert "nothing has been pulled yet" in other("pulls", status=2).stderr


def test_a_move_that_was_cut_off_is_gone_on_with_and_one_into_something_else_is_refused(
    writing, place, schema, postgres, tmp_path
):
    before = seen(writing)
    shelf = tmp_path / "shelf"
    process = Shell(writing.folder).begin("store", "move", *place)
    interrupt(process, lambda: len(list(shelf.rglob("*.parquet"))) > 2, signal.SIGKILL)
    assert "\nstore:" not in (writing.folder / "concordex.yaml").read_text()
    assert seen(writing) == before
    some = next(shelf.rglob("*.parquet"))
    some.write_bytes(some.read_bytes()[::-1])  # as long as it was, and something else
    assert "were there already" in writing("store", "move", *place).stderr
    assert seen(beside(writing, tmp_path / "other")) == before
    stranger = Near(shutil.copytree(writing.folder, tmp_path / "stranger"))
    stranger.config(lambda text: text[: text.index("store:")])
    stranger("pull", "stowage")
    assert "is not empty" in stranger("store", "move", *place, status=1).stderr
    assert len(postgres.ask(f"SELECT id FROM {schema}.pulls")) == 1


def test_a_store_is_not_moved_while_something_runs(tmp_path, serve, place):
    shell, spite = spiteful(tmp_path, serve)
    spite.took = 2.0
    pushed(shell, ["lamp-1", "lamp-2"], "--draft")
    running = Shell(shell.folder).begin("change", "run", "1", "--yes")
    until(lambda: spite.asked["POST"])
    assert "change 1 runs" in shell("store", "move", *place, status=5).stderr
    running.communicate()


def test_what_is_pulled_while_the_database_is_restarted_is_whole_and_a_change_is_sent_once(
    tmp_path, serve, postgres, schema
):
    shell, spite = spiteful(tmp_path, serve)
    shared(shell, postgres, schema, tmp_path / "shelf")
    shell("pull")
    spite.took = 0.4
    pushed(shell, [f"lamp-{at}" for at in range(12)], "--draft")
    running = Shell(shell.folder).begin("change", "run", "1", "--yes")
    until(lambda: spite.asked["POST"] > 2)
    postgres.stop()
    time.sleep(1)
    assert spite.asked["POST"] < 12  # nothing leaves that is not written down
    postgres.start()
    _, err = running.communicate(timeout=90)
    assert running.returncode == 0, err
    assert states(shell) == ["confirmed"] * 12
    assert set(spite.labels().values()) == {1}
    assert "all as they were written" in shell("journal", "verify").stderr


def test_a_database_that_does_not_come_back_is_said_and_nothing_more_leaves(tmp_path, serve, schema, monkeypatch):
    shell, spite = spiteful(tmp_path, serve)
    monkeypatch.setattr("concordex.store.postgresql.FIRST", 0.5)
    store = "store: {catalogue: 'postgresql://keeper@127.0.0.1:1/x', snapshots: {at: /tmp/none}}\n"
    shell.config(lambda text: text + store)
    told = pushed(shell, ["lamp-1"], status=1).stderr
    assert "cannot be reached" in told
    assert "doctor" in told
    assert not spite.asked["POST"]
    assert "cannot be reached" in shell("doctor", status=3).stdout


def test_two_machines_run_one_change_once(tmp_path, serve, postgres, schema):
    """One of them is told who has it; who waits finds it done; whoever is killed leaves it to the other at once."""
    shell, spite = spiteful(tmp_path, serve, many=10)
    shared(shell, postgres, schema, tmp_path / "shelf")
    shell("pull")
    pushed(shell, [f"lamp-{at}" for at in range(40)], "--draft")
    other = beside(shell, tmp_path / "other")
    spite.took = 4.0  # both have begun before one of them is done, however slowly
    words = ("change", "run", "1", "--yes")
    both = [Shell(folder).begin(*words) for folder in (shell.folder, other.folder)]
    ended = [(one.communicate(), one.returncode) for one in both]
    assert sorted(code for _, code in ended) == [0, 5], ended
    assert "spite is being written to by change 1 of" in next(err for (_, err), code in ended if code == 5)
    assert set(spite.labels().values()) == {1}
    spite.took = 1.0
    pushed(shell, [f"more-{at}" for at in range(40)], "--draft")
    running = Shell(shell.folder).begin("change", "run", "2", "--yes")
    until(lambda: spite.asked["POST"] == 8)  # all lists have arrived: of one that had not, nobody would know that
    running.kill()
    running.communicate()
    other("change", "resume", "2", "--wait", "20s")
    assert states(other, 2) == ["confirmed"] * 40
    assert set(spite.labels().values()) == {1}


def test_who_lost_the_lock_with_the_connection_sends_nothing_more(tmp_path, serve, postgres, schema):
    """The database ends all connections, and another machine takes the system before the first one is back."""
    shell, spite = spiteful(tmp_path, serve)
    shared(shell, postgres, schema, tmp_path / "shelf")
    shell("pull")
    pushed(shell, [f"lamp-{at}" for at in range(6)], "--draft")
    spite.took = 1.5
    running = Shell(shell.folder).begin("change", "run", "1", "--yes")
    until(lambda: spite.asked["POST"])
    server = Server(url=postgres.url, schema=schema)
    with server.connect() as rival:  # it waits for the lock, as whoever would go on in the place of a dead one
        postgres.ask(
            "SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory'"
            f" AND ((classid::bigint << 32) | objid::bigint) = {server.key('system spite')}"
        )
        until(lambda: rival.execute("SELECT pg_try_advisory_lock(%s)", (server.key("system spite"),)).fetchone()[0])
        rival.execute("UPDATE holders SET token = 'rival' WHERE name = 'system spite'")
        sent = spite.asked["POST"]
        _, err = running.communicate(timeout=60)
    assert running.returncode == 5, err
    assert "spite has gone to another process" in err
    assert spite.asked["POST"] <= sent + 1
    shell("change", "resume", "1", "--wait", "20s")
    assert set(spite.labels().values()) == {1}
    assert len(spite.labels()) == 6


def test_a_pull_whose_machine_died_is_seen_to_have_stopped_and_left_nothing(shell, harbour, postgres, schema, tmp_path):
    shared(shell, postgres, schema, tmp_path / "shelf")
    other = beside(shell, tmp_path / "other")
    harbour.named("muster").faults.add("slow", seconds=0.5)
    pulling = Shell(shell.folder).begin("pull", "muster")
    until(lambda: postgres.ask("SELECT 1 FROM pg_namespace WHERE nspname = '" + schema + "'"))
    until(lambda: "running" in other("pulls", status=None).stdout)
    pulling.kill()
    pulling.communicate()
    until(lambda: "stopped" in other("pulls").stdout, 10)
    harbour.named("muster").faults.clear()
    other("pull", "muster")
    assert "whole" in shell("pulls").stdout
    assert {path.name for path in (tmp_path / "shelf").rglob("*.new")} == set()


def in_objects(shell: Shell, postgres, schema: str, address: str) -> None:
    at = f"{{at: 's3://snapshots/{schema}', endpoint: '{address}', key_id: watch, key: 'file:../key.secret'}}"
    (shell.folder.parent / "key.secret").write_text("for the object store alone\n")
    shell.config(lambda text: text + f"store: {{catalogue: '{postgres.url}', schema: {schema}, snapshots: {at}}}\n")


def test_snapshots_in_an_object_store_come_and_go_whole_whatever_it_answers(
    shell, postgres, schema, objects, tmp_path, monkeypatch
):
    """503 for a while, half an object, one that is said to be there and is not: tried again, or said; never less."""
    monkeypatch.setattr("concordex.store.shelf._WAIT", 0.02)
    store = Between(objects)
    in_objects(shell, postgres, schema, store.url)
    calls = count()
    store.meets = lambda method, path: "503" if method == "PUT" and next(calls) < 3 else ""
    shell("pull", "stowage")
    before = seen(shell)
    shutil.copy(tmp_path / "key.secret", tmp_path / "key")
    other = beside(shell, tmp_path / "other")
    halves = count()
    store.meets = lambda method, path: "half" if method == "GET" and "devices" in path and next(halves) < 1 else ""
    assert seen(other) == before
    store.meets = lambda method, path: "half" if method == "GET" and "devices" in path else ""
    shutil.rmtree(other.folder / ".concordex")
    told = other("show", "devices", status=1).stderr
    assert "damaged" in told or "cannot be used" in told, told
    store.meets = lambda method, path: "lost" if method == "PUT" and "/devices/" in path else ""
    told = shell("pull", "stowage", status=None)
    assert told.returncode == 1, told.stdout
    assert "cannot be used" in told.stderr
    assert "arrived" in told.stderr
    store.meets = lambda *_: ""
    assert seen(other) == before  # what was there before still is, and nothing names what is not
    assert "0 wrong" in other("doctor").stderr.replace("1 wrong", "")


def test_an_object_store_that_refuses_us_is_said_at_once(shell, postgres, schema, objects):
    in_objects(shell, postgres, schema, objects)
    shell.config(lambda text: text.replace("s3://snapshots/", "s3://nowhere/"))
    began = time.monotonic()
    told = shell("pull", "stowage", status=1).stderr
    assert "cannot be used" in told
    assert "NoSuchBucket" in told or "bucket does not exist" in told
    assert time.monotonic() - began < 60
    assert "for the object store alone" not in told


def test_two_that_examine_a_store_at_one_time_are_not_in_each_others_way(writing, place, monkeypatch):
    """Though both are the first process of their containers, and so bear one number."""
    writing("store", "move", *place)
    put, others = _Shelf.put, [1]

    def put_and_another(self, file, name):
        put(self, file, name)
        if others and others.pop():
            assert "0 wrong" in writing("doctor").stderr

    monkeypatch.setattr(_Shelf, "put", put_and_another)
    assert "0 wrong" in writing("doctor").stderr
    assert not others


def test_a_text_that_the_database_cannot_hold_is_said_and_nothing_is_half_there(postgres, schema):
    catalogue = Catalogue(partial(opened, Server(url=postgres.url, schema=schema)), write=True)
    with pytest.raises(StoreError, match="cannot be used"), catalogue.database.atomic():
        number = catalogue.begin_pull(1)
        catalogue.end_pull(number, "who\0le")
    assert catalogue.pulls() == []


def test_a_hundred_numbers_drawn_at_once_are_a_hundred(postgres, schema):
    server = Server(url=postgres.url, schema=schema)
    first = Catalogue(partial(opened, server), write=True)
    drawn: list[int] = []

    def draw() -> None:
        own = Catalogue(partial(opened, server), write=True)
        drawn.extend(own.begin_pull(1) for _ in range(25))
        own.database.close()

    several = [threading.Thread(target=draw) for _ in range(4)]
    for one in several:
        one.start()
    for one in several:
        one.join()
    assert len(set(drawn)) == 100
    assert len(first.pulls(500)) == 100


@pytest.mark.parametrize(
    ("store", "told"),
    [
        ("{catalogue: 'postgresql://a:word@h/d', snapshots: {at: x}}", "holds a password"),
        ("{catalogue: 'postgresql://a@h/d'}", "is missing: who shares a catalogue shares what it names"),
        ("{snapshots: {at: 'ftp://x'}}", "is neither a folder nor s3"),
        ("{snapshots: {at: 's3:///x'}}", "names no bucket"),
        ("{snapshots: {at: x, endpoint: 'http://h'}}", "is a folder, to which nobody signs in"),
        ("{snapshots: {at: 's3://b', key_id: x}}", "say both"),
        ("{snapshots: {at: 's3://b', key_id: x, key: open}}", "is a secret"),
        ("{catalogue: 'mysql://h/d', snapshots: {at: x}}", "store.catalogue"),
        ("{catalogue: 'postgresql://a@h/d', schema: 'x; drop', snapshots: {at: x}}", "store.schema"),
    ],
)
def test_what_a_store_cannot_be_is_told_with_its_line(shell, store, told):
    shell.config(lambda text: text + f"store: {store}\n")
    assert told in shell("pulls", status=1).stderr
