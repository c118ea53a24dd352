"""Steps of a change: which are open, how they are cut into requests, held back, chosen, and taken back."""

from __future__ import annotations

from dataclasses import replace

import pytest

from concordex.change.batches import halves, lists, stages
from concordex.change.choose import chosen, needed_by_objects
from concordex.change.depend import contents, kinds_inside
from concordex.change.objects import Kind, Object
from concordex.change.prepare import Form, NaturalKeys, ReferenceMember, Wish, prepare
from concordex.change.reasons import Why, because
from concordex.change.refer import TargetTable, Unclear, referred
from concordex.change.steps import Change, Step
from concordex.change.undo import undo


def step(number: int = 1, operation: str = "update", **facts: object) -> Step:
    given = {"table": "devices", "label": f"d{number}", "key": {"name": f"d{number}"}, "record_id": "7"} | facts
    return Step(number=number, operation=operation, **given)


@pytest.mark.parametrize("state", ["ready", "sent", "unknown", "written", "confirmed", "differs", "held", "refused"])
@pytest.mark.parametrize("operation", ["create", "action", "report"])
@pytest.mark.parametrize("tried", [False, True])
def test_a_run_has_something_to_do_with_what_is_not_ended_and_with_what_may_be_mended(state, operation, tried):
    mended = state in ("held", "refused") and tried and operation == "create"
    assert step(operation=operation, state=state, tried=tried).open is (
        mended or state in ("ready", "sent", "unknown", "written")
    )


def test_a_step_keeps_the_id_of_its_record_where_none_is_told():
    settled = step().settled("written", because(Why.TOOK), None)
    assert (settled.record_id, settled.state, settled.why) == ("7", "written", because(Why.TOOK))
    assert step().settled("written", (), "8").record_id == "8"


def test_steps_of_one_table_and_operation_are_one_stage_and_creations_that_go_together_too():
    steps = [
        step(1, "create", table="sites"), step(2, "create", table="racks"), step(3, "create"), step(4), step(5),
        step(6, table="racks"),
    ]  # fmt: skip
    assert [[s.number for s in stage] for stage in stages(steps)] == [[1], [2], [3], [4, 5], [6]]
    assert [[s.number for s in stage] for stage in stages(steps, ["sites", "racks"])] == [[1, 2], [3], [4, 5], [6]]
    assert [[s.number for s in part] for part in lists(steps, 4)] == [[1, 2, 3, 4], [5, 6]]
    assert [[s.number for s in part] for part in halves(steps[:5])] == [[1, 2, 3], [4, 5]]
    assert [[s.number for s in part] for part in halves(steps[:1])] == [[1], []]


FORM = Form(keys=[["serial"], ["name"]], required=["model"], unique=["name"], makes={"tag": "name"},
            always={"status": "new"}, can_delete=True)  # fmt: skip
BARE = {"devices": NaturalKeys()}


def held(values: dict, form: Form = FORM, known: NaturalKeys | None = None, against: tuple = ()) -> Step:
    wishes = [Wish(entry="E1", source="s", values=values, against=against)]
    return prepare("push", "s", "devices", wishes, [], {"devices": form}, {"devices": known or NaturalKeys()}).steps[0]


@pytest.mark.parametrize(
    ("values", "form", "known", "why"),
    [
        ({"name": "A b", "serial": "S1", "model": "m"}, FORM, {}, ()),
        ({"name": "a", "serial": "S1"}, FORM, {}, because(Why.REQUIRED, fields=["model"])),
        ({"model": "m", "serial": ""}, FORM, {}, because(Why.NO_KEY, keys=[["serial"], ["name"]])),
        ({"name": "a", "model": "m"}, replace(FORM, can_create=False), {}, because(Why.CANNOT, what="create")),
        ({"name": "A", "model": "m"}, FORM, {"unique": {"name": {"a": "9"}}, "aside": {"9": "in the bin"}},
         because(Why.NAME_TAKEN, field="name", record="9", aside="in the bin")),
        ({"name": "a", "serial": "S1 ", "model": "m"}, FORM, {"keys": {("serial", "s1"): "9"}},
         because(Why.KEY_TAKEN, fields=["serial"], record="9", aside=None)),
        ({"name": "a", "serial": "S2", "model": "m"}, FORM, {"keys": {("serial", "s1"): "9"}}, ()),
    ],
)  # fmt: skip
def test_what_cannot_be_made_is_held_and_says_why(values, form, known, why):
    made = held(values, form, NaturalKeys(**known))
    assert (made.state, made.operation, made.why) == (("held", "report", why) if why else ("ready", "create", ()))
    if not why:
        assert made.desired == {**values, "tag": "a-b" if " " in values["name"] else "a", "status": "new"}
        assert made.key == {"serial": values["serial"]}


