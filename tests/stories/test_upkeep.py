"""What is wrong is told with what mends it; a workspace comes back as it was, or not at all; a journal tells."""

from __future__ import annotations

import io
import json
import os
import sqlite3
import tarfile
import threading
import time
from pathlib import Path

import httpx
import pytest

from concordex.cli.scraped import serving
from concordex.work.upkeep import examine
from tests.conftest import Near

LAMPS = """
format: 1
name: lamps
title: Lamps
credentials: {word: {secret: true}}
sign_in: {by: header, header: Lamp-Word, value: "{word}"}
tables:
  devices:
    read: {path: /lamps, records: lamps, complete: the guide says so}
    fields: {record_id: id, name: label}
    write:
      keys: name
      fields: {name: {to: label}}
      create: {path: /lamps}
      update: {path: "/lamps/{record_id}"}
"""


@pytest.fixture
def house(tmp_path, serve):
    """A workspace with a pull and a change that was run; its secret lies in it."""
    lamps = {"1": {"id": "1", "label": "a"}}

    def answer(method, path, _query, body, _headers):
        if method == "POST":
            lamps[str(len(lamps) + 1)] = {"id": str(len(lamps) + 1), **body}
            return 201, lamps[str(len(lamps))]
        return 200, {"lamps": list(lamps.values())}

    root = tmp_path / "house"
    (root / "dialects").mkdir(parents=True)
    (root / "dialects/lamps.yaml").write_text(LAMPS)
    (root / "word.secret").write_text("oil-and-wick\n")
    (root / "word.secret").chmod(0o600)
    (root / "concordex.yaml").write_text(
        "format: 1\nsystems:\n"
        f"  a: {{dialect: lamps, url: '{serve(answer).url}', credentials: {{word: 'file:word.secret'}}}}\n"
    )
    (root / "rows.json").write_text('[{"name": "b"}, {"name": "c"}]')
    shell = Near(root)
    shell("pull")
    shell("push", "rows.json", "--to", "a", "--table", "devices", "--yes")
    return shell


def examined(shell: Near, status: int = 0) -> dict[tuple[str, str], dict]:
    rows = json.loads(shell("doctor", "--all", "-f", "json", status=status).stdout)
    return {(row["part"], row["what"]): row for row in rows}


def test_a_doctor_finds_nothing_where_all_is_well_and_needs_no_workspace(house, tmp_path):
    assert {row["result"] for row in examined(house).values()} == {"ok"}
    assert "all is well" in house("doctor").stderr
    assert "there is none here" in Near(tmp_path)("doctor", "--all", env={"HOME": str(tmp_path)}).stdout


def test_each_ill_is_told_with_what_mends_it(house, monkeypatch):
    (house.folder / "word.secret").chmod(0o644)
    house.config(lambda text: text + "jobs: {often: {every: 1h, steps: [pull nobody]}}\n")
    house("job", "run", "often", status=1)
    with sqlite3.connect(house.folder / ".concordex/catalogue.sqlite") as store:
        store.execute("UPDATE steps SET state = 'sent' WHERE number = 1")
        store.execute("UPDATE changes SET state = 'stopped'")
        store.execute("UPDATE snapshots SET taken = '2999-01-01T00:00:00+00:00'")
        (file,) = store.execute("SELECT file FROM snapshots WHERE id = 1").fetchone()
    (house.folder / ".concordex" / file).unlink()
    (house.folder / ".concordex").chmod(0o755)
    monkeypatch.setattr(examine, "_LEAST_FREE", 10**18)
    found = examined(house, 3)
    ills = {
        ("secrets", "file:word.secret for a"): "chmod 600", ("store", "snapshots"): "concordex mend",
        ("store", "who may read"): "chmod 700", ("changes", "change 1 of a"): "concordex change resume 1",
        ("jobs", "who runs them"): "concordex work", ("jobs", "often"): "concordex job history 1",
        ("time", "clock"): "set the clock right", ("disk", "room"): "keep:",
    }  # fmt: skip
    for ill, mend in ills.items():
        assert found[ill]["result"] != "ok", ill
        assert mend in found[ill]["mend"], ill
    (house.folder / "word.secret").unlink()
    (house.folder / "dialects/lamps.yaml").write_text("format: 1\n")
    found = examined(house, 3)
    assert found["secrets", "file:word.secret for a"]["seen"] == "cannot be read"
    assert found["workspace", "dialect of a"]["result"] == "wrong"
    for log in (house.folder / ".concordex").glob("catalogue.sqlite-*"):
        log.unlink()
    (house.folder / ".concordex/catalogue.sqlite").write_bytes(b"SQLite format 3\0" + b"x" * 5000)
    assert examined(house, 3)["store", "catalogue"]["mend"] == "concordex mend"
    (house.folder / "concordex.yaml").write_text("format: [\n")
    assert examined(house, 3)["workspace", "all of it"]["result"] == "wrong"


