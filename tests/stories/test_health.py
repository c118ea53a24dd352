"""How the fleet is: states, thresholds, batteries; for people, scrapers and monitoring."""

from __future__ import annotations

import json
import re
from collections import Counter
from datetime import UTC, datetime, timedelta

import pytest

from tests.conftest import MOMENT, Near, make_workspace

THRESHOLDS = """\
health:
  thresholds:
  - {metric: battery.level, unit: "%", over: 3d, warning: "< 20", error: "< 10"}
  - {metric: interface.errors_in, per: minute, over: 1d, warning: "> 3"}
"""


def rows(shell, *words, status=0):
    return json.loads(shell(*words, "-f", "json", status=status).stdout)


@pytest.fixture
def watched(writing, fresh_harbour):
    """A workspace with thresholds, whose counters were pulled twice, a minute apart by the controller's clock."""
    writing.config(lambda text: text + THRESHOLDS)
    controller = fresh_harbour.fairlead
    now = datetime.now(UTC).timestamp()
    controller.began, controller.clock = now - 600, lambda: now
    writing("pull", "fairlead")
    controller.clock = lambda: datetime.now(UTC).timestamp() + 60
    writing("pull", "fairlead")
    writing("reconcile")
    return writing


def test_a_device_is_as_its_systems_say_and_what_nobody_tells_is_unknown(pulled, shared_harbour):
    entries = rows(pulled, "show", "entries", "-n", "0")
    nodes = {node["nodeKey"]: node["health"] for node in shared_harbour.fairlead.nodes}
    records = rows(pulled, "show", "records", "--system", "fairlead", "-c", "entry,record_id", "-n", "0")
    told: dict[str, list[str]] = {}
    for record in records:
        told.setdefault(record["entry"], []).append({"good": "normal", "lost": "error"}[nodes[record["record_id"]]])
    expected = Counter(
        (entry["kind"], min(told.get(entry["entry"], ["unknown"]))) for entry in entries  # error before normal
    )  # fmt: skip
    counts = [row for row in rows(pulled, "health", "--count") if row["of"] == "devices"]
    assert sum(row["all"] for row in counts) == len(entries)
    for row in counts:
        for state in ("normal", "warning", "error", "unknown"):
            assert row[state] == expected[row["kind"], state]
    (one,) = [row for row in rows(pulled, "health", "--count", "--where", "kind = switch") if row["of"] == "devices"]
    assert one["kind"] == "switch"
    assert "stowage" not in {row["system"] for row in rows(pulled, "health")}
    assert rows(pulled, "health", "muster", "--count")[0]["normal"] == 0  # it tells no states


def test_a_port_that_somebody_shut_is_as_it_should_be(pulled, shared_harbour):
    shut = {row["record_id"] for row in rows(pulled, "show", "interfaces", "--where", "admin = off", "-n", "0")}
    assert shut
    down = rows(pulled, "show", "interfaces", "--where", "status = down and admin = on", "-n", "0")
    counts = [row for row in rows(pulled, "health", "--count") if row["of"] == "interfaces"]
    assert sum(row["warning"] for row in counts) == len(down)


def test_thresholds_are_passed_by_the_last_reading_and_by_the_growth_of_counters(watched, fresh_harbour):
    muster = fresh_harbour.muster
    levels: dict[str, tuple[int, float]] = {}
    for reading in muster.readings:
        if reading["takenAt"] > MOMENT.timestamp() - 3 * 86_400:
            levels[reading["deviceId"]] = max(
                levels.get(reading["deviceId"], (0, 0.0)), (reading["takenAt"], reading["level"])
            )
    passed = rows(watched, "health", status=3)
    low = [row for row in passed if row["metric"] == "battery.level"]
    severities = Counter("error" if level < 10 else "warning" for _, level in levels.values() if level < 20)
    assert Counter(row["severity"] for row in low) == severities
    assert {row["unit"] for row in low} == {"%"}
    ports = {port["portKey"]: port for port in fresh_harbour.fairlead.ports}
    grown = [row for row in passed if row["metric"] == "interface.errors_in per minute"]
    before, after = (
        {key: fresh_harbour.fairlead._counters(key, up=True)["inErrors"] for key in ports} for _ in range(2)
    )
    assert before.keys() == after.keys()
    faulty = {key for key in ports if _errors_a_second(key) * 60 > 4}
    assert len(faulty) <= len(grown) <= len(faulty) + len([k for k in ports if 2 < _errors_a_second(k) * 60 <= 4])
    assert {row["unit"] for row in grown} == {"packets/minute"}
    told = watched("health", status=3)
    assert f"{len(low) + len(grown)} readings beyond a threshold" in told.stdout


def _errors_a_second(key: str) -> float:
    import random

    from concordex.standins.fairlead import _FAULTY

    rng = random.Random(key)
    rng.randrange(10_000, 2_000_000)
    return rng.uniform(0.1, 0.6) if rng.random() < _FAULTY else 0.0


