"""The stand-ins are as strict as real systems, and the fleet is what it says."""

from __future__ import annotations

from collections import Counter
from datetime import UTC, datetime

import httpx
import pytest

from concordex.standins.fleet import accounts, build
from concordex.standins.score import score

NOW = datetime(2026, 11, 23, tzinfo=UTC)
LAMP = {"title": "lamp-1", "placeId": 1, "productId": 1}


@pytest.fixture
def stowage(fresh_harbour):
    headers = {"Stowage-Key": fresh_harbour.stowage.key}
    with httpx.Client(verify=False, base_url=f"{fresh_harbour.urls['stowage']}/v2", headers=headers) as client:
        yield client


@pytest.mark.parametrize(
    ("item", "member", "reason"),
    [
        (LAMP | {"colour": "red"}, "colour", "Extra inputs"),
        (LAMP | {"placeId": 999}, "placeId", "has no number 999"),
        (LAMP | {"placeId": "1"}, "placeId", "valid integer"),
        ({"placeId": 1, "productId": 1}, "title", "required"),
        (LAMP | {"state": "lost"}, "state", "pattern"),
        (LAMP | {"hardwareAddress": "0a1b"}, "hardwareAddress", "pattern"),
    ],
)
def test_stowage_takes_all_of_a_list_or_nothing_and_blames_the_item(stowage, item, member, reason):
    before = stowage.get("/gear").json()["total"]
    answer = stowage.post("/gear", json={"items": [LAMP | {"title": "lamp-0"}, item]})
    assert answer.status_code == 422
    (rejected,) = answer.json()["fault"]["rejected"]
    assert (rejected["item"], rejected["member"]) == (1, member)
    assert reason in rejected["reason"]
    assert stowage.get("/gear").json()["total"] == before


def test_stowage_takes_no_title_twice(stowage):
    assert stowage.post("/gear", json={"items": [LAMP]}).status_code == 201
    assert "is taken by number" in stowage.post("/gear", json={"items": [LAMP | {"title": " LAMP-1".strip()}]}).text
    twice = stowage.post("/gear", json={"items": [LAMP | {"title": "x"}, LAMP | {"title": "X"}]})
    assert "stands twice in this list" in twice.text
    assert stowage.post("/gear", json={"items": [LAMP | {"title": f"l{n}"} for n in range(101)]}).status_code == 400


def test_what_is_not_known_is_refused_everywhere(fresh_harbour, stowage):
    assert stowage.get("/gear?colour=red").status_code == 400
    assert stowage.get("/lamps").status_code == 404
    assert stowage.patch("/gear/99999", json={"remark": "x"}).status_code == 404
    client = httpx.Client(verify=False, trust_env=False)
    assert client.get(fresh_harbour.urls["stowage"] + "/v2/gear").status_code == 401
    assert client.get(fresh_harbour.urls["fairlead"] + "/fl/3/nodes").status_code == 401
    assert client.get(fresh_harbour.urls["muster"] + "/muster/devices").status_code == 401
    token = client.post(fresh_harbour.urls["muster"] + "/oauth/token", data={"grant_type": "password"})
    assert token.json() == {"error": "unsupported_grant_type"}  # RFC 6749, section 5.2


def test_a_fleet_is_the_same_for_the_same_seed_and_another_for_another():
    told = [accounts(build(200, moment=NOW, seed=seed)) for seed in (1, 1, 2)]
    assert told[0] == told[1]
    assert told[0].truth != told[2].truth


def test_a_fleet_has_its_size_and_its_hard_cases():
    fleet = build(2000, moment=NOW)
    told = accounts(fleet)
    assert len(fleet.devices) == 2000
    serials = Counter(record["serialNo"] for record in told.muster)
    docks = Counter(record["ethernetMac"] for record in told.muster if record["ethernetMac"])
    labels = Counter(record["label"] for record in told.fairlead if record["family"] == "switching")
    titles = Counter(record["title"].strip().lower() for record in told.stowage)
    assert serials["To be filled"] > 1
    assert max(docks.values()) >= 5
    assert max(labels.values()) >= 2
    assert max(titles.values()) == 1
    assert {record["deviceId"] for record in told.muster} == {r for s, r in told.truth if s == "muster"}
    assert any(number < 0 for number in told.truth.values())  # hardware that was swapped


def test_a_score_knows_right_from_wrong():
    truth = {("a", "1"): 1, ("b", "1"): 1, ("a", "2"): 2, ("b", "2"): 2}
    right = {record: str(device) for record, device in truth.items()}
    assert score(right, truth).f1 == 1.0
    assert score(dict.fromkeys(truth, "E"), truth).precision == pytest.approx(1 / 3)
    assert score({record: str(record) for record in truth}, truth).recall == 0.0
