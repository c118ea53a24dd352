"""What is kept: whole or not at all, and the newest that can be trusted."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from functools import partial
from hashlib import sha256
from threading import Thread

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from concordex.change.batches import halves, lists, stages
from concordex.change.reasons import Why, because, resting
from concordex.change.steps import Change, Outcome, Step
from concordex.cli.reasons import words
from concordex.errors import CalledWrongly, Stopped, StoreError
from concordex.store import snapshots
from concordex.store.catalogue import Catalogue, Snapshot
from concordex.store.journal import Journal
from concordex.store.locks import Locks
from concordex.store.sqlite import SqliteDatabase
from concordex.store.step_rows import PIECE
from concordex.unseen import UNSEEN


@pytest.fixture
def catalogue(tmp_path):
    return Catalogue(partial(SqliteDatabase, tmp_path / "catalogue.sqlite"), write=True)


def taken(pull: int, outcome: str, file: str | None = "f.parquet", system: str = "muster") -> Snapshot:
    return Snapshot(
        pull=pull, system=system, table="devices", taken=datetime.now(UTC), outcome=outcome, file=file,
        lost={"macs": 2}, notes=["a note"],
    )  # fmt: skip


VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**53), 2**53) | st.floats() | st.text(max_size=5) | st.dates()
    | st.datetimes(timezones=st.just(UTC)) | st.just("a pass: hunter22"),
    lambda inner: st.lists(inner, max_size=2) | st.tuples(inner) | st.dictionaries(st.text(max_size=2), inner),
    max_leaves=3,
)  # fmt: skip
FIELDS = st.dictionaries(st.sampled_from(["name", "serial", "macs"]), VALUES, max_size=2)


@given(key=FIELDS, desired=FIELDS, facts=FIELDS, again=FIELDS, left=FIELDS, tried=st.booleans(), whole=FIELDS)
def test_a_change_is_told_as_it_was_kept_whatever_its_steps_hold(key, desired, facts, again, left, tried, whole):
    database = Catalogue(lambda schema, **_: SqliteDatabase.empty(schema, "here"), write=True).database
    UNSEEN.know(["hunter22"])
    why = because(Why.NO_KEY, **facts) if facts else ()
    first = Step(
        number=1, table="gear", operation="create", label="a", key=key, desired=desired, why=why, again=again,
        left=left, tried=tried, whole=whole, sent=1.0 if tried else None, became=whole,
        state="held" if facts else "ready",
    )  # fmt: skip
    change = Change(kind="push", system="stowage", steps=(first, first.having(number=2, whole={}, key={"name": "b"})))
    told, read = Journal(database).keep(change), Journal(database).change(1)
    assert repr(told) == repr(read)
    assert "hunter22" not in repr(told)


def test_a_change_of_more_steps_than_are_read_at_a_time_is_kept_whole_and_in_order(catalogue):
    some = Step(number=0, table="gear", operation="create", label="a", key={"name": "a"})
    steps = tuple(some.having(number=at) for at in range(1, 2 * PIECE + 2))
    journal = Journal(catalogue.database)
    assert journal.keep(Change(kind="push", system="stowage", steps=steps)).steps == steps
    assert Journal(catalogue.database).change(1).steps == steps
    digest = journal.digest_of(1)
    catalogue.database.run("UPDATE steps SET label = 'b' WHERE number = ?", (2 * PIECE + 1,))
    assert journal.digest_of(1) != digest, "the last one counts"
    assert len(journal.verify().tampered) == 1


def test_no_system_gets_another_name_between_the_look_at_it_and_the_noting_of_its_concordance(
    catalogue, tmp_path, monkeypatch
):
    catalogue.add_snapshot(taken(catalogue.begin_pull(1), "whole"))
    (snapshot,) = catalogue.newest()
    sql, renamed = "UPDATE snapshots SET system = 'mustard'", []

    def rename() -> None:
        other = Catalogue(partial(SqliteDatabase, tmp_path / "catalogue.sqlite"), write=True)
        other.database.run(sql)
        renamed.append(True)

    rival, look = Thread(target=rename), catalogue.systems_of

    def looked(snapshots):
        found = look(snapshots)
        rival.start()
        rival.join(0.5)
        assert not renamed  # it waits
        return found

    monkeypatch.setattr(catalogue, "systems_of", looked)
    assert catalogue.add_reconciliation("f", [snapshot.id], {"muster"}, {})
    rival.join()
    monkeypatch.undo()
    assert not catalogue.add_reconciliation("f", [snapshot.id], {"muster"}, {})
    assert len(catalogue.reconciliations()) == 1


def test_the_newest_whole_snapshot_goes_before_a_newer_partial_one(catalogue):
    number = catalogue.begin_pull(1)
    for outcome, file in (("partial", "a"), ("whole", "b"), ("partial", "c"), ("failed", None)):
        catalogue.add_snapshot(taken(number, outcome, file))
    (newest,) = catalogue.newest("devices")
    assert (newest.file, newest.whole, newest.lost, newest.notes) == ("b", True, {"macs": 2}, ["a note"])
    assert catalogue.latest_of("muster")[0].outcome == "failed"


def test_a_partial_snapshot_is_better_than_none(catalogue):
    number = catalogue.begin_pull(1)
    catalogue.add_snapshot(taken(number, "partial", "a"))
    catalogue.add_snapshot(taken(number, "failed", None))
    assert [snapshot.file for snapshot in catalogue.newest()] == ["a"]
    catalogue.add_snapshot(taken(number, "failed", None, system="fairlead"))
    assert [snapshot.system for snapshot in catalogue.newest()] == ["muster"]


def test_a_block_that_fails_leaves_nothing(catalogue):
    number = catalogue.begin_pull(1)
    with pytest.raises(RuntimeError), catalogue.database.atomic():
        catalogue.end_pull(number, "whole")
        with catalogue.database.atomic():
            catalogue.end_pull(number, "partial")
        raise RuntimeError
    assert catalogue.pulls()[0]["outcome"] == "running"


def test_a_catalogue_opened_for_reading_cannot_be_written(tmp_path, catalogue):
    number = catalogue.begin_pull(1)
    reading = Catalogue(partial(SqliteDatabase, tmp_path / "catalogue.sqlite"), write=False)
    assert [row["id"] for row in reading.pulls()] == [number]
    with pytest.raises(StoreError, match="cannot be used"):
        reading.end_pull(number, "whole")


def test_a_catalogue_that_another_process_is_making_reads_as_empty(tmp_path):
    (tmp_path / "catalogue.sqlite").touch()
    reading = Catalogue(partial(SqliteDatabase, tmp_path / "catalogue.sqlite"), write=False)
    assert (reading.pulls(), reading.newest(), reading.reconciliation()) == ([], [], None)


def test_what_is_no_catalogue_is_told(tmp_path):
    (tmp_path / "catalogue.sqlite").write_text("not a database, and long enough to be looked at" * 50)
    with pytest.raises(StoreError, match="cannot be used"):
        Catalogue(partial(SqliteDatabase, tmp_path / "catalogue.sqlite"), write=True)


def test_a_snapshot_is_written_whole_and_read_as_one_table(tmp_path, catalogue):
    a = pl.DataFrame({"record_id": ["1"], "name": ["x"], "original": ["{}"]})
    b = pl.DataFrame({"record_id": ["2"], "serial": ["S"], "depth": [1.5], "original": ["{}"]})
    snapshots.write(a, tmp_path / "deep" / "a.parquet")
    snapshots.write(b, tmp_path / "b.parquet")
    found = [taken(1, "whole", "deep/a.parquet"), taken(1, "whole", "b.parquet", system="stowage")]
    frame = snapshots.Frames(tmp_path, lambda: catalogue, lambda: catalogue).together(found).collect()
    assert frame.columns == ["system", "record_id", "name", "serial", "depth", "original"]
    assert frame["system"].to_list() == ["muster", "stowage"]
    assert sorted(path.name for path in tmp_path.rglob("*.parquet*")) == ["a.parquet", "b.parquet"]


def test_a_snapshot_that_cannot_be_written_or_is_gone_is_told(tmp_path, catalogue):
    (tmp_path / "file").write_text("in the way")
    with pytest.raises(StoreError, match="cannot be written"):
        snapshots.write(pl.DataFrame({"a": [1]}), tmp_path / "file" / "a.parquet")
    with pytest.raises(StoreError, match="is gone"):
        snapshots.Frames(tmp_path, lambda: catalogue, lambda: catalogue).scan("a.parquet")


def step(number: int, table: str = "devices", operation: str = "create", **more) -> Step:
    return Step(number=number, table=table, operation=operation, label=f"n{number}", key={"name": f"n{number}"}, **more)


def test_a_journal_gives_back_what_was_written_down(catalogue):
    journal = Journal(catalogue.database)
    nameless = because(Why.REQUIRED, fields=["name"])
    steps = (step(1, desired={"name": "n1", "macs": ["a"]}), step(2, operation="report", state="held", why=nameless))
    change = journal.keep(Change(kind="sync", system="stowage", steps=steps))
    assert (change.number, change.state, change.steps) == (1, "draft", steps)
    journal.mark_sent(1, change.writes)
    assert [s.state for s in journal.change(1).steps] == ["sent", "held"]
    journal.settled(1, [Outcome(steps[0], "written", (), "77")])
    journal.settled(1, [Outcome(steps[0], "confirmed")])
    first = journal.change(1).steps[0]
    assert (first.state, first.record_id) == ("confirmed", "77")
    assert journal.changes()[0]["steps"] == {"confirmed": 1, "held": 1}
    with pytest.raises(CalledWrongly, match="no change 2"):
        journal.change(2)


def test_reasons_are_kept_without_secrets_whatever_those_are_and_whatever_stood_there_before(catalogue):
    """A password that is a word of ours, a key before a quote; words of an earlier release that look like a list."""
    UNSEEN.know(["gone", "error", "hunter2"])
    UNSEEN.know_parameters(["key"])
    journal = Journal(catalogue.database)
    journal.keep(Change(kind="sync", system="stowage", steps=(step(1), step(2), step(3))))
    lost = because(Why.ERROR, text='no answer from "https://h/x?key=abc", said hunter2')
    outcomes = [
        Outcome(step(1), "unknown", resting(Why.NOT_SEEN, lost)), Outcome(step(2), "held", because(Why.GONE)),
        Outcome(step(3), "held", because(Why.CHANGED, fields={"why": {"now": "hunter2", "before": "x"}})),
    ]  # fmt: skip
    journal.settled(1, outcomes)
    unseen, gone, changed = (one.why for one in journal.change(1).steps)
    assert words(unseen) == 'it may have arrived, and does not show: no answer from "https://h/x?key=***", said ***'
    assert gone == because(Why.GONE)
    assert changed[0].facts == {"fields": {"why": {"now": "***", "before": "x"}}}
    catalogue.database.run("UPDATE steps SET reason = '[Errno 5] no disk' WHERE number = 2")
    assert words(journal.change(1).steps[1].why) == "[Errno 5] no disk"


def test_a_lock_falls_with_the_process_that_holds_it_and_says_whose_it_is(tmp_path):
    """Whatever number the process of another run had: only a lock that is held now counts."""
    locks = Locks(tmp_path)
    with locks.held("stowage", 3, "ana"):
        assert locks.holder("stowage")["change"] == 3
        told = pytest.raises(Stopped, match=r"change 3 of ana, since .*process \d+")
        with told, Locks(tmp_path).held("stowage", 4, "b"):
            pass
        with Locks(tmp_path).held("purser", 4, "b"):
            pass
    assert locks.holder("stowage") is None
    (tmp_path / "locks" / "stowage.holder").write_text('{"process": 1, "change": 3}')  # of one that was killed
    assert locks.holder("stowage") is None


def test_steps_are_cut_into_stages_lists_and_halves():
    steps = [step(1, "sites"), step(2, "makers"), step(3), step(4), step(5), step(6, operation="update")]
    assert [[s.number for s in part] for part in stages(steps)] == [[1], [2], [3, 4, 5], [6]]
    assert [[s.number for s in part] for part in lists(steps, 4)] == [[1, 2, 3, 4], [5, 6]]
    assert [[s.number for s in part] for part in halves(steps[:3])] == [[1, 2], [3]]
    assert [len(part) for part in halves(steps[:1])] == [1, 0]


def test_what_is_written_beside_other_work_is_there_whole_or_not_at_all(catalogue, tmp_path):
    frames = snapshots.Frames(tmp_path, lambda: catalogue, lambda: catalogue)
    first, second = pl.DataFrame({"a": [1]}), pl.DataFrame({"a": [2, 3]})

    def interrupted() -> None:
        with frames.passing("made") as keep:
            keep("a", first)
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        interrupted()
    assert not (tmp_path / "made").exists()
    assert catalogue.digest_of("made/a.parquet") is None
    (tmp_path / "taken").write_text("a file where a folder should be")
    with pytest.raises(StoreError, match="cannot be written"), frames.passing("taken") as keep:
        keep("a", first)
    with frames.passing("made") as keep:
        keep("a", first)
        keep("a", second)
    assert frames.damage("made/a.parquet") is None
    assert frames.scan("made/a.parquet").collect().equals(second)


def test_a_file_of_an_earlier_release_is_held_against_the_digest_that_it_had(catalogue, tmp_path):
    frames = snapshots.Frames(tmp_path, lambda: catalogue, lambda: catalogue)
    for name in ("sound.parquet", "other.parquet"):
        frames.write(pl.DataFrame({"a": [1]}), name)
    noted = sha256((tmp_path / "sound.parquet").read_bytes()).hexdigest()
    for name in ("sound.parquet", "other.parquet"):
        catalogue.note_file(name, noted)
    frames.write(pl.DataFrame({"a": [2]}), "new.parquet")
    (tmp_path / "other.parquet").write_bytes((tmp_path / "new.parquet").read_bytes())
    frames.vet(["sound.parquet", "other.parquet", "gone.parquet"])
    assert [frames.damage(name) for name in ("sound.parquet", "other.parquet")] == [None, "damaged"]


def test_many_who_open_a_new_catalogue_at_one_time_all_can(tmp_path):
    """Each finds that columns lack, and one of them adds them."""
    for number in range(12):
        opened = partial(SqliteDatabase, tmp_path / f"{number}.sqlite")
        with ThreadPoolExecutor(6) as several:
            made = list(several.map(lambda _, opened=opened: Catalogue(opened, write=True), range(6)))
        assert [catalogue.runs.left("round", "") for catalogue in made] == [None] * 6