def test_a_restart_is_noticed_and_a_clock_that_is_ahead_too(watched, fresh_harbour):
    before = _begun_anew(watched)  # another controller told of the same ports before
    faulty = next(port["portKey"] for port in fresh_harbour.fairlead.ports if _errors_a_second(port["portKey"]))
    fresh_harbour.fairlead.counting_since[faulty] = datetime.now(UTC).timestamp()
    fresh_harbour.muster.readings[-1]["takenAt"] = int((datetime.now(UTC) + timedelta(hours=2)).timestamp())
    watched("pull", status=None)
    watched("reconcile")
    assert _begun_anew(watched) == before + 1
    stamps = [row["taken_at"] for row in rows(watched, "health", status=3) if row["metric"] == "battery.level"]
    assert all(stamp < (datetime.now(UTC) + timedelta(minutes=6)).isoformat() for stamp in stamps)


def _begun_anew(shell):
    found = re.search(r"(\d+) counters? of interface.errors_in began anew", shell("health", status=3).stderr)
    return int(found[1]) if found else 0


@pytest.mark.parametrize(
    ("rule", "line", "status"),
    [
        ("{metric: battery.level, over: 3d, error: '< 200'}", "CONCORDEX CRITICAL - ", 2),
        ("{metric: battery.level, over: 3d, warning: '< 200'}", "CONCORDEX WARNING - ", 1),
        ("{metric: battery.level, over: 3d, warning: '< 0'}", "CONCORDEX OK - 0 beyond error, 0 beyond warning", 0),
        ("{metric: battery.levle, warning: '< 20'}", "nothing told of battery.levle", 3),
        ("{metric: battery.level, unit: volts, warning: '< 20'}", "nothing told of battery.level", 3),
        ("", "the workspace has no thresholds", 3),
    ],
)
def test_monitoring_gets_one_line_and_one_of_four_statuses(tmp_path, pulled, rule, line, status):
    """A threshold that watches nothing is never well."""
    before = (pulled.folder / "concordex.yaml").read_text()
    try:
        pulled.config(lambda text: text + (f"health: {{thresholds: [{rule}]}}\n" if rule else ""))
        told = pulled("health", "--plugin", status=status).stdout
    finally:
        (pulled.folder / "concordex.yaml").write_text(before)
    assert line in told
    text, _, data = told.strip().rpartition(" | ")
    assert "\n" not in told.strip()
    assert "|" not in text
    assert re.fullmatch(r"(\w+=\d+;\d*;\d*;\d*( |$))+", data)


SAMPLE = re.compile(
    r'[a-z_]+(\{[a-z_]+="(?:[^"\\\n]|\\["\\n])*"(,[a-z_]+="(?:[^"\\\n]|\\["\\n])*")*\})? -?[\d.e+-]+( [\d.]+)?'
)


def test_scrapers_get_the_open_text_format(watched, fresh_harbour, tmp_path):
    """OpenMetrics 1.0: types, escaped labels, and an end; a name cannot break out of its label."""
    for node in fresh_harbour.fairlead.nodes[:3]:
        node["label"] = 'a"b\\c\nd} 7'
    watched("pull", "fairlead")
    watched("reconcile")
    watched.config(lambda text: text.replace('warning: "> 3"', 'warning: ">= 0"'))
    watched("health", "--format", "openmetrics", "-o", str(tmp_path / "fleet.prom"), status=3)
    text = (tmp_path / "fleet.prom").read_text()
    assert text == watched("health", "-f", "openmetrics", status=3).stdout or text.count("\n") > 50
    lines = text.split("\n")
    assert lines[-2:] == ["# EOF", ""]
    types = {line.split()[2] for line in lines if line.startswith("# TYPE ")}
    samples = [line for line in lines[:-2] if not line.startswith("#")]
    assert all(SAMPLE.fullmatch(line) for line in samples), [s for s in samples if not SAMPLE.fullmatch(s)][:3]
    assert {re.split(r"[{ ]", line)[0] for line in samples} <= types
    assert any(r"a\"b\\c" in line for line in samples)


def test_batteries_say_how_long_they_last_and_on_whose_word(pulled, shared_harbour):
    told = rows(pulled, "health", "--batteries", "--all", status=3)
    devices = {record["deviceId"]: record["battery"] for record in shared_harbour.muster.devices}
    assert len(told) == len(devices)
    cells = {held["cell"]: held for held in devices.values()}
    estimated = 0
    for row in told:
        held = cells[row["serial"]]
        assert (row["capacity"], row["cycles"]) == (held["capacity"], held["cycles"])
        if held["daysLeft"] is None:
            assert row["basis"] in ("estimated", "unknown")
            estimated += row["basis"] == "estimated"
            assert row["basis"] != "estimated" or "our estimate" in row["remaining"]
        elif held["daysLeft"] >= held["daysLeftAtMost"]:
            assert row["remaining"].startswith("at least ")
            assert row["days_most"] is None
        else:
            assert row["days_least"] == row["days_most"] == held["daysLeft"]
        assert ("little known" in row["remaining"]) >= (held["daysWatched"] < 14 and row["basis"] == "predicted")
        worn = held["capacity"] < 60 or (row["days_most"] is not None and row["days_most"] <= 90)
        assert row["replace"] == ("now" if worn else "unknown" if row["days_least"] is None else "later")
    assert estimated
    listed = rows(pulled, "health", "--batteries", status=3)
    assert {row["serial"] for row in listed} == {row["serial"] for row in told if row["replace"] == "now"}
    assert [row["site"] for row in listed] == sorted(row["site"] for row in listed)
    assert f"{len(listed)} to replace now" in pulled("health", "--batteries", status=3).stderr


