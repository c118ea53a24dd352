"""What people do with the concordance: rulings, reviews, groups, comparisons, the past of a device."""

from __future__ import annotations

import json
import math
import os
import pty
import re
import select
import shutil
import subprocess
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import polars as pl
import pytest

from concordex.cli.reasons import words
from concordex.errors import BadAnswer, CalledWrongly, StoreError
from concordex.match.incremental import reconcile_again
from concordex.store.snapshots import Frames
from concordex.wire.dialect.load import from_file
from concordex.wire.http.transport import Endpoint
from concordex.wire.reading.files import read_file
from concordex.work.change.sync import unsure
from concordex.work.concordance import reconcile
from concordex.work.show.report import report
from tests.conftest import Near

DIALECT = """\
format: 1
name: {name}
title: A list in a file
role: {role}
tables:
  devices:
    read: {{file: devices.ndjson, shape: {{by: ndjson}}, complete: written whole by the test}}
    fields:
      {{record_id: $.id, name: $.name, serial: $.serial, macs: $.mac, site: $.site, kind: $.kind, os_version: $.os,
        position: $.at, last_seen: $.seen}}
"""
SYSTEMS = "format: 1\nsystems:\n" + "".join(f"  {n}: {{dialect: {n}, folder: {n}}}\n" for n in ("net", "inv"))


def row(**said: str) -> dict:
    return said


class Lists(Near):
    """A workspace of two systems that are files: what they say is in the test's own hands."""

    def say(self, system: str, *rows: dict) -> None:
        self.folder.joinpath(system, "devices.ndjson").write_text("".join(json.dumps(row) + "\n" for row in rows))

    def reconcile(self) -> str:
        self("pull")
        return self("reconcile").stderr

    def entry(self, record: str) -> str:
        found = self("show", "records", "--format", "json").stdout
        return {f"{row['system']}/{row['record_id']}": row["entry"] for row in json.loads(found)}[record]


@pytest.fixture
def lists(tmp_path, lists_once) -> Lists:
    shutil.copytree(lists_once, tmp_path, dirs_exist_ok=True)
    return Lists(tmp_path)


@pytest.fixture(scope="session")
def lists_once(tmp_path_factory) -> Path:
    """The same, to be copied."""
    folder = tmp_path_factory.mktemp("lists_once")
    for name, role in (("net", "manager"), ("inv", "inventory")):
        (folder / name).mkdir()
        (folder / "dialects").mkdir(exist_ok=True)
        (folder / "dialects" / f"{name}.yaml").write_text(DIALECT.format(name=name, role=role))
    (folder / "concordex.yaml").write_text(SYSTEMS)
    made = Lists(folder)
    made.say("net", row(id="1", name="sw-1", serial="AAAA1111", site="quay"), row(id="2", name="sw-2", site="quay"))
    made.say("inv", row(id="7", name="sw-1", serial="aaaa1111", site="depot"), row(id="8", name="old", site="quay"))
    made.reconcile()
    return folder


def test_same_joins_apart_parts_and_each_can_be_taken_back(lists):
    assert lists.entry("net/2") != lists.entry("inv/8")
    lists("ruling", "same", "net/2", "inv/8", "--why", "label read", "--who", "kim")
    assert "1 entries gone" in lists("reconcile").stderr
    assert lists.entry("net/2") == lists.entry("inv/8")
    assert "says kim" in lists("explain", "sw-2").stdout
    lists("ruling", "apart", "net/1", "inv/7")
    lists("reconcile")
    assert lists.entry("net/1") != lists.entry("inv/7")
    lists("ruling", "remove", "net/1")
    lists("reconcile")
    assert lists.entry("net/1") == lists.entry("inv/7")


