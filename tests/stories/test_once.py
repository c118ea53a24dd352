"""Writes whose outcome is not told: sent once, looked for, and never called done, or undone, by guessing."""

from __future__ import annotations

import csv
import json
import os
import sqlite3
import subprocess
import time
from copy import deepcopy

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from ruamel.yaml import YAML

from concordex.change.rows import Row
from concordex.change.run_options import RunOptions
from concordex.store.locks import Locks
from concordex.work.change.push import PushOptions, prepare_push
from concordex.work.change.undo import prepare_undo
from concordex.work.pull.pull import pull
from tests.conftest import Shell
from tests.spite import MANNERS, UNDONE, spiteful
from tests.stories.test_changes import attempt as outlived
from tests.stories.test_changes import dying, settled_at_once  # noqa: F401 - a fixture


def pushed(shell: Shell, names: list[str], *words: str, status: int | None = 0) -> subprocess.CompletedProcess:
    path = shell.folder / "rows.csv"
    with path.open("w", newline="") as file:
        writer = csv.writer(file)
        writer.writerows([["name", "comment"], *([name, "ours"] for name in names)])
    return shell("push", str(path), "--to", "spite", "--table", "devices", "--yes", *words, status=status)


def states(shell: Shell, number: int | None = None) -> list[str]:
    number = number or json.loads(shell("change", "list", "-f", "json").stdout)[0]["change"]
    return [step["state"] for step in json.loads(shell("change", "show", str(number), "-f", "json").stdout)]


@pytest.mark.parametrize("manner", ["late", "cut", "fail_after", "bare", "fewer"])
@pytest.mark.parametrize("many", [1, 40])
def test_what_arrived_without_a_word_is_found_and_not_sent_again(tmp_path, serve, manner, many):
    shell, spite = spiteful(tmp_path, serve, many=many)
    spite.plan = [manner]
    told = pushed(shell, [f"lamp-{at}" for at in range(many)])
    assert f"{many} step{'s' * (many > 1)} written, read back and confirmed" in told.stderr
    assert set(spite.labels().values()) == {1}
    assert spite.asked["POST"] == 1


@pytest.mark.parametrize("manner", [*UNDONE[:2], "late"])
def test_what_does_not_show_is_unknown_until_it_does_or_a_person_says_so(tmp_path, serve, manner):
    """The run goes on with the rest; going on only looks again; a person's word sends again."""
    shell, spite = spiteful(tmp_path, serve, settles="0s")
    spite.plan, spite.delay = [manner], 2.0
    told = pushed(shell, ["lamp-1", "lamp-2"], status=4)
    assert sorted(states(shell)) == ["confirmed", "unknown"]
    assert "change resume 1 --send-again" in told.stderr
    assert "it may have arrived, and does not show" in told.stdout
    if manner == "late":
        while len(spite.labels()) < 2:
            time.sleep(0.05)
        shell("change", "resume", "1")
    else:
        shell("change", "resume", "1", status=4)
        assert sorted(states(shell)) == ["confirmed", "unknown"]
        assert spite.asked["POST"] == 2
        shell("change", "resume", "1", "--send-again")
    assert states(shell) == ["confirmed", "confirmed"]
    assert set(spite.labels().values()) == {1}


def test_two_records_of_one_key_are_doubled_and_never_confirmed(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve)
    spite.plan = ["twice"]
    told = pushed(shell, ["lamp-1"], status=4)
    assert states(shell) == ["doubled"]
    assert "2 records bear its key: " in told.stdout
    told = shell("change", "undo", "1", "--yes", status=4)  # which of them is ours, nobody knows
    assert "which of them is ours is not known" in told.stdout
    assert spite.labels()["lamp-1"] == 2