def test_what_speaks_against_a_wish_is_said_before_what_it_lacks_and_nothing_is_no_value():
    assert held({"name": "a", "tags": []}, against=because(Why.NO_DEVICE)).why == because(Why.NO_DEVICE)
    assert held({}, against=because(Why.NO_DEVICE)).why == because(Why.NO_DEVICE)
    assert "tags" not in held({"name": "a", "model": "m", "tags": [], "note": None}).desired


def test_of_two_that_want_one_name_neither_is_made():
    wishes = [Wish(entry=f"E{n}", source=None, values={"name": name, "model": "m"}) for n, name in enumerate("aAb")]
    steps = prepare("push", "s", "devices", wishes, [], {"devices": FORM}, BARE).steps
    assert [(s.label, s.state, s.number) for s in steps] == [("b", "ready", 1), ("a", "held", 2), ("A", "held", 3)]
    assert steps[1].why == because(Why.NAME_WANTED, field="name", others=1)


UNDOABLE = Form(keys=[["name"]], can_delete=True, can_create=True, takes_back={"lock": "unlock"}, writes=["os", "site"])


@pytest.mark.parametrize(
    ("done", "form", "operation", "facts"),
    [
        (step(1, "create", desired={"os": "1"}, became={"os": "one"}, whole={"prints": {"os": "x"}}), UNDOABLE,
         "delete", {"before": {"os": "one"}, "left": {"os": "x"}, "record_id": "7"}),
        (step(1, "create"), replace(UNDOABLE, can_delete=False), "report",
         {"why": because(Why.CANNOT, what="delete"), "state": "held"}),
        (step(1, "delete", before={"os": "1", "site": None, "t": []}, whole={"before": {"x": 1}}), UNDOABLE, "create",
         {"desired": {"os": "1"}, "record_id": None, "again": {"x": 1}}),
        (step(1, "delete"), replace(UNDOABLE, can_create=False), "report", {"why": because(Why.CANNOT, what="create")}),
        (step(1, "update", before={"os": "1", "site": "q"}, desired={"os": "2"}, became={"os": "two"}), UNDOABLE,
         "update", {"before": {"os": "two"}, "desired": {"os": "1"}, "again": {}}),
        (step(1, "update", before={"os": "1"}, desired={"os": "2"},
              whole={"fields": {"site": ("q", None), "rack": ("r", ""), "note": ("a", "b")}, "beside": {"p": (1, 2)}}),
         UNDOABLE, "update",
         {"before": {"os": "2", "site": None}, "desired": {"os": "1", "site": "q"}, "again": {"p": 1}}),
        (step(1, "update", desired={"os": "2"}, whole={"fields": {"rack": ("r", [])}}), replace(UNDOABLE, writes=None),
         "update", {"before": {"os": "2", "rack": []}, "desired": {"os": None, "rack": "r"}}),
        (step(1, "action", action="lock", desired={"code": 1}, before={"state": "open"}, became={"state": "shut"}),
         UNDOABLE, "action",
         {"action": "unlock", "before": {"state": "shut"}, "desired": {"code": 1, "state": "open"}}),
        (step(1, "action", action="wipe"), UNDOABLE, "report", {"why": because(Why.UNDO_NEVER, action="wipe")}),
    ],
)  # fmt: skip
def test_what_takes_a_step_back_rests_on_what_was_read_after_it(done, form, operation, facts):
    (back,) = undo(
        Change(kind="push", system="s", steps=(replace(done, state="confirmed", sent=1.0),), number=3),
        {"devices": form},
    ).steps
    assert (back.operation, back.state) == (operation, "held" if operation == "report" else "ready")
    assert {name: getattr(back, name) for name in facts} == facts
    assert (back.label, back.key, back.table) == (done.label, done.key, "devices")


@pytest.mark.parametrize(
    ("state", "sent", "why"),
    [
        ("sent", 1.0, because(Why.UNDO_UNKNOWN, change=3)), ("unknown", 1.0, because(Why.UNDO_UNKNOWN, change=3)),
        ("doubled", 1.0, "doubled"), ("refused", 1.0, None), ("held", None, None), ("written", None, None),
        ("differs", 1.0, ()), ("written", 1.0, ()),
    ],
)  # fmt: skip
def test_only_what_left_here_and_had_an_effect_is_taken_back_and_what_nobody_knows_is_held(state, sent, why):
    done = step(1, "create", state=state, sent=sent, why=because(Why.DOUBLED, ids=["1", "2"]))
    back = undo(Change(kind="push", system="s", steps=(done, step(2, "report"))), {"devices": UNDOABLE}).steps
    if why is None:
        assert back == ()
    elif why == "doubled":
        assert (back[0].state, back[0].why[0].why) == ("held", Why.UNDO_DOUBLED)
    else:
        told = undo(Change(kind="push", system="s", steps=(done,), number=3), {"devices": UNDOABLE}).steps[0]
        assert (told.state, told.why) == ("held" if why else "ready", why)


