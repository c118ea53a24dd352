"""Every stand-in pulled completely by its dialect, on good days and bad; systems, their checks and their history."""

from __future__ import annotations

import json
import os
import time
from contextlib import suppress
from copy import deepcopy
from datetime import UTC, datetime

import pytest

from concordex.standins.server import Harbour
from concordex.unseen import Secret
from concordex.wire.dialect.load import find
from concordex.wire.dialect.paths import at
from concordex.wire.http.session import Endpoint, Session
from concordex.wire.writing.records import commit, create, delete, perform, update
from concordex.work.pull.in_progress import begun
from tests.conftest import Near, Shell, make_workspace
from tests.lamplight import run

pytestmark = pytest.mark.devices(200)  # more than a page of each
NINE = ("fairlead", "masthead", "bollard", "muster", "crowsnest", "pilotage", "binnacle", "stowage", "purser")


@pytest.fixture
def nine(tmp_path, harbour) -> Shell:
    return make_workspace(tmp_path, harbour, NINE, Near)


def truth_of(harbour: Harbour, system: str) -> set[str]:
    return {record_id for name, record_id in harbour.accounts.truth if name == system}


def devices(shell: Shell, system: str) -> set[str]:
    frame = shell.workspace.show("devices", systems=[system], columns=["record_id"]).frame
    return set(frame["record_id"].to_list())


def test_all_nine_are_pulled_whole_and_reconciled(nine, harbour):
    rows = json.loads(nine("pull", "--format", "json").stdout)
    assert {row["system"] for row in rows} == set(NINE)
    assert {row["outcome"] for row in rows} == {"whole"}
    for system in NINE:
        assert devices(nine, system) == truth_of(harbour, system)
    radio = nine.workspace.show("devices", where="kind = access-point", systems=["masthead"], sort=["record_id"]).frame
    told = min(harbour.masthead.radios, key=lambda radio: radio["ref"])
    assert radio.row(0, named=True)["serial"] == told["serialCode"]
    assert nine.workspace.show("interfaces", systems=["bollard"]).frame.height == 3 * len(harbour.bollard.firewalls)
    assert nine.workspace.show("readings").frame.height == len(harbour.muster.readings)
    host = nine.workspace.show("devices", systems=["crowsnest"], sort=["record_id"]).frame.row(0, named=True)
    assert (host["status"], host["load"]) == tuple(
        next(iter(harbour.crowsnest.hosts.values()))[k] for k in ("state", "load")
    )


def test_what_is_not_there_or_not_offered_is_told_by_every_command_that_takes_a_record(nine):
    nine("pull")
    for system in NINE:
        for words in (["set", system, "nobody", "name=x"], ["retire", system, "nobody"], ["delete", system, "nobody"],
                      ["action", system, "locate", "nobody"]):  # fmt: skip
            told = nine(*words, status=2).stderr
            assert any(why in told for why in ("has no record in devices called", "offers", "cannot be written")), told
    assert "it offers: action (retire, wipe)" in nine("delete", "muster", "nobody", status=2).stderr
    firewall = json.loads(nine("show", "devices", "-s", "bollard", "-n", "1", "-f", "json").stdout)[0]
    drafted = nine("delete", "bollard", firewall["ips"][0], "--draft", "-f", "json").stdout
    assert [step["record_id"] for step in json.loads(drafted)] == [firewall["record_id"]]  # a key that is a list


#: What each system's list is read from, and what it may suffer there without a record being lost.
LISTS = {
    "fairlead": "/fl/3/nodes", "masthead": "/mast/zones", "bollard": "/bollard/rpc", "muster": "/muster/devices",
    "crowsnest": "/nest/hosts", "pilotage": "/pilot/units", "binnacle": "/restconf", "stowage": "/v2/gear",
    "purser": "/purser/cards",
}  # fmt: skip


@pytest.mark.parametrize("fault", ["busy", "fail", "cut", "drop", "expire"])
def test_a_passing_fault_costs_a_retry_and_no_record(nine, harbour, fault):
    for system, path in LISTS.items():
        harbour.named(system).faults.add(fault, path, after=1, times=1)
    rows = json.loads(nine("pull", "--table", "devices", "--format", "json").stdout)
    assert {row["system"]: row["outcome"] for row in rows} == dict.fromkeys(NINE, "whole")
    assert fault == "expire" or sum(row["retries"] for row in rows) >= 5
    for system in NINE:
        assert devices(nine, system) == truth_of(harbour, system)