def contents(root: Path) -> dict[str, bytes]:
    return {str(file.relative_to(root)): file.read_bytes() for file in root.rglob("*") if file.is_file()}


def test_a_workspace_comes_back_as_it_was_without_its_secrets(house, tmp_path):
    told = house("backup", "../night.tar").stderr
    assert "left out: word.secret: a secret" in told
    assert (tmp_path / "night.tar").stat().st_mode & 0o077 == 0
    assert "every byte is as it was" in house("backup", "../night.tar", "--check").stderr
    assert "is there already" in house("backup", "../night.tar", status=2).stderr
    before = house("show", "devices", "-f", "json").stdout, house("change", "show", "1", "-f", "json").stdout
    house("restore", "../night.tar", "../again")
    again = Near(tmp_path / "again")
    assert (again("show", "devices", "-f", "json").stdout, again("change", "show", "1", "-f", "json").stdout) == before
    again("journal", "verify")
    assert b"oil-and-wick" not in b"".join(contents(tmp_path / "again").values())
    same = {name for name, body in contents(tmp_path / "again").items() if contents(house.folder).get(name) == body}
    assert {"concordex.yaml", "dialects/lamps.yaml", "rows.json"} < same
    assert "not empty" in house("restore", "../night.tar", "../again", status=2).stderr


def test_a_backup_is_whole_though_others_pull_and_forget_meanwhile(house, tmp_path):
    house.config(lambda text: text + "keep: {snapshots: 0s, least: 1}\n")
    stop = threading.Event()

    def pulling() -> None:
        while not stop.is_set():
            house.workspace.pull()

    others = threading.Thread(target=pulling)
    others.start()
    try:
        for number in range(4):
            house.workspace.upkeep.back_up(tmp_path / f"{number}.tar")
            time.sleep(0.05)
    finally:
        stop.set()
        others.join()
    for number in range(4):
        house("restore", f"../{number}.tar", f"../again-{number}")
        again = Near(tmp_path / f"again-{number}").workspace
        assert all((again.store / shot.file).is_file() for shot in again.memory.newest())
        assert again.show("devices").frame.height == 3