def test_a_wrong_id_in_an_answer_is_not_believed(tmp_path, serve):
    """What others refer to, and what an undo deletes, is found by its key, whatever the system called it."""
    shell, spite = spiteful(tmp_path, serve)
    other = spite.put("devices", label="somebody's")
    shell("pull")
    spite.plan = ["wrong", "wrong"]
    path = tmp_path / "x.json"
    path.write_text(json.dumps([{"name": "lamp-1", "site": "attic"}]))
    told = shell("push", str(path), "--to", "spite", "--table", "devices", "--make", "sites", "--yes")
    (attic,) = spite.tables["sites"]
    (ours,) = (one for one in spite.tables["devices"].values() if one["label"] == "lamp-1")
    assert ours["room"] == attic
    assert "2 steps written" in told.stderr
    shell("change", "undo", "1", "--yes")
    assert list(spite.tables["devices"]) == [other]


def replaced(shell: Shell, status: int) -> str:
    """Run a change that deletes two lamps, and makes them anew."""
    shell("pull")
    shell("delete", "spite", "--table", "devices", "name like lamp-*", "--draft")
    path = shell.folder / "change.yaml"
    shell("change", "save", "1", "-o", str(path))
    saved = YAML(typ="safe").load(path)
    saved["steps"] += [
        {"operation": "create", "table": "devices", "record": name, "key": {"name": name}, "desired": {"name": name}}
        for name in ("lamp-1", "lamp-2")
    ]
    path.write_text(json.dumps(saved))  # which is YAML as well
    return shell("change", "load", str(path), "--count", "4", status=status).stdout


def test_what_a_system_would_not_delete_is_there_for_the_steps_after_it(tmp_path, serve):
    """A good answer that refuses one of a list: a record of that key, made later in the change, would be a twin."""
    told = '"/devices", batch_size: 9, records: ids, answers: {records: all, refused: kept = true, reason: why}'
    old = 'delete: {path: "/devices/{record_id}"}'
    shell, spite = spiteful(tmp_path, serve, more=lambda text: text.replace(old, f"delete: {{path: {told}}}"))
    first, _ = (spite.put("devices", label=label) for label in ("lamp-1", "lamp-2"))

    def refuses_the_last(method, *_):
        if method != "DELETE":
            return None
        del spite.tables["devices"][first]
        return 200, {"all": [{"kept": False}, {"kept": True, "why": "bolted down"}]}

    spite.meets = refuses_the_last
    assert "bolted down" in replaced(shell, status=4)
    assert spite.labels() == {"lamp-1": 1, "lamp-2": 1}


def test_what_was_deleted_without_a_good_answer_is_not_taken_for_there(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve)
    old = [spite.put("devices", label=label) for label in ("lamp-1", "lamp-2")]
    spite.plan = ["fail_after", "cut"]
    replaced(shell, status=0)
    assert states(shell) == ["confirmed"] * 4
    assert spite.labels() == {"lamp-1": 1, "lamp-2": 1}
    assert not spite.tables["devices"].keys() & old


def test_while_nothing_can_have_been_done_it_is_sent_again_without_a_look(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve)
    spite.plan = ["busy", "away", "ok", "busy"]
    spite.asked.clear()
    pushed(shell, [f"lamp-{at}" for at in range(12)])
    assert (spite.asked["POST"], spite.asked["GET"]) == (15, 4)
    assert set(spite.labels().values()) == {1}


def test_lists_in_flight_share_their_looks(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve, settles="0s")
    spite.plan = ["fail_after"] * 40
    spite.asked.clear()
    pushed(shell, [f"lamp-{at}" for at in range(40)])
    assert spite.asked["POST"] == 40
    assert spite.asked["GET"] < 2 * 40  # fewer looks, each at two tables, than lists: how many fewer, the load decides


def test_what_waited_for_a_maker_is_open_again_once_that_is_mended(tmp_path, serve):
    """And done is said only when every step is confirmed."""
    shell, spite = spiteful(tmp_path, serve, settles="0s")
    path = tmp_path / "x.json"
    path.write_text(json.dumps([{"name": f"lamp-{at}", "site": "attic"} for at in range(3)]))
    spite.plan = ["fail"]
    words = ["push", str(path), "--to", "spite", "--table", "devices", "--make", "sites", "--yes"]
    told = shell(*words, status=4)
    assert "is incomplete: 0 steps" in told.stderr
    assert states(shell) == ["unknown", "held", "held", "held"]
    assert "is done" not in shell("change", "resume", "1", status=4).stderr
    assert "4 steps" in shell("change", "resume", "1", "--send-again").stderr
    assert states(shell) == ["confirmed"] * 4
    assert set(spite.labels().values()) == {1}