SHORT = ("fairlead", "muster", "crowsnest", "pilotage", "stowage", "purser")


def test_a_list_cut_short_is_never_called_whole(tmp_path, harbour):
    shell = make_workspace(tmp_path, harbour, SHORT, Near)
    for system in SHORT:
        harbour.named(system).faults.add("short", LISTS[system])
    done = shell("pull", "--table", "devices", "-f", "json", status=4)
    assert {row["outcome"] for row in json.loads(done.stdout)} == {"partial"}
    assert done.stderr.count("two looks did not add up: ") == len(SHORT)


def test_a_source_that_dies_half_way_is_partial_and_the_others_go_on(tmp_path, harbour):
    shell = make_workspace(tmp_path, harbour, ["muster", "purser"], Near)
    harbour.muster.faults.add("drop", "/muster/devices", after=1)
    rows = {r["system"]: r for r in json.loads(shell("pull", "-t", "devices", "-f", "json", status=4).stdout)}
    assert (rows["muster"]["outcome"], rows["purser"]["outcome"]) == ("partial", "whole")
    assert rows["muster"]["distinct"] == 100


def within(harbour: Harbour, system: str, speak):
    standin = harbour.named(system)
    credentials = standin.plain() | {name: Secret(text) for name, text in standin.secrets().items()}
    endpoint = Endpoint(
        name=system, url=harbour.urls[system], credentials=credentials,
        fingerprint=harbour.fingerprint if standin.tls else None,
    )  # fmt: skip

    async def talk():
        async with Session(endpoint, find(system)) as session:
            return await speak(session)

    return run(talk())


