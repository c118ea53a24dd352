"""How it stands with each system is seen at a glance; what is set by command is what the file says, or nothing is."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta

import pytest

from tests.conftest import Near

DIALECT = """
format: 1
name: lamps
title: Lamps
credentials: {word: {secret: true}}
sign_in: {by: header, header: Lamp-Word, value: "{word}"}
tables:
  devices: {read: {path: /lamps, records: all, complete: the guide says so}, fields: {record_id: id}}
  rooms: {read: {path: /rooms, records: all, complete: the guide says so}, fields: {record_id: id}}
"""


@pytest.fixture
def house(tmp_path, serve):
    state = {"/lamps": 200, "/rooms": 200}

    def answer(_method, path, *_):
        return state[path], {"all": [{"id": "1"}]}

    (tmp_path / "dialects").mkdir()
    (tmp_path / "dialects/lamps.yaml").write_text(DIALECT)
    url = serve(answer).url
    lines = [
        f"  {name}: {{dialect: lamps, url: '{url}', credentials: {{word: 'env:WORD'}}}}" for name in ("a", "b", "c")
    ]
    (tmp_path / "concordex.yaml").write_text("# the house\nformat: 1\nsystems:\n" + "\n".join(lines) + "\n")
    return Near(tmp_path), state


def seen(shell: Near) -> dict[str, dict]:
    return {row["system"]: row for row in json.loads(shell("system", "list", "-f", "json").stdout)}


def test_what_fails_is_shown_with_since_when_until_it_comes_again(house):
    shell, state = house
    word = {"WORD": "wick"}
    shell("pull", "a", "b", env=word)
    shell("system", "pause", "b")
    assert {name: row["state"] for name, row in seen(shell).items()} == {"a": "connected", "b": "paused", "c": "never"}
    state["/rooms"] = 403
    shell("pull", "a", env=word, status=4)
    first = seen(shell)["a"]
    assert first["state"] == "failing in part"
    state["/lamps"] = 403
    shell("pull", "a", env=word, status=1)
    shell("pull", "a", env=word, status=1)
    now = seen(shell)["a"]
    assert (now["state"], now["since"]) == ("failing", first["since"])
    (before,) = shell.workspace.overview(["a"])
    assert "403" in now["fault"]
    state |= {"/rooms": 200, "/lamps": 200}
    assert seen(shell)["a"]["state"] == "failing"  # nobody was asked
    shell("system", "check", "a", env=word)
    assert seen(shell)["a"]["state"] == "connected"
    state["/lamps"] = 403
    shell("system", "check", "a", env=word, status=1)
    shell("system", "check", "a", env=word, status=1)
    (again,) = shell.workspace.overview(["a"])
    assert again.state == "failing"
    assert again.contact.failing_since > before.contact.failing_since
    state["/lamps"] = 200
    shell("pull", "a", env=word)
    assert seen(shell)["a"]["state"] == "connected"


def test_a_check_or_a_job_before_the_first_pull_leaves_what_is_told_as_it_was(house):
    shell, _ = house
    shell("system", "check", "a", env={"WORD": "wick"})
    assert seen(shell)["a"]["state"] == "connected"
    shell("job", "list")
    assert "nothing has been pulled yet" in shell("show", "devices", status=2).stderr


def test_the_next_pull_is_that_of_the_first_job_that_pulls_it(house):
    shell, _ = house
    shell("pull", "a", env={"WORD": "wick"})
    jobs = ["day: {every: 1d, steps: [pull]}", "hour: {every: 1h, steps: ['pull a']}", "hand: {steps: [pull]}",
            "other: {every: 1s, steps: [findings]}"]  # fmt: skip
    shell.config(lambda text: text + "jobs:\n" + "".join(f"  {job}\n" for job in jobs))
    comes = {name: row["next pull"] for name, row in seen(shell).items()}
    assert comes["a"] <= comes["b"] == comes["c"]
    assert "T00:00:00" in comes["b"]


def test_settings_by_command_keep_what_people_wrote_and_what_cannot_be_meant_is_not_written(house):
    shell, _ = house
    told = shell("system", "set", "a", "concurrency=3", "tls.ca=house.pem", "label=The house", "--tag", "quay,mole")
    assert "concurrency is 3 now" in told.stderr
    own = shell.workspace.config.systems["a"]
    assert (own.concurrency, own.tls.ca, own.label, own.tags) == (3, "house.pem", "The house", ["quay", "mole"])
    shell("system", "set", "a", "label=", "tls.ca=", "--untag", "mole")
    assert (shell.workspace.config.systems["a"].label, shell.workspace.config.systems["a"].tags) == ("", ["quay"])
    assert "nothing to do" in shell("system", "set", "a", "concurrency=3").stderr
    before = (shell.folder / "concordex.yaml").read_text()
    assert before.startswith("# the house\n")
    for words, told, status in (
        (("concurrency=many",), "concurrency", 1), (("credentials.word=oil-and-wick",), "is written into", 2),
        (("colour=red",), "unknown key", 1), ((), "nothing is set", 2), (("dialect=none",), "none", None),
    ):  # fmt: skip
        assert told in shell("system", "set", "a", *words, status=status).stderr
    shell.config(lambda text: text + "jobs: {day: {systems: [b], steps: ['pull {systems}']}}\n")
    assert "jobs.day.systems[0]" in shell("system", "remove", "b", "--yes", status=1).stderr
    shell("system", "remove", "c", "--yes")
    assert shell("system", "remove", "a", status=5, said="n\n").returncode == 5
    text = (shell.folder / "concordex.yaml").read_text()
    assert text.startswith(before.partition("  c:")[0])
    assert "  c:" not in text


def test_what_was_not_returned_for_long_is_left_out_of_the_concordance_and_that_is_said_before(house):
    shell, _ = house
    word = {"WORD": "wick"}
    shell("pull", "a", "b", env=word)
    shell.config(lambda text: text + "reconcile: {forget_after: 40d}\n")
    for days, told, records in ((29, "", 2), (31, "from 20", 2), (41, "1 record left out", 1)):
        then = (datetime.now(UTC) - timedelta(days=days)).isoformat()
        shell.workspace.catalogue.database.run("UPDATE snapshots SET taken = ? WHERE system = 'b'", (then,))
        said = shell("reconcile")
        text = said.stdout + said.stderr
        assert (f"b has returned nothing for {days} d" in text) == bool(told)
        assert told in text
        assert f"{records} record" in text
    shell.workspace.catalogue.database.run("UPDATE snapshots SET taken = '2020-01-01T00:00:00+00:00'")
    assert "forget_after" in shell("reconcile", status=2).stderr
    shell("pull", "b", env=word)  # it comes back, and so do its records
    assert "b             1" in shell("reconcile").stdout
