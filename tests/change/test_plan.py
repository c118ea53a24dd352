"""From objects as they are to objects as they shall be: what is made comes after what it needs, what goes before it."""

from __future__ import annotations

import pytest

from concordex.change.depend import InACircle, closure, in_order
from concordex.change.objects import Kind, Object
from concordex.change.plan import plan

MADE = {"can_create": True, "can_update": True, "can_delete": True}
KINDS = {
    "groups": Kind(table="groups", references={"of": "addresses"}, **MADE),
    "addresses": Kind(table="addresses", references={"owner": "groups"}, **MADE),
    "rules": Kind(table="rules", references={"to": "groups"}, place="at", **MADE),
}


def thing(kind: str, name: str, **body: object) -> Object:
    return Object(kind=kind, name=name, body=body)


LADDER = [thing("groups", "g", of=["a"]), thing("addresses", "a"), thing("rules", "r", to="g", at=1)]


def test_what_is_made_comes_after_what_it_needs_and_what_goes_before_it():
    made, _ = plan("quay", LADDER, [], KINDS)
    assert [(step.table, step.operation) for step in made.steps] == [
        ("addresses", "create"), ("groups", "create"), ("rules", "create"),
    ]  # fmt: skip
    gone, extra = plan("quay", [], LADDER, KINDS, going={one.key for one in LADDER})
    assert [(step.table, step.operation) for step in gone.steps] == [
        ("rules", "delete"), ("groups", "delete"), ("addresses", "delete"),
    ]  # fmt: skip
    assert len(extra) == 3


def test_what_only_the_system_has_stays_unless_it_is_to_go_and_goes_last():
    actual = [thing("addresses", "old"), thing("addresses", "a", ip="1")]
    wanted = [thing("addresses", "a", ip="2"), thing("addresses", "b", ip="3")]
    change, extra = plan("quay", wanted, actual, KINDS)
    assert [(step.operation, step.label) for step in change.steps] == [("update", "a"), ("create", "b")]
    assert [difference.either.name for difference in extra] == ["old"]
    change, _ = plan("quay", wanted, actual, KINDS, going={("addresses", "old", 1)})
    assert [(step.operation, step.label) for step in change.steps] == [
        ("update", "a"), ("create", "b"), ("delete", "old"),
    ]  # fmt: skip
    (update, *_) = change.steps
    assert (update.before, update.desired) == ({"ip": "1"}, {"ip": "2"})


def test_kinds_that_need_each_other_go_by_their_objects_alone():
    """No order of kinds would do: a needs g, which needs b."""
    objects = [thing("groups", "g", of=["b"]), thing("addresses", "a", owner="g"), thing("addresses", "b")]
    assert [one.name for one in in_order(objects, KINDS)] == ["b", "g", "a"]
    with pytest.raises(InACircle, match="g"):
        in_order([thing("groups", "g", of=["a"]), thing("addresses", "a", owner="g")], KINDS)


def test_what_is_needed_comes_along_however_far_and_what_is_not_there_is_named():
    every = [*LADDER, thing("groups", "h", of=["lost"])]
    chosen, lost = closure([LADDER[2]], every, KINDS)
    assert {one.name for one in chosen} == {"r", "g", "a"}
    assert lost == []
    chosen, lost = closure([every[3]], every, KINDS)
    assert [one.name for one in chosen] == ["h"]
    assert [(one.name, need) for one, need in lost] == [("h", ("addresses", "lost"))]
