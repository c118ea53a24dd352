"""Targets: what is made, found and forgotten while a change runs."""

from __future__ import annotations

from types import SimpleNamespace

import pytest

from concordex.change.steps import Step
from concordex.errors import CalledWrongly
from concordex.wire.dialect.load import find
from concordex.work.targets.objects import Objects


def test_objects_that_do_not_show_after_they_were_made_are_not_referred_to():
    target = Objects(SimpleNamespace(dialect=find("muster")))
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