def test_rulings_are_a_readable_file_that_keeps_what_people_wrote(lists):
    path = lists.folder / "rulings.yaml"
    path.write_text("format: 1\nrulings:\n  # the depot called\n  - same: [net/2, inv/8]\n    why: ours\n")
    lists("ruling", "value", "sw-1", "site", "ferry", "--why", "seen there")
    assert "# the depot called" in path.read_text()
    rows = json.loads(lists("ruling", "list", "-f", "json").stdout)
    assert [(row["ruling"], row["says"], row["holds"]) for row in rows] == [
        ("same", "inv/8", "yes"), ("value", "site is ferry", "yes"),
    ]  # fmt: skip
    lists("reconcile")
    (told,) = json.loads(lists("explain", "sw-1", "-f", "json").stdout)
    (site,) = [value for value in told["values"] if value["field"] == "site"]
    assert (site["value"], site["source"]) == ("ferry", "ruling")
    assert set(site["others"].values()) == {"quay", "depot"}


def test_a_bad_rulings_file_is_told_by_line_and_key(lists):
    (lists.folder / "rulings.yaml").write_text("format: 1\nrulings:\n  - same: [net/1]\n  - valu: {of: x}\n")
    told = lists("reconcile", status=1).stderr
    assert "line 3" in told
    assert "did you mean `value`" in told


def test_contradictions_are_refused_and_those_made_by_hand_are_found(lists):
    lists("ruling", "same", "net/1", "inv/8")
    assert "ruled same already" in lists("ruling", "apart", "net/1", "inv/8", status=2).stderr
    path = lists.folder / "rulings.yaml"
    path.write_text("format: 1\nrulings:\n  - same: [net/1, inv/8]\n  - apart: [net/1, inv/8]\n")
    lists("reconcile")
    assert lists.entry("net/1") != lists.entry("inv/8")
    found = json.loads(lists("findings", "--kind", "ruling_contradicted", "-f", "json", status=3).stdout)
    assert {row["about"] for row in found} == {"inv/8"}


def test_findings_are_new_then_known_then_gone_and_may_be_accepted(lists):
    def states() -> dict[str, str]:
        rows = json.loads(lists("findings", "-f", "json", "--accepted", status=None).stdout)
        return {f"{row['kind']} {row['field'] or ''}".strip(): row["state"] for row in rows}

    assert states()["conflict site"] == "new"
    lists("reconcile")
    assert states()["conflict site"] == "known"
    lists("ruling", "accept", "sw-1", "conflict", "--field", "site", "--why", "moves daily", "--until", "2999-01-01")
    lists("reconcile")
    shown = lists("findings", "-f", "json", status=None).stdout
    assert "conflict" not in {row["kind"] for row in json.loads(shown)}
    (one,) = [
        found
        for found in json.loads(lists("findings", "--accepted", "-f", "json", status=None).stdout)
        if found["accepted"]
    ]
    assert one["accepted"].startswith("moves daily (")
    lists.say("inv", row(id="7", name="sw-1", serial="AAAA1111", site="quay"))
    lists.reconcile()
    gone = json.loads(lists("findings", "--gone", "-f", "json", status=None).stdout)
    assert "conflict" in {row["kind"] for row in gone}


def test_a_concordance_of_an_earlier_release_is_no_obstacle(lists):
    (path,) = lists.folder.glob(".concordex/concordance/*/findings.parquet")
    pl.read_parquet(path).drop("about", "resembles", "share", "state", "accepted").write_parquet(path)
    path.with_name("weights.parquet").unlink()
    assert "findings: " in lists("reconcile").stderr
    assert "conflict" in lists("findings", "-f", "json", status=3).stdout


def test_nothing_is_synced_from_what_an_earlier_release_reconciled(lists):
    (path,) = lists.folder.glob(".concordex/concordance/*/findings.parquet")
    here = lists.workspace
    here.frames.write(pl.read_parquet(path).drop("share"), str(path.relative_to(lists.folder / ".concordex")))
    with pytest.raises(CalledWrongly, match="an earlier release has reconciled"):
        unsure(here, "inv")


