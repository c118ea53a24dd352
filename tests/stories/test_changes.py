"""Changes by hand: rows pushed, records edited, runs in part, stopped, resumed and taken back."""

from __future__ import annotations

import csv
import json
import time
from collections import Counter
from contextlib import suppress
from copy import deepcopy
from datetime import UTC, datetime, timedelta
from pathlib import Path
from xml.etree import ElementTree

import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from concordex.change.choose import chosen, needed_by_records
from concordex.change.compare import verdict
from concordex.change.prepare import Form, ReferenceMember
from concordex.change.rows import Row
from concordex.change.run_options import RunOptions
from concordex.change.steps import Change, Step
from concordex.change.undo import undo
from concordex.cli.reasons import words
from concordex.errors import ConcordexError, StoreError
from concordex.standins.server import Harbour
from concordex.store.journal import Journal
from concordex.work.change.push import PushOptions, prepare_push
from concordex.work.change.undo import prepare_undo
from concordex.work.pull.pull import pull
from concordex.work.run.run import run
from concordex.work.workspace.system_settings import Window
from tests.conftest import Near, Shell, make_workspace

MAKER, MODEL = "Brackwater", "BS-2448"


def device(at: int, **more: str) -> dict[str, str]:
    return {
        "Name": f"sw-new-{at:02}", "Serial Number": f"NW{at:04}77", "Site": "north-mole", "Maker": MAKER,
        "Model": MODEL, "Kind": "switch", "MAC": f"0c-b1-aa-00-00-{at:02x}", "Comment": "ordered in spring", **more,
    }  # fmt: skip


def sheet(path: Path, rows: list[dict[str, str]]) -> str:
    with path.open("w", newline="") as file:
        writer = csv.DictWriter(file, list(rows[0]))
        writer.writeheader()
        writer.writerows(rows)
    return str(path)


@pytest.fixture(scope="module")
def inventory(tmp_path_factory) -> tuple[Shell, Harbour, dict]:
    """A small inventory, pulled; and how it stood."""
    with Harbour.of(40, moment=datetime.now(UTC)) as harbour:
        shell = make_workspace(tmp_path_factory.mktemp("inventory"), harbour, kind=Near)
        shell("pull", "stowage")
        stowage = harbour.stowage
        yield shell, harbour, deepcopy({"lists": stowage.lists, "taken": stowage.taken, "last": stowage.last})


@pytest.fixture
def at(inventory) -> tuple[Shell, dict]:
    """The inventory as it was at first, and its gear."""
    shell, harbour, before = inventory
    restore(harbour, before)
    shell("pull", "stowage", "--accept-fall")
    return shell, harbour.stowage.lists["gear"]


def restore(harbour: Harbour, before: dict) -> None:
    harbour.stowage.faults.clear()
    for name, value in deepcopy(before).items():
        setattr(harbour.stowage, name, value)


def newest(shell: Shell) -> int:
    return json.loads(shell("change", "list", "-f", "json").stdout)[0]["change"]


def steps(shell: Shell, number: int | None = None) -> list[dict]:
    return json.loads(shell("change", "show", str(number or newest(shell)), "-f", "json").stdout)


# --- pushing rows


def test_from_a_sheet_with_six_mistakes_to_a_verified_inventory(at, tmp_path):
    shell, gear = at
    rows = [device(one) for one in range(60)]
    wrong = {
        3: {"Site": "nort-mole"}, 9: {"MAC": "0c:b1:zz"}, 14: {"Kind": "swich"}, 20: {"Serial Number": "NW001977"},
        33: {"Name": ""}, 41: {"Model": "NOPE-1", "Maker": ""},
    }  # fmt: skip
    path = sheet(tmp_path / "new.csv", [row | wrong.get(one, {}) for one, row in enumerate(rows)])
    told = shell("push", path, "--to", "stowage", status=2)
    assert "6 mistakes" in told.stderr
    for text in (
        "row 5 ", 'mean "north-mole"', "row 11 ", "is no MAC address", 'mean "switch"', "is in row 21 too",
        "row 35 ", "is required", "NOPE-1", "say its maker too",
    ):  # fmt: skip
        assert text in told.stdout
    there = len(gear)
    bad = tmp_path / "bad.csv"
    told = shell("push", path, "--to", "stowage", "--rejects", str(bad), "--yes", status=4)
    assert "54 steps written, read back and confirmed" in told.stderr
    assert len(gear) == there + 54
    back = list(csv.DictReader(bad.open()))
    assert [row["Name"] for row in back] == [(rows[one] | wrong[one])["Name"] for one in wrong]
    assert all(row["mistakes"] for row in back)
    path = sheet(tmp_path / "new.csv", rows)
    assert "6 steps written" in shell("push", path, "--to", "stowage", "--yes").stderr
    made = {record["title"]: record for number, record in gear.items() if number > there}
    assert made.keys() == {row["Name"] for row in rows}
    assert made["sw-new-07"]["hardwareAddress"] == "0c:b1:aa:00:00:07"
    again = shell("push", path, "--to", "stowage")
    assert "60 are there as they are" in again.stderr
    assert "nothing to do" in again.stderr


