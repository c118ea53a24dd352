"""Writing: seen before it is sent, sent once, read back; whatever fails, nothing is doubled and nothing lost."""

from __future__ import annotations

import json
import signal
import time
from collections import Counter

import pytest

from concordex import Workspace
from concordex.change.compare import differences, same
from concordex.change.prepare import Form, NaturalKeys, ReferenceMember, Wish, prepare
from concordex.change.steps import Step
from concordex.cli.reasons import why
from concordex.store.snapshots import Frames
from tests.conftest import interrupt


def steps(shell, number: int = 1) -> list[dict]:
    return json.loads(shell("change", "show", str(number), "-f", "json").stdout)


def states(shell, number: int = 1) -> Counter:
    return Counter((row["action"], row["state"]) for row in steps(shell, number))


def is_once(harbour) -> None:
    """No two records of the inventory have one title or, save those that people doubled, one serial."""
    titles = Counter(record["title"].strip().lower() for record in harbour.stowage.lists["gear"].values())
    assert max(titles.values()) == 1
    typed = len(harbour.accounts.stowage)
    made = [r["serialNumber"] for number, r in harbour.stowage.lists["gear"].items() if number > typed]
    assert max(Counter(serial for serial in made if serial).values(), default=1) == 1


def nothing_left(shell) -> None:
    done = shell("sync", "stowage", status=4)
    assert "nothing can be written: 4 held" in done.stderr


def test_a_sync_is_previewed_run_verified_and_then_has_nothing_to_do(writing, fresh_harbour):
    gear = fresh_harbour.stowage.lists["gear"]
    before, posts = {n: dict(r) for n, r in gear.items()}, fresh_harbour.stowage.faults.requests
    preview = json.loads(writing("sync", "stowage", "--draft", "-f", "json").stdout)
    assert not [method for method, _ in posts if method != "GET"]
    done = writing("change", "run", "1", "--yes", status=4)  # what cannot be written is told as well, by its name
    assert "change 1 is incomplete: 57 steps written" in done.stderr
    assert "not confirmed: 4 steps" in done.stderr
    assert states(writing).keys() == {("create", "confirmed"), ("update", "confirmed"), ("report", "held")}
    held = {row["label"]: row["reason"] for row in steps(writing) if row["state"] == "held"}
    assert any("it may be there already" in reason and "has the same address" in reason for reason in held.values())
    order = [row["table"] for row in preview if row["action"] == "create"]
    assert order.index("sites") < order.index("devices")
    assert order.index("makers") < order.index("models") < order.index("devices")
    for row in preview:
        if row["action"] == "create" and row["table"] == "devices":
            record = next(r for r in gear.values() if r["title"] == row["desired"]["name"])
            site = fresh_harbour.stowage.lists["places"][record["placeId"]]
            assert (record["serialNumber"], site["code"]) == (
                row["desired"].get("serial") or "",
                row["desired"]["site"],
            )
    for number, record in before.items():  # what people own is as it was
        assert {k: gear[number][k] for k in ("title", "remark", "state")} == {
            k: record[k] for k in ("title", "remark", "state")
        }
    made = {row["record_id"] for row in steps(writing) if row["action"] == "create" and row["table"] == "devices"}
    remembered = Workspace(writing.folder).catalogue.references()  # what we made stands for what it was made from
    assert {row["record_id"] for row in remembered} == made
    is_once(fresh_harbour)
    sent = len([method for method, _ in posts if method != "GET"])
    nothing_left(writing)
    assert len([method for method, _ in posts if method != "GET"]) == sent
    assert "nothing left to do" in writing("change", "run", "1", "--yes", status=4).stderr
    assert json.loads(writing("change", "list", "-f", "json").stdout)[0]["state"] == "incomplete"


def test_nothing_is_sent_that_was_not_agreed_to(writing, fresh_harbour):
    done = writing("sync", "stowage", status=5)
    assert "not agreed" in done.stderr
    assert not [method for method, _ in fresh_harbour.stowage.faults.requests if method != "GET"]
    assert states(writing)["create", "ready"] > 0