def test_what_only_shares_its_name_with_something_there_is_called_missing_and_held(lists):
    lists.say("net", row(id="1", name="core-a", mac="00:1b:21:00:00:07", kind="phone"))
    lists.say("inv", row(id="7", name="core-a", serial="ZZZZ9999", kind="server"))
    lists.reconcile()
    (told,) = json.loads(lists("findings", "--kind", "missing_in_inventory", "-f", "json", status=3).stdout)
    other = lists.entry("inv/7")
    assert told["resembles"] == other
    assert (
        words(unsure(lists.workspace, "inv")[told["entry"]])
        == f"it may be there already: {other} (core-a) has the same name"
    )
    lists("ruling", "apart", "net/1", "inv/7")
    lists("reconcile")
    assert told["entry"] not in unsure(lists.workspace, "inv")


def test_when_little_changed_only_that_is_looked_at(lists):
    many = [row(id=f"m{at}", name=f"pc-{at}", serial=f"MM{at:05}", site="quay") for at in range(60)]
    lists.say("net", row(id="1", name="sw-1", serial="AAAA1111", site="quay"), *many)
    assert "looked at again" not in lists.reconcile()
    before = json.loads(lists("show", "entries", "-f", "json").stdout)
    lists.say("net", row(id="1", name="sw-7", serial="AAAA1111", site="quay"), *many)
    assert "; 2 looked at again" in lists.reconcile()
    after = json.loads(lists("show", "entries", "-f", "json").stdout)
    assert [a["entry"] for a in after] == [b["entry"] for b in before]
    assert {a["name"] for a in after} - {b["name"] for b in before} == {"sw-7"}
    assert "looked at again" not in lists("reconcile", "--relearn").stderr


def test_what_a_killed_reconciliation_left_is_swept_away_and_one_under_way_is_not(lists):
    killed, under_way = (lists.folder / ".concordex" / "concordance" / name for name in ("000009-dead", "000009-busy"))
    for path, age in ((killed, 2 * 86_400), (under_way, 60)):
        path.mkdir()
        path.joinpath("members.parquet").write_bytes(b"PAR1")
        os.utime(path, (time.time() - age, time.time() - age))
    lists("reconcile")
    assert (killed.exists(), under_way.exists()) == (False, True)
    assert "sw-1" in lists("show", "entries").stdout


def test_a_concordance_that_another_process_supersedes_meanwhile_is_no_obstacle(lists, monkeypatch):
    """What was to be gone on from is taken away; all is looked at instead."""

    def late(*what, **more):
        lists("reconcile", "--relearn")
        return reconcile_again(*what, **more)

    many = [row(id=f"m{at}", name=f"pc-{at}", serial=f"MM{at:05}", site="quay") for at in range(60)]
    lists.say("net", row(id="1", name="sw-1", serial="AAAA1111", site="quay"), *many)
    lists.reconcile()
    lists.say("net", row(id="1", name="sw-7", serial="AAAA1111", site="quay"), *many)
    lists("pull")
    monkeypatch.setattr(reconcile, "reconcile_again", late)
    made = reconcile.make(lists.workspace)
    assert (made.records, made.looked_at) == (63, 63)
    assert "sw-7" in lists("show", "entries").stdout


@pytest.mark.parametrize("moment", ["before", "after"])
@pytest.mark.parametrize("command", ["show entries", "findings", "explain sw-1", "health", "compare net inv"])
def test_what_is_being_read_while_another_process_supersedes_it_is_read_to_the_end(lists, monkeypatch, command, moment):
    """Its files are taken away just before, or just after, they were found."""
    scan, armed = Frames.scan, [True]

    def meanwhile(self, name, **how):
        def reconciled():
            if armed and "concordance" in name and armed.pop():
                lists("reconcile", "--relearn")

        if moment == "before":
            reconciled()
        frame = scan(self, name, **how)
        reconciled()
        return frame

    monkeypatch.setattr(Frames, "scan", meanwhile)
    done = lists(*command.split(), status=None)
    assert not armed
    assert done.returncode in (0, 3), done.stderr
    assert done.stdout