@pytest.mark.parametrize("ending", ["xlsx", "json", "ndjson", "yaml", "parquet", "-"])
def test_rows_come_from_any_form(inventory, tmp_path, ending):
    shell, _, _ = inventory
    rows = [device(70), device(71)]
    path = tmp_path / f"rows.{ending}"
    frame = pl.DataFrame(rows)
    if ending == "xlsx":
        frame.write_excel(path)
    elif ending == "parquet":
        frame.write_parquet(path)
    elif ending == "ndjson":
        frame.write_ndjson(path)
    elif ending != "-":
        path.write_text(json.dumps(rows))  # YAML holds JSON
    words = ["-", "--from", "json"] if ending == "-" else [str(path)]
    told = shell("push", *words, "--to", "stowage", "--draft", "-f", "json", said=json.dumps(rows))
    assert [(row["label"], row["desired"]["macs"]) for row in json.loads(told.stdout)] == [
        ("sw-new-70", ["0c:b1:aa:00:00:46"]), ("sw-new-71", ["0c:b1:aa:00:00:47"]),
    ]  # fmt: skip


def test_columns_that_mean_nothing_are_told_with_the_nearest(inventory, tmp_path):
    shell, _, _ = inventory
    path = sheet(tmp_path / "x.csv", [device(1) | {"Seriel": "x", "Owner of it": "y"}])
    told = shell("push", path, "--to", "stowage", status=2).stdout
    assert 'did you mean "serial"?' in told
    assert "the table takes: " in told
    more = ["--column", "Seriel=asset_tag", "--ignore", "Owner of it", "--default", "os_version=7.1", "--draft"]
    (step,) = json.loads(shell("push", path, "--to", "stowage", *more, "-f", "json").stdout)
    assert (step["desired"]["asset_tag"], step["desired"]["os_version"]) == ("x", "7.1")
    assert "has no table gear" in shell("push", path, "--to", "stowage", "--table", "gear", status=2).stderr
    assert "refers to no such table" in shell("push", path, "--to", "stowage", "--make", "places", status=2).stderr


def test_groups_of_rows_share_values_that_a_row_overrides(inventory, tmp_path):
    shell, _, _ = inventory
    rows = [device(1, Kind="firewall"), device(2), device(3, Kind="firewall", Comment="its own")]
    rows[0].pop("Comment"), rows[1].pop("Comment")
    (tmp_path / "rows.json").write_text(json.dumps(rows))
    (tmp_path / "defaults.yaml").write_text(
        "format: 1\ndefaults:\n- {where: kind = firewall, set: {comment: of firewalls, position: 4}}\n"
        "- set: {comment: of all}\n"
    )
    words = ["--defaults", str(tmp_path / "defaults.yaml"), "--default", "status=stored", "--draft", "-f", "json"]
    told = json.loads(shell("push", str(tmp_path / "rows.json"), "--to", "stowage", *words).stdout)
    assert [(one["desired"]["comment"], one["desired"].get("position"), one["desired"]["status"]) for one in told] == [
        ("of firewalls", 4, "stored"), ("of all", None, "stored"), ("its own", 4, "stored"),
    ]  # fmt: skip
    (tmp_path / "defaults.yaml").write_text("format: 1\ndefaults: [{set: {status: gone}}]\n")
    assert (
        "a default cannot be used"
        in shell("push", str(tmp_path / "rows.json"), "--to", "stowage", *words, status=2).stderr
    )


def test_references_are_made_where_that_is_allowed_and_models_as_they_are_described(at, tmp_path):
    shell, gear = at
    (shell.folder / "models").mkdir(exist_ok=True)
    (shell.folder / "models" / "new.yaml").write_text(
        "format: 1\nmaker: Ostrel\nname: Petrel 8\nunits: 1\nweight: 2.5\n"
        "ports: [{name: 'p{n}', sort: sfp, count: 8}]\n"
    )
    row = device(1, Site="new-quay", Maker="", Model="petrel 8")
    path = sheet(tmp_path / "x.csv", [row])
    assert "--make sites creates it" in shell("push", path, "--to", "stowage", status=2).stdout
    shell("push", path, "--to", "stowage", "--make", "sites", "--yes")
    stowage = inventory_of(shell)
    (model,) = [one for one in stowage["products"].values() if one["name"].lower() == "petrel 8"]
    assert (model["height"], model["kilograms"], model["ports"]) == (1, 2.5, ["8 sfp"])
    (place,) = [one for one in stowage["places"].values() if one["code"] == "new-quay"]
    assert max(gear.values(), key=lambda one: one["id"])["placeId"] == place["id"]
    (shell.folder / "models" / "new.yaml").unlink()
    number = newest(shell)
    shell("change", "undo", str(number), "--yes")
    stowage = inventory_of(shell)
    assert not [one for one in stowage["places"].values() if one["code"] == "new-quay"]
    assert "was taken back by change" in shell("change", "undo", str(number), status=2).stderr


