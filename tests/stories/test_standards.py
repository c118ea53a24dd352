"""Shipped dialects of open standards, tried on servers that others wrote, or on stand-ins where there are none."""

from __future__ import annotations

import json
import socket
import subprocess
import sys
import time
from pathlib import Path

import httpx
import pytest

from tests.conftest import Near

USERS = 130


@pytest.fixture(scope="module")
def scim():
    """A SCIM service of other people's, with some users and one group."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    program = str(Path(sys.executable).with_name("scim2-server"))
    url, token = f"http://127.0.0.1:{port}", {"Authorization": "Bearer tok-lamplight"}
    with subprocess.Popen(
        [program, "--port", str(port), "--bearer-token", "tok-lamplight"],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    ) as server:  # fmt: skip
        ends = time.monotonic() + 60
        while True:
            try:
                httpx.get(f"{url}/ServiceProviderConfig", headers=token)
                break
            except httpx.TransportError:
                assert time.monotonic() < ends
                time.sleep(0.1)
        with httpx.Client(base_url=url, headers=token | {"Content-Type": "application/scim+json"}) as client:
            for n in range(USERS):
                client.post("/Users", json={
                    "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "userName": f"keeper-{n:03d}",
                    "displayName": f"Keeper {n}", "name": {"familyName": f"Brine {n}"}, "active": n % 2 == 0,
                }).raise_for_status()  # fmt: skip
        yield url
        server.terminate()


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