def renumbered(lists: Lists, monkeypatch, part: str) -> list[bool]:
    """Just after a part was found, another process makes a concordance in which all records stand elsewhere."""
    scan, armed = Frames.scan, [True]

    def meanwhile(self, name, **how):
        frame = scan(self, name, **how)
        if armed and name.endswith(f"{part}.parquet") and armed.pop():
            more = [row(id=f"0{at}", name=f"pc-{at}", serial=f"MM{at:05}") for at in range(9)]
            lists.say(
                "net", *more, row(id="1", name="sw-1", serial="AAAA1111"), row(id="2", name="sw-2", serial="CC333")
            )
            lists.reconcile()
        return frame

    lists.say("net", row(id="1", name="sw-1", serial="AAAA1111"), row(id="2", name="sw-2", serial="CC333"))
    lists.reconcile()
    monkeypatch.setattr(Frames, "scan", meanwhile)
    return armed


@pytest.mark.parametrize("command", ["explain sw-1", "explain sw-1 --why-not sw-2", "compare net inv -f json"])
def test_what_is_told_is_of_one_concordance_though_a_newer_one_comes_meanwhile(lists, monkeypatch, command):
    """Numbers of rows in the one would be others' in the other."""
    armed = renumbered(lists, monkeypatch, "members")
    told = lists(*command.split(), status=None).stdout
    assert not armed
    assert told == lists(*command.split(), status=None).stdout != ""


def test_a_report_is_of_one_concordance_though_a_newer_one_comes_meanwhile(lists, monkeypatch):
    armed = renumbered(lists, monkeypatch, "entries")
    one, other = [report(lists.workspace, "name present", sections=["coverage", "findings"]) for _ in range(2)]
    assert not armed
    assert one.entries == other.entries
    for before, after in zip(one.sections, other.sections, strict=True):
        assert [table.frame.to_dicts() for table in before.tables] == [table.frame.to_dicts() for table in after.tables]


def test_what_is_stale_by_now_is_told_as_if_all_were_reconciled(lists):
    """Where nothing but the time has changed: in its place, new or known, and gone where it is not stale any longer."""
    seen = [(datetime.now(UTC) - timedelta(days=days)).isoformat() for days in range(1, 7)]
    lists.say("net", *(row(id=str(at), name=f"sw-{at}", seen=moment) for at, moment in enumerate(seen)))
    lists.reconcile()
    for at, (days, new, known, gone) in enumerate(
        [("9d", 0, 0, 0), ("4d", 3, 0, 0), ("2d", 2, 3, 0), ("3d", 0, 4, 1), ("9d", 0, 0, 4), ("5d", 2, 0, 0)]
    ):
        lists.config(lambda text, days=days: text.split("reconcile:")[0] + f"reconcile: {{stale_after: {days}}}\n")
        assert "; 0 looked at again" in lists("reconcile").stderr
        told = json.loads(lists("findings", "-f", "json", status=None).stdout)
        states = [row["state"] for row in told if row["kind"] == "stale"]
        assert (states.count("new"), states.count("known"), len(states)) == (new, known, new + known)
        ended = json.loads(lists("findings", "--gone", "-f", "json", status=None).stdout)
        assert [row["kind"] for row in ended] == ["stale"] * gone
        beside = Lists(shutil.copytree(lists.folder, lists.folder.with_name(f"{lists.folder.name}-{at}")))
        beside("reconcile", "--relearn")
        anew = json.loads(beside("findings", "-f", "json", status=None).stdout)
        assert [row | {"state": ""} for row in told] == [row | {"state": ""} for row in anew]


