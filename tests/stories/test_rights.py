"""Who may do what: nothing that is not granted, no name that is only claimed, two persons where two are asked for."""

from __future__ import annotations

import json
import os
import pwd
import sqlite3

import pytest

from concordex.work.workspace.rights import digest_of

ME = pwd.getpwuid(os.geteuid()).pw_name


def wearing(token: str) -> dict:
    return {"env": {"CONCORDEX_TOKEN": token}}


@pytest.fixture
def team(writing):
    """Somebody who may look at one system, one who prepares, one who agrees, one who runs, and me, who decides."""
    people = {
        ME: "{may: [see, decide]}",
        "looks": f"{{may: [see], systems: [fairlead], token: {digest_of('l')}}}",
        "drafts": f"{{may: [see, pull, prepare, agree, run], token: {digest_of('d')}}}",
        "agrees": f"{{may: [see, agree], token: {digest_of('a')}}}",
        "night": f"{{token: {digest_of('n')}, grants: [{{may: [see]}}, {{may: [pull, run], systems: [stowage]}}]}}",
    }
    lines = "".join(f"    {name}: {grant}\n" for name, grant in people.items())
    writing.config(lambda text: text + f"rights:\n  second_person: {{systems: [stowage]}}\n  people:\n{lines}")
    return writing


def test_what_somebody_may_not_see_is_in_nothing_that_they_see(team):
    team("reconcile")
    hidden = json.loads(team("show", "devices", "-f", "json").stdout)
    assert {row["system"] for row in hidden} == {"fairlead", "muster", "stowage"}
    seen = json.loads(team("show", "devices", "-f", "json", **wearing("l")).stdout)
    assert {row["system"] for row in seen} == {"fairlead"}
    told = team("query", "SELECT DISTINCT system FROM devices", "-f", "json", **wearing("l")).stdout
    assert "muster" not in told
    assert "fairlead" in told
    for words in ("findings",), ("show", "entries"), ("explain", "E00001"), ("report", "-o", "x.html"), ("reconcile",):
        assert "looks may not see on all systems" in team(*words, status=5, **wearing("l")).stderr, words
    assert "may not see" in team("backup", "x.tar", status=5, **wearing("l")).stderr
    team("set", "stowage", "kind = router", "comment=x", "--draft", **wearing("d"))
    assert "stowage" not in team("change", "list", **wearing("l")).stdout
    assert "may not see on stowage" in team("change", "show", "1", status=5, **wearing("l")).stderr


def test_what_is_not_granted_is_not_done(team, fresh_harbour):
    asked = fresh_harbour.named("stowage").faults.requests
    before = len(asked)
    assert "looks may not pull on stowage" in team("pull", "stowage", status=5, **wearing("l")).stderr
    assert "may not pull" in team("system", "check", "stowage", status=5, **wearing("l")).stderr
    assert (
        "agrees may not prepare on stowage"
        in team("set", "stowage", "kind = router", "comment=x", "--draft", status=5, **wearing("a")).stderr
    )
    assert len(asked) == before
    team.config(
        lambda text: text + 'jobs:\n  one: {systems: [stowage], steps: ["pull {systems}"]}\n  all: {steps: [pull]}\n'
    )
    assert "nobody is at work" in team("job", "run", "one", "--leave", status=5, **wearing("n")).stderr
    assert "night may not run on fairlead" in team("job", "run", "all", "--leave", status=5, **wearing("n")).stderr
    assert "may not decide" in team("system", "pause", "muster", status=5, **wearing("d")).stderr
    assert "may not decide" in team("ruling", "remove", "muster/2", status=5, **wearing("d")).stderr
    team("system", "pause", "muster")
    team("pull", **wearing("n"))
    newest = team.workspace.catalogue.pulls(1)[0]["id"]
    assert {snapshot.system for snapshot in team.workspace.catalogue.snapshots_of(newest)} == {"stowage"}


def test_a_change_is_run_once_somebody_else_has_agreed_to_it_as_it_is(team, fresh_harbour):
    asked = fresh_harbour.named("stowage").faults.requests
    team("set", "stowage", "kind = router", "comment=x", "--draft", **wearing("d"))
    run = ("change", "run", "1", "--yes", "--count", "9")

    def written() -> int:
        return sum(method in ("PATCH", "PUT", "POST") and "token" not in path for method, path in asked)

    before = written()
    assert "waits for a second person: drafts prepared it" in team(*run, status=5, **wearing("d")).stderr
    assert (
        "drafts prepared change 1: somebody else agrees"
        in team("change", "agree", "1", "--yes", status=5, **wearing("d")).stderr
    )
    assert "may not agree" in team("change", "agree", "1", "--yes", status=5, **wearing("n")).stderr
    assert "agreed to by agrees" in team("change", "agree", "1", "--yes", **wearing("a")).stderr
    assert "agrees may not run on stowage" in team(*run, status=5, **wearing("a")).stderr
    with sqlite3.connect(team.folder / ".concordex/catalogue.sqlite") as catalogue:  # altered by hand afterwards
        catalogue.execute("UPDATE steps SET body = replace(body, '\"x\"', '\"y\"')")
    assert "waits for a second person" in team(*run, status=5, **wearing("d")).stderr
    assert written() == before
    assert "is not as it was noted" in team("journal", "verify", status=3).stdout
    with sqlite3.connect(team.folder / ".concordex/catalogue.sqlite") as catalogue:
        catalogue.execute("UPDATE steps SET body = replace(body, '\"y\"', '\"x\"')")
    assert "waits" not in team("change", "show", "1", **wearing("d")).stderr
    steps = len(json.loads(team("change", "show", "1", "-f", "json").stdout))
    team("change", "run", "1", "--yes", "--count", str(steps), **wearing("n"))
    assert written() > before
    told = json.loads(team("journal", "list", "-f", "json").stdout)
    assert {row["by"] for row in told} == {"drafts"}
    assert team("journal", "list", "-f", "csv", **wearing("l")).stdout.count("stowage") == 0
    assert "agrees" in team("change", "list").stdout
    team("journal", "verify")


def test_nobody_is_who_they_say_they_are(team):
    assert f"you are {ME}" in team("rights", "show", env={"CONCORDEX_USER": "drafts"}).stderr
    assert (
        "may not prepare"
        in team(
            "set", "stowage", "kind = router", "comment=x", "--draft", status=5, env={"CONCORDEX_USER": "drafts"}
        ).stderr
    )
    assert "is nobody's" in team("pulls", status=5, **wearing("guess")).stderr
    made = team("rights", "token", "night")
    assert digest_of(made.stdout.strip()) in made.stderr
    assert "a second person agrees to changes of: stowage" in team("rights", "show").stderr


def test_rights_that_cannot_be_meant_are_told(shell):
    for rights, told in (
        ("{people: {x: {may: [see], systems: [nowhere]}}}", "there is no system 'nowhere'"),
        ("{people: {x: {may: [fly]}}}", "rights.people.x"),
        ("{people: {'group:': {may: [see]}}}", "names nobody"),
        (f"{{people: {{'group:g': {{may: [see], token: {'a' * 64}}}}}}}", "is for one runner"),
        ("{people: {}}", "rights.people"),
    ):
        shell.config(lambda text, rights=rights: text.partition("rights:")[0] + f"rights: {rights}\n")
        assert told in shell("pulls", status=1).stderr, rights