def inventory_of(shell: Shell) -> dict:
    return shell.harbour.stowage.lists  # type: ignore[attr-defined]


@pytest.fixture(autouse=True)
def _harbour_at_hand(request) -> None:
    if "inventory" in request.fixturenames or "at" in request.fixturenames:
        shell, harbour, _ = request.getfixturevalue("inventory")
        shell.harbour = harbour


# --- records that are there


def test_a_record_is_named_by_whatever_people_know_of_it(at):
    shell, gear = at
    known = json.loads(shell("show", "devices", "-s", "stowage", "-f", "json").stdout)
    one = next(r for r in known if r["macs"] and r["ips"] and r["serial"] and r["asset_tag"])
    card = one["macs"][0]
    words = (
        one["name"].upper(),
        one["serial"].lower(),
        card.replace(":", "-").upper(),
        one["ips"][0],
        one["asset_tag"],
    )
    for word in (*words, f"{card[:2]}{card[3:5]}.{card[6:8]}{card[9:11]}.{card[12:14]}{card[15:]}"):
        drafted = json.loads(shell("set", "stowage", word, "comment=found", "--draft", "-f", "json").stdout)
        assert [step["record_id"] for step in drafted] == [one["record_id"]], word
    other = next(record for record in gear.values() if record["serialNumber"] not in ("", one["serial"]))
    other["serialNumber"] = one["serial"]
    shell("pull", "stowage")
    told = shell("set", "stowage", one["serial"], "comment=x", "--draft", status=2).stderr
    assert f"2 records in stowage/devices have the serial '{one['serial']}'" in told


def test_of_many_changes_the_newest_are_named(at):
    shell, gear = at
    name = next(record["title"] for record in gear.values() if record["title"])
    for place in range(1, 7):
        shell("set", "stowage", name, f"comment=no. {place}", "--draft")
    last = newest(shell)
    told = shell("change", "show", str(last + 1), status=2).stderr
    assert f"there is: {last}, {last - 1}, {last - 2}, {last - 3}, {last - 4}, …; concordex change list" in told
    rows = json.loads(shell("change", "list", "-n", "2", "-f", "json").stdout)
    assert [row["change"] for row in rows] == [last, last - 1]


def test_what_is_set_and_retired_is_undone_to_the_last_member(at):
    shell, gear = at
    before = {number: {k: v for k, v in record.items() if k != "editedOn"} for number, record in gear.items()}
    name = next(record["title"] for record in gear.values() if record["state"] == "in service" and record["remark"])
    told = shell("set", "stowage", name, "position=7", "status=stored", "comment=", "--yes").stderr
    assert "1 step written" in told
    (record,) = [one for one in gear.values() if one["title"] == name]
    assert (record["unit"], record["state"], record["remark"]) == (7, "stored", "")
    first = newest(shell)
    assert "- status: in service" in shell("change", "show", str(first), "--diff").stdout
    shell("retire", "stowage", "kind = switch and status = 'in service'", "--yes")
    assert {one["state"] for one in gear.values() if one["category"] == "switch"} <= {"retired", "stored"}
    shell("change", "undo", str(newest(shell)), "--yes")
    shell("change", "undo", str(first), "--yes")
    assert before == {n: {k: v for k, v in record.items() if k != "editedOn"} for n, record in gear.items()}
    journal = json.loads(shell("change", "journal", str(first), "-f", "json", env={"CONCORDEX_USER": "x"}).stdout)
    assert [(row["action"], row["record"], row["state"]) for row in journal] == [("update", name, "confirmed")]
    assert "is none of the choices" in shell("set", "stowage", name, "status=gone", status=2).stderr
    assert "did you mean" in shell("set", "stowage", name + "x", "status=stored", status=2).stderr
    assert "nothing to do" in shell("set", "stowage", "kind = sensor", "status=stored").stderr


def test_what_others_altered_since_is_not_undone_unless_it_is_asked_for(at):
    shell, gear = at
    names = [record["title"] for record in gear.values()][:2]
    shell("set", "stowage", f'name in ("{names[0]}", "{names[1]}")', "comment=ours", "--yes")
    (record,) = [one for one in gear.values() if one["title"] == names[0]]
    record["remark"] = "a person's own"
    done = shell("change", "undo", str(newest(shell)), "--yes", status=4)
    assert "comment is now a person's own" in done.stdout
    assert record["remark"] == "a person's own"
    held = [step["state"] for step in steps(shell)]
    assert sorted(held) == ["confirmed", "held"]
    told = shell("change", "resume", str(newest(shell)), status=4)  # looked at anew, and held again
    assert "is incomplete" in told.stderr
    assert "comment is now a person's own" in told.stdout