def test_reconciling_where_nothing_changed_looks_at_nothing_and_says_the_same(lists):
    """Pulled anew or not, and in any order; a ruling, a changed value and `--relearn` are looked at."""
    first = json.loads(lists("findings", "-f", "json", status=3).stdout)
    rows = lists.folder.joinpath("net", "devices.ndjson").read_text().splitlines()
    lists.folder.joinpath("net", "devices.ndjson").write_text("".join(f"{row}\n" for row in reversed(rows)))
    table = lists("reconcile").stdout
    lists("pull")
    done = lists("reconcile")
    assert "; 0 looked at again" in done.stderr
    assert done.stdout == table
    assert "pulled since" not in lists("findings", status=3).stderr
    assert json.loads(lists("findings", "-f", "json", status=3).stdout) == [one | {"state": "known"} for one in first]
    for _ in range(2):  # not even a finding is new any more
        assert "; 0 looked at again" in lists("reconcile").stderr
    assert json.loads(lists("findings", "-f", "json", status=3).stdout) == [one | {"state": "known"} for one in first]
    assert lists("findings", "--gone").stdout.count("\n") <= 1
    assert "stored here is intact" in lists("mend").stderr
    assert (
        "no finding conflict of sw-1, field model"
        in lists("ruling", "accept", "sw-1", "conflict", "--field", "model", status=2).stderr
    )
    lists("ruling", "accept", "sw-1", "conflict", "--field", "site")
    assert "0 looked at again" in lists("reconcile").stderr
    assert "conflict" not in lists("findings", "-f", "json", status=3).stdout
    lists("ruling", "apart", "net/1", "inv/7")
    assert "0 looked at again" not in lists("reconcile").stderr
    assert lists.entry("net/1") != lists.entry("inv/7")


@pytest.mark.parametrize("taken", ["entries", "weights"])
def test_a_concordance_that_a_rival_takes_away_while_it_is_read_is_made_anew(lists, monkeypatch, taken):
    """The rival makes a newer one between the look at the files and the reading of one of them."""
    scan = Frames.scan

    def rival(self, name, **how):
        if name.endswith(f"{taken}.parquet") and not gone:
            gone.append(name)
            raise StoreError(f"{name} is gone")
        return scan(self, name, **how)

    lists.say("net", row(id="1", name="sw-1", serial="AAAA1111"), row(id="3", name="sw-3"))
    lists("pull")
    gone: list[str] = []
    monkeypatch.setattr(Frames, "scan", rival)
    assert "looked at again" not in lists("reconcile").stderr
    assert len(gone) == 1
    assert lists.entry("net/3") != lists.entry("net/1")


def test_a_filter_that_is_another_in_the_middle_of_a_long_list_is_not_taken_for_the_same(lists):
    def reconciled(odd: str) -> str:
        names = [f"x{at}" for at in range(40)] + [odd] + [f"y{at}" for at in range(40)]
        lists.folder.joinpath("concordex.yaml").write_text(
            f"{SYSTEMS}reconcile: {{at_rest: 'name in ({', '.join(names)})'}}\n"
        )
        return lists("reconcile").stderr

    reconciled("nobody")
    assert "; 0 looked at again" in reconciled("nobody")
    assert "little known" in reconciled("nobody")
    assert "little known" not in reconciled("old")


def test_a_file_that_is_altered_while_it_is_read_is_not_called_whole(tmp_path):
    path = tmp_path / "devices.ndjson"
    path.write_text("".join(json.dumps({"id": at, "pad": "7" * 4000}) + "\n" for at in range(3_000)))
    (tmp_path / "net.yaml").write_text(DIALECT.format(name="net", role="manager"))
    spoken = from_file(tmp_path / "net.yaml")
    pages = read_file(Endpoint(name="net", url="", folder=tmp_path), spoken, spoken.tables["devices"]).pages
    next(pages)
    with path.open("a") as file:
        file.write('{"id": "x"}\n')
    with pytest.raises(BadAnswer, match="altered while it was read"):
        list(pages)


@pytest.mark.parametrize(("ending", "text"), [("csv", "id,name\nx,a\n"), ("json", '[{"id": "x"}]')])
def test_so_is_one_that_is_read_at_once_and_written_to_just_then(tmp_path, monkeypatch, ending, text):
    path = tmp_path / f"devices.{ending}"
    path.write_text(text)
    (tmp_path / "net.yaml").write_text(DIALECT.format(name="net", role="manager").replace("ndjson", ending))
    spoken = from_file(tmp_path / "net.yaml")
    pages = read_file(Endpoint(name="net", url="", folder=tmp_path), spoken, spoken.tables["devices"]).pages
    facts = os.fstat

    def rival(number):  # between the first look at the file and its last byte
        told = facts(number)
        with path.open("a") as file:
            file.write(text)
        return told

    monkeypatch.setattr(os, "fstat", rival)
    with pytest.raises(BadAnswer, match="altered while it was read"):
        list(pages)