def test_a_write_that_takes_longer_than_we_wait_is_made_once(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve, timeout=0.4, settles="2s")
    spite.took = 1.0
    pushed(shell, ["lamp-1"])
    assert spite.labels()["lamp-1"] == spite.asked["POST"] == 1


def test_resume_waits_until_it_must_have_settled_and_looks_twice(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve, settles="3s")
    spite.took = 2.5
    process = shell.begin("push", _one(shell), "--to", "spite", "--table", "devices", "--yes")
    while not spite.asked["POST"]:
        time.sleep(0.01)
    process.kill()
    process.communicate()
    assert states(shell) == ["sent"]
    shell("change", "resume", "1")
    assert spite.labels()["lamp-1"] == spite.asked["POST"] == 1


def _one(shell: Shell) -> str:
    path = shell.folder / "one.csv"
    path.write_text("name,comment\nlamp-1,ours\n")
    return str(path)


@pytest.mark.parametrize(
    "words", [["set", "spite", "lamp-1", "comment=x"], ["delete", "spite", "lamp-1", "--count", "1"]]
)
@pytest.mark.parametrize("manner", ["cut", "cut_before", "fail", "late"])
def test_updates_and_deletions_too_leave_once(tmp_path, serve, words, manner):
    """Also where the HTTP client would send them again by itself: on a connection that was used before."""
    shell, spite = spiteful(tmp_path, serve, how=", method: PUT, whole: true", settles="1s")
    number = spite.put("devices", label="lamp-1", note="", watt=40)
    shell("pull")
    spite.plan = [manner]
    spite.asked.clear()
    done = manner in ("cut", "late")
    more = ["--count", "1"] if words[0] == "delete" else ["--yes"]
    shell(*words, *more, status=0 if done else 4)
    assert spite.asked["PUT"] + spite.asked["DELETE"] == 1
    assert states(shell) == ["confirmed" if done else "unknown"]
    if not done:
        shell("change", "resume", "1", status=4)
        shell("change", "resume", "1", "--send-again")
    assert spite.asked["PUT"] + spite.asked["DELETE"] == 1 + (not done)
    left = spite.tables["devices"].get(number)
    assert left is None if words[0] == "delete" else left["note"] == "x" and left["watt"] == 40


def test_an_act_that_was_cut_off_is_settled_by_a_person(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve)
    spite.put("devices", label="lamp-1")
    spite.put("devices", label="lamp-2")
    shell("pull")
    spite.plan = ["cut", "cut_before"]
    told = shell("action", "spite", "ring", "name like lamp-*", "--yes", status=4)
    assert "change settle 1 STEP --done" in told.stderr
    shell("change", "resume", "1", status=4)
    assert spite.asked["POST"] == 2
    assert states(shell) == ["unknown"] * 2
    assert "say what you saw there" in shell("change", "settle", "1", "1", status=2).stderr
    shell("change", "settle", "1", "1", "--done")
    assert "resume 1" in shell("change", "settle", "1", "2", "--not-done").stderr
    assert "only what is unknown" in shell("change", "settle", "1", "1", "--done", status=2).stderr
    shell("change", "resume", "1")
    assert len(spite.rung) == 2
    assert states(shell) == ["confirmed"] * 2


def test_an_action_is_sent_with_what_the_record_says_just_then(tmp_path, serve):
    told = 'ring"}', 'ring", json: {to: "{name}", with: "{comment}"}}'
    shell, spite = spiteful(tmp_path, serve, more=lambda text: text.replace(*told))
    number = spite.put("devices", label="lamp-1", note="loud")
    shell("pull")
    shell("action", "spite", "ring", "name = lamp-1", "--draft")
    spite.tables["devices"][number]["note"] = "softly"
    shell("change", "run", "1", "--yes")
    assert [body for method, body, _ in spite.sent if method == "POST"] == [{"to": "lamp-1", "with": "softly"}]