def test_a_filter_narrows_what_is_written(writing):
    rows = json.loads(writing("sync", "stowage", "--where", "site = mv-redshank", "--draft", "-f", "json").stdout)
    sites = {row["desired"].get("site") for row in rows if row["action"] == "create" and row["table"] == "devices"}
    assert sites == {"mv-redshank"}


def test_a_guard_stops_what_is_larger_than_the_workspace_allows(writing, fresh_harbour):
    writing.config(lambda text: text + "guards: {creations: 3}\n")
    done = writing("sync", "stowage", "--yes", status=5)
    assert "the workspace allows 3" in done.stderr
    writing.config(lambda text: text.replace("creations: 3", "share: 0.001"))
    told = writing("sync", "stowage", "--yes", status=5).stderr
    assert "of stowage/devices (" in told
    assert "and the workspace allows 0%" in told
    assert not [method for method, _ in fresh_harbour.stowage.faults.requests if method != "GET"]


def test_what_refers_to_a_refused_record_is_held_and_the_others_go_through(writing, fresh_harbour):
    writing("sync", "stowage", "--draft")
    wanted = {row["label"] for row in steps(writing) if row["action"] == "create" and row["table"] == "models"}
    bad = min(wanted)
    fresh_harbour.stowage.objects_to = lambda kind, item: (
        ("name", "is not allowed here") if kind == "products" and bad.endswith(item["name"]) else None
    )
    writing("change", "run", "1", "--yes", status=4)
    fresh_harbour.stowage.objects_to = lambda *_: None
    rows = steps(writing)
    assert [row["label"] for row in rows if row["state"] == "refused"] == [bad]
    held = [row for row in rows if row["state"] == "held" and "has no record in models" in (row["reason"] or "")]
    assert held
    assert all(row["desired"]["model"] in bad for row in held)
    assert not {row["state"] for row in rows} - {"refused", "confirmed", "held"}
    writing("sync", "stowage", "--yes", status=4)
    is_once(fresh_harbour)


def test_a_refused_record_is_reported_and_the_others_go_through(writing, fresh_harbour):
    writing("sync", "stowage", "--draft")
    wanted = next(row for row in steps(writing) if row["action"] == "create" and row["table"] == "devices")
    fresh_harbour.stowage.objects_to = lambda _, item: (
        ("title", "is not allowed here") if item.get("title") == wanted["label"] else None
    )
    done = writing("change", "run", "1", "--yes", status=4)
    found = states(writing)
    assert found["create", "refused"] == 1
    assert not {state for _, state in found} - {"refused", "confirmed", "held"}
    assert "is not allowed here" in done.stdout
    assert wanted["label"] in done.stdout
    fresh_harbour.stowage.objects_to = lambda *_: None
    writing("sync", "stowage", "--yes", status=4)
    is_once(fresh_harbour)


def test_a_refusal_that_blames_no_record_is_found_by_halving(writing, fresh_harbour):
    text = _dialect("stowage")
    (writing.folder / "dialects" / "stowage.yaml").write_text(
        text.replace("      refusals: *rejected\n", "").replace(
            "      refusals: &rejected {records: fault.rejected, index: item, reason: reason}\n", ""
        )
    )
    writing("sync", "stowage", "--draft")
    made = [row for row in steps(writing) if row["action"] == "create" and row["table"] == "devices"]
    taken = {made[3]["label"], made[7]["label"]}
    fresh_harbour.stowage.objects_to = lambda _, item: ("title", "no") if item.get("title") in taken else None
    writing("change", "run", "1", "--yes", status=4)
    refused = {row["label"]: row["reason"] for row in steps(writing) if row["state"] == "refused"}
    assert refused.keys() == taken
    assert set(refused.values()) == {"HTTP 422: 1 faults, nothing was made"}


def _dialect(name: str) -> str:
    from importlib import resources

    return resources.files("concordex.dialects").joinpath(f"{name}.yaml").read_text()


