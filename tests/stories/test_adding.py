"""Records that are really there: devices asked for their codes, waited for, and told with what came along."""

from __future__ import annotations

import csv
import json
from collections import Counter
from datetime import UTC, datetime

import pytest
from ruamel.yaml import YAML

from concordex.standins.server import Harbour
from concordex.work.run.commits import Committer
from concordex.work.workspace.system_settings import Devices
from tests.conftest import Near, Shell, make_workspace

PROXY = "http://proxy.saltmarsh.example:3128"


@pytest.fixture(scope="module")
def quay(tmp_path_factory):
    """A workspace of a portal and a firewall manager, with routers that are in no portal yet."""
    with Harbour.of(40, moment=datetime.now(UTC)) as harbour:
        folder = tmp_path_factory.mktemp("quay")
        shell = make_workspace(folder, harbour, ("pilotage", "bollard"), kind=Near)
        (folder / "afloat.secret").write_text(harbour.afloat.password)
        shell.config(lambda text: text + (
            "devices:\n  afloat:\n    dialect: binnacle\n    url: http://{address}\n    addresses: [127.0.0.0/8]\n"
            "    credentials: {user: steer, password: 'file:../afloat.secret'}\n"
        ))  # fmt: skip
        shell("pull")
        yield shell, harbour


def sheet(shell: Shell, rows: list[dict[str, str]]) -> str:
    with (shell.folder / "rows.csv").open("w", newline="") as file:
        writer = csv.DictWriter(file, list(dict.fromkeys(name for row in rows for name in row)))
        writer.writeheader()
        writer.writerows(rows)
    return "rows.csv"


def test_units_are_adopted_with_the_code_that_only_they_show(quay):
    shell, harbour = quay
    routers, portal = harbour.afloat.routers, harbour.pilotage
    rows = [row | {"access": "control", "proxy": PROXY} for row in harbour.afloat.rows]
    away = {"address": "127.0.0.1:9", "name": "rt-away", "site": "mv-avocet"}
    strange = {"address": "quay.example", "name": "rt-strange", "site": "mv-avocet"}
    wrong = rows[2] | {"access": "contrl"}
    path = sheet(shell, [*rows[:2], wrong, away, strange])
    told = shell("push", path, "--to", "pilotage", "--ask", "afloat", "--yes", status=2)
    assert "3 mistakes" in told.stderr  # the two that are right were set; nothing was adopted yet
    for text in ('mean "control"', "127.0.0.1:9", "is not among the addresses of afloat"):
        assert text in told.stdout
    assert [router.portal["access"] for router in routers] == ["control", "control", "closed", "closed"]
    assert routers[0].portal["proxy"] == PROXY
    before = len(portal.units)
    told = shell("push", path, "--to", "pilotage", "--ask", "afloat", "--rejects", "bad.csv", "--yes", status=4)
    assert "2 devices of 5 told what pilotage needs" in told.stderr
    assert len(portal.units) == before + 2
    assert "code ***" in told.stdout  # that there is one is told, and not what it is
    assert "os_version" in told.stdout  # waited until they had reported
    assert [row["name"] for row in csv.DictReader((shell.folder / "bad.csv").open())] == [
        wrong["name"], "rt-away", "rt-strange",
    ]  # fmt: skip
    typed = [row | {"serial": "UB-OTHER"} for row in rows[2:3]]
    told = shell("push", sheet(shell, typed), "--to", "pilotage", "--ask", "afloat", "--yes", status=2).stdout
    assert f"says: {routers[2].router['serial']}" in told
    told = shell("push", sheet(shell, rows), "--to", "pilotage", "--ask", "afloat", "--yes").stderr
    assert "2 are there as they are" in told
    assert Counter(unit["serial"] for unit in portal.units.values()).most_common(1)[0][1] == 1
    assert {router.router["serial"] for router in routers} <= {unit["serial"] for unit in portal.units.values()}
    first = json.loads(shell("change", "list", "-f", "json").stdout)[-1]["change"]
    shell("change", "undo", str(first), "--yes")
    assert [router.portal["access"] for router in routers[:2]] == ["closed", "closed"]