def test_a_deletion_asks_for_the_number_and_can_be_undone(at):
    shell, gear = at
    name, number = next((record["title"], n) for n, record in gear.items() if record["rackId"] is None)
    told = shell("delete", "stowage", name, status=5)
    assert "say so with --count" in told.stderr
    assert "1 record;" in shell("delete", "stowage", name, "--count", "2", status=5).stderr
    image = {k: v for k, v in gear[number].items() if k not in ("id", "editedOn")}
    shell("delete", "stowage", name, "--count", "1")
    assert number not in gear
    shell("change", "undo", str(newest(shell)), "--yes")
    (back,) = [record for record in gear.values() if record["title"] == name]
    back["hardwareAddress"] = back["hardwareAddress"].replace(":", "-")  # written anew, in our notation
    assert {k: v for k, v in back.items() if k not in ("id", "editedOn")} == image


def test_acts_are_sent_once_and_grave_ones_ask_for_the_number(tmp_path):
    with Harbour.of(40, moment=datetime.now(UTC)) as harbour:
        shell = make_workspace(tmp_path, harbour, kind=Near)
        shell("pull", "fairlead", "muster")
        rows = json.loads(shell("show", "devices", "--where", "system = muster", "-f", "json").stdout)
        name = next(row["record_id"] for row in rows)
        assert 'did you mean "restart"?' in shell("action", "fairlead", "restrt", "kind = switch", status=2).stderr
        assert "confirmed" not in shell("action", "muster", "wipe", f"record_id = {name}", "--yes", status=5).stderr
        posts = [path for method, path in harbour.muster.faults.requests if method == "POST" and "wipe" in path]
        assert not posts
        harbour.muster.faults.add("fail_after", "/", method="POST", times=1, after=0)
        told = shell("action", "muster", "wipe", f"record_id = {name}", "--count", "1", status=None)
        posts = [path for method, path in harbour.muster.faults.requests if method == "POST" and "wipe" in path]
        assert len(posts) <= 1, told.stderr
        node = json.loads(shell("show", "devices", "--where", "system = fairlead", "-f", "json").stdout)[0]["record_id"]
        done = shell("action", "fairlead", "restart", f"record_id = {node}", "--yes")
        assert "1 step taken by the system" in done.stderr


# --- running in part, files, results, guards


def test_a_few_first_and_then_the_rest(at, tmp_path):
    shell, gear = at
    there = len(gear)
    path = sheet(tmp_path / "x.csv", [device(one, Site="new-quay" if one > 4 else "north-mole") for one in range(12)])
    shell("push", path, "--to", "stowage", "--make", "sites", "--draft")
    number = str(newest(shell))
    assert "has not begun yet" in shell("change", "resume", number, status=2).stderr
    told = shell("change", "run", number, "--first", "3", "--yes").stderr
    assert "is run in part: 3 steps" in told
    assert "10 steps left" in told
    assert len(gear) == there + 3
    told = shell("change", "run", number, "--where", "site = new-quay and serial = NW001077", "--yes").stderr
    assert "2 steps written" in told  # its site came with it
    posts = inventory_of(shell) and shell.harbour.stowage.faults.requests
    posts.clear()
    told = shell("change", "run", number, "--batch-size", "1", "--yes").stderr
    assert "is done: 8 steps" in told
    assert sum(method == "POST" for method, _ in posts) == 8
    assert len(gear) == there + 12
    assert "nothing left to do" in shell("change", "run", number, "--yes").stderr


def test_what_was_cut_off_in_part_goes_on_in_part(at, tmp_path, dying):
    shell, gear = at
    there = len(gear)
    shell("push", sheet(tmp_path / "x.csv", [device(one) for one in range(6)]), "--to", "stowage", "--draft")
    number = newest(shell)
    dying("settled", 0, late=False)
    with suppress(Killed, BaseExceptionGroup):
        shell("change", "run", str(number), "--first", "2", "--yes", status=None)
    dying(None, 0, late=False)
    assert [step["state"] for step in steps(shell, number)] == ["sent", "sent", *["ready"] * 4]
    assert "is run in part: 2 steps" in shell("change", "resume", str(number)).stderr
    assert len(gear) == there + 2
    assert "as it was asked" in shell("change", "resume", str(number), status=2).stderr


@pytest.mark.parametrize("ended", [True, False])
def test_what_was_run_as_somebody_put_it_aside_is_what_it_became(at, tmp_path, monkeypatch, ended):
    """Between looking whether it may be put aside and doing so, another process has begun it, or done it."""
    shell, _ = at
    shell("push", sheet(tmp_path / "x.csv", [device(0)]), "--to", "stowage", "--draft")
    number, drop = newest(shell), Journal.drop

    def meanwhile(journal: Journal, *asked) -> None:
        journal.begin(number, 1)
        if ended:
            journal.end(number, "done")
        drop(journal, *asked)

    monkeypatch.setattr(Journal, "drop", meanwhile)
    told = shell("change", "drop", str(number), status=5).stderr
    assert "was run or dropped by another process meanwhile" in told
    assert shell.workspace.record_of_changes.change(number).state == ("done" if ended else "running")
    assert "dropped" not in shell("journal", "list").stdout