def test_what_the_dialects_write_is_there_afterwards(fresh_harbour):
    harbour = fresh_harbour
    table = {name: find(name).tables for name in NINE}

    async def fairlead(session):
        how = table["fairlead"]["devices"].write
        node = next(node for node in harbour.fairlead.nodes if node["health"] == "good")
        await update(session, how.update, node["nodeKey"], {"label": "renamed"})
        assert node["label"] == "renamed"
        lost = next(node for node in harbour.fairlead.nodes if node["health"] == "lost")
        with pytest.raises(Exception, match="failed"):
            await perform(session, how.actions["restart"], lost["nodeKey"])

    async def masthead(session):
        how, radio = table["masthead"]["devices"].write, harbour.masthead.radios[0]
        await update(session, how.update, radio["ref"], {"caption": "ap-new"}, {"zone": radio["zone"]})
        await perform(session, how.actions["restart"], radio["ref"], {"zone": radio["zone"]})
        assert (radio["caption"], radio["state"]) == ("ap-new", "restarting")

    async def bollard(session):
        how = table["bollard"]["addresses"].write
        made = await create(session, how.create, [{"name": "pier", "value": "10.9.0.0/16"}], at("ref"))
        await update(session, how.update, made[0], {"note": "new"})
        assert made[0] not in harbour.bollard.objects["address"]
        await commit(session, how.commit)
        assert harbour.bollard.objects["address"][made[0]]["note"] == "new"
        with pytest.raises(Exception, match="there already"):
            await create(session, how.create, [{"name": "pier", "value": "10.9.0.0/16"}], at("ref"))
        await delete(session, how.delete, made)
        harbour.bollard.revision += 1  # somebody else commits
        with pytest.raises(Exception, match="altered by somebody else"):
            await commit(session, how.commit)
        sets = table["bollard"]["rulesets"].write
        targets = harbour.bollard.objects["ruleset"]["set0"]["targets"]
        linked = [ref for ref in targets if harbour.bollard.firewalls[ref]["linked"]]
        await perform(session, sets.actions["install"], "set0", {"target": linked[0]})
        with pytest.raises(Exception, match="not a target"):
            await perform(session, sets.actions["install"], "set1", {"target": linked[0]})

    async def muster(session):
        how = table["muster"]
        await create(session, how["policies"].write.create, [{"name": "handhelds"}], at("id"))
        with pytest.raises(Exception, match="already"):
            await create(session, how["roles"].write.create, [{"name": "crew"}], at("id"))
        await delete(session, how["roles"].write.delete, ["role-1"])
        device = harbour.muster.devices[0]
        await perform(session, how["devices"].write.actions["retire"], device["deviceId"])
        assert device not in harbour.muster.devices

    async def crowsnest(session):
        how = table["crowsnest"]["devices"].write
        made = await create(session, how.create, [{"name": "sw-new", "address": "10.1.1.1"}], at("@number"))
        listed = json.dumps({"@number": made[0], "name": "sw-new", "address": "10.1.1.1", "berth": "quay", "doing": {}})
        await update(session, how.update, made[0], {"name": "sw-newer"}, {"original": listed})
        host = harbour.crowsnest.hosts[made[0]]
        assert (host["name"], host["address"], host["berth"]) == ("sw-newer", "10.1.1.1", "quay")
        with pytest.raises(Exception, match="failed") as caught:
            await create(session, how.create, [{"name": "sw-newer", "address": "10.1.1.3"}], at("@number"))
        assert "watched already" in caught.value.why
        await delete(session, how.delete, made)
        assert made[0] not in harbour.crowsnest.hosts

    async def pilotage(session):
        how, code = table["pilotage"]["devices"].write, harbour.pilotage.new_unit("SN1")
        with pytest.raises(Exception, match="refused") as caught:
            await create(session, how.create, [{"serial": "SN1", "code": "guess"}], at("unit"))
        assert "the unit shows" in caught.value.why
        (unit,) = await create(session, how.create, [{"serial": "SN1", "code": code}], at("unit"))
        await update(session, how.update, unit, {"mode": "control"})
        await perform(session, how.actions["restart"], unit)
        harbour.pilotage.rights = "read"
        with pytest.raises(Exception, match="does not allow"):
            await delete(session, how.delete, [unit])

    async def binnacle(session):
        how = table["binnacle"]["interfaces"].write
        await update(session, how.update, "quay1/0", {"name": "quay1/0", "description": "kiosk wire"})
        assert harbour.binnacle.interfaces["quay1/0"]["description"] == "kiosk wire"

    async def purser(session):
        how = table["purser"]["devices"].write
        (card,) = await create(session, how.create, [{"heading": "new", "serialNumber": "S1"}], at("card"))
        await update(session, how.update, card, {"heading": "newer"})
        assert harbour.purser.cards[card]["heading"] == "newer"
        with pytest.raises(Exception, match="refused") as caught:
            await create(session, how.create, [{"heading": "twin", "serialNumber": "S1"}], at("card"))
        assert type(caught.value).__name__ == "Duplicate"

    for speak in (fairlead, masthead, bollard, muster, crowsnest, pilotage, binnacle, purser):
        within(harbour, speak.__name__, speak)


def test_stand_ins_are_strict(harbour):
    import httpx

    def status(system, path, **more):
        return httpx.get(harbour.urls[system] + path, verify=False, **more).status_code

    assert status("masthead", "/mast/zones") == 401
    assert status("pilotage", "/pilot/units", headers={"Signature": "sig1=:AAAA:"}) == 401
    assert status("crowsnest", "/nest/hosts", auth=("lookout", "x")) == 401
    auth = ("steer", harbour.binnacle.password)
    assert status("binnacle", "/restconf/data/ietf-system:system", auth=auth, headers={"Accept": "text/html"}) == 406
    assert status("purser", "/purser/cards?page=1", auth=("clerk", harbour.purser.password)) == 400
    assert httpx.post(harbour.urls["bollard"] + "/bollard/rpc", json={"method": "x"}).json()["error"]["code"] == -32600
    assert "/muster/devices" in httpx.get(harbour.urls["muster"] + "/muster/openapi.json").json()["paths"]


# --- secrets


