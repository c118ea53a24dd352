"""What practitioners do, each as a story of a few commands on the stand-ins."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

from concordex.standins.server import Harbour
from tests.conftest import Near, make_workspace


@pytest.fixture(scope="module")
def harbour() -> Iterator[Harbour]:
    with Harbour.of(60, moment=datetime.now(UTC)) as harbour:
        yield harbour


def workspace(folder: Path, harbour: Harbour, *names: str) -> Near:
    shell = make_workspace(folder, harbour, names, kind=Near)
    shell("pull")
    return shell


def rows(shell: Near, *words: str) -> list[dict]:
    return json.loads(shell("show", *words, "-f", "json").stdout)


def test_a_host_is_watched_found_by_its_address_renamed_and_seen_in_its_group(tmp_path, harbour):
    """With a login by its label, how closely it is watched, and what it is called; of the rest nothing changes."""
    shell, nest = workspace(tmp_path, harbour, "crowsnest"), harbour.crowsnest
    (tmp_path / "hosts.csv").write_text(
        "address,kind,login,watch,called,name\n10.9.0.1,switch,deck switches,close,address,\n"
        "10.9.0.2,switch,deck switches,usual,dns,\n10.9.0.3,router,bridge routers,loose,own,rt-quay-9\n"
    )
    words = ("push", str(tmp_path / "hosts.csv"), "--to", "crowsnest", "--yes")
    assert "3 steps written, read back and confirmed" in shell(*words).stderr
    made = {host["address"]: host for host in nest.hosts.values() if host["address"].startswith("10.9.0.")}
    assert {host["name"] for host in made.values()} == {"10.9.0.1", "h10-9-0-2.saltmarsh.example", "rt-quay-9"}
    assert made["10.9.0.1"]["watch"] == "close"
    assert nest.logins[made["10.9.0.3"]["login"]] == "bridge routers"
    before = dict(made["10.9.0.2"])
    shell("set", "crowsnest", "ip = 10.9.0.2", "name=sw-quay-2", "called=own", "--yes")
    assert nest.hosts[before["number"]] == before | {"name": "sw-quay-2", "called": "own"}
    told = shell("set", "crowsnest", "ip = 10.9.0.2", "login=deck swiches", status=2).stderr
    assert 'did you mean "deck switches"?' in told
    shell("group", "add", "wired", "--where", "kind in (switch, router)")
    shell("group", "push", "wired", "--to", "crowsnest", "--yes")
    shell("pull", "crowsnest")
    seen = {row["name"] for row in rows(shell, "members", "--where", "watched_in = wired")}
    assert {"sw-quay-2", "rt-quay-9", "10.9.0.1"} <= seen
    assert seen == {host["name"] for host in nest.hosts.values() if host["class"] in ("switch", "router")}


def test_a_device_is_given_to_a_controller_tried_through_it_and_taken_off(tmp_path, harbour):
    """It is listed at once and usable later, sometimes never; its password is named, and stands nowhere."""
    shell, controller = workspace(tmp_path, harbour, "fairlead"), harbour.fairlead
    there = {"user": "steer", "password": "p-7Q.word", "platform": "Wharf 9", "serial": "WH900001", "release": "4.2"}
    controller.reachable = {("10.8.0.1", 8443): there, ("10.8.0.2", 8443): there | {"password": "other"}}
    (tmp_path / "charges.csv").write_text(
        "name,address,port,user,password\nwh-1,10.8.0.1,8443,steer,env:WH\nwh-2,10.8.0.2,8443,steer,env:WH\n"
        "wh-3,10.8.0.3,8443,steer,env:WH\n"
    )
    words = ("push", str(tmp_path / "charges.csv"), "--to", "fairlead", "--table", "charges", "--yes")
    told = shell(*words, status=4, env={"WH": "p-7Q.word"})
    assert "wh-1" in told.stdout
    assert "model Wharf 9, serial WH900001, os_version 4.2" in told.stdout
    assert "will not be ready (words user or password is wrong)" in told.stdout
    assert "not ready (status = ready)" in told.stdout  # nothing answers there
    kept = b"".join(path.read_bytes() for path in (shell.folder / ".concordex").rglob("*") if path.is_file())
    assert b"p-7Q.word" not in kept
    assert "p-7Q.word" not in told.stdout + told.stderr
    assert (
        "1 step taken by the system" in shell("action", "fairlead", "try", "wh-1", "--table", "charges", "--yes").stderr
    )
    assert (
        "is failed: user or password"
        in shell("action", "fairlead", "try", "wh-2", "--table", "charges", "--yes", status=4).stdout
    )
    (tmp_path / "plain.csv").write_text("name,address,port,user,password\nwh-9,10.8.0.9,1,steer,secret\n")
    told = shell("push", str(tmp_path / "plain.csv"), "--to", "fairlead", "--table", "charges", status=2).stdout
    assert "say where it is kept" in told
    assert "secret," not in told
    shell("delete", "fairlead", "name like wh-*", "--table", "charges", "--count", "3")
    assert not controller.charges


def test_things_are_planned_with_roles_platforms_faces_and_airflow_from_a_file(tmp_path, harbour):
    """References by name, made where that is asked for; then put into service."""
    shell, stowage = workspace(tmp_path, harbour, "stowage"), harbour.stowage
    (tmp_path / "plan.csv").write_text(
        "name,serial,site,maker,model,kind,status,role,platform,face,airflow,rack,position\n"
        "sw-plan-1,PL100001,north-mole,Brackwater,BS-2448,switch,planned,access,TideOS,front,front to rear,,\n"
        "sw-plan-2,PL100002,north-mole,Brackwater,BS-2448,switch,planned,access,TideOS,rear,passive,,\n"
    )
    words = ("push", str(tmp_path / "plan.csv"), "--to", "stowage")
    told = shell(*words, status=2).stdout
    assert "--make roles creates it" in told
    shell(*words, "--make", "roles,platforms", "--yes")
    made = [one for one in stowage.lists["gear"].values() if one["title"].startswith("sw-plan-")]
    assert {(one["state"], one["side"], one["air"]) for one in made} == {
        ("planned", "fore", "fore to aft"), ("planned", "aft", "still"),
    }  # fmt: skip
    assert {stowage.lists["duties"][one["dutyId"]]["name"] for one in made} == {"access"}
    assert [one["name"] for one in stowage.lists["programs"].values()] == ["PierOS", "TideOS"]
    assert "nothing to do" in shell(*words).stderr
    shell("set", "stowage", "role = access and status = planned", "status=in service", "airflow=rear to front", "--yes")
    assert {
        (one["state"], one["air"]) for one in stowage.lists["gear"].values() if one["title"].startswith("sw-plan")
    } == {("in service", "aft to fore")}
    assert "is none of the choices" in shell("set", "stowage", "sw-plan-1", "face=side", status=2).stderr


def test_cards_that_are_there_get_the_foreign_id_of_the_system_that_the_workspace_names(tmp_path, harbour):
    """By default, where they lack one; and no card of others is taken for one of ours when it comes to retiring."""
    purser = harbour.purser
    shell = workspace(tmp_path, harbour, "muster", "purser")
    shell.config(lambda text: text + "sync: {purser: {origin: muster, retire_after: 30d}}\nguards: {share: 1}\n")
    lacking = [card for card in purser.cards.values() if not card["foreignRef"] and card["serialNumber"]]
    assert lacking
    theirs = {device["record_id"]: device["serial"] for device in rows(shell, "devices", "--system", "muster")}
    shell("sync", "purser", "--yes", status=None)
    written = [card for card in lacking if card["foreignRef"]]
    assert written
    assert all(card["foreignRef"].startswith("muster/") for card in written)
    serials = {(theirs[card["foreignRef"].removeprefix("muster/")] or "").upper() for card in written}
    assert {card["serialNumber"].upper() for card in written} & serials
    from concordex.work.change.retire import _made

    workspace_now = shell.workspace
    frame = workspace_now.show("devices", systems=["purser"]).frame
    ours = _made(workspace_now, "purser", frame, workspace_now.dialect("purser").tables["devices"].write)
    assert not {card["card"] for card in lacking} & ours.keys()
    shell.config(lambda text: text.replace("origin: muster", "origin: mustr"))
    assert "there is no system 'mustr'" in shell("sync", "purser", status=1).stderr


def test_a_unit_is_enrolled_for_a_line_that_its_name_and_house_tell(tmp_path, harbour):
    """Of two lines of one name the house decides; what came last is first."""
    shell, portal = workspace(tmp_path, harbour, "pilotage"), harbour.pilotage
    codes = [portal.new_unit(f"PX10000{at}") for at in range(2)]
    (tmp_path / "units.json").write_text(json.dumps([
        {"serial": f"PX10000{at}", "code": code, "name": f"rt-px-{at}", "line": "outer islands", "house": house}
        for at, (code, house) in enumerate(zip(codes, ("Night Boats", "Saltmarsh Ferries"), strict=True))
    ]))  # fmt: skip
    bare = [{"serial": "PX900001", "code": "1", "name": "rt-px-9", "line": "outer islands"}]
    (tmp_path / "unclear.json").write_text(json.dumps(bare))
    assert (
        "is ambiguous among the lines there"
        in shell("push", str(tmp_path / "unclear.json"), "--to", "pilotage", status=2).stdout
    )
    for at in range(2):
        portal.expected[f"PX10000{at}"] = {
            "maker": "Ostrel", "model": "Petrel", "mac": f"0c:b1:ee:00:00:0{at}", "os": "TideOS", "version": "4.1",
            "ip": f"10.7.0.{at + 1}",
        }  # fmt: skip
    shell("push", str(tmp_path / "units.json"), "--to", "pilotage", "--yes")
    lines = {unit["alias"]: unit["line"] for unit in portal.units.values() if unit["serial"].startswith("PX")}
    assert lines == {"rt-px-0": "l3", "rt-px-1": "l2"}
    first = rows(shell, "devices", "--sort", "-enrolled_at", "--limit", "2")
    assert {row["name"] for row in first} == {"rt-px-0", "rt-px-1"}
    assert {row["house"] for row in first} == {"Night Boats", "Saltmarsh Ferries"}


def test_policies_that_were_tried_on_a_pilot_move_to_production(tmp_path, harbour):
    """What binds them to people there stays behind, and what is bound here stays as it is."""
    shell, production = workspace(tmp_path, harbour, "pilot", "muster"), harbour.muster
    told = shell("config", "diff", "muster", "pilot", "--kind", "policies", status=3).stdout
    assert "quay kiosks" in told
    assigned = production.objects["policies"]["policy-1"]["assignedTo"]
    shell("config", "migrate", "pilot/policies/laptops", "--to", "muster", "--yes")
    shell("config", "migrate", "pilot/policies/quay kiosks", "--to", "muster", "--yes")
    held = {one["name"]: one for one in production.objects["policies"].values()}
    assert (held["laptops"]["leastRelease"], held["laptops"]["lock"]["leastDigits"]) == ("24.0.0", 8)
    assert held["laptops"]["assignedTo"] == assigned
    assert not held["quay kiosks"].get("assignedTo")
    assert "no difference" in shell("config", "diff", "muster", "pilot", "--kind", "policies").stderr


def test_two_things_in_one_place_or_outside_of_their_rack_are_mistakes_before_anything_is_sent(tmp_path, harbour):
    shell, stowage = workspace(tmp_path, harbour, "stowage"), harbour.stowage
    rack = next(iter(stowage.lists["racks"].values()))
    place = stowage.lists["places"][rack["placeId"]]["code"]
    product = next(one for one in stowage.lists["products"].values() if one["name"] == "BS-2448")
    product["height"] = 2
    shell("pull")
    head = "name,serial,site,maker,model,kind,rack,position,face\n"
    line = "{n},RK{n},{p},Brackwater,BS-2448,switch,{r},{u},{f}\n"
    taken = {(one["unit"], one["rackId"]) for one in stowage.lists["gear"].values() if one["rackId"]}
    free = max((unit for unit, number in taken if number == rack["id"]), default=0) + 1
    spots = [(free, "front"), (free + 1, "front"), (free, "rear"), (rack["units"], "front"), (0, "front")]
    (tmp_path / "r.csv").write_text(head + "".join(
        line.format(n=f"sw-rk-{at}", p=place, r=rack["name"], u=unit, f=face) for at, (unit, face) in enumerate(spots)
    ))  # fmt: skip
    before = len(stowage.lists["gear"])
    told = shell("push", str(tmp_path / "r.csv"), "--to", "stowage", "--yes", status=2).stdout
    assert "is taken there by sw-rk-0" in told
    assert told.count("is outside of the rack") == 2
    assert len(stowage.lists["gear"]) == before
    shell("push", str(tmp_path / "r.csv"), "--to", "stowage", "--rejects", str(tmp_path / "bad.csv"), "--yes", status=4)
    assert len(stowage.lists["gear"]) == before + 2  # front and rear of the same units
    (tmp_path / "beside.csv").write_text(head.replace(",rack", ",comment,rack") + "".join((
        f"sw-rk-0,RKsw-rk-0,{place},Brackwater,BS-2448,switch,mind it,,,\n",  # it keeps its place
        line.format(n="sw-rk-9", p=place, r=f",{rack['name']}", u=free, f="front"),
    )))  # fmt: skip
    told = shell("push", str(tmp_path / "beside.csv"), "--to", "stowage", status=2).stdout
    assert "is taken there by sw-rk-0" in told
    told = shell("set", "stowage", "sw-rk-2", "face=front", "--yes", status=2).stderr
    assert "its place is taken there by sw-rk-0" in told
    assert "outside of the rack" in shell("set", "stowage", "sw-rk-0", "position=200", status=2).stderr


def test_an_interface_is_pushed_with_what_every_new_one_has(tmp_path, harbour):
    shell, router = workspace(tmp_path, harbour, "binnacle"), harbour.binnacle
    (tmp_path / "lo.csv").write_text("name,description\nlo/21,management\n")
    shell("push", str(tmp_path / "lo.csv"), "--to", "binnacle", "--table", "interfaces", "--yes")
    assert router.interfaces["lo/21"]["type"] == "iana-if-type:softwareLoopback"
    shell("change", "undo", "1", "--yes")
    assert "lo/21" not in router.interfaces