def test_a_change_goes_by_file_and_its_results_into_a_pipeline(at, tmp_path):
    shell, gear = at
    there = len(gear)
    shell("push", sheet(tmp_path / "x.csv", [device(one) for one in range(3)]), "--to", "stowage", "--draft")
    number, file = str(newest(shell)), tmp_path / "tonight.yaml"
    shell("change", "save", number, "-o", str(file))
    shell("change", "drop", number)
    assert "nothing left to do" in shell("change", "run", number, "--yes", status=2).stderr
    shell.harbour.stowage.objects_to = lambda _, item: (
        ("title", "<no> & never") if item.get("title") == "sw-new-01" else None
    )
    try:
        shell("change", "load", str(file), "--yes", status=4)
    finally:
        shell.harbour.stowage.objects_to = lambda *_: None
    assert len(gear) == there + 2
    number = str(newest(shell))
    suite = ElementTree.fromstring(shell("change", "results", number, "--as", "junit").stdout)
    assert (suite.get("tests"), suite.get("failures")) == ("3", "1")
    (failure,) = suite.iter("failure")
    assert "<no> & never" in failure.get("message")
    assert "\\<no\\> & never" in shell("change", "results", number, "--as", "markdown").stdout
    shell("change", "results", number, "--as", "rejects", "-o", str(tmp_path / "again.csv"))
    (again,) = csv.DictReader((tmp_path / "again.csv").open())
    assert (again["name"], again["state"]) == ("sw-new-01", "refused")
    text = file.read_text().replace("serial:", "seriel:", 1)
    file.write_text(text)
    assert "names the field 'seriel'" in shell("change", "load", str(file), status=2).stderr


def test_guards_of_hour_and_of_systems_that_are_only_read(at, tmp_path):
    shell, gear = at
    path = sheet(tmp_path / "x.csv", [device(1)])
    now = datetime.now(UTC)
    begin, end = (f"{(now + timedelta(hours=hours)):%H:%M}" for hours in (2, 3))
    plain = (shell.folder / "concordex.yaml").read_text()
    try:
        shell.config(lambda text: text + f"guards: {{windows: [{{begin: '{begin}', end: '{end}'}}]}}\n")
        told = shell("push", path, "--to", "stowage", "--yes", status=5).stderr
        assert f"only in its maintenance windows: {begin} to {end} UTC" in told
        shell.config(lambda _: plain.replace("    dialect: stowage\n", "    dialect: stowage\n    read_only: true\n"))
        assert "is read-only" in shell("push", path, "--to", "stowage", "--yes", "--any-time", status=5).stderr
        shell.config(lambda _: plain + "guards: {windows: [{begin: '25:00', end: '01:00'}]}\n")
        assert "windows[0].begin" in shell("system", "list", status=1).stderr
    finally:
        shell.config(lambda _: plain)
    assert "sw-new-01" not in {record["title"] for record in gear.values()}


@pytest.mark.parametrize(
    ("moment", "inside"),
    [("2026-11-21T22:30", True), ("2026-11-22T03:59", True), ("2026-11-22T04:00", False), ("2026-11-23T23:00", False),
     ("2026-11-23T01:00", True), ("2026-11-21T21:59", False)],
)  # fmt: skip
def test_a_window_over_midnight_belongs_to_the_day_on_which_it_begins(moment, inside):
    window = Window(days=["sat", "sun"], begin="22:00", end="04:00")
    assert window.holds(datetime.fromisoformat(moment).replace(tzinfo=UTC)) is inside


# --- whatever fails: nothing doubled, nothing lost


class Killed(BaseException):
    """The process is gone."""


FAULTS = st.lists(
    st.tuples(
        st.sampled_from(["fail", "fail_after", "cut", "drop", "busy", "page"]),
        st.sampled_from(["POST", "PATCH", "GET"]),
        st.integers(0, 12),
        st.integers(1, 3),
    ),
    max_size=4,
)
#: At which writing of the journal, before it or after; and whether the process dies or the disk is full.
KILLS = st.lists(
    st.tuples(st.sampled_from(["mark_sent", "settled"]), st.integers(0, 10), st.booleans(), st.booleans()), max_size=2
)


