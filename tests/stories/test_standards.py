"""Shipped dialects of open standards, tried on servers that others wrote, or on stand-ins where there are none."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from contextlib import contextmanager
from pathlib import Path

import httpx
import pytest

from tests.conftest import Near
from tests.servers import free_port

USERS = 130


@contextmanager
def served(program: str, *words: str, url: str, **headers: str):
    """A server of other people's, once it answers."""
    command = [str(Path(sys.executable).with_name(program)), *words]
    with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as server:
        ends = time.monotonic() + 60
        try:
            while True:
                try:
                    httpx.get(url, headers=headers)
                    break
                except httpx.TransportError:
                    assert time.monotonic() < ends
                    time.sleep(0.1)
            yield
        finally:
            server.terminate()


@pytest.fixture(scope="module")
def scim():
    """A SCIM service with some users."""
    port = free_port()
    url, token = f"http://127.0.0.1:{port}", {"Authorization": "Bearer tok-lamplight"}
    with served("scim2-server", "--port", str(port), "--bearer-token", "tok-lamplight", url=f"{url}/Schemas", **token):
        with httpx.Client(base_url=url, headers=token | {"Content-Type": "application/scim+json"}) as client:
            for n in range(USERS):
                client.post("/Users", json={
                    "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "userName": f"keeper-{n:03d}",
                    "displayName": f"Keeper {n}", "name": {"familyName": f"Brine {n}"}, "active": n % 2 == 0,
                }).raise_for_status()  # fmt: skip
        yield url


@pytest.fixture
def shell(tmp_path, scim):
    (tmp_path / "concordex.yaml").write_text(
        f"format: 1\nsystems:\n  people: {{dialect: scim, url: '{scim}', credentials: {{token: 'file:token'}}}}\n"
    )
    (tmp_path / "token").write_text("tok-lamplight")
    return Near(tmp_path)


def test_a_scim_service_is_pulled_whole_filtered_and_written(shell):
    """Pages from 1 by startIndex and count, a total, a filter; a user is made, altered, emptied and deleted."""
    done = shell("pull")
    assert "2 whole" in done.stderr or "users" in done.stdout
    rows = json.loads(shell("show", "users", "-f", "json", "--columns", "name,active,family_name").stdout)
    assert len(rows) == USERS
    assert {row["family_name"] for row in rows} == {f"Brine {n}" for n in range(USERS)}
    one = shell("show", "users", "--live", "--where", "name = KEEPER-007").stdout
    assert "keeper-007" in one
    (shell.folder / "new.csv").write_text("name,user,title\nnew-keeper,New Keeper,mate\n")
    assert "1 step written" in shell("push", "new.csv", "--to", "people", "--table", "users", "--yes").stderr
    assert (
        "1 step written"
        in shell(
            "set", "people", "name = new-keeper", "title=master", "family_name=Tar", "--table", "users", "--yes"
        ).stderr
    )
    assert "1 step written" in shell("set", "people", "name = new-keeper", "title=", "--table", "users", "--yes").stderr
    (left,) = json.loads(shell("show", "users", "--live", "--where", "name = new-keeper", "-f", "json").stdout)
    assert (left["title"], left["family_name"]) == (None, "Tar")
    assert "confirmed" in shell("change", "undo", "3", "--yes").stderr
    assert "1 step" in shell("delete", "people", "name = new-keeper", "--table", "users", "--count", "1").stderr
    twice = "name,user\nkeeper-001,Twice\n"
    (shell.folder / "twice.csv").write_text(twice)
    assert (
        "there as they are"
        in shell("push", "twice.csv", "--to", "people", "--table", "users", "--draft", status=None).stderr
    )


def test_the_copy_of_a_scim_service_takes_the_same_patches(shell):
    """What the service that others wrote does with a PATCH, the copy does as well."""
    shell("pull")
    shell("set", "people", "name = keeper-003", "title=mate", "family_name=", "--table", "users", "--draft")
    done = shell("change", "run", "1", "--against-copy")
    assert "1 step written, read back and confirmed" in done.stderr
    assert "1 step written" in shell("change", "run", "1", "--yes").stderr