def test_no_secret_is_written_anywhere(nine, harbour, tmp_path):
    nine = Shell(nine.folder)  # the log of a process of its own
    """Every byte of output, logs and files below the workspace is searched for each secret that was used."""
    harbour.muster.faults.add("expire", "/muster", times=1)
    harbour.masthead.faults.add("fail", "/mast/zones", times=1)
    said = []
    for words in (["--debug", "pull"], ["--debug", "system", "check", "--steps"], ["--debug", "pull", "purser"]):
        if words[-1] == "purser":
            (tmp_path / "purser.secret").write_text("a-wrong-password")
        done = nine(*words, status=None)
        said.append(done.stdout + done.stderr)
    written = b"".join(path.read_bytes() for path in nine.folder.rglob("*") if path.is_file())
    written += "".join(said).encode()
    assert b"GET /mast/zones" in written  # the log is there
    for standin in harbour.standins:
        tokens = [*getattr(standin, "tokens", ()), *getattr(standin, "sessions", ())]
        guards = [guard for guard, _ in standin.sessions.values()] if standin.name == "masthead" else []
        for secret in [*standin.secrets().values(), *tokens, *guards, "a-wrong-password"]:
            assert secret.encode() not in written
            assert secret.split("\n")[1].encode() not in written if "\n" in secret else True


def test_a_secret_that_is_asked_for_is_asked_at_a_terminal_only(tmp_path, harbour):
    shell = make_workspace(tmp_path, harbour, ["purser"], Near)
    shell.config(lambda text: text.replace("file:../purser.secret", "ask:clerk's password"))
    done = shell("pull", status=1)
    assert "is asked for at a terminal, and this run has none" in done.stderr


# --- systems


CONFIG = """
format: 1
shared:
  quays: {tags: [quays], rate: 30, credentials: {user: clerk}, tls: {verify: true}}
  bay: {concurrency: 2, credentials: {password: "file:../purser.secret"}}
systems:
  one: {dialect: purser, url: URL, shares: [quays, bay], label: North}
  two: {dialect: purser, url: URL, shares: [bay, quays], rate: 5, tags: [ships, spare]}
"""


def test_systems_share_settings_and_are_chosen_by_tag_and_label(tmp_path, harbour):
    shell = make_workspace(tmp_path, harbour, ["purser"], Near)
    shell.config(lambda _: CONFIG.replace("URL", harbour.urls["purser"]))
    one, two = (shell.workspace.config.systems[name] for name in ("one", "two"))
    assert (one.rate, one.concurrency, one.tags) == (30, 2, ["quays"])
    assert (two.rate, two.credentials["user"], two.tags) == (5, "clerk", ["ships", "spare"])
    rows = json.loads(shell("system", "list", "--tag", "ships", "--format", "json").stdout)
    assert [row["system"] for row in rows] == ["two"]
    rows = json.loads(shell("pull", "--label", "North", "-f", "json").stdout)
    assert {row["system"] for row in rows} == {"one"}
    assert "no system has the tag 'quay'" in shell("pull", "--tag", "quay", status=2).stderr
    assert "matches these" in shell("pull", "two", "--label", "North", status=2).stderr
    shell.config(lambda text: text.replace("[bay, quays]", "[bay, kays]"))
    assert "line 8: systems.two.shares: there is nothing called 'kays'" in shell("system", "list", status=1).stderr


def test_a_paused_system_is_left_alone_until_it_is_resumed(nine):
    nine("pull", "--table", "devices")
    before = (nine.folder / "concordex.yaml").read_text()
    nine("system", "pause", "muster")
    rows = {row["system"]: row for row in json.loads(nine("system", "list", "-f", "json").stdout)}
    assert (rows["muster"]["state"], rows["fairlead"]["state"]) == ("paused", "connected")
    assert rows["muster"]["last pull"] == "whole"
    assert "muster" not in nine("pull", "--table", "devices").stdout
    for words in (["pull", "muster"], ["system", "check", "muster"], ["show", "devices", "--live", "-s", "muster"]):
        assert "muster is paused" in nine(*words, status=2).stderr
    assert nine.workspace.show("devices", systems=["muster"]).frame.height
    assert "now active: muster" in nine("system", "resume", "muster").stderr
    assert (nine.folder / "concordex.yaml").read_text().split() == before.split()
    assert "nothing to do" in nine("system", "resume", "muster").stderr


