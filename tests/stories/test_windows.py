"""What a system is asked for of what hangs from devices: a device, a part of it, a span of time."""

from __future__ import annotations

import json
from collections import Counter
from datetime import datetime, timedelta

import pytest

from tests.conftest import Near, make_workspace


def rows(shell, *words, status=0):
    return json.loads(shell(*words, "-f", "json", status=status).stdout)


@pytest.fixture(scope="module")
def looking(tmp_path_factory, shared_harbour):
    shell = make_workspace(tmp_path_factory.mktemp("looking"), shared_harbour, ["bollard", "muster"], kind=Near)
    shell("pull")
    shell("reconcile")
    return shell


def test_a_device_is_meant_by_its_name_also_where_systems_know_ids(looking):
    name = rows(looking, "show", "interfaces", "-n", "1", "-c", "parent")[0]["parent"]
    for test in (f'parent = "{name}"', f'device.name = "{name}"'):
        kept = rows(looking, "show", "interfaces", "--where", test, "-c", "parent,name,device.entry")
        live = rows(looking, "show", "interfaces", "--live", "--where", test, "-c", "parent,name,device.entry")
        assert kept == live != []


def test_a_span_of_time_and_a_device_are_asked_of_the_system(looking, shared_harbour):
    muster = shared_harbour.named("muster")
    of_each = ("-c", "device.name,parent_id,taken_at", "--sort", "-taken_at")
    newest = rows(looking, "show", "readings", *of_each)
    bearers = {(row["device.name"], row["parent_id"]) for row in newest}
    borne = Counter(name for name, _ in bearers)
    one = next(row for row in newest if borne[row["device.name"]] == 1)
    at = datetime.fromisoformat(one["taken_at"])
    begin, end = (at + timedelta(minutes=way * 50) for way in (-1, 1))
    test = f'device.name = "{one["device.name"]}" and taken_at > {begin.isoformat()} and taken_at < {end.isoformat()}'
    kept = rows(looking, "show", "readings", "--where", test)
    muster.spans.clear()
    live = rows(looking, "show", "readings", "--live", "--where", test)
    assert kept == live != []
    assert {devices for *_, devices in muster.spans} == {one["parent_id"]}
    asked = min(since for since, *_ in muster.spans), max(until for _, until, _ in muster.spans)
    assert begin.timestamp() - 3 < asked[0] < asked[1] < end.timestamp() + 3
    funnel = looking("show", "readings", "--live", "--where", test, "--funnel").stdout.splitlines()
    assert str(len(live)) in funnel[-1].split()


@pytest.mark.parametrize(
    ("test", "met"),
    [
        ('parent like "*"', True), ("parent present", True), ('not parent = "{name}"', True),
        ("device.site missing or level < 0", True), ('device.site != "nowhere"', True), ('parent_id = "{id}"', False),
        ('parent in ("{name}", "nobody knows this")', False), ('parent in ("{name}", "dev-strange")', True),
    ],
)  # fmt: skip
def test_a_reading_of_a_device_that_nobody_knows_is_not_lost(looking, shared_harbour, test, met):
    """Its id is all that there is of it, and no device by whose id a system could be asked."""
    muster = shared_harbour.named("muster")
    one = muster.readings[-1]
    known = rows(looking, "show", "readings", "-n", "1", "-c", "parent,parent_id")[0]
    test = test.format(name=known["parent"], id=known["parent_id"])
    strange = one | {"readingId": "strange", "deviceId": "dev-STRANGE", "takenAt": one["takenAt"] - 60}
    muster.readings.append(strange)
    try:
        found = rows(looking, "show", "readings", "--live", "--where", test, "-c", "record_id")
    finally:
        muster.readings.remove(strange)
    kept = rows(looking, "show", "readings", "--where", test, "-c", "record_id")
    own = {row["record_id"] for row in kept}
    assert {row["record_id"] for row in found} == own | ({"strange"} if met else set())


def test_how_a_device_is_now_is_asked_of_its_systems_for_it_alone(looking, shared_harbour):
    """The same as was pulled of it, from systems that were asked for no more."""
    muster = shared_harbour.named("muster")
    named = rows(looking, "show", "events", "-n", "1", "-c", "device.name,at", "--sort", "-at")[0]
    at = datetime.fromisoformat(named["at"])
    span = ("--between", (at - timedelta(hours=9)).isoformat(), (at + timedelta(seconds=1)).isoformat())
    where = ("--where", f'name = "{named["device.name"]}"')
    for what in (("health", "--events"), ("health", "--use"), ("health",)):
        kept = rows(looking, *what, *where, *span, status=None)
        muster.spans.clear()
        assert rows(looking, *what, *where, *span, "--live", status=None) == kept
        assert all(devices for *_, devices in muster.spans)
    assert rows(looking, "health", "--events", *where, *span)[0]["at"] == named["at"]
    shown = rows(looking, "show", "events", *span, "--where", f"device.{where[1]}")
    assert len(shown) == len(rows(looking, "health", "--events", *where, *span))


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("show", "events", "--since", "soon"), "--since soon: is not a date or time"),
        (("show", "events", "--since", "2h", "--between", "3h", "2h"), "both say when it begins"),
        (("health", "--between", "2h", "3h"), "ends before it begins"),
        (("show", "devices", "--since", "2h"), "no time"),
        (("health", "--batteries", "--live"), "--batteries lists all"),
    ],
)  # fmt: skip
def test_a_span_of_time_that_cannot_be_meant_is_told(looking, words, told):
    assert told in looking(*words, status=2).stderr


def test_how_states_moved_is_asked_by_the_filters_of_a_system_and_is_all_there(tmp_path, shared_harbour):
    """Of a monitoring system, page by page: what it tells of a span and a host, and no more is asked."""
    shell = make_workspace(tmp_path, shared_harbour, ["crowsnest", "bollard"], kind=Near)
    shell("pull")
    shell("reconcile")
    crowsnest = shared_harbour.named("crowsnest")
    kept = rows(shell, "show", "events", "--sort", "at")
    assert [row["record_id"] for row in kept] == [change["number"] for change in crowsnest.changes] != []
    at, names = kept[len(kept) // 2]["at"], {kept[0]["parent"], kept[-1]["parent"]}
    crowsnest.asked.clear()
    test = f"device.name in ({', '.join(names)})"
    live = rows(shell, "show", "events", "--live", "--between", kept[0]["at"], at, "--where", test)
    assert live == [row for row in kept if row["at"] < at and row["parent"] in names] != []
    assert all(after and before and host for after, before, host in crowsnest.asked)
    below = rows(shell, "show", "downstream", "--where", "status = up and device.kind = firewall")
    told = [(one["name"], one["serial"]) for f in shared_harbour.bollard.firewalls.values() for one in f["below"]
            if one["state"] == "attached"]  # fmt: skip
    assert sorted((row["name"], row["serial"]) for row in below) == sorted(told) != []


def test_a_part_of_a_device_is_asked_of_the_system(pulled, shared_harbour):
    fairlead = shared_harbour.named("fairlead")
    port = rows(pulled, "show", "interfaces", "-n", "1", "-c", "device.name,name,parent_id,errors_in")[0]
    fairlead.ports_asked.clear()
    test = f'device.name = "{port["device.name"]}" and name = "{port["name"]}"'
    live = rows(pulled, "show", "interfaces", "--live", "--where", test, "-c", "name,parent_id")
    assert live == [{"name": port["name"], "parent_id": port["parent_id"]}]
    assert {*fairlead.ports_asked} == {(port["parent_id"], port["name"])}