def harmed(whole: bytes, harm: str) -> bytes:
    """A backup that a disk, or somebody, has altered."""
    at = whole.index(b"format: 1")
    if harm in ("cut", "flip", "empty"):
        return {"cut": whole[: len(whole) // 2], "flip": whole[:at] + b"F" + whole[at + 1 :], "empty": b""}[harm]
    out = io.BytesIO()
    with tarfile.open(fileobj=io.BytesIO(whole)) as old, tarfile.open(fileobj=out, mode="w") as tar:
        for entry in old:
            if harm != "other" or entry.name != "concordex-backup.json":
                tar.addfile(entry, old.extractfile(entry))
        extra = tarfile.TarInfo({"outside": "../out.txt"}.get(harm, "more.txt"))
        if harm == "link":
            extra.type, extra.linkname = tarfile.SYMTYPE, "/etc/passwd"
        tar.addfile(extra, io.BytesIO())
    return out.getvalue()


def test_a_backup_that_is_not_as_it_was_written_brings_nothing_back(house, tmp_path):
    house("backup", "../night.tar")
    whole = (tmp_path / "night.tar").read_bytes()
    for harm in ("cut", "flip", "other", "outside", "link", "more", "empty"):
        (tmp_path / "bad.tar").write_bytes(harmed(whole, harm))
        for words in (("backup", "../bad.tar", "--check"), ("restore", "../bad.tar", "../again")):
            assert "concordex: " in house(*words, status=1).stderr, harm
        assert not (tmp_path / "again").exists()
        assert not [path for path in tmp_path.iterdir() if path.name.startswith((".", "out"))]


def test_a_full_disk_leaves_nothing_of_a_backup(house, tmp_path, monkeypatch):
    def full(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    assert "nothing is left of it" in house("backup", "../night.tar", status=1).stderr
    assert not [path for path in tmp_path.iterdir() if "night" in path.name]


TAMPERING = {
    "a step": ("UPDATE steps SET state = 'refused' WHERE number = 2", "change 1: it is not as it was noted"),
    "a body": ("UPDATE steps SET body = replace(body, '\"b\"', '\"x\"')", "change 1: it is not as it was noted"),
    "who": ("UPDATE changes SET about = '{}'", "change 1: it is not as it was noted"),
    "a step that is gone": ("DELETE FROM steps WHERE number = 1", "change 1: it is not as it was noted"),
    "a change that is gone": ("DELETE FROM changes", "change 1: it is gone"),
    "a change put in": ("INSERT INTO changes (made, kind, system, state) VALUES ('2999', 'x', 'a', 'done')",
                        "change 2: nothing notes that it was made"),
    "a link": ("UPDATE links SET what = 'dropped' WHERE id = 2", "link 2: it is not as it was written"),
    "a link that is gone": ("DELETE FROM links WHERE id = 2", "link 3: what was written before it is gone"),
    "links that are gone": ("DELETE FROM links WHERE id < 3", "link 3: what was written before it is gone"),
}  # fmt: skip


def test_a_journal_that_was_edited_by_hand_says_so(house):
    assert "all as they were written" in house("journal", "verify").stderr
    with sqlite3.connect(house.folder / ".concordex/catalogue.sqlite") as store:
        store.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    whole = (house.folder / ".concordex/catalogue.sqlite").read_bytes()
    for how, (sql, told) in TAMPERING.items():
        for log in (house.folder / ".concordex").glob("catalogue.sqlite*"):
            log.unlink()
        (house.folder / ".concordex/catalogue.sqlite").write_bytes(whole)
        with sqlite3.connect(house.folder / ".concordex/catalogue.sqlite") as store:
            store.execute(sql)
        rows = json.loads(house("journal", "verify", "-f", "json", status=3).stdout)
        assert any(told in f"{row['where']}: {row['what']}" for row in rows), (how, rows)


def test_a_chain_that_was_made_anew_lacks_the_seal_that_was_noted_elsewhere(house):
    noted = house("journal", "verify").stderr.split()[-1]
    house("journal", "verify", "--seal", noted)
    here = house.workspace
    here.catalogue.database.run("UPDATE steps SET state = 'refused' WHERE number = 2")
    here.catalogue.database.run("DELETE FROM links")
    here.journal.end(1, "done")  # whoever can do that, can write the chain
    house("journal", "verify")
    assert "noted elsewhere" in house("journal", "verify", "--seal", noted, status=3).stdout


def test_what_a_killed_process_left_is_not_called_sealed_until_it_is_taken_up(house):
    here = house.workspace
    here.catalogue.database.run("UPDATE changes SET state = 'stopped'")
    here.journal.begin(1, 1)
    told = house("journal", "verify").stderr
    assert "not sealed: change 1: it runs, or its process was killed" in told
    assert "0 changes sealed" in told
    assert json.loads(house("journal", "list", "--by", "nobody", "-f", "json").stdout) == []
    assert len(json.loads(house("journal", "list", "-s", "a", "-f", "json").stdout)) == 2


def test_the_work_is_told_to_a_scraper_and_what_is_told_of_it_as_documents(house):
    from prometheus_client.openmetrics.parser import text_string_to_metric_families as parsed

    house.config(lambda text: text + "jobs: {often: {every: 1h, steps: [pulls]}}\n")
    house("job", "run", "often")
    told = {family.name: family.samples for family in parsed(house("metrics").stdout)}
    ended = [sample.labels for sample in told["concordex_job_last_outcome"] if sample.value == 1]
    assert ended == [{"job": "often", "outcome": "done"}]
    assert told["concordex_system_failing"][0].value == 0
    assert told["concordex_changes"][0].labels == {"state": "done"}
    assert told["concordex_job_next_seconds"][0].value > time.time()
    house("metrics", "-o", "work.prom")
    assert (house.folder / "work.prom").read_text().endswith("# EOF\n")
    with serving(0, lambda: house("metrics").stdout) as address:
        answer = httpx.get(address)
        assert answer.headers["content-type"].startswith("application/openmetrics-text")
        assert "concordex_job_last_outcome" in answer.text
        assert httpx.get(f"{address}/other").status_code == 404
    lines = house("--log", "json", "system", "set", "a", "concurrency=x", status=1).stderr.splitlines()
    assert json.loads(lines[0])["level"] == "error"