def test_after_any_faults_and_kills_a_change_ends_as_it_should(inventory, dying):
    """A schedule of faults at the system and of deaths of the process, each before or after the journal is written."""
    shell, harbour, before = inventory
    workspace = shell.workspace
    first = plain_gear(before["lists"])
    old = before["lists"]["gear"][1]["title"]
    rows = [Row(place=f"row {at}", typed=device(at)) for at in range(7)]
    rows += [Row(place="row 9", typed={"Name": old, "Comment": "altered"})]

    settled_at_once(workspace, "stowage")

    @settings(max_examples=6)
    @given(faults=FAULTS, kills=KILLS)
    def law(faults, kills):
        restore(harbour, before)
        pull(workspace, ["stowage"], accept_fall=True)
        change = workspace.journal.keep(prepare_push(workspace, "stowage", "devices", rows, PushOptions()).change)
        for kind, method, after, times in faults:
            harbour.stowage.faults.add(kind, "/v2/", method=method, after=after, times=times)
        for name, nth, late, full in kills:
            dying(name, nth, late=late, full=full)
            attempt(workspace, change.number)
        harbour.stowage.faults.clear()
        dying(None, 0, late=False)
        for _ in range(2):
            attempt(workspace, change.number)
        names = Counter(one["title"] for one in harbour.stowage.lists["gear"].values())
        for step in workspace.change(change.number).steps:
            assert names[step.label] == (step.state == "confirmed" or step.label == old), step
        for _ in range(2):  # what left here and is not there goes again by a person's word alone
            attempt(workspace, change.number, RunOptions(send_again=True))
        assert {step.state for step in workspace.change(change.number).steps} == {"confirmed"}
        now = plain_gear(harbour.stowage.lists)
        assert sorted(one["title"] for one in now.values()) == sorted(
            [*(one["title"] for one in first.values()), *(row.typed["Name"] for row in rows[:7])]
        )
        assert now[1]["remark"] == "altered"
        back = workspace.journal.keep(prepare_undo(workspace, change.number))
        run(workspace, back.number)
        assert plain_gear(harbour.stowage.lists) == first

    law()


#: How a run of one request for each step may end at one of them: the process before or after the journal is
#: written, the disk full, or the system and the line in their ways.
ENDS = [(name, late, full) for name in ("mark_sent", "settled") for late, full in ((0, 0), (1, 0), (0, 1))]
LOST = [("drop", 1), ("cut", 1), ("fail", 1), ("fail_after", 1), ("busy", 9)]


@pytest.mark.parametrize("end", [*ENDS, *LOST], ids=str)
def test_at_each_of_its_steps_a_change_may_fail_and_goes_on(inventory, dying, end):
    shell, harbour, before = inventory
    workspace = shell.workspace
    restore(harbour, before)
    pull(workspace, ["stowage"], accept_fall=True)
    rows = [Row(place=f"row {at}", typed=device(at)) for at in range(2)]
    prepared = prepare_push(workspace, "stowage", "devices", rows, PushOptions()).change
    settled_at_once(workspace, "stowage")
    for k in range(len(rows)):
        restore(harbour, before)
        change = workspace.journal.keep(prepared)
        if end in ENDS:
            name, late, full = end
            dying(name, k, late=bool(late), full=bool(full))
        else:
            harbour.stowage.faults.add(end[0], "/v2/gear", method="POST", after=k, times=end[1])
        attempt(workspace, change.number, RunOptions(batch_size=1))
        dying(None, 0, late=False)
        harbour.stowage.faults.clear()
        attempt(workspace, change.number, RunOptions(batch_size=1))
        stands = {step.state for step in workspace.change(change.number).steps}
        assert stands <= {"confirmed", "unknown"}, k  # never sent again unasked: it may have arrived, or may yet
        attempt(workspace, change.number, RunOptions(batch_size=1, send_again=True))
        assert {step.state for step in workspace.change(change.number).steps} == {"confirmed"}, k
        made = [
            one["title"] for number, one in harbour.stowage.lists["gear"].items() if number > before["last"]["gear"]
        ]
        assert sorted(made) == [row.typed["Name"] for row in rows], k


def test_a_session_may_end_at_each_step(at):
    shell, _ = at
    fairlead = shell.harbour.fairlead
    shell("pull", "fairlead")
    sound = [node for node in fairlead.nodes if node["chassis"] and node["health"] == "good"]
    serials = [node["chassis"]["serial"] for node in sound][:4]
    for k in range(6):
        path = sheet(shell.folder / "x.csv", [{"serial": one, "name": f"n-{k}-{one}"} for one in serials])
        fairlead.faults.add("expire", "/fl/3/nodes", method="POST", after=k, times=1)
        shell("push", path, "--to", "fairlead", "--yes")
        fairlead.faults.clear()
        named = {node["chassis"]["serial"]: node["label"] for node in fairlead.nodes if node["chassis"]}
        assert [named[one] for one in serials] == [f"n-{k}-{one}" for one in serials], k