def test_an_undo_begins_with_the_last_step_and_names_what_it_takes_back():
    done = tuple(step(n, state="confirmed", sent=1.0) for n in (1, 2, 3))
    back = undo(Change(kind="push", system="s", steps=done, number=8), {"devices": UNDOABLE})
    assert [(s.number, s.label) for s in back.steps] == [(1, "d3"), (2, "d2"), (3, "d1")]
    assert (back.kind, back.system, back.about.undoes) == ("undo", "s", 8)


def test_a_part_of_a_change_brings_along_what_it_needs_and_counts_what_was_asked_for():
    steps = (
        step(1, "create", table="sites"), step(2, "create", table="racks"), step(3, "create"), step(4, "create"),
        step(5), step(6, state="confirmed"),
    )  # fmt: skip
    change = Change(kind="push", system="s", steps=steps)
    needs = {3: [steps[1]], 2: [steps[0]]}

    def numbers(**part: object) -> list[int]:
        return [s.number for s in chosen(change, needs, **part)]

    assert numbers() == [1, 2, 3, 4, 5]
    assert numbers(first=1) == [1, 2, 3]  # the first that nothing needs
    assert numbers(first=2) == [1, 2, 3, 4]
    assert numbers(table="sites", first=1) == [1]  # where all are needed by others, of these
    assert (numbers(actions=["update"]), numbers(among=[3, 6]), numbers(table="racks")) == ([5], [1, 2, 3], [1, 2])


ROLE = Kind(table="roles", can_create=True)
POLICY = Kind(table="policies", references={"role": "roles", "parent": "policies"}, within="parent")
KINDS = {"roles": ROLE, "policies": POLICY}


def test_what_is_deleted_waits_for_what_refers_to_it_and_what_is_made_for_what_it_refers_to():
    made = [
        step(1, "create", table="roles", key={"name": "crew"}),
        step(2, "update", table="policies", key={"name": "p"}, desired={"role": "crew"}),
        step(3, "delete", table="roles", key={"name": "old"}),
        step(4, "delete", table="policies", key={"name": "q"}, before={"role": "old"}),
        step(5, "action", table="policies", key={"name": "q"}, before={"role": "old"}),
        step(6, "create", table="roles", key={"name": "idle"}),
    ]
    needs = needed_by_objects(Change(kind="config", system="s", steps=tuple(made)), KINDS)
    assert {number: [s.number for s in steps] for number, steps in needs.items()} == {2: [1], 3: [4]}


def test_what_stands_in_an_object_comes_with_it_however_deep_and_once():
    assert kinds_inside("policies", KINDS) == ["policies"]
    rule = Kind(table="rules", references={"policy": "policies"}, within="policy")
    kinds = {**KINDS, "rules": rule}
    assert kinds_inside("policies", kinds) == ["policies", "rules"]
    top = Object(kind="policies", name="top", body={})
    low = Object(kind="policies", name="top/low", body={"parent": "top"})
    last = Object(kind="rules", name="top/low/last", body={"policy": "top/low"})
    other = Object(kind="rules", name="x/last", body={"policy": "x"})
    assert contents([top], [last, other, low, top], kinds) == [top, low, last]
    assert contents([last], [last, low], kinds) == [last]


RACK = ReferenceMember(via="racks", by={"site": "site", "name": "rack"})
SITE = ReferenceMember(via="sites", by={"name": "site"})


@pytest.mark.parametrize(
    ("values", "make", "gives"),
    [
        ({"rack": "r1", "site": "quay"}, (), {"rack": "R1", "site": "quay"}),
        ({"rack": "RACK-91"}, (), {"rack": "rack-91", "site": "dock"}),
        ({"rack": "R1"}, (), "is ambiguous among the racks there: dock R1; quay R1"),
        ({"rack": "rack-19"}, (), 'is not among the racks there (did you mean "rack-91"?); say its site too'),
        ({"rack": "zz", "site": "quay"}, (), "is not among the racks there; --make racks creates it"),
        ({"rack": "zz", "site": "quay"}, ("racks",), None),
        ({"rack": "zz"}, ("racks",), "is not among the racks there; say its site too"),
        ({"site": "quay"}, (), None),  # a site alone says nothing of a rack in it
        ({"rack": "told", "site": "pier"}, (), {"rack": "told", "site": "pier"}),
    ],
)
def test_half_a_name_is_enough_where_it_leaves_no_doubt(values, make, gives):
    racks = [{"site": "quay", "name": "R1"}, {"site": "dock", "name": "R1"}, {"site": "dock", "name": "rack-91"}]
    target = TargetTable(
        table="devices", form=Form(keys=[["name"]], links=[RACK, SITE]), known={},
        others={"racks": racks, "sites": []}, may_make=make, described={"racks": [{"site": "pier", "name": "told"}]},
    )  # fmt: skip
    found = referred(values, RACK, target)
    assert (found.what if isinstance(found, Unclear) else found) == gives