def test_a_code_that_lives_for_a_moment_is_asked_for_just_before_each_step(tmp_path, quay):
    """Codes change faster than anybody agrees; settings come by --default; a closed portal is told as one."""
    shell, harbour = quay
    portal = harbour.pilotage
    with Harbour.of(40, moment=datetime.now(UTC), seed=3) as other:
        portal = other.pilotage
        folder = tmp_path / "short"
        folder.mkdir()
        fresh = make_workspace(folder, other, ("pilotage",), kind=Near)
        (folder / "afloat.secret").write_text(other.afloat.password)
        more = (shell.folder / "concordex.yaml").read_text().partition("devices:")[2]
        fresh.config(lambda text: text + "devices:" + more)
        fresh("pull")
        told = fresh(
            "push", sheet(fresh, other.afloat.rows), "--to", "pilotage", "--ask", "afloat", "--yes", status=2
        ).stdout
        assert "access is closed" in told
        portal.code_lives = 0.3
        before = len(portal.units)
        words = (
            "push",
            sheet(fresh, other.afloat.rows),
            "--to",
            "pilotage",
            "--ask",
            "afloat",
            "--default",
            "access=control",
        )
        fresh(*words, "--draft")  # the settings are a change of their own
        fresh("change", "run", "1", "--yes")
        fresh(*words, "--draft")
        portal.code_lives = 0.4  # every code that was shown is another one now
        told = fresh("change", "run", "2", "--yes")
        assert len(portal.units) == before + len(other.afloat.rows), told.stdout


@pytest.mark.parametrize(
    ("address", "reached"),
    [("10.1.2.3", True), ("10.1.2.3:8443", True), ("11.1.2.3", False), ("rt-1.ships.example", True),
     ("evil.example", False), ("a@10.1.2.3", False), ("10.1.2.3/..", False), ("[fd00::1]:443", True),
     ("ships.example.evil.example", False), ("10.1.2.3#.ships.example", False), ("", False)],
)  # fmt: skip
def test_credentials_go_to_no_other_address(address, reached):
    spec = Devices(dialect="binnacle", addresses=["10.0.0.0/8", "*.ships.example", "fd00::/8"])
    assert spec.reaches(address) is reached


def test_a_firewall_comes_with_what_hangs_below_it_and_is_waited_for(quay):
    shell, harbour = quay
    rows = [{"name": f"fw-new-{at}", "address": f"10.99.1.{at}", "site": "north-mole"} for at in (1, 2)]
    told = shell("push", sheet(shell, rows), "--to", "bollard", "--yes").stdout
    assert told.count("with 3 interfaces: port1, port2, port3") == 2
    assert "serial FW" in told
    made = [one for one in harbour.bollard.firewalls.values() if one["name"].startswith("fw-new-")]
    assert [one["linked"] for one in made] == [True, True]
    # one that never answers is not called done
    harbour.bollard.first_answer = 3600.0
    text = (shell.folder / "concordex.yaml").read_text()
    (shell.folder / "dialects" / "hasty.yaml").write_text(
        "format: 1\nname: hasty\ntitle: Bollard, without patience\nextends: bollard\n"
        "tables: {devices: {write: {ready: {every: 0.1, timeout: 0.2}}}}\n"
    )
    try:
        shell.config(lambda text: text.replace("dialect: bollard", "dialect: hasty"))
        row = [{"name": "fw-mute", "address": "10.99.1.9", "site": "north-mole"}]
        told = shell("push", sheet(shell, row), "--to", "bollard", "--yes", status=4).stdout
        assert "after 0.2 s not ready (status = up and serial present)" in told
    finally:
        shell.config(lambda _: text)
        harbour.bollard.calling.clear()
        harbour.bollard.first_answer = 1.0
    number = json.loads(shell("change", "list", "-f", "json").stdout)[0]["change"]
    assert harbour.bollard.firewalls[made[0]["ref"]]
    assert json.loads(shell("change", "show", str(number), "-f", "json").stdout)[0]["state"] == "differs"