def test_an_acceptance_ends(lists):
    lists("ruling", "accept", "sw-1", "conflict", "--field", "site", "--until", "2020-01-01")
    lists("reconcile")
    assert "conflict" in lists("findings", "-f", "json", status=3).stdout


def test_a_large_file_of_lines_is_read_in_pieces_and_all_of_it_or_nothing(lists):
    path = lists.folder / "net" / "devices.ndjson"
    lists.say("net", *(row(id=str(at), name=f"sw-{at}", serial=f"AAAA{at:04}", os="7" * 400_000) for at in range(20)))
    lists("pull")
    assert len(json.loads(lists("show", "devices", "--where", "system = net", "-f", "json").stdout)) == 20
    lines = path.read_text().splitlines()
    path.write_text("\n".join([*lines[:18], '{"id": "x"', lines[19]]) + "\n")
    assert "in line 19" in lists("pull", "net", status=1).stderr
    assert len(json.loads(lists("show", "devices", "--where", "system = net", "-f", "json").stdout)) == 20


def test_what_is_known_by_sight_alone_is_no_duplicate_missing_nowhere_and_not_to_be_created(lists):
    sights = [row(id=f"{at}{mark}", name=f"pc-{at}", serial=f"QQQQ{at:04}") for at in range(8) for mark in "ab"]
    lists.say("net", *sights)
    lists.say("inv", row(id="7", name="pc-3", serial="QQQQ0003"))
    lists.reconcile()
    held = unsure(lists.workspace, "inv")
    assert held.keys() == {lists.entry(f"net/{at}a") for at in range(8)} - {lists.entry("inv/7")}
    assert {words(why) for why in held.values()} == {"it is known by sight alone: net"}
    assert not json.loads(lists("findings", "-k", "duplicate,missing_in_inventory", "-f", "json").stdout)


def test_what_was_learned_can_be_looked_at(lists):
    told = json.loads(lists("show", "weights", "--where", "kind = serial", "-f", "json").stdout)
    (same,) = (row for row in told if row["means"] == "same")
    assert same["one"] > 90 > 1 > same["two"]
    assert same["bits"] == pytest.approx(math.log2(same["one"] / same["two"]), abs=0.1)


def test_two_systems_side_by_side(lists):
    told = lists("compare", "net", "inv", "--format", "json", status=3)
    rows = {(row["state"], row["name"], row["field"]): row for row in json.loads(told.stdout)}
    assert rows.keys() == {("only here", "sw-2", None), ("only there", "old", None), ("different", "sw-1", "site")}
    different = rows["different", "sw-1", "site"]
    assert (different["here"], different["there"]) == ("quay", "depot")
    assert "1 only here, 1 only there, 1 different, 0 equal" in told.stderr
    assert "0 different, 1 equal" in lists("compare", "net", "inv", "--fields", "serial", status=3).stderr


def test_two_moments_side_by_side_and_the_past_of_a_device(lists):
    time.sleep(1.1)
    before = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S")
    lists.say("net", row(id="1", name="sw-9", serial="AAAA1111", site="ferry"), row(id="3", name="sw-3"))
    lists.reconcile()
    rows = json.loads(lists("compare", before, "0s", "-f", "json", status=3).stdout)
    told = {(row["state"], row["record_id"], row["field"], row["here"], row["there"]) for row in rows}
    assert told == {
        ("only here", "2", None, None, None), ("only there", "3", None, None, None),
        ("different", "1", "name", "sw-1", "sw-9"), ("different", "1", "site", "quay", "ferry"),
    }  # fmt: skip
    past = json.loads(lists("explain", "sw-9", "--history", "-f", "json").stdout)[0]["history"]
    assert [(e["what"], e["before"], e["after"]) for e in past if e["record"] == "net/1"] == [
        ("first pulled", None, "quay"), ("moved", "quay", "ferry"), ("renamed", "sw-1", "sw-9"),
    ]  # fmt: skip