@pytest.mark.parametrize("kind", ["fail_after", "drop", "busy"])
def test_a_write_of_unknown_outcome_is_looked_up_and_sent_again_by_a_person_alone(writing, fresh_harbour, kind):
    """A 500 after the write was applied, an answer cut off, a connection dropped: made once, all the same."""
    fresh_harbour.stowage.faults.add(kind, "/v2/gear", method="POST", times=1)
    fresh_harbour.stowage.faults.add(kind, "/v2/gear/", method="PATCH", times=2)
    fresh_harbour.stowage.faults.add(kind, "/v2/places", method="POST", times=1)
    writing("sync", "stowage", "--yes", status=4)
    assert bool(states(writing).keys() & {("create", "unknown"), ("update", "unknown")}) == (kind in ("drop", "fail"))
    posts = Counter(method for method, _ in fresh_harbour.stowage.faults.requests)["POST"]
    if kind in ("drop", "fail"):
        writing("change", "resume", "1", status=4)
        writing("change", "resume", "1", "--send-again", status=4)
        assert Counter(method for method, _ in fresh_harbour.stowage.faults.requests)["POST"] > posts
    is_once(fresh_harbour)
    nothing_left(writing)


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGKILL])
def test_a_change_that_was_cut_off_goes_on_where_it_was(writing, fresh_harbour, how):
    writing("sync", "stowage", "--draft")
    fresh_harbour.stowage.faults.add("slow", "/v2/gear", method="PATCH", seconds=0.3)
    process = writing.begin("change", "run", "1", "--yes")
    requests = fresh_harbour.stowage.faults.requests
    _, told = interrupt(process, lambda: sum(method == "PATCH" for method, _ in requests) > 6, how)
    found = states(writing)
    assert found["create", "written"] > 0
    assert found["update", "ready"] > 0
    if how == signal.SIGINT:
        assert process.returncode == 5
        assert "concordex change resume 1" in told
    fresh_harbour.stowage.faults.rules.clear()
    time.sleep(0.4)  # what was under way at the stand-in arrives
    writing("change", "resume", "1", status=4)
    assert "not confirmed: 4 steps" in writing("change", "resume", "1", "--send-again", status=4).stderr
    is_once(fresh_harbour)
    nothing_left(writing)


def test_killed_while_a_list_is_being_made_nothing_is_made_twice(writing, fresh_harbour):
    writing("sync", "stowage", "--draft")
    fresh_harbour.stowage.faults.add("slow", "/v2/gear", method="POST", seconds=30)  # and then nobody is there any more
    process = writing.begin("change", "run", "1", "--yes")
    requests = fresh_harbour.stowage.faults.requests
    interrupt(process, lambda: ("POST", "/v2/gear") in requests, signal.SIGKILL)
    assert states(writing)["create", "sent"] > 0
    fresh_harbour.stowage.faults.clear()  # what became of the list, nobody hears
    writing("change", "resume", "1", status=4)
    assert states(writing)["create", "unknown"] > 0  # it was not made after all, and nobody has said so
    writing("change", "resume", "1", "--send-again", status=4)
    is_once(fresh_harbour)
    nothing_left(writing)


def test_two_runs_of_one_change_are_one_too_many(writing, fresh_harbour):
    writing("sync", "stowage", "--draft")
    fresh_harbour.stowage.faults.add("slow", "/v2/gear", method="PATCH", seconds=0.2)
    process = writing.begin("change", "run", "1", "--yes")
    while not [m for m, _ in fresh_harbour.stowage.faults.requests if m == "PATCH"]:
        assert process.poll() is None
        time.sleep(0.02)
    assert "is being written to by change 1 of" in writing("change", "run", "1", "--yes", status=5).stderr
    fresh_harbour.stowage.faults.rules.clear()
    process.communicate(timeout=60)
    assert process.returncode == 4


def _last_pull(shell) -> str:
    return f"{shell.workspace.memory.kept('stowage', 'devices')[-1].taken:%Y-%m-%d %H:%M}"