@pytest.mark.parametrize(
    ("rule", "what"),
    [
        ("{metric: a.b}", "says neither"), ("{metric: a.b, warning: 20}", "warning"),
        ("{metric: a.b, warning: '20'}", "warning"), ("{metric: a.b, warning: '< 2', where: 'nam = x'}", "nam"),
        ("{metric: a.b, warning: '< 2', per: week}", "per"), ("{metric: a.b, warning: '< 2', over: soon}", "over"),
    ],
)  # fmt: skip
def test_a_threshold_that_cannot_be_meant_is_told_where_it_stands(tmp_path, harbour, rule, what):
    shell = make_workspace(tmp_path, harbour, ["muster"], kind=Near)
    shell.config(lambda text: text + f"health:\n  thresholds:\n  - {rule}\n")
    told = shell("system", "list", status=1).stderr
    assert what in told
    assert "health.thresholds[0]" in told


def test_what_is_asked_wrongly_is_told(pulled):
    assert "is no format" in pulled("health", "-f", "xml", status=2).stderr
    assert 'no field "sit"' in pulled("health", "--where", "sit = x", status=2).stderr
    assert "there is no system" in pulled("health", "nobody", status=2).stderr


def test_what_happened_is_told_by_day_and_what_nobody_uses_is_named(pulled, shared_harbour, tmp_path):
    muster = shared_harbour.muster
    told = rows(pulled, "health", "--events", "--since", "30d")
    assert len(told) == len(muster.events)
    assert [row["at"] for row in told] == sorted((row["at"] for row in told), reverse=True)
    use = rows(pulled, "health", "--use", "--since", "30d")
    carried = {record["deviceId"] for record in muster.devices if record["platform"] in ("slate", "scanner")}
    entries = rows(pulled, "show", "records", "--system", "muster", "-c", "entry,record_id", "-n", "0")
    lying = {row["entry"] for row in entries if row["record_id"] in carried} - {
        row["entry"] for row in entries if row["record_id"] in {event["deviceId"] for event in muster.events}
    }  # fmt: skip
    assert len([row for row in use if row["hours"] == 0]) == len(lying)
    assert [row["hours"] for row in use] == sorted(row["hours"] for row in use)
    shown = pulled("health", "--events", "--since", "30d").stdout
    assert f"{len(muster.events)} events" in shown
    assert re.search(r"\w{3} 2026-\d\d-\d\d +[.\d+]{24} ", shown)
    pulled("health", "--events", "--draw", str(tmp_path / "week.svg"))
    assert (tmp_path / "week.svg").read_text().startswith("<?xml")
    assert "goes with --events" in pulled("health", "--draw", "x.svg", status=2).stderr


def test_where_no_system_tells_of_events_that_is_said(tmp_path, harbour):
    shell = make_workspace(tmp_path, harbour, ["stowage"], kind=Near)
    shell("pull")
    shell("reconcile")
    assert "no system tells of events" in shell("health", "--events", status=2).stderr


def test_monitoring_is_told_not_known_where_nothing_can_be_found_out(tmp_path, harbour):
    """Two means an error there: a workspace that was never pulled, or is none, must not look like one."""
    shell = make_workspace(tmp_path, harbour, ["muster"], kind=Near)
    assert shell("health", "--plugin", status=3).stdout.startswith("CONCORDEX UNKNOWN - nothing has been pulled")
    shell("pull")
    shell("reconcile")
    assert "UNKNOWN - there is no system" in shell("health", "nobody", "--plugin", status=3).stdout
    assert "UNKNOWN - " in shell("-w", str(tmp_path / "none"), "health", "--plugin", status=3).stdout


def test_hours_of_use_reach_no_further_back_than_what_was_told(pulled, shared_harbour):
    """A month is asked for, and a week was told: nobody was in use in the three weeks before."""
    first = min(event["happenedAt"] for event in shared_harbour.muster.events)
    told = pulled("health", "--use", "--since", "30d")
    assert f"begin {datetime.fromtimestamp(first, UTC):%Y-%m-%d %H:%M} UTC" in told.stderr
    most = max(row["hours"] for row in rows(pulled, "health", "--use", "--since", "30d"))
    assert most < (datetime.now(UTC).timestamp() - first) / 3600


def test_a_counter_that_was_read_long_ago_passes_no_threshold_of_today(watched):
    """Two pulls of last week tell nothing of the last hour."""
    watched.config(lambda text: text.replace("over: 1d", "over: 0.01s"))
    told = watched("health", status=3)
    assert "no reading of interface.errors_in per minute" in told.stderr