def test_groups_are_filters_unions_intersections_and_differences(lists):
    lists("group", "add", "quay", "--where", "site = quay")
    lists("group", "add", "ones", "--where", 'name like "*-1"')
    lists("group", "add", "both", "--all-of", "quay,ones")
    lists("group", "add", "rest", "--any-of", "quay", "--but-not", "ones")

    def names(where: str) -> list[str]:
        rows = lists("show", "records", "--where", where, "--format", "ndjson").stdout.splitlines()
        return sorted(f"{row['system']}/{row['record_id']}" for row in map(json.loads, rows))

    assert names("group = both") == ["net/1"]
    assert names("group = rest") == ["inv/8", "net/2"]
    assert names("group in (both, rest)") == names("group = quay")
    assert names("group != quay") == ["inv/7"]
    assert "part of both, rest" in lists("group", "remove", "quay", status=2).stderr
    (lists.folder / "groups" / "quay.yaml").write_text("any_of: [both]\n")
    assert "made of itself: both > quay > both" in lists("show", "records", "--where", "group = both", status=2).stderr


def test_why_two_are_not_one_is_told_and_the_lines_add_up(lists):
    lists.say("net", row(id="1", name="sw-1", serial="AAAA1111", site="quay"), row(id="2", name="sw-2", site="quay"),
              row(id="3", name="sw-3", serial="CCCC3333"))  # fmt: skip
    lists.say("inv", row(id="7", name="sw-1", serial="aaaa1111", site="depot"), row(id="8", name="old", site="quay"),
              row(id="9", name="sw-3", serial="DDDD9999"))  # fmt: skip
    lists.reconcile()
    for one, other, why in (
        ("net/2", "inv/8", "nothing that identifies a device is the same in both"),
        ("net/3", "inv/9", "their serials differ outright"),
    ):
        told = lists("explain", one, "--why-not", other).stdout
        assert why in told
        found = json.loads(lists("explain", one, "--why-not", other, "-f", "json").stdout)[0]
        lines = sum(line["bits"] for line in found["link"]["because"])
        assert lines == pytest.approx(found["bits"], abs=0.06 * len(found["link"]["because"]))
    lists("ruling", "apart", "net/2", "inv/8", "--why", "two of them stand there")
    lists("reconcile")
    assert "somebody ruled so: apart" in lists("explain", "net/2", "--why-not", "inv/8").stdout
    assert "they are one" in lists("explain", "net/1", "--why-not", "inv/7", status=2).stderr
    for entry in json.loads(lists("explain", "net/1", "-f", "json").stdout):
        for link in entry["links"]:
            assert sum(b["bits"] for b in link["because"]) == pytest.approx(
                link["bits"], abs=0.06 * len(link["because"])
            )


def test_a_review_decides_by_a_key_and_goes_on_where_it_was_left(lists):
    lists.say(
        "net", *(row(id=f"n{at}", name=f"ap-{at}", kind="switch", mac=f"0c:b1:00:00:00:0{at}") for at in range(3))
    )
    lists.say("inv", *(row(id=f"i{at}", name=f"ap-{at}", kind="camera") for at in range(3)))
    lists.reconcile()
    waiting = json.loads(lists("review", "--list", "-f", "json", status=3).stdout)
    assert len(waiting) == 3
    assert answered(lists, "sq")[0] == 0
    assert len(json.loads(lists("review", "--list", "-f", "json", status=3).stdout)) == 2
    status, screen = answered(lists, "an")
    assert status == 0
    assert "1 apart; 1 pairs not decided" in screen
    (ruled, parted) = json.loads(lists("ruling", "list", "-f", "json").stdout)
    assert (ruled["ruling"], parted["ruling"]) == ("same", "apart")
    assert "needs a terminal" in lists("review", status=2).stderr