@pytest.mark.parametrize("part", ["entries", "members", "findings"])
def test_a_sync_goes_by_one_concordance_though_another_process_makes_a_newer_one(
    writing, fresh_harbour, monkeypatch, part
):
    """What an entry should be is never taken from the one, and which records it has from the other."""
    scan, armed = Frames.scan, [True]

    def meanwhile(self, name, **how):
        frame = scan(self, name, **how)
        if armed and name.endswith(f"{part}.parquet") and armed.pop():
            for node in filter(lambda node: node["system"], fresh_harbour.fairlead.nodes):
                node["system"]["release"] = "99.1"
            writing("pull", "fairlead", "--table", "devices")
            writing("reconcile")
        return frame

    monkeypatch.setattr(Frames, "scan", meanwhile)
    writing("sync", "stowage", "--draft")
    assert not armed
    writing("sync", "stowage", "--draft")
    one, other = [[(step["label"], step["desired"]) for step in steps(writing, number)] for number in (1, 2)]
    assert one == other
    assert "99.1" in str(one)


def test_what_people_altered_since_the_preview_is_not_overwritten(writing, fresh_harbour):
    writing("sync", "stowage", "--draft")
    step = next(row for row in steps(writing) if row["action"] == "update" and row["desired"].get("os_version"))
    record = fresh_harbour.stowage.lists["gear"][int(step["record_id"])]
    record["softwareRelease"] = "as a person typed it"
    before = _last_pull(writing)
    done = writing("change", "run", "1", "--yes", status=4)
    assert "changed there since the preview: os_version is now as a person typed it" in done.stdout
    assert record["softwareRelease"] == "as a person typed it"
    assert f"; not so yet in the pull of {before})" in done.stdout
    since = _last_pull(writing)  # what was read back is kept as a pull: from there on it is known since when
    writing("pull", "stowage")
    told = writing("change", "resume", "1", status=4).stdout
    assert f"; seen since {since})" in told
    for snapshot in writing.workspace.memory.kept("stowage", "devices"):  # the past is torn, and no step needs it
        (writing.workspace.store / snapshot.file).write_bytes(b"torn")
    told = writing("change", "resume", "1", status=4).stdout
    assert "os_version is now as a person typed it (was " in told
    assert "seen since" not in told


def test_what_appeared_since_the_preview_is_not_doubled(writing, fresh_harbour):
    writing("sync", "stowage", "--draft")
    step = next(row for row in steps(writing) if row["action"] == "create" and row["table"] == "devices")
    gear = fresh_harbour.stowage.lists["gear"]
    like = {k: v for k, v in gear[1].items() if k not in ("id", "editedOn")}
    fresh_harbour.stowage.keep("gear", {**like, "title": step["label"], "serialNumber": step["desired"]["serial"]})
    done = writing("change", "run", "1", "--yes", status=4)
    assert "has appeared there since the preview" in done.stdout
    is_once(fresh_harbour)


def test_what_the_system_did_not_take_is_told(writing, fresh_harbour):
    writing("sync", "stowage", "--draft")
    fresh_harbour.stowage.makes_of_it = lambda kind, record: (
        record | {"softwareRelease": "9"} if kind == "gear" else record
    )
    done = writing("change", "run", "1", "--yes", status=4)
    assert "read back: os_version is 9, not" in done.stdout


def test_a_key_that_was_withdrawn_ends_the_run_and_what_was_not_sent_stays_ready(writing, fresh_harbour):
    writing("sync", "stowage", "--draft")
    fresh_harbour.stowage.key = "another"
    done = writing("change", "run", "1", "--yes", status=1)
    assert "does not accept the credential" in done.stderr
    assert ("create", "sent") not in states(writing)


def test_a_target_known_only_in_part_is_not_written_to(writing, fresh_harbour):
    writing("sync", "stowage", "--draft")
    fresh_harbour.stowage.faults.add("short", "/v2/gear")
    done = writing("change", "run", "1", "--yes", status=1)
    assert "could not be read whole" in done.stderr
    assert not [method for method, _ in fresh_harbour.stowage.faults.requests if method != "GET"]