def test_a_push_of_1000_that_is_killed_goes_on_where_it_was(tmp_path):
    with Harbour.of(40, moment=datetime.now(UTC)) as harbour:
        shell = make_workspace(tmp_path, harbour, ["stowage"], Near)
        shell.config(lambda text: text + "guards: {creations: 1000}\n")
        shell("pull")
        rows = [
            {
                "name": f"k-{at}",
                "serial": f"KK{at:06}",
                "site": "north-mole",
                "maker": MAKER,
                "model": MODEL,
                "kind": "switch",
            }
            for at in range(1000)
        ]
        shell("push", sheet(tmp_path / "x.csv", rows), "--to", "stowage", "--draft")
        gear = harbour.stowage.lists["gear"]
        there = len(gear)
        harbour.stowage.faults.latency = 0.02
        process = shell.begin("change", "run", "1", "--yes")
        end = time.monotonic() + 60
        while len(gear) < there + 300:
            assert time.monotonic() < end
            time.sleep(0.01)
        process.kill()
        process.wait()
        assert json.loads(shell("change", "list", "-f", "json").stdout)[0]["state"] == "stopped"
        process.stdout.close()
        process.stderr.close()
        harbour.stowage.faults.latency = 0
        assert 300 <= len(gear) - there < 1000
        told = shell("change", "resume", "1", "--send-again").stderr
        assert "1,000 steps written" in told
        made = [one["serialNumber"] for one in list(gear.values())[there:]]
        assert sorted(made) == [row["serial"] for row in rows]
        assert "1,000 are there as they are" in shell("push", str(tmp_path / "x.csv"), "--to", "stowage").stderr


def plain_gear(lists: dict) -> dict:
    return {number: {k: v for k, v in one.items() if k != "editedOn"} for number, one in lists["gear"].items()}


def settled_at_once(workspace, system: str) -> None:
    """What is written there shows in the very next look, so that nobody waits for it."""
    workspace.dialect(system).limits.__dict__["settles"] = "0s"


def attempt(workspace, number: int, how: RunOptions | None = None) -> None:
    with suppress(Killed, ConcordexError):  # what is told can be gone on with
        try:
            run(workspace, number, how=how)
        except BaseExceptionGroup as several:
            raise several.exceptions[0] from several


@pytest.fixture
def dying(monkeypatch):
    """Let the process die at the n-th writing of the journal, before or after it is written."""
    kept = {name: getattr(Journal, name) for name in ("mark_sent", "settled", "judged")}

    def kill(name: str | None, nth: int, *, late: bool, full: bool = False) -> None:
        for other, method in kept.items():
            monkeypatch.setattr(Journal, other, method)
        if name is None:
            return
        left = [nth]
        end = StoreError("the disk is full") if full else Killed()
        late = late and not full  # what could not be written was not written

        def die(writing, self, *given):
            left[0] -= 1
            if left[0] < 0 and not late:
                raise end
            kept[writing](self, *given)
            if left[0] < 0:
                raise end

        for writing in ("settled", "judged") if name == "settled" else (name,):  # in the order in which they come
            monkeypatch.setattr(Journal, writing, lambda self, *given, writing=writing: die(writing, self, *given))

    return kill


# --- the core


FORMS = {
    "devices": Form(keys=[["name"]], links=[ReferenceMember(via="sites", by={"name": "site"})], can_delete=True),
    "sites": Form(keys=[["name"]]),
}
STATES = st.sampled_from(["ready", "written", "confirmed", "differs", "refused", "held"])


@st.composite
def changes(draw) -> Change:
    made = []
    for number in range(1, draw(st.integers(1, 8)) + 1):
        action = draw(st.sampled_from(["create", "update", "delete"]))
        values = {"name": f"d{number}", "site": draw(st.sampled_from(["a", "b"]))}
        made.append(
            Step(number=number, table="devices", operation=action, label=f"d{number}", key={"name": f"d{number}"},
                 before={} if action == "create" else {"site": "z", "name": f"d{number}"},
                 desired={} if action == "delete" else values, state=draw(STATES), record_id=str(number),
                 sent=draw(st.sampled_from([None, 1.0])))
        )  # fmt: skip
    return Change(kind="push", system="inv", steps=tuple(made), number=4)


@given(changes())
def test_an_undo_takes_back_what_left_here_the_last_first(change):
    back = undo(change, FORMS)
    done = [s for s in change.steps if s.sent and s.state in ("written", "confirmed", "differs")]
    assert [step.label for step in back.steps] == [step.label for step in reversed(done)]
    turned = {"create": "delete", "update": "update", "delete": "create"}
    assert [step.operation for step in back.steps] == [turned[step.operation] for step in reversed(done)]
    sent = [
        Step(**{**vars(step), "sent": 1.0, "state": "confirmed", "record_id": step.record_id or "9"})
        for step in back.steps
    ]
    twice = undo(Change(kind="undo", system="inv", steps=tuple(sent)), FORMS)
    assert [step.operation for step in twice.steps] == [step.operation for step in done]
    for again, step in zip(twice.steps, done, strict=True):
        assert {**again.desired} == dict(step.desired)