def objects(shell: Shell, *, refused: bool = False) -> str:
    """A change of addresses and services, kept; its number."""
    steps = [("addresses", f"net-{at}", {"value": f"10.{at}.0.0/16"}) for at in (1, 2, 3)]
    steps += [("services", f"svc-{at}", {"protocol": "tcp", "ports": str(at)}) for at in (7, 8)]
    if refused:
        steps.append(("services", "svc-7", {"protocol": "udp", "ports": "7"}))
    document = {
        "format": 1, "kind": "push", "system": "bollard",
        "steps": [{"operation": "create", "table": table, "record": name, "key": {"name": name},
                   "desired": {"name": name, **said}} for table, name, said in steps],
    }  # fmt: skip
    with (shell.folder / "objects.yaml").open("w") as file:
        YAML().dump(document, file)
    shell("change", "load", "objects.yaml", "--draft")
    return str(json.loads(shell("change", "list", "-f", "json").stdout)[0]["change"])


def run_objects(quay, words: tuple[str, ...] = (), refused: bool = False, fault: tuple | None = None) -> list[str]:
    """Run that change, with a fault at one of its requests, and take it back; the methods that were called."""
    shell, harbour = quay
    bollard = harbour.bollard
    number = objects(shell, refused=refused)
    bollard.calls.clear()
    try:
        if fault:
            kind, after = fault
            bollard.faults.add(kind, "/bollard/", method="POST", after=after, times=1)
        told = shell("change", "run", number, *words, "--yes", status=None if fault else 4 if refused else 0)
        if told.returncode and fault:  # nobody knows what was staged, so all of it was taken back
            assert "nothing of it is in effect" in told.stderr
            told = shell("change", "resume", number)
    finally:
        calls = list(bollard.calls)
        bollard.faults.clear()
    names = Counter(one["name"] for kind in ("address", "service") for one in bollard.objects[kind].values())
    wanted = {"net-1", "net-2", "net-3", "svc-7", "svc-8"}
    assert {name: names[name] for name in wanted} == dict.fromkeys(wanted, 1), (fault, told.stdout, told.stderr)
    assert "is done: 5 steps" in shell("change", "undo", number, "--yes").stderr
    return calls


def test_several_tables_go_in_one_request_and_by_themselves_where_that_is_refused(quay):
    calls = run_objects(quay, ("--together",))
    assert (calls.count("object.add_several"), calls.count("object.add")) == (1, 0)
    calls = run_objects(quay, ("--together",), refused=True)
    assert calls.count("object.add") > 1


@pytest.mark.parametrize("kind", ["fail_after", "drop", "expire"])
def test_what_is_staged_is_committed_once_whatever_fails_on_the_way(quay, kind):
    for after in range(3, 7):  # after signing in and two looks: the writes, their commit, its job
        run_objects(quay, ("--together",) if after % 2 else (), fault=(kind, after))


def test_a_run_whose_first_call_is_refused_leaves_no_draft_open(quay):
    """Some systems open one with the first call, whatever comes of it."""
    shell, harbour = quay
    bollard = harbour.bollard
    bollard.calls.clear()
    bollard.refuses["object.add"] = "no object is taken today"
    try:
        told = shell("change", "run", objects(shell), "--yes", status=4)
    finally:
        bollard.refuses.clear()
    assert "no object is taken today" in told.stdout
    added = len(bollard.calls) - bollard.calls[::-1].index("object.add")
    assert "candidate.discard" in bollard.calls[added:]


def test_what_a_run_was_told_holds_for_going_on(quay, monkeypatch):
    """Cut off while it was to be staged only, it is staged only when it goes on: nothing is committed by the way."""
    shell, harbour = quay
    bollard = harbour.bollard
    number, revision = objects(shell), bollard.revision
    monkeypatch.setattr(Committer, "leave", lambda *_: (_ for _ in ()).throw(KeyboardInterrupt))
    shell("change", "run", number, "--stage", "--batch-size", "1", "--yes", status=5)
    monkeypatch.undo()
    assert "is staged in bollard" in shell("change", "resume", number).stderr
    assert bollard.revision == revision
    shell("config", "unstage", "bollard", "--yes")


def test_a_commit_bears_a_note(quay):
    """What a person says, or else which change it is: whoever looks there knows where it came from."""
    shell, harbour = quay
    bollard = harbour.bollard
    number = objects(shell)
    shell("change", "run", number, "--yes", "--note", "tonight's window")
    assert bollard.notes[-1] == "tonight's window"
    shell("change", "undo", number, "--yes")
    assert bollard.notes[-1] == f"change {int(number) + 1}"
