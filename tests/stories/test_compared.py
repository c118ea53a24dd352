"""What is confirmed was compared whole, what is guarded was compared just then, and an undo brings all of it back."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from concordex.change.reasons import Why, because
from concordex.change.steps import Outcome
from concordex.change.whole import beside, lost, moved, prints
from concordex.model.members import flat
from tests.spite import spiteful
from tests.stories.test_once import states

PUT = ", method: PUT, whole: true"


def test_what_changed_beside_an_update_is_told_and_is_brought_back(tmp_path, serve):
    """A system that forgets what a PUT does not say: not confirmed, and undone as far as it can be written."""
    shell, spite = spiteful(tmp_path, serve, how=", method: PUT, whole: {from: list, without: [note, watt]}")
    number = spite.put("devices", label="lamp-1", note="theirs", watt=40, at=1)
    shell("pull")
    told = shell("set", "spite", "lamp-1", "position=2", "--yes", status=4).stdout
    assert "also changed: note, watt" in told
    assert states(shell) == ["differs"]
    told = shell("change", "undo", "1", "--yes", status=4).stdout
    assert spite.tables["devices"][number] == {"id": number, "label": "lamp-1", "note": "theirs", "at": 1}
    assert "not all came back: watt is empty, and was 40" in told


def test_a_record_that_was_deleted_does_not_come_back_whole_in_silence(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve)
    spite.put("devices", label="lamp-1", note="theirs", keys=["a", "b"])
    shell("pull")
    shell("delete", "spite", "lamp-1", "--count", "1")
    told = shell("change", "undo", "1", "--yes", status=4).stdout
    assert "not all came back: keys is empty, and was a, b" in told


@pytest.mark.parametrize("added", [{"note": "a person's"}, {"keys": ["theirs"]}, {"note": "ours", "watt": 60}])
def test_an_undo_does_not_delete_what_others_have_added_to(tmp_path, serve, added):
    """Also where no field of ours stands for what they added."""
    shell, spite = spiteful(tmp_path, serve)
    (tmp_path / "x.json").write_text(json.dumps([{"name": "lamp-1", "comment": "ours"}]))
    shell("push", str(tmp_path / "x.json"), "--to", "spite", "--table", "devices", "--yes")
    (record,) = spite.tables["devices"].values()
    record |= added
    told = shell("change", "undo", "1", "--yes", status=4).stdout
    assert "it was altered or added to since we left it" in told
    assert record in spite.tables["devices"].values()
    shell("change", "resume", "2", status=4)
    assert len(spite.tables["devices"]) == 1


def test_an_undo_brings_back_each_field_that_nobody_altered_since(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve)
    number = spite.put("devices", label="lamp-1", note="old", at=1)
    shell("pull")
    shell("set", "spite", "lamp-1", "comment=ours", "position=2", "--yes")
    spite.tables["devices"][number]["note"] = "a person's"
    told = shell("change", "undo", "1", "--yes", status=4).stdout
    assert spite.tables["devices"][number] == {"id": number, "label": "lamp-1", "note": "a person's", "at": 1}
    assert "comment is a person's now, and is left" in told


@pytest.mark.parametrize("how", [f"{PUT}, etag: true", ", etag: true"])
def test_what_is_guarded_by_a_tag_was_compared_in_the_answer_that_bore_it(tmp_path, serve, how):
    """One GET, whose record is compared and whose tag is sent; an edit before it is seen, one after it refused."""
    shell, spite = spiteful(tmp_path, serve, how=how)
    number = spite.put("devices", label="lamp-1", note="old", watt=40)
    shell("pull")
    asked = []

    def edits(method: str, path: str) -> None:
        asked.append(method)
        if asked.count("GET") == edits.at and method == edits.by:
            spite.tables["devices"][number] |= edits.what
            edits.at = 0

    spite.rival = edits
    edits.at, edits.by, edits.what = 3, "GET", {"note": "a rival's"}  # lists of sites and devices, then the record
    told = shell("set", "spite", "lamp-1", "comment=ours", "--yes", status=4).stdout
    assert "changed there just now: comment is now a rival's" in told
    assert not {"PUT", "PATCH"} & set(asked)
    spite.tables["devices"][number]["note"] = "old"
    edits.at, edits.by, edits.what = 3, "PUT" if "PUT" in how else "PATCH", {"note": "a rival's"}
    asked.clear()
    told = shell("change", "resume", "1", status=4).stdout
    assert "somebody was faster" in told
    assert spite.tables["devices"][number]["note"] == "a rival's"
    spite.tables["devices"][number]["note"] = "old"
    asked.clear()
    shell("change", "resume", "1")
    assert asked == ["GET", "GET", "GET", "PUT" if "PUT" in how else "PATCH", "GET", "GET"]
    assert spite.tables["devices"][number]["watt"] == 40


def test_a_promised_tag_that_does_not_come_refuses_the_step(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve, how=", etag: true")
    spite.put("devices", label="lamp-1", note="old")
    shell("pull")
    spite.tags = False
    told = shell("set", "spite", "lamp-1", "comment=ours", "--yes", status=4).stdout
    assert "has no ETag, which the dialect promises" in told
    assert not spite.sent


def test_a_weak_tag_guards_nothing_and_is_sent_only_where_a_dialect_promises_tags(tmp_path, serve):
    """A server that compares strongly, as RFC 9110 says, refuses it each time, whoever altered what."""
    shell, spite = spiteful(tmp_path, serve, how=PUT)
    number = spite.put("devices", label="lamp-1", note="old")
    spite.tags = "weak"
    shell("pull")
    shell("set", "spite", "lamp-1", "comment=ours", "--yes")
    assert spite.tables["devices"][number]["note"] == "ours"
    file = tmp_path / "dialects" / "spite.yaml"
    file.write_text(file.read_text().replace(PUT, f"{PUT}, etag: true"))
    told = shell("set", "spite", "lamp-1", "comment=again", "--yes", status=4).stdout
    assert "the system matches no weak tag" in told
    assert spite.tables["devices"][number]["note"] == "ours"


def test_updates_go_in_lists_with_the_systems_own_ids(tmp_path, serve):
    """Numbers stay numbers; where records are guarded by tags they go one by one all the same."""
    lists = ", batch_size: 50, id: id"
    shell, spite = spiteful(
        tmp_path,
        serve,
        how=lists,
        more=lambda text: text.replace('update: {path: "/devices/{record_id}"', "update: {path: /devices"),
    )
    for at in range(60):
        spite.put("devices", label=f"lamp-{at}", note="old", at=at)
    shell("pull")
    shell("set", "spite", "name like lamp-*", "position=7", "--yes")
    assert sorted(len(body) for _, body, _ in spite.sent) == [9, 50]
    assert {(type(one["id"]), one["at"]) for _, body, _ in spite.sent for one in body} == {(int, 7)}
    assert all(isinstance(one["at"], int) for _, body, _ in spite.sent for one in body)


def test_refusals_are_named_by_their_places_or_by_a_member(tmp_path, serve):
    for by, fault in (("", {"2": {"why": "no"}}), (", by: label", [{"label": "lamp-2", "why": "no"}])):
        folder = tmp_path / (by or "keyed").strip(", :")
        shell, spite = spiteful(
            folder, serve, many=10,
            more=lambda text, by=by: text.replace(
                "      actions:", f"      refusals: {{records: faults{by}, reason: why}}\n      actions:"
            ),
        )  # fmt: skip

        def strict(method, table, more, body, headers, spite=spite, fault=fault):
            if method == "POST" and any(one["label"] == "lamp-2" for one in body):
                spite.sent.append((method, body, None))
                return 422, {"faults": fault}
            return None

        spite.meets = strict
        (folder / "x.json").write_text(json.dumps([{"name": f"lamp-{at}"} for at in range(5)]))
        shell("push", str(folder / "x.json"), "--to", "spite", "--table", "devices", "--yes", status=4)
        assert sorted(states(shell)) == ["confirmed"] * 4 + ["refused"]
        assert len(spite.sent) == 2  # the list, and the list without the bad one


@pytest.mark.parametrize("named", [True, False])
def test_of_a_list_of_deletions_the_one_that_is_refused_stays_and_the_others_go(tmp_path, serve, named):
    """Whether the system names it by its place, or all it says is no."""
    shell, spite = spiteful(
        tmp_path, serve,
        more=lambda text: text.replace(
            '      delete: {path: "/devices/{record_id}"}\n      actions:',
            "      delete: {path: /devices/gone, batch_size: 10, records: ids}\n"
            "      refusals: {records: faults, reason: why}\n      actions:",
        ),
    )  # fmt: skip
    for at in range(5):
        spite.put("devices", label=f"lamp-{at}")
    kept = next(number for number, one in spite.tables["devices"].items() if one["label"] == "lamp-2")

    def strict(method, table, more, body, headers):
        ids = [int(number) for number in body["ids"]]
        spite.sent.append((method, ids, None))
        if kept in ids:
            return 422, {"faults": {str(ids.index(kept)): {"why": "in use"}} if named else {}}
        for number in ids:
            del spite.tables["devices"][number]
        return 200, {}

    spite.meets = strict
    shell("pull")
    shell("delete", "spite", "name like lamp-*", "--count", "5", status=4)
    assert sorted(states(shell)) == ["confirmed"] * 4 + ["refused"]
    assert [*spite.labels()] == ["lamp-2"]
    if named:
        assert [len(ids) for _, ids, _ in spite.sent] == [5, 4]
        assert "in use" in shell("change", "show", "1", "--all").stdout


RECORDS = st.dictionaries(
    st.sampled_from(["a", "b", "c"]),
    st.one_of(
        st.integers(0, 3),
        st.none(),
        st.lists(st.integers(0, 2), max_size=2),
        st.fixed_dictionaries({"x": st.integers(0, 2)}),
    ),
)


@pytest.mark.parametrize(
    ("before", "after", "told"),
    [
        ({"a": "text"}, {"a": {"b": 1}}, {"a"}),  # what stood where a part of it was written is gone
        ({"a": {}}, {"a": {"b": 1}}, set()),
        ({}, {"a": {"b": 1}}, set()),
        ({"a": {"b": 1}}, {"a": {}}, set()),
        ({"a": {"b": 1, "c": 2}}, {"a": {"b": 2}}, {"a.c"}),
        ({"c": {}}, {"a": {"b": 1}}, {"c"}),
    ],
)
def test_an_empty_place_that_took_up_what_was_written_is_ours_and_a_full_one_is_not(before, after, told):
    assert set(beside(flat(before), flat(after), {"a.b"})) == told


@given(RECORDS, RECORDS, st.sets(st.sampled_from(["a", "b", "c"])))
def test_every_member_that_changed_is_either_ours_or_told(before, after, ours):
    """And what was left as it is now is never held, what differs always."""
    told = beside(flat(before), flat(after), ours)
    for name in {*before, *after} - ours:
        changed = flat({name: before.get(name)}) != flat({name: after.get(name)})
        shown = any(path.split(".")[0] == name for path in told)
        assert shown == (changed and (name in before or name in after) and before.get(name) != after.get(name))
    assert not {path.split(".")[0] for path in told} & ours
    assert moved(prints(flat(after)), flat(after)) == []
    assert lost(flat(after), flat(after)) == []


def test_a_good_answer_that_refuses_some_of_a_list_is_not_taken_for_all_of_it(tmp_path, serve):
    """HTTP 207 and its kin: each record by itself, in the order sent; an answer about too few is not believed."""
    rules = "answers: {records: each, refused: status >= 400, reason: why}"
    shell, spite = spiteful(
        tmp_path,
        serve,
        many=10,
        settles="0s",
        more=lambda text: text.replace("batch_size: 10", f"batch_size: 10, {rules}"),
    )

    def partly(method, table, more, body, headers):
        if method != "POST":
            return None
        each = [
            {"status": 409, "why": "taken"}
            if one["label"] == "lamp-2"
            else spite.do(method, table, more, one, headers)[1] | {"status": 201}
            for one in body
        ]
        return 207, {"each": each[: partly.tells]}

    spite.meets, partly.tells = partly, 99
    (tmp_path / "x.json").write_text(json.dumps([{"name": f"lamp-{at}"} for at in range(5)]))
    told = shell("push", str(tmp_path / "x.json"), "--to", "spite", "--table", "devices", "--yes", status=4)
    assert "taken" in told.stdout
    assert sorted(states(shell)) == ["confirmed"] * 4 + ["refused"]
    (tmp_path / "y.json").write_text(json.dumps([{"name": f"more-{at}"} for at in range(5)]))
    partly.tells = 3
    shell("push", str(tmp_path / "y.json"), "--to", "spite", "--table", "devices", "--yes")
    assert set(spite.labels().values()) == {1}


@pytest.mark.parametrize("place", ["header:Idempotency-Key", "once"])
def test_a_system_that_knows_repetitions_gets_the_same_key_for_the_same_step(tmp_path, serve, place):
    shell, spite = spiteful(
        tmp_path, serve, settles="0s",
        more=lambda text: text.replace("create: {path: /devices", f"create: {{idempotency: '{place}', path: /devices"),
    )  # fmt: skip
    keys = []

    def noted(method, table, more, body, headers):
        keys.append((body["label"], body.pop("once", None) or headers.get("Idempotency-Key")))

    spite.meets = noted
    (tmp_path / "x.json").write_text(json.dumps([{"name": "lamp-1"}, {"name": "lamp-2"}]))
    spite.plan = ["cut", "ok"]
    shell("push", str(tmp_path / "x.json"), "--to", "spite", "--table", "devices", "--yes")
    spite.tables["devices"].clear()
    assert len(set(keys)) == len(keys) == 2
    assert all(key for _, key in keys)
    again = shell.workspace.journal.change(1)
    shell.workspace.journal.settled(1, [Outcome(step, "unknown", because(Why.LOST)) for step in again.steps])
    shell.workspace.journal.end(1, "incomplete")
    shell("change", "resume", "1", "--send-again")
    assert len(keys) == 4
    assert len(set(keys)) == 2


def test_what_is_only_binned_counts_as_gone_its_name_as_taken_and_an_undo_takes_it_out(tmp_path, serve):
    bin_rule = "binned: status = binned, restore: {path: '/devices/{record_id}/restore'}"
    old = 'delete: {path: "/devices/{record_id}"'
    new = old.replace("{path", f"{{{bin_rule}, path")
    shell, spite = spiteful(tmp_path, serve, more=lambda text: text.replace(old, new))
    number = spite.put("devices", label="lamp-1", note="theirs", keys=["a"])

    def binning(method, table, more, body, headers):
        if table == "devices" and method == "DELETE":
            spite.tables["devices"][int(more[0])]["mood"] = "binned"
            return 200, {}
        if more[1:] == ["restore"]:
            spite.tables["devices"][int(more[0])].pop("mood")
            return 200, {}
        return None

    spite.meets = binning
    shell("pull")
    shell("delete", "spite", "lamp-1", "--count", "1")
    assert spite.tables["devices"][number]["mood"] == "binned"
    (tmp_path / "x.json").write_text(json.dumps([{"name": "lamp-1"}]))
    told = shell("push", str(tmp_path / "x.json"), "--to", "spite", "--table", "devices", "--yes", status=4).stdout
    assert "which is in its bin, there has the same name" in told
    shell("change", "undo", "1", "--yes")
    assert spite.tables["devices"] == {number: {"id": number, "label": "lamp-1", "note": "theirs", "keys": ["a"]}}