def test_same_compares_as_people_do():
    assert same("SW-1 ", "sw-1")
    assert same(["a", "B"], ["b", "c"])
    assert not same(["a"], ["b"])
    assert same(None, "")
    assert not same(None, "x")


def test_differences_respect_owners():
    import polars as pl

    wanted = pl.DataFrame({"entry": ["E1"], "a": ["x"], "b": ["x"], "c": ["x"], "d": [None], "e": [["1", "2"]]})
    actual = pl.DataFrame({"entry": ["E1"], "a": ["y"], "b": ["y"], "c": ["y"], "d": ["z"], "e": [["2"]]})
    owners = {"a": "ours", "b": "theirs", "c": "when_empty", "d": "ours", "e": "ours"}
    assert differences(wanted, actual, owners) == {"E1": {"a": ("y", "x")}}
    empty = actual.with_columns(pl.lit(None, dtype=pl.String).alias("c"))
    assert differences(wanted, empty, owners)["E1"]["c"] == (None, "x")


FORMS = {
    "devices": Form(
        keys=[["serial"], ["name"]], required=["name", "model"], unique=["name"],
        links=[ReferenceMember(via="models", by={"maker": "maker", "name": "model"})],
    ),
    "models": Form(keys=[["maker", "name"]], links=[ReferenceMember(via="makers", by={"name": "maker"})]),
    "makers": Form(keys=[["name"]]),
}  # fmt: skip


def prepared(*values: dict, known: dict[str, NaturalKeys] | None = None):
    wishes = [Wish(entry=f"E{at}", source=None, values=value) for at, value in enumerate(values)]
    every = {name: NaturalKeys(unique={"name": {}}) for name in FORMS} | (known or {})
    return prepare("sync", "inv", "devices", wishes, [], FORMS, every).steps


def test_references_are_made_once_and_before_what_refers_to_them():
    one = {"maker": "M", "model": "X"}
    made = prepared({"name": "a", "serial": "1", **one}, {"name": "b", "serial": "2", **one, "maker": "m"})
    assert [(step.table, step.operation) for step in made] == [
        ("makers", "create"), ("models", "create"), ("devices", "create"), ("devices", "create"),
    ]  # fmt: skip
    there = {
        "makers": NaturalKeys(keys={("name", "m"): "1"}),
        "models": NaturalKeys(keys={("maker", "name", "m", "x"): "7"}),
    }
    assert [step.table for step in prepared({"name": "a", "serial": "1", **one}, known=there)] == ["devices"]


def test_what_an_update_refers_to_is_made_from_what_its_record_is_as_well():
    """A new model without a maker is of the record's maker."""
    update = Step(number=0, table="devices", operation="update", label="a", record_id="1",
                  key={"name": "a", "maker": "M"}, desired={"model": "Y"})  # fmt: skip
    known = {name: NaturalKeys(unique={"name": {}}) for name in FORMS}
    known["makers"].keys["name", "m"] = "1"
    made = prepare("set", "inv", "devices", [], [update], FORMS, known).steps
    assert [(step.table, step.operation) for step in made] == [("models", "create"), ("devices", "update")]
    assert made[0].desired == {"maker": "M", "name": "Y"}


def test_what_cannot_be_written_is_held_with_its_reason():
    one = {"maker": "M", "model": "X"}
    taken = {"devices": NaturalKeys(keys={("serial", "9"): "3"}, unique={"name": {"a": "1"}})}
    held = prepared(
        {"name": "A ", "serial": "1", **one}, {"name": "b", "serial": "2"}, {"name": "c", "serial": "9", **one},
        {"name": "d", "serial": "4", **one}, {"name": "D", "serial": "5", **one}, one, known=taken,
    )  # fmt: skip
    assert [(step.operation, why(step)) for step in held] == [
        ("report", "the name is taken there by record 1"),
        ("report", "it has no model"),
        ("report", "record 3 there has the same serial"),
        ("report", "1 other new device would have the same name"),
        ("report", "1 other new device would have the same name"),
        ("report", "it has no serial or name to be found by"),
    ]