def test_what_is_told_in_another_order_than_it_was_sent_in_is_not_believed(tmp_path, serve):
    """Of two, the second was made, and the answer says the first: neither is called refused, nor made."""
    told = "answers: {records: $, refused: kept = true, reason: why}, path: /devices"
    shell, spite = spiteful(
        tmp_path, serve, many=9, settles="0s", more=lambda text: text.replace("path: /devices, b", f"{told}, b")
    )

    def other_way_round(method, _table, _more, body, _headers):
        if method != "POST":
            return None
        return 200, [{"id": spite.put("devices", **body[1])}, {"kept": True, "why": "bolted down"}]

    spite.meets = other_way_round
    told = pushed(shell, ["lamp-1", "lamp-2"], status=4).stdout
    assert states(shell) == ["unknown", "unknown"]
    assert "it shows all the same, and the system says that it refused it: bolted down" in told
    spite.meets = lambda *_: None
    shell("change", "resume", "1", status=4)
    assert states(shell) == ["unknown", "confirmed"]
    shell("change", "resume", "1", "--send-again")
    assert spite.labels() == {"lamp-1": 1, "lamp-2": 1}


@pytest.mark.parametrize(
    ("more", "answer", "looks"),
    [
        ("", (400, {"why": "odd"}), True),
        ("", (409, {"errors": [{"at": 3, "why": "odd"}]}), True),
        ("", (413, {}), False),
        (", atomic: the guide says so", (422, {}), False),
    ],
)
def test_of_a_list_that_was_refused_nothing_is_made_twice(tmp_path, serve, more, answer, looks):
    """A system may go through it until it meets a bad record, and refuse all of it; or say that it never does so."""
    refusals = "      refusals: {records: errors, index: at, reason: why}\n      create: {"
    shell, spite = spiteful(
        tmp_path,
        serve,
        many=9,
        settles="0s",
        more=lambda text: text.replace("      create: {", refusals).replace("size: 9", f"size: 9{more}"),
    )

    def one_by_one(method, _table, _more, body, _headers):
        labels = [one["label"] for one in body] if method == "POST" and isinstance(body, list) else []
        if "lamp-3" not in labels:
            return None
        for one in body[: labels.index("lamp-3") if looks else 0]:
            spite.put("devices", **one)
        return answer if len(body) > 1 else (400, {"why": "odd"})

    spite.meets = one_by_one
    spite.asked.clear()
    pushed(shell, [f"lamp-{at}" for at in range(6)], status=4)
    assert states(shell) == ["confirmed"] * 3 + ["refused"] + ["confirmed"] * 2
    assert spite.labels() == {f"lamp-{at}": 1 for at in (0, 1, 2, 4, 5)}
    assert spite.asked["GET"] == 4 + 2 * looks  # each of two tables


@pytest.mark.parametrize(("made", "lists"), [(0, [6, 6]), (2, [6, 4]), (6, [6])])
def test_of_a_list_that_is_put_off_with_a_503_what_was_made_of_it_is_not_sent_again(tmp_path, serve, made, lists):
    """A system that goes out of service in the middle of a list says when to come again, and not how far it came."""
    shell, spite = spiteful(tmp_path, serve, many=9, settles="0s")
    came = []

    def put_off_once(method, _table, _more, body, _headers):
        if method != "POST":
            return None
        came.append(len(body))
        if len(came) > 1:
            return None
        for one in body[:made]:
            spite.put("devices", **one)
        return 503, {}, [("Retry-After", "0")]

    spite.meets = put_off_once
    pushed(shell, [f"lamp-{at}" for at in range(6)])
    assert (came, spite.labels()) == (lists, {f"lamp-{at}": 1 for at in range(6)})
    assert states(shell) == ["confirmed"] * 6


