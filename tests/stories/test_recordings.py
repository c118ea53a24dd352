"""Recordings: what systems said, without a secret, and on demand with other names; read again without a network."""

from __future__ import annotations

import json
import re
import shutil

import pytest

from concordex.insight.anonymous import Disguise
from tests.conftest import Near, make_workspace
from tests.lamplight import RECORDS

DIALECT = """
format: 1
name: lamps
title: Lamps
credentials: {user: {}, word: {secret: true}}
sign_in:
  by: call
  call: {path: /in, json: {u: "{user}", p: "{word}"}}
  gives: {t: ticket}
  carries: {headers: {X-Lamp: "{t}"}}
tables:
  devices:
    read: {path: /lamps, records: lamps, total: n, pages: {by: offset, offset: from, limit: many, size: 10}}
    fields: {record_id: id, name: label}
"""


def lamps(method, path, query, _body, headers):
    if path == "/in":
        return 200, {"ticket": "tick-77aa12ff"}
    if headers.get("X-Lamp") != "tick-77aa12ff":
        return 401, {"why": "who is it?"}
    at = int(query.get("from", 0))
    return 200, {"lamps": RECORDS[at : at + int(query.get("many", 10))], "n": len(RECORDS), "echo": headers["X-Lamp"]}


@pytest.fixture
def shell(tmp_path, serve):
    (tmp_path / "dialects").mkdir()
    (tmp_path / "dialects/lamps.yaml").write_text(DIALECT)
    (tmp_path / "concordex.yaml").write_text(
        f"format: 1\nsystems:\n  lamps: {{dialect: lamps, url: '{serve(lamps).url}',"
        " credentials: {user: keeper, word: 'env:LAMP_WORD'}}\n"
    )
    return Near(tmp_path)


def test_what_signing_in_gave_is_nowhere_in_a_recording(shell):
    """Also where the system repeats it in its answers; and the file is one that any program reads."""
    shell("pull", "--record", "rec", env={"LAMP_WORD": "oil-and-wick"})
    text = (shell.folder / "rec/lamps.har").read_text()
    assert "oil-and-wick" not in text
    assert "tick-77aa12ff" not in text
    log = json.loads(text)["log"]
    assert log["version"] == "1.2"
    assert all(
        {"request", "response", "startedDateTime", "time", "cache", "timings"} <= entry.keys()
        for entry in log["entries"]
    )
    assert shell("dialect", "trace", "rec/lamps.har").returncode == 0
    assert "holds something already" in shell("pull", "--record", "rec", status=2).stderr


def test_a_dialect_is_mended_and_tested_on_its_recording(shell):
    """Another field is told as another; what was not asked then is no answer, and never an empty list."""
    shell("pull", "--record", "rec", env={"LAMP_WORD": "oil-and-wick"})
    assert "ok" in shell("dialect", "check", "lamps", "--against", "rec").stdout
    tests = shell.folder / "dialects/tests"
    tests.mkdir()
    shutil.copy(shell.folder / "rec/lamps.har", tests)
    assert "nothing says what lamps.har should give" in shell("dialect", "test", status=2).stderr
    assert "new" in shell("dialect", "test", "--accept").stdout
    assert "accepted" in shell("dialect", "test").stdout
    path = shell.folder / "dialects/lamps.yaml"
    path.write_text(DIALECT.replace("name: label", "name: room"))
    done = shell("dialect", "test", "lamps", status=1)
    assert re.search(r"devices 1: name is '2', and was 'lamp-001'", done.stdout)
    path.write_text(DIALECT.replace("size: 10", "size: 5"))
    done = shell("dialect", "test", status=1)
    assert "the recording lamps.har holds no GET /lamps?" in done.stdout
    path.write_text(DIALECT.replace(", total: n", ", total: of_all"))
    assert "partial" in shell("dialect", "test", status=1).stdout


