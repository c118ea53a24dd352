"""Targets: what is made, found and forgotten while a change runs."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from types import SimpleNamespace

import pytest

from concordex.change.about import About
from concordex.change.reasons import Why, because
from concordex.change.steps import Change, Step
from concordex.errors import CalledWrongly, Stopped
from concordex.wire.dialect.load import find
from concordex.work.run.guards import check_guards
from concordex.work.run.precheck import of_creations
from concordex.work.run.readback import Before, ReadBack
from concordex.work.targets.objects import ObjectTarget


def test_what_is_found_under_another_id_than_the_system_said_tells_what_it_said():
    step = Step(number=1, table="roles", operation="create", label="crew", key={"name": "crew"}, record_id="r1")
    change, after = Change(kind="push", system="s", steps=(step,)), SimpleNamespace(began=datetime.now(UTC))
    back = ReadBack(change, after, SimpleNamespace(ledger=None), Before(), None)
    found, called = because(Why.FOUND), because(Why.CALLED, record="r1")
    assert (back._identified(step, ["r2"]).record_id, back._identified(step, ["r2"]).why) == ("r2", (*found, *called))
    assert back._identified(replace(step, record_id=None), ["r2"]).why == found
    assert back._identified(step, ["r1"]) is step


def test_objects_that_do_not_show_after_they_were_made_are_not_referred_to():
    target = ObjectTarget(SimpleNamespace(dialect=find("muster")))
    role = Step(number=1, table="roles", operation="create", label="crew", key={"name": "crew"}, desired={"rights": []})
    policy = Step(number=2, table="policies", operation="create", label="p", key={"name": "p"}, desired={})
    target.made(role, "r1")
    target.made(policy, "p1")
    assert (target.bearers(role), target.records("roles", ["r1"])) == (["r1"], {"r1": {"rights": []}})
    target.forget([role])
    assert (target.bearers(role), target.records("roles", ["r1"])) == ([], {})
    assert target.bearers(policy) == ["p1"]
    with pytest.raises(CalledWrongly, match="'crew', which is not in roles"):
        target._id("role", "roles", "crew")


@pytest.mark.parametrize(("bearers", "ours"), [(["7"], "7"), (["7", "8"], None)])
def test_of_several_records_of_one_key_none_is_called_the_one_that_was_staged(bearers, ours):
    step = Step(number=1, table="rules", operation="create", label="r", key={}, state="sent", why=because(Why.STAGED))
    (outcome,) = of_creations(SimpleNamespace(bearers=lambda _step: bearers), [step]).settled
    assert (outcome.state, outcome.record_id) == ("written", ours)


@pytest.mark.parametrize(("system", "free"), [("ours", True), ("another", False)])
def test_only_an_undo_of_what_was_done_to_the_same_system_passes_the_guards(system, free):
    steps = tuple(
        Step(number=at, table="devices", operation="delete", label=f"d{at}", key={}, sent=1.0) for at in range(3)
    )
    guards = SimpleNamespace(windows=[], creations=1, updates=1, deletions=1, retirements=1, actions=1, share=1)
    journal = SimpleNamespace(
        changes=lambda: [{"id": 4}], change=lambda _number: Change(kind="push", system=system, steps=steps)
    )
    workspace = SimpleNamespace(
        config=SimpleNamespace(systems={}, guards=guards), record_of_changes=journal, now=lambda: None
    )
    undo = Change(kind="undo", system="ours", steps=steps, about=About(undoes=4))
    if free:
        check_guards(workspace, undo)
    else:
        with pytest.raises(Stopped, match="3 deletions, and the workspace allows 1"):
            check_guards(workspace, undo)