@pytest.mark.parametrize("answer", [(400, {"why": "no more"}), (503, {}, [("Retry-After", "0")])], ids=["400", "503"])
def test_of_several_tables_in_one_refused_call_nothing_is_made_twice(tmp_path, serve, answer):
    together = (
        'together: {path: /several, tables: {sites: sites, devices: devices}, refers: "#{member}/{at}"}\ntables:\n'
    )
    shell, spite = spiteful(tmp_path, serve, settles="0s", more=lambda text: text.replace("tables:\n", together, 1))

    def the_first_alone(_method, table, _more, body, _headers):
        if table != "several":
            return None
        for site in body["sites"]:
            spite.put("sites", **site)
        return answer

    spite.meets = the_first_alone
    path = tmp_path / "x.json"
    path.write_text(json.dumps([{"name": "lamp-1", "site": "attic"}, {"name": "lamp-2", "site": "attic"}]))
    shell("push", str(path), "--to", "spite", "--table", "devices", "--make", "sites", "--draft")
    shell("change", "run", "1", "--yes", "--together")
    (attic,) = spite.tables["sites"]
    assert [one["room"] for one in spite.tables["devices"].values()] == [attic, attic]


@pytest.mark.parametrize("twin", ["attic", "Attic"])
def test_a_reference_that_two_records_bear_is_a_guess_and_not_made(tmp_path, serve, twin):
    """Neither where both are known as it is prepared, nor where the second has come since."""
    shell, spite = spiteful(tmp_path, serve)
    rows = tmp_path / "x.json"
    rows.write_text(json.dumps([{"name": "lamp-1", "site": "attic"}]))
    first = spite.put("sites", label="attic")
    shell("pull")
    words = ("push", str(rows), "--to", "spite", "--table", "devices", "--make", "sites", "--draft")
    shell(*words)
    both = f"{first}, {spite.put('sites', label=twin)}"
    told = shell("change", "run", "1", "--yes", status=4)
    assert f"spite has 2 records in sites for attic: {both}" in told.stdout
    assert states(shell) == ["held"]
    shell("pull")
    assert f"is borne by 2 of the sites there: {both}" in shell(*words, status=2).stdout
    assert not spite.labels()


def test_what_a_record_lacks_is_not_sent_as_a_word_of_ours(tmp_path, serve):
    """Neither `{comment}` nor `None`: it is refused here, and what needs no more is sent as it is."""
    told = 'ring"}', 'ring", query: {at: "{position}"}, json: {also: "{comment}", with: "say {comment}"}}'
    shell, spite = spiteful(tmp_path, serve, more=lambda text: text.replace(*told))
    spite.put("devices", label="lamp-1", at=3)
    spite.put("devices", label="lamp-2", at=4, note="softly")
    shell("pull")
    told = shell("action", "spite", "ring", "name like lamp-*", "--yes", status=4)
    assert "there is no value for {comment} in what is sent to /devices/{record_id}/ring" in told.stdout
    assert states(shell) == ["refused", "confirmed"]
    assert [body for method, body, _ in spite.sent if method == "POST"] == [{"also": "softly", "with": "say softly"}]


def test_what_would_be_sent_to_another_address_is_refused_here_and_not_unknown(tmp_path, serve):
    """A record's own words stand in the address: `..` would lead elsewhere, and nothing has left."""
    shell, spite = spiteful(tmp_path, serve, more=lambda text: text.replace("}/ring", "}/ring/{comment}"))
    spite.put("devices", label="lamp-1", note="..")
    shell("pull")
    told = shell("action", "spite", "ring", "name = lamp-1", "--yes", status=4)
    assert "cannot stand in an address" in told.stdout
    assert (states(shell), spite.asked["POST"]) == (["refused"], 0)