@given(changes(), st.integers(1, 4))
def test_the_first_so_many_come_with_what_they_need_and_nothing_else(change, first):
    sites = [
        Step(number=90 + at, table="sites", operation="create", label=name, key={"name": name}, desired={"name": name})
        for at, name in enumerate("ab")
    ]
    whole = Change(kind="push", system="inv", steps=(*sites, *change.steps))
    picked = chosen(whole, needed_by_records(whole, FORMS), table="devices", first=first)
    devices = [step for step in picked if step.table == "devices"]
    open_ones = [step for step in change.steps if step.open]
    assert devices == open_ones[:first]
    needed = {step.desired["site"] for step in devices if step.operation in ("create", "update")}
    assert {step.label for step in picked if step.table == "sites"} == needed


def test_what_the_system_wrote_in_its_own_way_is_told_apart_from_what_it_did_not_take():
    desired, was = {"macs": ["0A-1B"], "name": "x", "status": "stored", "os": "7"}, {"status": "in service"}
    there = {"macs": ["0a:1b"], "name": "X", "status": "in service", "os": "8"}
    assert [*map(words, zip(verdict(desired, was, there)))] == [
        "read back: status is still in service; os is 8, not 7", "macs is written 0a:1b there",
    ]  # fmt: skip


def test_a_preview_shows_every_field_of_what_is_made_in_every_format(at, tmp_path):
    shell, _ = at
    path = sheet(tmp_path / "x.csv", [device(1, Comment="mind the step", Position="7")])
    done = shell("push", path, "--to", "stowage", "--draft")
    for said in ("comment mind the step", "position 7", "macs 0c:b1:aa:00:00:01"):
        assert said in done.stdout
    number = str(shell.workspace.changes()[0]["id"])
    (row,) = csv.DictReader(shell("change", "show", number, "-f", "csv").stdout.splitlines())
    assert json.loads(row["desired"])["comment"] == "mind the step"


def test_a_change_from_a_file_is_judged_by_its_steps_whatever_it_calls_itself(at, tmp_path):
    """Deletions ask for their number, also where the file's kind was edited."""
    shell, gear = at
    name = next(iter(gear.values()))["title"]
    shell("delete", "stowage", f'name = "{name}"', "--draft")
    number = str(shell.workspace.changes()[0]["id"])
    path = tmp_path / "change.yaml"
    shell("change", "save", number, "-o", str(path))
    path.write_text(path.read_text().replace("kind: delete", "kind: set"))
    assert "say so with --count" in shell("change", "load", str(path), "--yes", status=5).stderr
    loaded = str(shell.workspace.changes()[0]["id"])
    assert "say so with --count" in shell("change", "run", loaded, "--yes", status=5).stderr
    assert any(one["title"] == name for one in gear.values())


def test_a_draft_tells_how_old_it_is_and_what_has_moved_since(at, tmp_path):
    """By what was pulled since: nobody is asked when a draft is shown."""
    shell, gear = at
    record = next(iter(gear.values()))
    shell("set", "stowage", record["title"], "comment=ours", "--draft")
    shell("push", sheet(tmp_path / "x.csv", [device(1), device(2)]), "--to", "stowage", "--draft")
    requests = shell.harbour.stowage.faults.requests
    requests.clear()
    told = shell("change", "show", str(newest(shell) - 1))
    assert "stowage was last pulled" in told.stderr
    assert "no longer" not in told.stdout
    assert not requests
    record["remark"] = "a person's"
    shell.harbour.stowage.keep("gear", {k: v for k, v in record.items() if k not in ("id", "editedOn")} | {
        "title": "sw-new-01", "serialNumber": "NW000177"})  # fmt: skip
    shell("pull", "stowage")
    assert "comment is now a person's" in shell("change", "show", str(newest(shell) - 1)).stdout
    told = shell("change", "show", str(newest(shell)))
    assert "is there by now" in told.stdout
    assert "1 of 2 steps rest on what has changed" in told.stderr


def test_a_long_value_is_shortened_in_its_middle_and_all_of_it_is_shown_when_asked(at, tmp_path):
    """But not where that would hide what changes."""
    shell, gear = at
    long = "begin " + "x" * 100 + " end"
    path = sheet(tmp_path / "x.csv", [device(1, Comment=long)])
    told = shell("push", path, "--to", "stowage", "--draft")
    assert long not in told.stdout
    assert " … " in told.stdout
    assert "long values are shortened in their middles; --all shows all of each" in told.stderr
    assert long in shell("change", "show", str(newest(shell)), "--all").stdout
    record = next(iter(gear.values()))
    record["remark"] = long
    shell("pull", "stowage")
    shell("set", "stowage", record["title"], f"comment={long[:52]}yyy{long[55:]}", "--draft")
    assert f"comment: {long} -> " in shell("change", "show", str(newest(shell))).stdout