def test_rules_leave_records_out_and_every_pull_tells_how_many(tmp_path, harbour):
    shell = make_workspace(tmp_path, harbour, ["muster"], Near)
    rules = "[{nameless: true}, {unseen: 20d}, {where: 'kind = tablet', why: kiosks}]"
    shell.config(lambda text: text + f"    leave_out: {rules}\n")
    told = shell("pull", "--table", "devices").stderr
    kiosks = sum(device["platform"] == "slate" for device in harbour.muster.devices)
    frame = shell.workspace.show("devices").frame
    assert "tablet" not in frame["kind"].to_list()
    (row,) = json.loads(shell("pulls", "1", "-f", "json").stdout)
    assert row["outcome"] == "whole"
    assert row["left out"] == len(harbour.muster.devices) - frame.height
    assert "left out: unseen for 20d" in told
    assert 0 < int(told.partition(" left out: kiosks")[0].rpartition(" ")[2]) <= kiosks
    shell("pull", "--table", "devices", "--changed-only")  # what did not change is still left out
    (again,) = json.loads(shell("pulls", "2", "-f", "json").stdout)
    assert (again["outcome"], again["left out"]) == ("whole", row["left out"])
    assert "put into those of pull 1" in str(again)
    shell.config(lambda text: text.replace("nameless: true", "nameless: true, unseen: 3d"))
    assert "a rule says one of" in shell("pull", status=1).stderr


def test_a_check_goes_step_by_step_and_says_what_to_do(nine, harbour):
    steps = json.loads(nine("system", "check", "masthead", "-f", "json").stdout)
    assert [s["step"] for s in steps] == [
        "dialect", "secrets", "name", "connects", "tls", "sign-in", "sites", "devices", "clock",
    ]  # fmt: skip
    assert "signed by itself" in steps[4]["seen"]
    assert "pinned" in steps[4]["seen"]
    nine.config(lambda text: text.replace(harbour.fingerprint, "ab" * 32))
    done = nine("system", "check", "masthead", status=1)
    assert "it is not the one that is pinned" in done.stdout
    assert f"tls: {{fingerprint: {harbour.fingerprint}}}" in done.stderr
    nine.config(lambda text: text.replace(f"fingerprint: {'ab' * 32}", "verify: false"))
    done = nine("pull", "masthead", "-t", "sites")
    assert "TLS is not verified for masthead" in done.stderr
    nine.config(lambda text: text.replace("127.0.0.1", "no-such-name.invalid", 1))
    told = nine("system", "check", "fairlead", "purser", status=1).stdout
    assert "name: network fault: the name no-such-name.invalid does not resolve" in told
    assert "ok" in told.splitlines()[2]


@pytest.mark.parametrize(
    ("fault", "step", "what"),
    [("fail", "devices", "fault of the system"), ("page", "devices", "does not fit the dialect")],
)
def test_whose_fault_it_is_is_told(tmp_path, harbour, fault, step, what):
    shell = make_workspace(tmp_path, harbour, ["purser"], Near)
    harbour.purser.faults.add(fault, "/purser/cards")
    steps = json.loads(shell("system", "check", "purser", "-f", "json", status=1).stdout)
    last = next(one for one in steps if one["result"] != "ok")
    assert (last["step"], last["result"]) == (step, "FAILED")
    assert what in last["seen"]


def test_a_dialect_is_tried_against_a_system(nine):
    assert "FAILED" not in nine("dialect", "check", "bollard", "--against", "bollard").stdout
    wrong = nine.folder / "dialects" / "wrong.yaml"
    wrong.write_text("format: 1\nname: wrong\ntitle: W\nextends: purser\ntables: {devices: {read: {path: /crds}}}\n")
    done = nine("dialect", "check", str(wrong), "--against", "purser", status=1)
    assert "the system knows no /purser/crds" in done.stdout
    table = {row["what"]: row for row in json.loads(nine("dialect", "show", "purser", "-f", "json").stdout)}
    assert (table["create"]["can"], table["sign out"]["can"]) == (True, False)
    assert "as JSON-RPC does" in nine("dialect", "show", "bollard").stdout


# --- pulls