@pytest.mark.parametrize("many", [1, 10])
def test_a_record_that_we_may_not_write_costs_that_record(tmp_path, serve, many):
    shell, spite = spiteful(tmp_path, serve, many=many)
    spite.forbidden = {"lamp-3"}
    told = pushed(shell, [f"lamp-{at}" for at in range(10)], status=4)
    assert sorted(states(shell)) == ["confirmed"] * 9 + ["refused"]
    assert "not this one" in told.stdout
    spite.forbidden = set()
    shell("change", "resume", "1")  # the right was given: what was refused is tried again
    assert set(spite.labels().values()) == {1}
    assert len(spite.labels()) == 10


def test_where_the_right_lacks_altogether_the_run_ends(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve)
    spite.forbidden = {f"lamp-{at}" for at in range(200)}
    told = pushed(shell, sorted(spite.forbidden), status=1)
    assert "not this one" in told.stderr
    assert spite.asked["POST"] < 12
    assert "ready" in states(shell)


def test_one_change_runs_once_and_one_writer_writes_to_a_system(tmp_path, serve):
    """Two runs at one moment: one of them is told who has it, or waits; and a dead one is no hindrance."""
    shell, spite = spiteful(tmp_path, serve, many=20)
    spite.took = 4.0
    pushed(shell, [f"lamp-{at}" for at in range(40)], "--draft")
    words = ("change", "run", "1", "--yes")
    both = [Shell(shell.folder).begin(*words) for _ in range(2)]
    ended = [(one.communicate(), one.returncode) for one in both]
    codes = sorted(code for _, code in ended)
    assert codes == [0, 5], ended
    (refused,) = (err for (_, err), code in ended if code == 5)
    assert "spite is being written to by change 1 of" in refused
    assert "--wait 10m" in refused
    assert set(spite.labels().values()) == {1}
    spite.took = 1.0
    pushed(shell, [f"more-{at}" for at in range(20)], "--draft")
    pushed(shell, [f"most-{at}" for at in range(20)], "--draft")
    first = Shell(shell.folder).begin("change", "run", "2", "--yes")
    while Locks(shell.folder / ".concordex").holder("spite") is None:  # however long a process takes to start
        assert first.poll() is None
        time.sleep(0.02)
    shell("change", "run", "3", "--yes", "--wait", "30s")
    assert first.wait() == 0
    first.communicate()
    killed = Shell(shell.folder).begin("change", "resume", "1")
    killed.kill()
    killed.communicate()
    assert set(spite.labels().values()) == {1}


SCHEDULES = st.lists(st.sampled_from(MANNERS), max_size=6)
#: How many of them are tried; more where somebody has the time.
SCHEDULED = int(os.environ.get("CONCORDEX_SCHEDULES", "12"))
#: When the process dies, if it does: at the n-th writing of its journal, before or after that is written.
DEATHS = st.none() | st.tuples(st.sampled_from(["mark_sent", "settled"]), st.integers(0, 4), st.booleans())