@pytest.mark.parametrize("page", [40, 1000])
def test_an_odata_service_is_described_drafted_and_pulled_whole(tmp_path, page):
    """From nothing but its address: its metadata say what it has, a draft names the base, and the lists are whole."""
    port, here = free_port(), Path(__file__).parents[2] / "benchmarks" / "strangers" / "sets.py"
    (tmp_path / "concordex.yaml").write_text(
        f"format: 1\nsystems:\n  quay: {{dialect: odata, url: 'http://127.0.0.1:{port}', describes: '/$metadata'}}\n"
    )
    shell = Near(tmp_path)
    with served(Path(sys.executable).name, str(here), str(port), str(page), url=f"http://127.0.0.1:{port}/"):
        assert " whole " in shell("pull").stdout
        assert "Devices" in shell("call", "quay", "--list").stdout
        assert "extends odata" in shell("dialect", "draft", "quayside", "--from", "quay").stderr
        config = (tmp_path / "concordex.yaml").read_text().replace("dialect: odata", "dialect: quayside")
        (tmp_path / "concordex.yaml").write_text(config)
        assert "4 whole" in shell("pull").stderr
        assert len(json.loads(shell("show", "devices", "-f", "json", "-n", "0").stdout)) == 300


def test_a_redfish_service_is_pulled_whole_by_its_links_and_switched(tmp_path):
    """Collections, what their members lead to, what sensors read; a machine is switched on by the address it tells."""
    port, machines = free_port(), [
        {"uuid": f"1000000{n}-9e44-4fa7-8e91-f3527a1ef094", "name": f"lamp-{n}", "power_state": "Off",
         "external_notifier": False, "nics": [{"mac": f"02:00:00:00:01:0{n}", "ip": f"10.9.0.{n + 1}"}]}
        for n in range(4)
    ]  # fmt: skip
    settings = f"SUSHY_EMULATOR_FAKE_SYSTEMS = {machines!r}\nSUSHY_EMULATOR_STATE_DIR = {str(tmp_path)!r}\n"
    (tmp_path / "settings.py").write_text(settings)
    (tmp_path / "word").write_text("keeper-word")
    (tmp_path / "concordex.yaml").write_text(
        f"format: 1\nsystems:\n  bmc: {{dialect: redfish, url: 'http://127.0.0.1:{port}',"
        " credentials: {user: keeper, password: 'file:word'}}\n"
    )
    shell, words = (
        Near(tmp_path),
        ["--config", str(tmp_path / "settings.py"), "--fake", "-i", "127.0.0.1", "-p", str(port)],
    )
    with served("sushy-emulator", *words, url=f"http://127.0.0.1:{port}/redfish/v1/"):
        assert "5 whole" in shell("pull").stderr
        rows = json.loads(shell("show", "devices", "-f", "json", "--columns", "name,status,record_id").stdout)
        made = {row["name"]: row["status"] for row in rows if row["name"].startswith("lamp-")}
        assert made == {f"lamp-{n}": "down" for n in range(4)}
        nics = json.loads(shell("show", "interfaces", "-f", "json", "--columns", "macs,parent").stdout)
        assert {row["macs"][0] for row in nics} >= {f"02:00:00:00:01:0{n}" for n in range(4)}
        heat = json.loads(shell("show", "temperatures", "-f", "json", "--columns", "celsius").stdout)
        assert all(row["celsius"] > 0 for row in heat)
        assert heat
        assert "1 step taken" in shell("action", "bmc", "power-on", "name = lamp-2", "--yes").stderr
        ends = time.monotonic() + 30
        while "up" not in shell("show", "devices", "--live", "--where", "name = lamp-2", "--columns", "status").stdout:
            assert time.monotonic() < ends


EXPOSED = """# TYPE lamp_heat_celsius gauge
# UNIT lamp_heat_celsius celsius
lamp_heat_celsius{instance="lamp-1",side="fore"} 41.5
lamp_heat_celsius{instance="lamp-2",side="fore"} NaN
# TYPE lamp_lit counter
lamp_lit_total{instance="lamp-1"} 17 1796000000.5
# EOF
"""