def test_only_what_changed_is_fetched_and_the_snapshot_is_still_the_whole(tmp_path, fresh_harbour):
    harbour = fresh_harbour
    shell = make_workspace(tmp_path, harbour, ["muster"], Near)
    shell("pull", "--table", "devices")
    changed, gone = harbour.muster.devices[3], harbour.muster.devices[5]
    changed["displayName"] = "renamed"
    harbour.muster.touch(changed)
    harbour.muster.drop(gone)
    harbour.muster.faults.clear()
    done = shell("pull", "--changed-only", "--table", "devices")
    assert "1 changed and 1 gone" in done.stderr
    assert len([path for _, path in harbour.muster.faults.requests if "/devices" in path]) == 2
    assert devices(shell, "muster") == {device["deviceId"] for device in harbour.muster.devices}
    assert "renamed" in shell.workspace.show("devices").frame["name"].to_list()
    for more in (0, 1):  # the answer that says so holds no record
        if more:
            harbour.muster.drop(harbour.muster.devices[7])
        harbour.muster.touched.clear()
        told = shell("pull", "--changed-only", "--table", "devices").stderr
        assert f"0 changed and {1 + more} gone" in told
        assert devices(shell, "muster") == {device["deviceId"] for device in harbour.muster.devices}
    harbour.muster.devices.pop()  # gone, and the system does not tell
    assert "pulled in full: it has" in shell("pull", "--changed-only", "--table", "devices").stderr
    assert devices(shell, "muster") == {device["deviceId"] for device in harbour.muster.devices}


def test_a_pull_of_a_part_is_put_into_what_was_there(tmp_path, fresh_harbour):
    harbour = fresh_harbour
    shell = make_workspace(tmp_path, harbour, ["fairlead"], Near)
    assert "nothing whole to put them into" in shell("pull", "--where", "kind = switch", status=4).stderr
    shell("pull")
    before = devices(shell, "fairlead")
    switch = next(node for node in harbour.fairlead.nodes if node["family"] == "switching")
    other = next(node for node in harbour.fairlead.nodes if node["family"] == "gateway")
    switch["label"], other["label"] = "new-switch", "new-router"
    done = shell("pull", "--where", "kind = switch")
    assert "put into those of pull 2" in done.stderr
    assert "interfaces" not in done.stdout
    names = shell.workspace.show("devices").frame["name"].to_list()
    assert devices(shell, "fairlead") == before
    assert "new-switch" in names
    assert "new-router" not in names
    assert any("family=switching" in path for _, path in harbour.fairlead.faults.requests)
    assert "no field" in shell("pull", "--where", "colour = red", status=2).stderr


def test_only_the_members_that_are_wanted_are_asked_for(nine, harbour):
    nine("show", "devices", "--live", "-s", "muster", "-c", "name,serial", "--where", "user present")
    asked = next(path for _, path in harbour.muster.faults.requests if "members=" in path)
    assert "members=deviceId,displayName,serialNo,owner" in asked


def test_the_past_can_be_shown_and_what_changed_since(tmp_path, fresh_harbour):
    harbour = fresh_harbour
    shell = make_workspace(tmp_path, harbour, ["muster"], Near)
    assert "nothing has been pulled" in shell("show", "devices", "--as-of", "2026-01-01", status=2).stderr
    shell("pull", "--table", "devices")
    moment = datetime.now(UTC).isoformat(timespec="milliseconds")
    first = len(harbour.muster.devices)
    old = harbour.muster.devices[0]["displayName"]
    harbour.muster.devices[0]["displayName"] = "renamed"
    vanished = harbour.muster.devices.pop()
    shell("pull", "--table", "devices")
    assert f"{first}\n" in shell(
        "show", "devices", "--as-of", moment, "--count-by", "system", "-f", "csv"
    ).stdout.replace("muster,", "")
    rows = json.loads(shell("show", "devices", "--changes", moment, "-f", "json").stdout)
    assert {(row["change"], row["record_id"]) for row in rows} == {
        ("changed", harbour.muster.devices[0]["deviceId"]), ("vanished", vanished["deviceId"]),
    }  # fmt: skip
    assert f"name: {old} -> renamed" in [row["what"] for row in rows]
    assert "nothing was pulled by" in shell("show", "devices", "--as-of", "2020-01-01", status=2).stderr
    assert "the first pull of it" in shell("show", "devices", "--changes", "2020-01-01", status=2).stderr
    assert "is not a date or time" in shell("show", "devices", "--changes", "yesterday", status=2).stderr