def test_whatever_the_server_does_nothing_is_doubled_by_us_and_no_word_is_false(tmp_path, serve, dying):  # noqa: F811
    """After run, resume and a person's word the system holds what was asked for; the undo takes all of it back.

    The system refuses no twins, and the process may die at any moment and go on at once.  At every request a rival
    edits a record that we edit too, in a member that we do not write: it is never lost.
    """
    shell, spite = spiteful(tmp_path, serve, many=2, settles="0s")
    workspace = shell.workspace
    settled_at_once(workspace, "spite")
    rows = [Row(place=f"row {at}", typed={"name": f"lamp-{at}", "site": "attic"}) for at in range(4)]
    rows.append(Row(place="row 5", typed={"name": "old", "position": "7"}))
    first = {"devices": {1: {"id": 1, "label": "old", "note": "0", "at": 1}}, "sites": {}}

    def attempt(number: int, how: RunOptions, death: tuple[str, int, bool] | None = None) -> None:
        name, nth, late = death or (None, 0, False)
        dying(name, nth, late=late)
        outlived(workspace, number, how)
        dying(None, 0, late=False)

    def rival(_method: str, _path: str) -> None:
        spite.tables["devices"][1] |= {"note": str(int(spite.tables["devices"][1]["note"]) + spite.edits)}

    @settings(
        max_examples=SCHEDULED,
        suppress_health_check=[HealthCheck.function_scoped_fixture],
    )
    @given(SCHEDULES, SCHEDULES, st.integers(0, 1), DEATHS, DEATHS)
    def law(plan, later, edits, death, again):
        spite.tables, spite.delay = deepcopy(first), 0.05
        spite.edits, spite.rival = 0, rival
        pull(workspace, ["spite"], accept_fall=True)
        prepared = prepare_push(workspace, "spite", "devices", rows, PushOptions(make=["sites"])).change
        number = workspace.journal.keep(prepared).number
        spite.plan, spite.edits = list(plan), edits
        attempt(number, RunOptions(), death)
        spite.plan = list(later)
        attempt(number, RunOptions(), again)
        spite.plan = []
        time.sleep(0.1)
        attempt(number, RunOptions())
        for step in workspace.change(number).steps:
            held = spite.labels(step.table)[step.label]
            if step.operation == "create":
                assert held == {"confirmed": 1, "doubled": 2}.get(step.state, 0), (step, plan, later)
            elif step.state == "confirmed":
                assert spite.tables["devices"][1]["at"] == 7
        made_twice = (plan + later).count("twice")
        assert sum(spite.labels(table).total() for table in spite.tables) <= 6 + 2 * made_twice
        attempt(number, RunOptions(send_again=True))
        stands = {step.label: step.state for step in workspace.change(number).steps}
        assert set(stands.values()) <= {"confirmed", "doubled", "differs", "held"}
        held = {label for label, state in stands.items() if state == "held"}
        assert not held or stands["attic"] == "doubled"  # in which of two attics they are to be, nobody can say
        assert "differs" not in {state for label, state in stands.items() if label != "old"}
        assert {f"lamp-{at}" for at in range(4)} - held <= spite.labels().keys()
        assert spite.tables["devices"][1]["at"] == 7 or stands["old"] == "differs"  # it said yes, and did nothing
        back = workspace.journal.keep(prepare_undo(workspace, number))
        before = int(spite.tables["devices"][1]["note"])
        attempt(back.number, RunOptions())
        assert int(spite.tables["devices"][1]["note"]) >= before  # a rival's edits only ever count upwards
        if "doubled" not in stands.values():
            spite.tables["devices"][1]["note"] = "0"
            assert spite.tables == first

    law()


KILLS = st.lists(st.tuples(st.integers(1, 14), st.floats(0, 0.4)), min_size=1, max_size=2)