@pytest.mark.parametrize(
    ("text", "outcome"),
    [(EXPOSED, "whole"), (EXPOSED.replace("# EOF\n", ""), "failed"), (EXPOSED[:90], "failed"), ("{}", "failed")],
)
def test_an_exposition_is_read_to_its_end_or_not_at_all(tmp_path, serve, text, outcome):
    """A value that is none is missing; a text without its end is no text of which half counts."""
    url = serve(lambda *_: (200, text.encode())).url
    (tmp_path / "concordex.yaml").write_text(f"format: 1\nsystems: {{lamps: {{dialect: openmetrics, url: '{url}'}}}}\n")
    shell = Near(tmp_path)
    done = shell("pull", status=0 if outcome == "whole" else 1)
    assert outcome in done.stdout
    if outcome == "whole":
        rows = json.loads(shell("show", "readings", "-f", "json", "--sort", "record_id").stdout)
        assert [(row["parent"], row["metric"], row["value"], row["unit"]) for row in rows] == [
            ("lamp-1", "lamp_heat_celsius", 41.5, "celsius"), ("lamp-2", "lamp_heat_celsius", None, "celsius"),
            ("lamp-1", "lamp_lit_total", 17, None),
        ]  # fmt: skip
        assert rows[2]["taken_at"].startswith("2026-11-30")


def test_the_guides_redfish_with_sessions_firmware_and_power_works_as_it_stands(tmp_path, serve):
    """DSP0266, 13.3.4: a session's token lets one in, and its address ends it; collections lead to their members."""
    guide = (Path(__file__).parents[2] / "docs/guides/standards.md").read_text()
    block = guide.partition("    extends: redfish\n    sign_in:")[2].partition("\n## ")[0]
    text = "extends: redfish\nsign_in:" + block.replace("\n    ", "\n")
    seen = []
    chassis = {"Id": "c1", "@odata.id": "/redfish/v1/Chassis/c1", "Name": "Lamp room", "Thermal": None}
    told = {
        "/redfish/v1/UpdateService/FirmwareInventory": {
            "Members@odata.count": 2, "Members": [{"@odata.id": f"/redfish/v1/F/{at}"} for at in (1, 2)]},
        "/redfish/v1/F/1": {"Id": "bmc", "Name": "BMC", "Version": "1.2.3"},
        "/redfish/v1/F/2": {"Id": "bios", "Name": "BIOS", "Version": "4.5", "Status": {"State": "Enabled"}},
        "/redfish/v1/Chassis": {"Members@odata.count": 1, "Members": [{"@odata.id": chassis["@odata.id"]}]},
        "/redfish/v1/Chassis/c1": chassis,
        "/redfish/v1/Chassis/c1/Power": {"PowerControl": [{"MemberId": "0", "Name": "all", "PowerConsumedWatts": 344}]},
    }  # fmt: skip

    def answer(method, path, _query, body, headers):
        seen.append((method, path))
        if path == "/redfish/v1/SessionService/Sessions":
            assert body == {"UserName": "keeper", "Password": "keeper-word"}
            return 201, {}, [("X-Auth-Token", "tok-1"), ("Location", "/redfish/v1/SessionService/Sessions/9")]
        if {name.lower(): value for name, value in headers.items()}.get("x-auth-token") != "tok-1":
            return 401, {}
        return (204, {}) if method == "DELETE" else (200, told[path]) if path in told else (404, {})

    (tmp_path / "dialects").mkdir()
    (tmp_path / "dialects/bmc.yaml").write_text(f"format: 1\nname: bmc\ntitle: BMC\n{text}")
    (tmp_path / "word").write_text("keeper-word")
    (tmp_path / "concordex.yaml").write_text(
        f"format: 1\nsystems:\n  lamp: {{dialect: bmc, url: '{serve(answer).url}',"
        " credentials: {user: keeper, password: 'file:word'}}\n"
    )
    shell = Near(tmp_path)
    assert "3 whole" in shell("pull", "--table", "firmware", "--table", "chassis", "--table", "power").stderr
    rows = json.loads(shell("show", "firmware", "-f", "json", "--columns", "name,version").stdout)
    assert {row["name"]: row["version"] for row in rows} == {"BMC": "1.2.3", "BIOS": "4.5"}
    assert json.loads(shell("show", "power", "-f", "json", "--columns", "watts").stdout)[0]["watts"] == 344
    assert seen[-1] == ("DELETE", "/redfish/v1/SessionService/Sessions/9")