def test_old_snapshots_are_removed_and_their_history_stays(tmp_path, harbour):
    shell = make_workspace(tmp_path, harbour, ["purser"], Near)
    shell.config(lambda text: text + "keep: {snapshots: 1s, least: 2}\n")
    for _ in range(3):
        shell("pull")
        time.sleep(1.1)
    assert "1 snapshots older than" in shell("pull").stderr
    assert len(list((shell.folder / ".concordex" / "snapshots" / "purser" / "devices").iterdir())) == 2
    assert len(json.loads(shell("pulls", "-f", "json").stdout)) == 4


def test_the_history_is_filtered(nine, harbour):
    nine("pull", "purser")
    harbour.stowage.faults.add("fail", "/v2/gear", times=99)
    nine("pull", "stowage", status=4)

    def numbers(*words):
        return [row["pull"] for row in json.loads(nine("pulls", *words, "-f", "json").stdout)]

    assert numbers("--system", "purser") == [1]
    assert numbers("--outcome", "partial") == [2]
    assert numbers("--since", "1h") == [2, 1]
    assert numbers("--since", "2999-01-01") == []
    assert "no outcome 'odd'" in nine("pulls", "--outcome", "odd", status=2).stderr
    assert "no pull 9" in nine("pulls", "9", status=2).stderr


def test_a_pull_whose_process_was_killed_is_over_though_another_process_has_its_number(shell):
    """As in a container, whose first process always has the same: what a pull holds falls with it."""
    number = shell.workspace.catalogue.begin_pull(os.getpid())
    assert json.loads(shell("pulls", "-f", "json").stdout)[0]["outcome"] == "stopped"
    with begun(shell.workspace) as going_on:
        rows = {row["pull"]: row["outcome"] for row in json.loads(shell("pulls", "-f", "json").stdout)}
        assert rows == {number: "stopped", going_on: "running"}
    with suppress(KeyboardInterrupt), begun(shell.workspace):
        raise KeyboardInterrupt
    locks = shell.workspace.locks.folder
    assert not [path for path in locks.iterdir() if path.name.startswith("pull")]


def test_a_running_pull_is_seen_and_stopped_from_another_terminal(tmp_path, fresh_harbour):
    harbour = fresh_harbour  # its own: what is still being answered slowly must not meet another test
    shell = make_workspace(tmp_path, harbour, ["purser", "muster"], Near)
    harbour.muster.faults.add("slow", "/muster/devices", seconds=30, after=1)
    going = shell.begin("pull", "--table", "devices")
    ends = time.monotonic() + 30
    rows = []
    while not any(row["outcome"] == "running" and row["records"] > 100 for row in rows):
        assert time.monotonic() < ends, rows
        rows = json.loads(shell("pulls", "-f", "json", status=None).stdout or "[]")  # nothing, until it has begun
        time.sleep(0.2)
    tables = {(row["system"], row["outcome"]): row for row in json.loads(shell("pulls", "1", "-f", "json").stdout)}
    assert tables["muster", "running"]["received"] == 100
    assert tables["purser", "whole"]["received"] == len(harbour.purser.cards)
    shell("pulls", "1", "--stop")
    _, told = going.communicate(timeout=20)
    assert going.returncode == 5
    assert "stopped from another terminal" in told
    assert [row["outcome"] for row in json.loads(shell("pulls", "-f", "json").stdout)] == ["stopped"]
    assert devices(shell, "purser") == truth_of(harbour, "purser")
    assert "is not running" in shell("pulls", "1", "--stop", status=2).stderr