def test_killed_at_any_request_and_resumed_at_once_nothing_is_made_twice(tmp_path, serve):
    """A real process, killed while its request is under way: what it asked for happens all the same, a little later.

    The system refuses no twins, and the next process looks at once, when that may not have happened yet.
    """
    shell, spite = spiteful(tmp_path, serve, many=2)
    rows = [f"lamp-{at}" for at in range(5)]

    def killed(words: tuple[str, ...], nth: int, took: float) -> None:
        process = Shell(shell.folder).begin(*words)
        asked = 0

        def rival(*_: str) -> None:
            nonlocal asked
            asked += 1
            if asked == nth:
                process.kill()
                time.sleep(took)

        spite.rival = rival
        process.communicate()
        spite.rival = lambda *_: None

    @settings(max_examples=max(SCHEDULED // 6, 1), deadline=None)
    @given(KILLS)
    def law(kills):
        spite.tables["devices"].clear()
        shell("pull", "--accept-fall")
        pushed(shell, rows, "--draft")
        (newest, *_) = json.loads(shell("change", "list", "-f", "json").stdout)
        words: tuple[str, ...] = ("change", "run", str(newest["change"]), "--yes")
        for nth, took in kills:
            killed(words, nth, took)
            words = ("change", "resume", str(newest["change"]))
        done = shell(*words, status=None)
        stands = states(shell, newest["change"])
        assert max(spite.labels().values(), default=1) == 1, (kills, spite.labels())
        if done.returncode == 0:
            assert set(spite.labels()) == set(rows), (kills, done)
            assert set(stands) == {"confirmed"}
        else:
            assert "unknown" in stands, (kills, done, stands)

    law()


def test_an_undo_is_not_stopped_by_guards_that_let_through_what_it_takes_back(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve, many=40)
    shell.config(lambda text: text.replace("guards: {", "guards: {deletions: 3, "))
    pushed(shell, [f"lamp-{at}" for at in range(30)])
    shell("change", "undo", "1", "--draft")
    shell("change", "save", "2", "-o", str(tmp_path / "undo.yaml"))
    shell("change", "run", "2", "--yes")
    assert not spite.tables["devices"]
    for at in range(30):
        spite.put("devices", label=f"lamp-{at}", note="ours")
    shell("pull")
    told = shell("change", "load", str(tmp_path / "undo.yaml"), "--yes", "--count", "30", status=5)
    assert "30 deletions, and the workspace allows 3" in told.stderr  # calling itself an undo is not enough
    assert len(spite.tables["devices"]) == 30


def test_what_is_left_out_here_still_counts_as_taken_there(tmp_path, serve):
    """It is not kept, but a push or a sync does not make it once more, and says why not."""
    shell, spite = spiteful(tmp_path, serve)
    spite.put("devices", label="lamp-1", note="theirs", mood="hidden")
    shell.config(lambda text: text.replace("    url:", "    leave_out: [{where: status = hidden}]\n    url:"))
    shell("pull")
    assert "lamp-1" not in shell("show", "devices", "-f", "json").stdout
    spite.put("devices", label="lamp-3", mood="hidden")
    shell("pull")
    told = pushed(shell, ["lamp-1", "lamp-2"], status=4)
    assert "which is left out here, there has the same name" in told.stdout
    assert set(spite.labels().values()) == {1}
    spite.tables["devices"][102]["mood"] = "shown"
    shell("pull", "--where", "name = lamp-2 or status = shown")  # a part is pulled, and it counts all the same
    number = json.loads(shell("pulls", "-f", "json").stdout)[0]["pull"]
    rows = json.loads(shell("pulls", str(number), "-f", "json").stdout)
    assert {row["table"]: row["left out"] for row in rows}["devices"] == 1
    told = pushed(shell, ["lamp-1"], status=4)
    assert "which is left out here, there has the same name" in told.stdout
    assert set(spite.labels().values()) == {1}


def test_half_a_character_costs_that_character_and_is_counted(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve)
    spite.put("devices", label="lamp-1", note="a\ud83db \\ud83d \U0001f6a2")
    assert "of 1 character only a half came: U+FFFD stands there" in shell("pull").stderr
    (row,) = json.loads(shell("show", "devices", "-f", "json").stdout)
    assert row["comment"] == "a\ufffdb \\ud83d \U0001f6a2"


def test_all_tries_of_one_read_share_one_budget_of_time(tmp_path, serve):
    """A system that lets answers drip holds a read for twice its time-out, not for each of its tries."""
    shell, spite = spiteful(tmp_path, serve, timeout=0.4)
    spite.rival = lambda *_: time.sleep(0.6)
    spite.asked.clear()
    shell("pull", "spite", "--table", "devices", status=1)
    assert spite.asked["GET"] <= 3


@pytest.mark.parametrize("last", [True, False])
def test_killed_after_the_last_confirmation_is_done_and_before_it_is_stopped(tmp_path, serve, last):
    shell, _ = spiteful(tmp_path, serve)
    pushed(shell, ["lamp-1", "lamp-2"])
    with sqlite3.connect(shell.folder / ".concordex" / "catalogue.sqlite") as catalogue:
        catalogue.execute("UPDATE changes SET state = 'running', process = 999999999")
        if not last:
            catalogue.execute("UPDATE steps SET state = 'written' WHERE number = 2")
    (row,) = json.loads(shell("change", "list", "-f", "json").stdout)
    assert row["state"] == ("done" if last else "stopped")
    shell("change", "resume", "1")
    assert shell.workspace.change(1).state == "done"