def test_what_is_to_be_decided_is_as_it_stands_when_it_is_shown(lists):
    """Others reconcile while a person thinks: records stand in other rows then, and what was a doubt may be none."""
    cards = [row(id=f"n{at}", name=f"ap-{at}", kind="switch", mac=f"0c:b1:00:00:00:0{at}") for at in range(3)]
    cameras = [row(id=f"i{at}", name=f"ap-{at}", kind="camera") for at in range(3)]
    lists.say("net", *cards)
    lists.say("inv", *cameras)
    lists.reconcile()
    here = lists.workspace
    first, second, _ = sorted(here.doubtful_pairs().to_dicts(), key=lambda pair: here.doubt(pair).link.a)
    before = here.doubt(first)
    lists.say("net", row(id="a0", name="pc-1", serial="MM00001"), *cards)  # each record stands a row further down
    lists.say("inv", *(row(id="a0", name="pc-1", serial="MM00001"), cameras[0], cameras[2]))
    lists.reconcile()
    now = here.doubt(first)
    assert (now.link.a, now.link.b, now.one, now.other) == (before.link.a, before.link.b, before.one, before.other)
    assert here.doubt(second) is None
    here.close()


def answered(lists: Lists, keys: str) -> tuple[int, str]:
    """A review at a terminal, with ``keys`` pressed one after another."""
    main, end = pty.openpty()
    settings = lists.settings() | {"stdin": end, "stdout": end, "stderr": end, "text": False}
    settings.pop("capture_output")
    process = subprocess.Popen(lists.command("review"), **settings)
    os.close(end)
    screen = b""
    for at, key in enumerate(keys):
        while screen.count(b"[q]uit") <= at:
            screen += os.read(main, 4096)
        told = b""
        while not told and process.poll() is None:  # what is typed before it listens is lost
            time.sleep(0.3)
            os.write(main, key.encode())
            told = os.read(main, 4096) if select.select([main], [], [], 3)[0] else b""
        screen += told
    while select.select([main], [], [], 5)[0]:
        try:
            screen += os.read(main, 4096)
        except OSError:  # its end is closed
            break
    return process.wait(30), screen.decode(errors="replace")


def test_a_conflict_tells_since_when_each_system_says_what_it_says(lists):
    lists.reconcile()
    time.sleep(1.1)
    lists.say("net", row(id="1", name="sw-1", serial="AAAA1111", site="ferry", mac="0c:b1:00:00:00:01", kind="switch"))
    lists.say("inv", row(id="7", name="sw-1", serial="AAAA1111", site="depot", mac="0c:b1:00:00:00:01", kind="switch"))
    lists("pull", "--accept-fall")
    lists("reconcile")
    time.sleep(1.1)
    lists.say("net", row(id="1", name="sw-1", serial="AAAA1111", site="pier", mac="0c:b1:00:00:00:01", kind="switch"))
    lists("pull")
    lists("reconcile")
    told = lists("findings", "--kind", "conflict", "--where", "field = site", status=3).stdout
    moments = re.findall(r"(\d{4}-\d\d-\d\d \d\d:\d\d:\d\d) (inv|net)", told)
    assert [system for _, system in moments] == ["inv", "net"], told
    assert moments[0][0] < moments[1][0]


def test_evidence_that_an_earlier_release_weighed_is_not_read_as_if_it_were_of_this_one(lists):
    workspace = lists.workspace
    name = f"{workspace.memory.reconciliation()['folder']}/weights.parquet"
    weights = workspace.frames.scan(name).collect()
    workspace.frames.write(weights.filter(pl.col("class") < 8), name)
    told = lists("explain", "net/1", status=1).stderr
    assert "concordex reconcile --relearn" in told
    lists("reconcile", "--relearn")
    assert "Why they are one" in lists("explain", "net/1").stdout
