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