def test_a_catalogue_of_an_earlier_release_grows_what_it_lacks(tmp_path, harbour):
    import sqlite3

    shell = make_workspace(tmp_path, harbour, ["purser"], Near)
    shell("pull")
    path = shell.folder / ".concordex" / "catalogue.sqlite"
    with sqlite3.connect(path) as catalogue:
        catalogue.execute("ALTER TABLE snapshots DROP COLUMN left_out")
        catalogue.execute("ALTER TABLE pulls DROP COLUMN stop")
    assert shell("show", "devices", "-n", "1").stdout
    shell("pull")
    assert len(json.loads(shell("pulls", "-f", "json").stdout)) == 2


def test_changes_that_an_earlier_release_kept_are_read_run_and_taken_back(tmp_path, fresh_harbour):
    """Prepared and run by what kept them under other names, which this makes of what is kept today."""
    import sqlite3

    shell = make_workspace(tmp_path, fresh_harbour, ["purser"], Near)
    shell("pull")
    name = shell.workspace.show("devices", where="kind = laptop", limit=1).frame["name"][0]
    shell("set", "purser", name, "user=Kim", "--yes")
    shell("set", "purser", name, "user=Robin", "--draft")
    old = {"before": "was", "desired": "shall", "action": "act"}
    with sqlite3.connect(shell.folder / ".concordex" / "catalogue.sqlite") as catalogue:
        for number, step, text in catalogue.execute("SELECT change, number, body FROM steps").fetchall():
            body = {old.get(key, key): value for key, value in json.loads(text).items()}
            catalogue.execute(
                "UPDATE steps SET body = ? WHERE change = ? AND number = ?", (json.dumps(body), number, step)
            )
        how = json.dumps({"most": 1, "regardless": True})
        catalogue.execute("UPDATE changes SET about = json_set(about, '$.how', json(?)) WHERE id = 2", (how,))
        catalogue.execute("ALTER TABLE steps RENAME COLUMN operation TO action")
        catalogue.execute("ALTER TABLE steps DROP COLUMN causes")
    assert "in the form of an earlier release" in shell("change", "show", "1", status=1).stderr
    shell("pull")
    assert "Kim" in shell("change", "show", "1").stdout
    assert shell.workspace.change(2).about.how == {"batch_size": 1, "force": True}
    assert "1 step written" in shell("change", "run", "2", "--yes").stderr
    shell("change", "undo", "2", "--yes")
    assert shell.workspace.show("devices", live=True, where=f'name = "{name}"').frame["user"].to_list() == ["Kim"]


WRITTEN = {  # where the records lie, which field is set, and the member that may change
    "crowsnest": (lambda h: h.crowsnest.hosts.values(), "ips=10.9.9.9", {"address"}),
    "masthead": (lambda h: h.masthead.radios, "name=ap-renamed", {"caption"}),
    "fairlead": (lambda h: h.fairlead.nodes, "name=node-renamed", {"label"}),
    "stowage": (lambda h: h.stowage.lists["gear"].values(), "comment=seen", {"remark", "editedOn"}),
    "purser": (lambda h: h.purser.cards.values(), "user=Kim", {"holder", "amended"}),
    "pilotage": (lambda h: h.pilotage.units.values(), "name=boat", {"alias"}),
}


@pytest.mark.parametrize("system", WRITTEN)
def test_an_update_alters_what_it_says_and_nothing_else_and_is_undone(tmp_path, fresh_harbour, system):
    """The whole record is looked at where the system keeps it, not only the field that was set."""
    records, said, may = WRITTEN[system]
    shell = make_workspace(tmp_path, fresh_harbour, [system], Near)
    shell("pull")
    usable = "and status = up" if system == "fairlead" else ""
    row = shell.workspace.show("devices", where=f"name present {usable}", limit=1).frame.row(0, named=True)
    before = deepcopy(list(records(fresh_harbour)))
    shell("set", system, f'record_id = "{row["record_id"]}"', said, "--yes")
    altered = [
        {member for member in was if was[member] != now[member]}
        for was, now in zip(before, records(fresh_harbour), strict=True)
        if was != now
    ]
    assert len(altered) == 1
    assert altered[0] <= may
    shell("change", "undo", str(shell.workspace.changes()[0]["id"]), "--yes")
    left = [
        member
        for was, now in zip(before, records(fresh_harbour), strict=True)
        for member in was
        if was[member] != now[member]
    ]
    assert set(left) <= {"amended", "editedOn"}  # the system's own notes of when