def test_a_recording_of_another_release_tells_what_is_different(shell):
    """Another path is not in it; a member of another name holds nothing; a filter that it was not asked is no fault."""
    shell("pull", "--record", "rec", env={"LAMP_WORD": "oil-and-wick"})
    path = shell.folder / "dialects/lamps.yaml"
    path.write_text(DIALECT.replace("path: /lamps", "path: /v9/lamps"))
    done = shell("dialect", "check", "lamps", "--against", "rec", status=1)
    assert "the recording lamps.har holds no GET /v9/lamps" in done.stdout
    path.write_text(DIALECT.replace("name: label", "name: caption"))
    assert "always empty there: name" in shell("dialect", "check", "lamps", "--against", "rec").stdout
    rule = "    filters: [{field: name, tests: '=', parameter: label, any_case: true}]\n"
    path.write_text(DIALECT.rstrip("\n") + "\n" + rule)
    told = shell("dialect", "check", "lamps", "--against", "rec").stdout
    assert "not tried: the recording was not asked this" in told


def test_a_recording_that_breaks_off_or_is_none_is_told(shell):
    shell("pull", "--record", "rec", env={"LAMP_WORD": "oil-and-wick"})
    whole = (shell.folder / "rec/lamps.har").read_text()
    (shell.folder / "rec/lamps.har").write_text(whole[: len(whole) // 2])
    assert "is no recording that can be played" in shell("pull", "--replay", "rec", status=1).stderr
    (shell.folder / "rec/lamps.har").write_text("[]")
    assert "holds no request" in shell("pull", "--replay", "rec", status=1).stderr
    odd = (
        '{"request": {"method": "GET", "url": "http://a/"}, "response": "", "startedDateTime": "2026-01-01T00:00:00Z"}'
    )
    (shell.folder / "rec/lamps.har").write_text(f'{{"log": {{"entries": [{odd}]}}}}')
    assert "is no recording that can be played" in shell("pull", "--replay", "rec", status=1).stderr
    assert "there is no" in shell("pull", "--replay", "nowhere", status=2).stderr
    assert "and nothing else" in shell("pull", "--replay", "rec", "--changed-only", status=2).stderr


def test_a_replay_removes_no_folder_but_its_own(shell):
    """What somebody else keeps under the name in which it works stays; its own is made anew."""
    shell("pull", "--record", "rec", env={"LAMP_WORD": "oil-and-wick"})
    (shell.folder / "rec/replayed").mkdir()
    (shell.folder / "rec/replayed/concordex.yaml").write_text("format: 1\n")
    assert "is not of an earlier replay" in shell("pull", "--replay", "rec", status=2).stderr
    assert (shell.folder / "rec/replayed/concordex.yaml").read_text() == "format: 1\n"
    shutil.rmtree(shell.folder / "rec/replayed")
    for _ in range(2):
        assert "whole" in shell("pull", "--replay", "rec").stdout


def test_an_anonymous_recording_names_nobody_and_is_matched_alike(tmp_path, harbour):
    """No name, serial, address or person of three systems is in it, and it makes as many entries."""
    shell = make_workspace(tmp_path, harbour, kind=Near)
    shell("pull", "--record", "rec", "--anonymise")
    text = "".join(path.read_text() for path in (shell.folder / "rec").glob("*.har"))
    rows = json.loads(shell("show", "devices", "-f", "json", "--columns", "name,serial,macs,ips,user,asset_tag").stdout)
    told = {
        str(one) for row in rows for value in row.values() for one in (value if isinstance(value, list) else [value])
    }
    nobodys = {"None", "System Serial Number", "To be filled"}  # what a maker left
    known = [one for one in told - nobodys if len(one) > 5 and not one.isdecimal()]
    assert len(known) > 300
    words = set(re.findall(r"[\w.:-]+", text.lower()))
    left = [one for one in known if one.lower() in words or (" " in one and one.lower() in text.lower())]
    assert not [one for one in left if one.count(".") != 3]
    assert len(left) < 3  # an address that was drawn may be that of another device, by chance
    shell("pull", "--replay", "rec")
    counts = [
        re.search(r"(\d+) records, (\d+) entries", shell(*w, "reconcile").stderr) for w in ([], ["-w", "rec/replayed"])
    ]
    assert counts[0][1] == counts[1][1]
    assert abs(int(counts[0][2]) - int(counts[1][2])) <= 2


def test_what_could_not_be_kept_is_made_anonymous_as_well_or_nothing_is_left(shell):
    """A table that fails is in no snapshot, and in the recording; where that breaks off, the recording goes."""
    (shell.folder / "dialects/lamps.yaml").write_text(DIALECT.replace("records: lamps", "records: lamp"))
    shell("pull", "--record", "rec", "--anonymise", status=1, env={"LAMP_WORD": "oil-and-wick"})
    text = (shell.folder / "rec/lamps.har").read_text()
    assert '\\"label\\":' in text
    assert "lamp-0" not in text
    here = shell.workspace
    with pytest.raises(ZeroDivisionError):
        here.rehearsals.record_pull(shell.folder / "broken", lambda: _break_off(here.recorded_into), anonymise=True)
    assert not list((shell.folder / "broken").iterdir())


def test_who_stops_a_disguise_keeps_nothing_under_real_names(shell, monkeypatch):
    """Nor does a machine that loses its power then: until all is disguised, nothing stands in the folder."""

    def impatient(_disguise, _text):
        assert not list((shell.folder / "rec").iterdir())
        raise KeyboardInterrupt

    monkeypatch.setattr(Disguise, "text", impatient)
    monkeypatch.setenv("LAMP_WORD", "oil-and-wick")
    here = shell.workspace
    with pytest.raises(KeyboardInterrupt):
        here.rehearsals.record_pull(shell.folder / "rec", here.pull, anonymise=True)
    assert not list((shell.folder / "rec").iterdir())
    assert not list(here.store.glob("recorded-*"))


def _break_off(into):
    """A run that leaves a recording behind of which only a part was written."""
    (into / "lamps.har").write_text('{"log": {"entries": [{"lamp-001')
    raise ZeroDivisionError


def test_no_two_become_one_and_nothing_becomes_what_is_real():
    """In a fleet so large for its numbers that chance alone would have dozens of either."""
    numbers = [f"{number:04d}" for number in range(0, 10_000, 9)]
    named, codes = {f"qq-{number}" for number in numbers}, {f"{number}-A" for number in numbers}
    disguise = Disguise(b"key")
    disguise.learn({"name": sorted(named), "asset_tag": sorted(codes)}, [])
    for real in (named, codes):
        others = {disguise.text(one) for one in real}
        assert len(others) == len(real)
        assert not others & real


def test_a_disguise_keeps_forms_and_equalities():
    disguise = Disguise(b"key")
    disguise.learn(
        {"serial": ["AB12-34x"], "macs": ["0c:b1:04:00:01:2c", "0CB1.0400.012C"], "ips": ["10.22.0.7", "10.22.0.9/24"],
         "name": ["sw-Cobble-quay-02"], "user": ["pegs brine"], "kind": ["switch"]}, ["lamp"],
    )  # fmt: skip
    told = disguise.text(
        "AB12-34x 0c:b1:04:00:01:2c 0CB1.0400.012C 10.22.0.7 10.22.0.9 COBBLE cobble switch lamp sw-cobble-quay-02"
    )
    code, mac, dotted, one, other, upper, lower, kind, member, name = told.split()
    assert re.fullmatch(r"[A-Z]{2}\d\d-\d\d[a-z]", code)
    assert code != "AB12-34x"
    assert dotted.replace(".", "").lower() == mac.replace(":", "")
    assert one.rpartition(".")[0] == other.rpartition(".")[0] != "10.22.0"
    assert (kind, member, upper) == ("switch", "lamp", lower.upper())
    assert lower in name
    assert Disguise(b"other").text("cobble") == "cobble"
