"""Configuration objects: saved by meaning, loaded back in order, copied, migrated; drift found and put back."""

from __future__ import annotations

import json
import os
import pty
import random
import subprocess
import sys
from collections.abc import Iterator
from contextlib import suppress
from copy import deepcopy
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from concordex.change.depend import InACircle, closure, in_order, needs, users
from concordex.change.differ import deltas_of, differ
from concordex.change.objects import Kind, Object, objects_of, settled
from concordex.change.plan import plan
from concordex.documents import parse_yaml, plain
from concordex.model.members import edited, way_of
from concordex.standins.bollard import Denied
from concordex.standins.server import Harbour
from concordex.wire import dialect as d
from concordex.work.objects import files
from concordex.work.objects.files import file_name, written
from concordex.work.objects.prepare import _unfit_values
from concordex.work.run.commits import Committer
from tests.conftest import Near, Shell, make_workspace

# --- the core

KINDS = {
    "nets": Kind(table="nets", can_create=True, can_update=True, can_delete=True),
    "sets": Kind(table="sets", references={"targets": "nets"}, sets=["targets"], can_create=True, can_delete=True),
    "rules": Kind(
        table="rules", references={"in": "sets", "from": "nets", "like": "rules"}, within="in", place="place",
        can_create=True, can_update=True, can_delete=True,
    ),
}  # fmt: skip


@st.composite
def worlds(draw) -> list[Object]:
    """Objects that refer to those before them."""
    nets = [f"n{at}" for at in range(draw(st.integers(1, 4)))]
    sets = [f"s{at}" for at in range(draw(st.integers(0, 3)))]
    made = [Object(kind="nets", name=name, body={"value": draw(st.integers(0, 2))}) for name in nets]
    some = st.lists(st.sampled_from(nets), unique=True).map(sorted)
    made += [Object(kind="sets", name=name, body={"targets": draw(some)}) for name in sets]
    rules: list[str] = []
    for at in range(draw(st.integers(0, 5)) if sets else 0):
        inside = draw(st.sampled_from(sets))
        body = {"in": inside, "from": draw(st.sampled_from(nets)), "place": at, "verdict": draw(st.booleans())}
        if rules and draw(st.booleans()):
            body["like"] = draw(st.sampled_from(rules))
        rules.append(f"{inside}/r{at}")
        made.append(Object(kind="rules", name=rules[-1], body=body))
    return made


@given(worlds(), st.randoms())
def test_each_comes_after_what_it_needs_whatever_order_it_was_in(world, chance: random.Random):
    mixed, kinds = list(world), list(KINDS.items())
    chance.shuffle(mixed)
    assert in_order(mixed, KINDS) == in_order(world, KINDS)
    chance.shuffle(kinds)  # as a dialect may name them
    ordered = in_order(mixed, dict(kinds))
    assert sorted(ordered, key=repr) == sorted(world, key=repr)
    done: set[tuple[str, str]] = set()
    for one in ordered:
        assert set(needs(one, KINDS)) <= done
        done.add((one.kind, one.name))


@given(worlds(), worlds())
def test_a_plan_carried_out_leaves_no_difference(was, now):
    change, _ = plan("x", now, was, KINDS, going={one.key for one in was})
    held = {one.key: dict(one.body) for one in was}
    for step in change.steps:
        key = (step.table, step.key["name"], step.key.get("nth", 1))
        if step.operation == "delete":
            assert held.pop(key) == step.before
        elif step.operation == "create":
            assert key not in held
            held[key] = dict(step.desired)
        elif step.state == "ready":
            assert {name: held[key].get(name) for name in step.before} == dict(step.before)
            held[key].update(step.desired)
    left = [Object(kind=kind, name=name, nth=nth, body=body) for (kind, name, nth), body in held.items()]
    updatable = [one for one in differ(now, left, KINDS) if KINDS[one.key[0]].can_update or one.what != "changed"]
    assert updatable == []


@given(worlds())
def test_a_world_beside_itself_has_no_difference_and_what_is_needed_comes_along(world):
    assert differ(world, deepcopy(world), KINDS) == []
    for one in world:
        every, lost = closure([one], world, KINDS)
        assert not lost
        names = {(other.kind, other.name) for other in every}
        assert all(set(needs(other, KINDS)) <= names for other in every)
        using = {found.name for found, _, _ in users([(one.kind, one.name)], world, KINDS)}
        assert using == {other.name for other in world if (one.kind, one.name) in needs(other, KINDS)}


TEXT = st.one_of(st.text(max_size=30), st.text("a b\n#:-'|é", max_size=12), st.sampled_from(["yes", "1e3", "0x1"]))
SOME = st.one_of(st.none(), st.booleans(), st.integers(), TEXT)


@given(st.dictionaries(TEXT, st.one_of(SOME, st.lists(SOME, max_size=3)), max_size=4))
def test_a_file_says_what_the_object_says(body):
    one = Object(kind="nets", name="x", body=settled(body, KINDS["nets"]))
    read = plain(parse_yaml(written(one, one.key), "x"))
    assert read == {"format": 1, "kind": "nets", "name": "x", "object": one.body}


def test_a_circle_is_told_with_its_members():
    one, other = (
        Object(kind="rules", name=f"s/{a}", body={"in": "s", "like": f"s/{b}"}) for a, b in (("a", "b"), ("b", "a"))
    )
    with pytest.raises(InACircle, match=r"rules/s/. -> rules/s/. -> rules/s/."):
        in_order([one, other], KINDS)


def rules(*names: str) -> list[Object]:
    return [Object(kind="rules", name=f"s/{n}", body={"in": "s", "place": at * 10}) for at, n in enumerate(names)]


@pytest.mark.parametrize(
    ("was", "now", "moved"),
    [("abcd", "abcd", ""), ("abcd", "dabc", "d"), ("abcd", "bacd", "a|b"), ("abcd", "xabcd", ""),
     ("abc", "cba", "ab|bc|ac")],
)  # fmt: skip
def test_order_counts_as_order_and_not_as_numbers(was, now, moved):
    found = {one.key[1][-1]: one.what for one in differ(rules(*was), rules(*now), KINDS)}
    found = {name: what for name, what in found.items() if name in was}
    assert set(found.values()) <= {"moved"}
    assert "".join(sorted(found)) in moved.split("|")


def test_members_that_differ_are_told_one_by_one():
    was = {"a": {"b": 1, "c": [1, 2]}, "d": [{"e": 1}], "f": "x"}
    now = {"a": {"b": 2, "c": [2, 3]}, "d": [{"e": 2}], "g": True}
    assert deltas_of(was, now) == [
        ("a.b", 1, 2), ("a.c[]", 1, None), ("a.c[]", None, 3), ("d[0].e", 1, 2), ("f", "x", None), ("g", None, True),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("path", "value", "drop", "made"),
    [
        ("rights[=b]", None, True, {"rights": ["a"], "lock": {"most": 5}}),
        ("rights[+]", "c", False, {"rights": ["a", "b", "c"], "lock": {"most": 5}}),
        ("lock.most", 7, False, {"rights": ["a", "b"], "lock": {"most": 7}}),
        ("lock.least", 1, False, {"rights": ["a", "b"], "lock": {"most": 5, "least": 1}}),
        ("rights[0]", "z", False, {"rights": ["z", "b"], "lock": {"most": 5}}),
        ("lock", None, True, {"rights": ["a", "b"]}),
        ("lokc", None, True, None), ("rights[=x]", None, True, None), ("rights[9]", "x", False, None),
        ("a..b", 1, False, None), ("rights.x", 1, False, None),
    ],
)  # fmt: skip
def test_edits_by_path(path, value, drop, made):
    body = {"rights": ["a", "b"], "lock": {"most": 5}}
    if made is None:
        with pytest.raises(ValueError, match=r"\w"):
            edited(body, path, value, drop=drop)
    else:
        assert edited(body, path, value, drop=drop) == made
        assert way_of(path)
    assert body == {"rights": ["a", "b"], "lock": {"most": 5}}


def test_ids_become_names_and_what_is_lost_is_marked():
    records = {
        "nets": [("n1", {"id": "n1", "name": "quay", "at": 3})],
        "sets": [("7", {"id": 7, "name": "s", "targets": ["n1", "n9"]})],
        "rules": [("r", {"id": "r", "name": "a/b", "in": 7, "from": "n1"})],
    }
    made = {one.kind: one for one in objects_of(records, KINDS, {})}
    assert made["sets"].body == {"targets": ["?n9", "quay"]}
    assert (made["rules"].name, made["rules"].body) == ("s/a/b", {"in": "s", "from": "quay"})


@given(st.text(min_size=1, max_size=300), st.text(min_size=1, max_size=300), st.integers(1, 3))
def test_a_file_s_name_is_safe_and_its_own(name, other, nth):
    made = file_name(("k", name, nth))
    assert made.isascii()
    assert len(made) < 200
    assert not set(made) & set('/\\:*?"<>|\0\n')
    assert made[0] != "."
    assert made[-1] != "."
    assert (file_name(("k", other, nth)) == made) == (name.strip() == other.strip())


# --- against systems


@pytest.fixture
def quay(tmp_path) -> Iterator[tuple[Shell, Harbour]]:
    with Harbour.of(150, moment=datetime.now(UTC)) as harbour:
        yield make_workspace(tmp_path, harbour, ("muster", "bollard"), kind=Near), harbour


def write(shell: Shell, name: str, kind: str, title: str, body: dict) -> Path:
    path = shell.folder / name
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(json.dumps({"format": 1, "kind": kind, "name": title, "object": body}))
    return path


def test_a_role_without_one_right_and_a_second_policy_of_one_name(quay):
    shell, harbour = quay
    held = harbour.muster.objects
    assert (
        "does not allow two of one name"
        in shell("config", "copy", "muster/roles/office", "--as", "crew", status=2).stderr
    )
    shell("config", "copy", "muster/roles/office", "--as", "office, no restart", "--drop", "rights[=restart]", "--yes")
    made = next(role for role in held["roles"].values() if role["name"] == "office, no restart")
    office = next(role for role in held["roles"].values() if role["name"] == "office")
    assert set(office["rights"]) - set(made["rights"]) == {"restart"}
    odd = ("--as", "x", "--set", "lock.afterMinuts=3", "--draft")
    told = shell("config", "copy", "muster/policies/laptops", *odd).stderr
    assert 'no other of the policies has lock.afterMinuts; did you mean "afterMinutes"?' in told
    words = ("--as", "laptops", "--set", "lock.afterMinutes=3", "--set", "encrypted=no", "--yes")
    told = shell("config", "copy", "muster/policies/laptops", *words).stderr
    assert "takes several of one name" in told
    assert "assignedTo stays behind" in told
    first, second = (policy for policy in held["policies"].values() if policy["name"] == "laptops")
    assert (second["lock"]["afterMinutes"], second["encrypted"], second["leastRelease"]) == (3, False, "23.1.0")
    assert first["assignedTo"] != []
    assert "assignedTo" not in second
    assert "say which one: laptops (no. 1), " in shell("config", "show", "muster/policies/laptops", status=2).stderr
    assert "afterMinutes: 3" in shell("config", "show", "muster/policies/laptops (no. 2)").stdout
    editor = {"env": {"EDITOR": "sed -i s/laptops/edited/"}}
    shell("config", "copy", "muster/roles/kiosk", "--as", "laptops-kiosk", "--edit", "--yes", **editor)
    assert any(role["name"] == "edited-kiosk" for role in held["roles"].values())


def test_a_name_that_is_taken_is_asked_for_again_at_a_terminal(quay):
    shell, harbour = quay
    main, end = pty.openpty()
    words = shell.command("config", "copy", "muster/roles/office", "--as", "crew")
    process = subprocess.Popen(words, stdin=end, stderr=subprocess.PIPE, cwd=shell.folder, text=True)
    os.write(main, b"kiosk\noffice, late\ny\n")
    told = process.communicate(timeout=60)[1]
    assert told.count("Another name:") == 2
    assert process.returncode == 0
    assert "office, late" in [role["name"] for role in harbour.muster.objects["roles"].values()]


def test_what_is_saved_again_touches_only_what_changed(quay):
    shell, harbour = quay
    shell("config", "save", "muster", "--into", "kept")
    folder = shell.folder / "kept" / "muster"
    policy = harbour.muster.objects["policies"]["policy-1"]
    path = folder / "policies" / "laptops.yaml"
    path.write_text("# why: the insurer asks for it\n" + path.read_text())
    before = {file: file.stat().st_mtime_ns for file in folder.rglob("[!.]*.yaml")}
    assert len(before) == 7
    role = harbour.muster.objects["roles"]["role-1"]
    role["rights"] = role["rights"][::-1]  # another order of a set is no change
    policy["altered"] = "2030-01-01"
    assert "0 written, 7 as they were" in shell("config", "save", "muster", "--into", "kept").stderr
    harbour.muster.objects["policies"]["policy-0"]["lock"]["leastDigits"] = 8
    harbour.muster.objects["roles"]["x"] = {"id": "x", "name": "../../é/CON." + "n" * 300, "rights": []}
    del harbour.muster.objects["roles"]["role-2"]
    told = shell("config", "save", "muster", "--into", "kept").stderr
    assert "2 written, 5 as they were, 1 removed" in told
    after = {file: file.stat().st_mtime_ns for file in folder.rglob("[!.]*.yaml")}
    same = [file for file, at in after.items() if before.get(file) == at]
    assert len(same) == 5
    assert path in same
    assert not list(shell.folder.parent.glob("*CON*"))
    shell("config", "diff", "kept/muster", "muster")
    assert "no drift" in shell("drift", "muster", "--from", "kept").stderr
    told = shell("config", "save", "muster", "policies", "--where", "encrypted = yes", "--into", "some").stderr
    assert "2 objects" in told


def test_what_stands_in_an_object_is_copied_with_it(quay):
    shell, harbour = quay
    before = deepcopy(harbour.bollard.objects)
    shell("config", "copy", "bollard/rulesets/quay", "--as", "pier", "--draft")
    rows = json.loads(shell("change", "show", "1", "-f", "json").stdout)
    chosen = ("change", "run", "1", "--where", f'name = "{rows[1]["label"]}"', "--yes")
    assert "2 steps written" in shell(*chosen).stderr  # with the set that it stands in
    shell("change", "run", "1", "--yes")
    shell("change", "undo", "1", "--draft")
    shell("change", "run", "2", "--table", "rulesets", "--yes")  # with the rules that go with it
    assert harbour.bollard.objects == before
    shell("config", "copy", "bollard/rulesets/quay", "--as", "pier", "--yes")
    rules, sets = harbour.bollard.objects["rule"], harbour.bollard.objects["ruleset"]
    made = next(ref for ref, one in sets.items() if one["name"] == "pier")

    def inside(ruleset: str) -> list[dict]:
        mine = [one for one in rules.values() if one["ruleSet"] == ruleset]
        return [{k: v for k, v in one.items() if k not in ("ref", "ruleSet")} for one in mine]

    assert inside(made) == inside("set0")
    assert inside(made)
    name = inside("set0")[0]["name"]
    moved = ("config", "copy", f"bollard/rules/quay/{name}", "--as", "moved", "--set", "ruleSet=ship", "--draft")
    assert "ship/moved" in shell(*moved).stdout


def test_from_nothing_to_rules_in_order_and_back(quay):
    shell, harbour = quay
    before = deepcopy(harbour.bollard.objects)
    firewall = next(iter(harbour.bollard.firewalls.values()))
    rule = {"ruleSet": "guests", "place": 1, "from": "guest-net", "to": "net-fishgate", "service": "anything"}
    write(shell, "new/1.yaml", "rules", "guests/keep out", rule | {"verdict": "stop"})
    write(shell, "new/2.yaml", "rulesets", "guests", {"targets": [firewall["name"]]})
    write(shell, "new/3.yaml", "services", "anything", {"protocol": "tcp", "ports": "1-65535"})
    write(shell, "new/4.yaml", "addresses", "guest-net", {"value": "10.77.0.0/16", "note": ""})
    told = shell("config", "push", "new", "--to", "bollard", "--yes").stdout
    assert [line.split()[1] for line in told.splitlines()[1:]] == ["addresses", "services", "rulesets", "rules"]
    rule = next(rule for rule in harbour.bollard.objects["rule"].values() if rule["name"] == "keep out")
    held = harbour.bollard.objects
    assert held["address"][rule["from"]]["name"] == "guest-net"
    assert held["ruleset"][rule["ruleSet"]]["targets"] == [firewall["ref"]]
    assert "nothing to do" in shell("config", "push", "new", "--to", "bollard").stderr
    told = shell("config", "remove", "bollard/services/anything", "--count", "1", status=5).stderr
    assert "is used by rules/guests/keep out (service)" in told
    assert "config install" not in shell("change", "undo", "1", "--yes").stderr  # there is nothing of it left
    assert harbour.bollard.objects == before
    write(shell, "new/5.yaml", "rules", "quay/odd", {"ruleSet": "guests", "from": "nowhere", "colour": 1})
    told = shell("config", "push", "new", "--to", "bollard", status=2).stderr
    for text in (
        "should be guests/…",
        "5.yaml: line 1: from names 'nowhere', which is not in addresses",
        "no member 'colour'",
    ):
        assert text in told


def test_a_hand_edit_is_found_as_drift_named_with_its_commit_and_restored(quay):
    shell, harbour = quay
    shell("config", "save", "bollard", "--into", "baselines")
    shell("config", "save", "muster", "--into", "baselines")
    git = ["git", "-c", "user.name=Kim", "-c", "user.email=kim@saltmarsh.example"]
    for words in (["init", "-q"], ["add", "baselines"], ["commit", "-qm", "rules as of the audit"]):
        subprocess.run([*git, *words], cwd=shell.folder, check=True, capture_output=True)
    assert "no drift" in shell("drift").stderr
    rules = harbour.bollard.objects["rule"]
    one = next(rule for rule in rules.values() if rule["place"] == 1)
    one["verdict"] = "pass" if one["verdict"] == "stop" else "stop"
    ruleset = one["ruleSet"]
    mine = sorted((rule for rule in rules.values() if rule["ruleSet"] == ruleset), key=lambda rule: rule["place"])
    for at, rule in enumerate([*mine[:-1][:4], mine[-1], *mine[4:-1]], start=1):  # the last one was moved up
        rule["place"] = at
    harbour.muster.objects["roles"]["role-0"] |= {"rights": ["sign-in"], "alteredBy": "Robin"}
    told = shell("drift", status=3)
    assert "by Robin" in told.stdout
    assert "Kim: rules as of the audit" in told.stdout
    assert told.stdout.count("moved    bollard/rules/") == 1  # one was moved; the others only count on
    assert told.stdout.count("changed  bollard/rules/") == 1
    assert "rights: - see-devices" in told.stdout
    rows = json.loads(shell("drift", "muster", "-f", "json", status=3).stdout)
    assert [(row["name"], row["member"], row["before"]) for row in rows] == [("crew", "rights[]", "see-devices")]
    shell("drift", "bollard", "--restore", "--yes")
    assert "no drift" in shell("drift", "bollard").stderr
    shell.config(lambda text: text + "drift: {ignore: [{kind: roles, name: 'cr*', member: rights}]}\n")
    assert "no drift in 7 objects; 1 that may be" in shell("drift", "muster").stderr
    harbour.muster.objects["policies"]["policy-1"]["encrypted"] = False
    shell("drift", "muster", status=3)
    shell("drift", "muster", "--accept")
    assert "no drift" in shell("drift", "muster").stderr
    assert "encrypted: false" in (shell.folder / "baselines/muster/policies/laptops.yaml").read_text()
    assert "has no baseline of muster" in shell("drift", "muster", "--from", ".git", status=2).stderr


def test_twelve_policies_from_a_pilot_to_production(tmp_path):
    with Harbour.of(40, moment=datetime.now(UTC)) as harbour, Harbour.of(40, moment=datetime.now(UTC)) as other:
        shell = make_workspace(tmp_path, harbour, ["muster", "bollard"], kind=Near)
        text = (shell.folder / "concordex.yaml").read_text().partition("systems:\n")[2]
        for name in ("muster", "bollard"):
            (tmp_path / f"{name}2.secret").write_text(next(iter(other.named(name).secrets().values())))
            text = text.replace(harbour.urls[name], other.urls[name]).replace(f"../{name}.secret", f"../{name}2.secret")
            text = text.replace(f"  {name}:\n    dialect", f"  {name}2:\n    dialect")
        shell.config(lambda said: said + text)
        policies, there = harbour.muster.objects["policies"], other.muster.objects["policies"]
        policies.clear()
        there.clear()
        for at in range(12):
            policies[f"p{at}"] = {
                "id": f"p{at}", "name": f"pilot {at // 2}", "leastRelease": f"{at}.0", "encrypted": True,
                "assignedTo": ["pilot crew"], "lock": {"afterMinutes": at}, "platforms": ["desk", "slate"],
            }  # fmt: skip
        shell("config", "migrate", "muster/policies", "--to", "muster2", "--where", "name = 'pilot 3'", "--yes")
        assert {one["name"] for one in there.values()} == {"pilot 3"}
        there.clear()
        told = shell("config", "migrate", "muster/policies", "--to", "muster2", "--yes").stderr
        assert "assignedTo stays behind (--bound takes it along): policies/pilot 0, " in told
        assert "and 8 more" in told
        assert len(there) == 12
        assert all("assignedTo" not in one for one in there.values())
        sides = ("config", "diff", "muster", "muster2", "--kind", "policies")
        assert "no difference" in shell(*sides).stderr
        found = json.loads(shell(*sides, "--bound", "-f", "json", status=3).stdout)
        assert {row["member"] for row in found} == {"assignedTo"}
        assert "no difference" in shell("config", "diff", "muster2", "muster2").stderr
        assert (
            "alters 100% of muster2/policies (12 of 12)"
            in shell("config", "migrate", "muster/policies", "--to", "muster2", "--bound", "--yes", status=5).stderr
        )
        shell.config(lambda text: text + "guards: {share: 1}\n")
        mine = next(iter(other.muster.objects["policies"].values()))
        mine |= {"assignedTo": ["a crew of its own"], "leastRelease": "99.0"}
        shell("config", "migrate", "muster/policies", "--to", "muster2", "--yes")
        mine = other.muster.objects["policies"][mine["id"]]
        assert mine["leastRelease"] != "99.0"
        assert mine["assignedTo"] == ["a crew of its own"]  # nobody is unassigned by what is migrated
        shell("config", "migrate", "muster/policies", "--to", "muster2", "--bound", "--yes")
        assert "no difference" in shell(*sides, "--bound").stderr
        # a rule with all that it needs, under other names
        (shell.folder / "map.yaml").write_text(
            "format: 1\nnames: {rulesets/quay: pier, net-fishgate: net-shipgate, unmet: x}\n"
            "values: {'10.26.': '10.96.', '0.26': '9'}\n"
        )
        rule = next(one for one in harbour.bollard.objects["rule"].values() if one["ruleSet"] == "set0")
        rule["to"] = next(r for r, one in harbour.bollard.objects["address"].items() if one["name"] == "net-fishgate")
        words = (
            "config",
            "migrate",
            f"bollard/rules/quay/{rule['name']}",
            "--to",
            "bollard2",
            "--map",
            "map.yaml",
            "--yes",
        )
        told = shell(*words)
        assert "'unmet' of the mapping was not met" in told.stderr
        assert "targets stays behind" in told.stderr
        made = next(one for one in other.bollard.objects["rule"].values() if one["name"] == rule["name"]
                    and other.bollard.objects["ruleset"][one["ruleSet"]]["name"] == "pier")  # fmt: skip
        gate = other.bollard.objects["address"][made["to"]]
        assert gate["name"] == "net-shipgate"
        assert gate["value"].startswith("10.96.")
        # a rule set with its rules, and with what they need
        other.bollard.objects["rule"].clear()
        other.bollard.objects["ruleset"].clear()
        other.bollard.objects["service"].clear()
        shell("config", "migrate", "bollard/rulesets/quay", "--to", "bollard2", "--yes")
        assert {one["name"] for one in other.bollard.objects["ruleset"].values()} == {"quay"}
        rows = json.loads(
            shell("config", "diff", "bollard", "bollard2", "--kind", "rules", "-f", "json", status=3).stdout
        )
        assert {(row["name"].partition("/")[0], row["what"]) for row in rows} == {
            ("ship", "removed"), ("office", "removed"),
        }  # fmt: skip


def test_a_role_that_loses_the_right_that_is_being_used(quay):
    shell, harbour = quay
    write(shell, "new/1.yaml", "roles", "machines", {"rights": ["sign-in"]})
    write(shell, "new/2.yaml", "roles", "zz-after", {"rights": ["sign-in"]})
    told = shell("config", "push", "new", "--to", "muster", "--yes", status=4).stdout
    assert "may not alter objects" in told
    harbour.muster.objects["roles"]["role-3"]["rights"] = ["alter-objects"]
    shell("change", "resume", "1", status=None)
    states = {row["label"]: row["state"] for row in json.loads(shell("change", "show", "1", "-f", "json").stdout)}
    assert states["zz-after"] == "confirmed"


def test_what_others_altered_meanwhile_is_not_overwritten(quay):
    shell, harbour = quay
    write(shell, "new/1.yaml", "roles", "crew", {"rights": ["sign-in"]})
    shell("config", "push", "new", "--to", "muster", "--draft")
    harbour.muster.objects["roles"]["role-0"]["rights"] = ["sign-in", "restart"]
    told = shell("change", "run", "1", "--yes", status=4).stdout
    assert "changed there since the preview: rights is now restart, sign-in" in told
    assert harbour.muster.objects["roles"]["role-0"]["rights"] == ["sign-in", "restart"]
    rules = harbour.bollard.objects["rule"]
    first, *_, last = sorted((r for r in rules.values() if r["ruleSet"] == "set0"), key=lambda rule: rule["place"])
    shell("config", "save", "bollard", "rules", "--into", "kept")
    path = next(path for path in shell.folder.glob("kept/bollard/rules/*.yaml") if path.stem.endswith(first["name"]))
    path.write_text(path.read_text().replace(f"place: {first['place']}", f"place: {last['place'] + 1}"))
    shell("config", "push", "kept/bollard", "--to", "bollard", "--draft")
    rules[first["ref"]]["place"] = moved = last["place"] + 7  # somebody moves it, but elsewhere
    told = shell("change", "run", "2", "--yes", status=4).stdout
    assert f"place is now {moved}" in told
    assert rules[first["ref"]]["place"] == moved


def test_from_nothing_to_installed_on_two_firewalls_and_undone(quay):
    shell, harbour = quay
    firewalls = harbour.bollard.firewalls
    first, second = (f["name"] for f in list(firewalls.values())[:2])
    for firewall in firewalls.values():
        firewall["linked"] = True
    rule = {"ruleSet": "guests", "place": 1, "from": "net-fishgate", "to": "net-saltpan", "service": "web"}
    write(shell, "new/1.yaml", "rules", "guests/keep out", rule | {"verdict": "stop"})
    write(shell, "new/2.yaml", "rulesets", "guests", {"targets": [first, second]})
    told = shell("config", "push", "new", "--to", "bollard", "--yes").stderr
    assert told.count("concordex config install bollard/rulesets/guests") == 1
    told = shell("config", "install", "bollard/rulesets/guests", "--on", "fw-none", status=2).stderr
    assert "assign it first (targets)" in told
    shell("config", "install", "bollard/rulesets/guests", "--yes")
    assert [f["name"] for f in firewalls.values() if "guests" in f.get("installed", ())] == [first, second]
    told = shell("config", "remove", "bollard/rulesets", "bollard/rules", "--count", "9", status=5).stderr
    assert f"rulesets/guests is installed on {first}, {second}" in told
    assert "--off" in told
    assert "is installed on" in shell("change", "undo", "1", "--yes", status=5).stderr
    write(shell, "new/2.yaml", "rulesets", "guests", {"targets": [first]})  # no target any more, and still there
    shell("config", "push", "new", "--to", "bollard", "--draft")
    shell("change", "run", "3", "--yes")
    told = shell("config", "install", "bollard/rulesets/guests", "--off", "--on", second, "--draft").stdout
    assert f"guests on {second}" in told
    assert (
        "is not installed on fw-x"
        in shell("config", "install", "bollard/rulesets/guests", "--off", "--on", "fw-x", status=2).stderr
    )
    shell("change", "undo", "3", "--yes")
    assert "committed as one" not in shell("change", "undo", "2", "--yes").stderr
    assert not any(firewall["installed"] for firewall in firewalls.values() if "installed" in firewall)
    next(f for f in firewalls.values() if f["name"] == second)["linked"] = False
    told = shell("config", "install", "bollard/rulesets/guests", "--yes", status=4).stdout
    assert f"guests on {second}" in told
    assert "is not linked" in told
    states = {row["label"]: row["state"] for row in json.loads(shell("change", "show", "7", "-f", "json").stdout)}
    assert states == {f"guests on {first}": "confirmed", f"guests on {second}": "refused"}


def test_a_name_that_several_devices_bear_is_never_taken_for_one_of_them(quay):
    shell, harbour = quay
    first, second, *_ = harbour.bollard.firewalls.values()
    other = second["name"]
    second["name"] = first["name"]
    write(shell, "new.yaml", "rulesets", "guests", {"targets": [first["name"]]})
    told = shell("config", "push", "new.yaml", "--to", "bollard", status=2).stderr
    assert f"new.yaml: line 1: targets names '{first['name']}', which 2 of the devices bear" in told
    second["name"] = other
    shell("config", "push", "new.yaml", "--to", "bollard", "--yes")
    second["name"] = first["name"]
    told = shell("config", "install", "bollard/rulesets/guests", "--yes", status=2).stderr
    assert f"2 of the devices bear the name '{first['name']}'" in told
    assert "nothing to do" in shell("config", "push", "new.yaml", "--to", "bollard").stderr


def test_a_refused_commit_is_taken_back_and_who_holds_what_is_told(quay):
    shell, harbour = quay
    bollard = harbour.bollard
    ref = next(iter(bollard.objects["address"]))
    bollard.stage("Robin", "address", ref, value="10.0.0.0/8")
    told = shell("config", "pending", "bollard", status=3)
    assert "Robin" in told.stdout
    assert "1 staged" in told.stderr
    shell("config", "save", "bollard", "--into", "baselines")
    assert "staged by Robin" in shell("drift", "bollard", status=3).stderr  # a forgotten commit
    shell("pull")
    shell("reconcile")
    found = json.loads(shell("findings", "--kind", "uncommitted", "-f", "json", status=3).stdout)
    assert [(one["name"], one["entry"], one["about"][:6]) for one in found] == [("bollard", None, "Robin:")]
    write(shell, "new/1.yaml", "addresses", "net-new", {"value": "10.77.0.0/16", "note": ""})

    def race(method, _params):
        bollard.revision += method == "candidate.commit"  # somebody else commits just before

    bollard.meanwhile = race
    told = shell("config", "push", "new", "--to", "bollard", "--yes", status=4).stdout
    bollard.meanwhile = lambda *_: None
    assert "taken back: not committed" in told
    assert "Robin since" in told
    assert not any(one["name"] == "net-new" for one in bollard.objects["address"].values())
    assert list(bollard.staged) == ["of Robin"]
    assert "1 step written" in shell("change", "resume", "1").stderr
    bollard.staged.clear()
    shell("pull", "bollard")
    shell("reconcile")
    assert "Robin" in shell("findings", "--gone", "--kind", "uncommitted", status=3).stdout
    assert "Robin" not in shell("findings", "--kind", "uncommitted").stdout
    assert sum(one["name"] == "net-new" for one in bollard.objects["address"].values()) == 1


def test_a_loopback_is_made_once_by_two_runs_and_not_over_what_others_altered(tmp_path):
    with Harbour.of(40, moment=datetime.now(UTC)) as harbour:
        shell = make_workspace(tmp_path, harbour, ["binnacle"], kind=Near)
        router = harbour.binnacle
        body = {"type": "iana-if-type:softwareLoopback", "description": "management", "enabled": True}
        write(shell, "new/lo7.yaml", "interfaces", "lo/7", body)
        for _ in range(2):  # the second was prepared before the first had run
            shell("config", "push", "new", "--to", "binnacle", "--draft")
        shell("change", "run", "1", "--yes")
        router.faults.requests.clear()
        assert "0 steps written, read back and confirmed; 1 so already" in shell("change", "run", "2", "--yes").stderr
        assert not any(method == "POST" for method, _ in router.faults.requests)  # it was there already
        assert "nothing" in shell("change", "undo", "2").stderr  # and is not ours to take away
        assert router.interfaces["lo/7"]["description"] == "management"
        assert "nothing to do" in shell("config", "push", "new", "--to", "binnacle").stderr
        write(shell, "new/lo7.yaml", "interfaces", "lo/7", body | {"description": "router id"})
        tag = router._tag
        router._tag = lambda name: tag(name) if router.faults.requests[-1][0] == "GET" else '"another"'
        told = shell("config", "push", "new", "--to", "binnacle", "--yes", status=4).stdout
        assert "is not as it was when you read it" in told
        assert router.interfaces["lo/7"]["description"] == "management"
        router._tag = tag
        shell("change", "resume", "3")
        assert router.interfaces["lo/7"]["description"] == "router id"
        # a device that restarts in the middle
        write(shell, "new/lo7.yaml", "interfaces", "lo/7", body | {"description": "after all"})
        shell("config", "push", "new", "--to", "binnacle", "--draft")
        router.faults.add("drop", "/restconf", after=2, times=30)
        shell("change", "run", "4", "--yes", status=None)
        router.faults.clear()
        shell("change", "resume", "4", "--send-again", status=None)
        assert router.interfaces["lo/7"]["description"] == "after all"
        shell("change", "undo", "1", "--yes", status=4)  # altered since, by our own changes
        shell("config", "remove", "binnacle/interfaces/lo/7", "--count", "1")
        assert "lo/7" not in router.interfaces


def test_our_groups_in_the_words_of_monitoring(tmp_path):
    with Harbour.of(40, moment=datetime.now(UTC)) as harbour:
        shell = make_workspace(tmp_path, harbour, ["crowsnest"], kind=Near)
        shell("group", "add", "switching", "--where", "kind = switch or kind in (router, firewall)")
        shell("group", "add", "hosts", "--where", "kind = server")
        shell("group", "add", "watched", "--any-of", "switching,hosts")
        shell("group", "add", "quays", "--where", "site like '*-quay'")
        shell("group", "add", "odd", "--all-of", "switching,hosts")
        shell("group", "push", "watched", "--to", "crowsnest", "--yes")
        made = {group["name"]: group for group in harbour.crowsnest.groups}
        assert set(made["switching"]["kinds"]) == {"switch", "router", "firewall"}
        assert {made[name]["number"] for name in ("switching", "hosts")} == set(made["watched"]["groups"])
        assert "nothing to do" in shell("group", "push", "watched", "--to", "crowsnest").stderr
        assert "asks for more than kinds" in shell("group", "push", "quays", "--to", "crowsnest", status=2).stderr
        assert "is not a union" in shell("group", "push", "odd", "--to", "crowsnest", status=2).stderr
        made["hosts"]["kinds"] = ["server", "printer"]
        shell("group", "push", "watched", "--to", "crowsnest", "--yes")
        assert made["hosts"]["kinds"] == ["server"]
        told = shell("config", "remove", "crowsnest/groups/hosts", "--count", "1", status=5).stderr
        assert "is used by groups/watched" in told
        shell("change", "undo", "1", "--yes", status=None)


def test_a_document_of_desired_settings_is_compared_and_sent_section_by_section(tmp_path):
    with Harbour.of(40, moment=datetime.now(UTC)) as harbour:
        shell = make_workspace(tmp_path, harbour, ["binnacle"], kind=Near)
        before = deepcopy(harbour.binnacle.settings)
        servers = [
            {"name": name, "udp": {"address": f"10.20.0.{at}"}} for at, name in ((124, "time-2"), (123, "time-1"))
        ]
        body = {"contact": "the night watch", "ntp": {"enabled": True, "server": servers},
                "authentication": {"user": [{"name": "watch"}, {"name": "steer"}]}}  # fmt: skip
        path = write(shell, "want.yaml", "settings", "system", body)
        rows = json.loads(shell("config", "diff", "binnacle", str(path), "-f", "json", status=3).stdout)
        assert [row["member"] for row in rows] == [
            "contact",
            "ntp.server[]",
        ]  # users are the same in another order
        odd = write(shell, "odd.yaml", "settings", "system", {"motd-banner": "welcome aboard"})
        rows = json.loads(shell("config", "diff", "binnacle", str(odd), "-f", "json", status=3).stdout)
        assert [(row["member"], row["before"]) for row in rows] == [("motd-banner", None)]  # only the file has it
        router = harbour.binnacle.faults
        router.requests.clear()
        shell("config", "push", str(path), "--to", "binnacle", "--yes")
        assert sum(method == "PATCH" for method, _ in router.requests) == 1
        assert harbour.binnacle.settings["contact"] == "the night watch"
        assert harbour.binnacle.settings["dns-resolver"] == before["dns-resolver"]  # of that nothing was said
        assert "no difference" in shell("config", "diff", str(path), "binnacle").stderr
        shell("change", "undo", "1", "--yes")
        assert harbour.binnacle.settings == before


def guests(shell: Shell) -> None:
    """Files of a rule set with two rules, and what they need."""
    body = {"ruleSet": "guests", "from": "guest-net", "to": "net-saltpan", "service": "web", "verdict": "stop"}
    write(shell, "new/1.yaml", "addresses", "guest-net", {"value": "10.77.0.0/16", "note": ""})
    write(shell, "new/2.yaml", "rulesets", "guests", {"targets": []})
    write(shell, "new/3.yaml", "rules", "guests/one", body | {"place": 1})
    write(shell, "new/4.yaml", "rules", "guests/two", body | {"place": 2})


@pytest.mark.parametrize(
    ("kind", "label", "lost"),
    [("rule", "rules/guests/one", ""), ("address", "addresses/guest-net", "from names 'guest-net', which is not"),
     ("ruleset", "rulesets/guests", "ruleSet names 'guests', which is not in rulesets")],
)  # fmt: skip
def test_where_one_step_is_refused_nothing_that_was_staged_stays(quay, kind, label, lost):
    shell, harbour = quay
    bollard = harbour.bollard
    before = deepcopy(bollard.objects)
    guests(shell)

    def refuse(method, params):
        if method == "object.add" and params["kind"] == kind:
            raise Denied(-32602, "no more today")

    bollard.meanwhile = refuse
    told = shell("config", "push", "new", "--to", "bollard", "--yes", status=4)
    bollard.meanwhile = lambda *_: None
    assert "refused: HTTP 200, code -32602: no more today" in told.stdout
    assert f"staged, and taken back: {label} was refused" in told.stdout
    assert lost in told.stdout
    assert "nothing of it is in effect" in told.stderr
    assert bollard.objects == before
    assert not bollard.staged
    assert 'failures="4"' in shell("change", "results", "1", "--as", "junit").stdout
    shell("change", "resume", "1")  # all of it, not only what was not refused
    assert {row["state"] for row in json.loads(shell("change", "show", "1", "-f", "json").stdout)} == {"confirmed"}


def forget_with_the_session(shell: Shell, harbour: Harbour) -> None:
    """As older ones do: what a session has staged ends with it."""
    harbour.bollard.keeps = False
    (shell.folder / "dialects").mkdir(exist_ok=True)
    (shell.folder / "dialects/older.yaml").write_text(
        "format: 1\nname: older\ntitle: Bollard, older\nextends: bollard\nstaging: {outlasts_session: false}\n"
    )
    shell.config(lambda text: text.replace("dialect: bollard", "dialect: older"))


def test_what_ends_with_its_session_cannot_be_left_staged(quay):
    shell, harbour = quay
    forget_with_the_session(shell, harbour)
    guests(shell)
    shell("config", "push", "new", "--to", "bollard", "--draft")
    told = shell("change", "run", "1", "--yes", "--stage", status=2)
    assert "what a session stages ends with it" in told.stderr
    assert not harbour.bollard.staged


@pytest.mark.parametrize(
    ("kind", "keeps"),
    [("expire", True), ("drop", True), ("fail_after", True), ("drop", False)],
)
def test_what_is_staged_as_one_is_committed_once_whatever_fails(quay, kind, keeps):
    shell, harbour = quay
    bollard = harbour.bollard
    if not keeps:
        forget_with_the_session(shell, harbour)
    before = deepcopy(bollard.objects)
    guests(shell)
    # after signing in and what is read first: the writes, their commit, its job
    for after in range(8 + (kind in ("drop", "fail_after")), 14, 3):
        revision = bollard.revision
        shell("config", "push", "new", "--to", "bollard", "--draft")
        number = str(json.loads(shell("change", "list", "-f", "json").stdout)[0]["change"])
        bollard.faults.add(kind, "/bollard/", method="POST", after=after, times=1)
        shell("change", "run", number, "--yes", status=None)
        bollard.faults.clear()
        shell("change", "resume", number, status=None)
        states = {row["state"] for row in json.loads(shell("change", "show", number, "-f", "json").stdout)}
        names = [rule["name"] for rule in bollard.objects["rule"].values() if rule["name"] in ("one", "two")]
        assert (states, sorted(names)) == ({"confirmed"}, ["one", "two"]), after
        assert bollard.revision == revision + 1, after  # one commit for all
        shell("change", "undo", number, "--yes")
        assert bollard.objects == before


@pytest.mark.parametrize("kind", ["fail_after", "drop", "fail", "expire"])
def test_one_step_alone_is_never_called_done_while_it_is_only_staged(quay, kind):
    shell, harbour = quay
    bollard = harbour.bollard
    for after in range(7):  # signing in, what is staged, a list, the write, its commit, its job
        revision, name = bollard.revision, f"net-{after}"
        write(shell, "new/1.yaml", "addresses", name, {"value": "10.77.0.0/24", "note": ""})
        shell("config", "push", "new", "--to", "bollard", "--draft")
        bollard.faults.add(kind, "/bollard/", method="POST", after=after, times=1)
        shell("change", "run", str(after + 1), "--yes", status=None)
        bollard.faults.clear()
        states = [row["state"] for row in json.loads(shell("change", "show", str(after + 1), "-f", "json").stdout)]
        there = name in [one["name"] for one in bollard.objects["address"].values()]
        assert (states == ["confirmed"]) is there, after
        if not there:
            shell("change", "resume", str(after + 1))
        assert bollard.revision == revision + 1, after
        assert not bollard.staged


def test_an_update_that_fails_keeps_what_is_staged_with_it_from_coming_into_effect(quay):
    shell, harbour = quay
    bollard = harbour.bollard
    before = deepcopy(bollard.objects)
    guests(shell)
    write(shell, "new/5.yaml", "addresses", "net-saltpan", {"value": "10.78.0.0/16", "note": "moved"})

    def conflicts(method, _params):
        if method == "object.alter":
            raise Denied(-32010, "somebody else has it open")

    bollard.meanwhile = conflicts
    told = shell("config", "push", "new", "--to", "bollard", "--yes", status=4)
    bollard.meanwhile = lambda *_: None
    assert "somebody else has it open" in told.stdout
    assert "nothing of it is in effect" in told.stderr
    assert (bollard.objects, bollard.staged) == (before, {})
    shell("change", "resume", "1")
    assert sum(one["name"] in ("one", "two") for one in bollard.objects["rule"].values()) == 2


def test_two_dates_are_compared_as_whole_pulls_had_found_them(quay):
    shell, harbour = quay
    shell("pull", "muster", "bollard")
    moment = datetime.now(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
    harbour.muster.objects["roles"]["role-0"]["rights"] = ["sign-in"]
    del harbour.bollard.objects["rule"]["r3"]
    shell("pull", "muster", "bollard")
    told = shell("config", "diff", f"muster@{moment}", "muster@2099-01-01", status=3).stdout
    assert told.splitlines() == ["changed  roles/crew", "         rights: - see-devices"]
    assert shell("config", "diff", f"bollard@{moment}", "bollard", status=3).stdout.startswith("removed  rules/")
    assert "no difference" in shell("config", "diff", "muster@2099-01-01", "muster").stderr
    assert (
        "had not been pulled whole by then" in shell("config", "diff", "muster@2020-01-01", "muster", status=2).stderr
    )
    shell("config", "save", "bollard", "addresses", "--where", "name like net-*", "--into", "part")
    assert "no difference" in shell("config", "diff", "part/bollard", "bollard").stderr
    path = write(shell, "one.yaml", "roles", "kiosk", {"rights": []})
    told = shell("config", "diff", str(path), "muster", status=3)
    assert told.stdout.splitlines()[0] == "changed  roles/kiosk"
    assert "3 other objects" in told.stderr  # of which a file put there does not speak
    assert (
        "removed  roles/none"
        in shell(
            "config", "diff", str(write(shell, "two.yaml", "roles", "none", {})), "muster@2099-01-01", status=3
        ).stdout
    )
    assert "is not a date" in shell("config", "diff", "muster@soon", "muster", status=2).stderr
    assert "neither side is a system" in shell("config", "diff", "a", "b", status=2).stderr


def test_what_objects_are_called_acts_on_no_terminal(quay):
    shell, harbour = quay
    held, name = harbour.muster.objects, "\x1b[31mred\x07\r"
    held["roles"]["x"] = {"id": "x", "name": name, "rights": ["sign-in", "\x1b]0;title\x07"], "\x1b[2J": 1}
    shell("config", "save", "muster", "--into", "baselines")
    told = [shell("config", "list", "muster"), shell("config", "show", f"muster/roles/{name}")]
    held["roles"]["x"] |= {"rights": ["\x1b[0m"], "\x1b[2J": 2}
    told += [shell("drift", status=3), shell("config", "diff", "baselines/muster", "muster", status=3)]
    told += [
        shell("drift", "--restore", "--draft"),
        shell("change", "show", "1", "--diff"),
        shell("change", "show", "1"),
    ]
    told += [shell("change", "run", "1", "--yes"), shell("config", "remove", f"muster/roles/{name}", "--draft")]
    told += [shell("config", "show", "muster/roles/red\x1b", status=2), shell("change", "results", "1")]
    for one in told:
        assert not set(one.stdout + one.stderr) & set("\x1b\x07\r")


def test_the_shell_completes_kinds_and_objects(quay):
    shell, _ = quay
    shell("pull", "bollard")
    program = str(Path(sys.executable).with_name("concordex"))

    def completed(*words: str) -> list[str]:
        asked = {
            "_CONCORDEX_COMPLETE": "complete_bash",
            "COMP_WORDS": " ".join(words),
            "COMP_CWORD": str(len(words) - 1),
        }
        return subprocess.run([program], **shell.settings(env=asked), timeout=60, check=False).stdout.split()

    assert completed("concordex", "config", "show", "bol") == ["bollard"]
    assert "bollard/rulesets/" in completed("concordex", "config", "copy", "bollard/r")
    assert "bollard/addresses/net-saltpan" in completed("concordex", "config", "remove", "bollard/addresses/net-")
    assert completed("concordex", "config", "list", "muster", "po") == ["policies"]
    assert completed("concordex", "config", "show", "muster/roles/") == []  # not pulled


def test_files_that_cannot_be_meant_are_told_by_name(quay, tmp_path):
    shell, _ = quay
    path = write(shell, "new/1.yaml", "roles", "crew", {"rights": []})
    write(shell, "new/2.yaml", "roles", "crew", {"rights": ["sign-in"]})
    assert "are both about roles/crew" in shell("config", "push", "new", "--to", "muster", status=2).stderr
    path.write_text("format: 1\nkind: rolls\nname: x\nobject: {}\n")
    assert 'did you mean "roles"?' in shell("config", "push", str(path), "--to", "muster", status=2).stderr
    path.write_text("format: 1\nkind: roles\nnmae: x\nobject: {}\n")
    assert "line 3" in shell("config", "push", str(path), "--to", "muster", status=1).stderr
    assert "there is no" in shell("config", "push", "nowhere", "--to", "muster", status=2).stderr
    with Harbour.of(40, moment=datetime.now(UTC)) as harbour:
        other = make_workspace(tmp_path / "other", harbour, ["crowsnest"], kind=Near)
        for name, needed in (("one", "two"), ("two", "one")):
            write(other, f"ring/{name}.yaml", "groups", name, {"kind": [], "group": [needed]})
        told = other("config", "push", "ring", "--to", "crowsnest", status=2).stderr
        assert "need each other" in told
        assert "groups/one" in told


def test_drift_of_several_systems_is_one_list_and_what_may_move_is_not_restored(quay):
    shell, harbour = quay
    assert "2 systems in baselines: " in shell("config", "save", "--all", "--into", "baselines").stderr
    assert " 0 written, " in shell("config", "save", "--all", "--into", "baselines").stderr
    assert "which system?" in shell("config", "save", "--into", "baselines", status=2).stderr
    policy = harbour.muster.objects["policies"]["policy-1"]
    policy |= {"encrypted": False, "leastRelease": "99.0"}
    next(iter(harbour.bollard.objects["address"].values()))["note"] = "by hand"
    shell.config(lambda text: text + "drift: {ignore: [{kind: policies, member: leastRelease}]}\n")
    rows = json.loads(shell("drift", "-f", "json", status=3).stdout)
    assert [(row["system"], row["member"]) for row in rows] == [("muster", "encrypted"), ("bollard", "note")]
    shell("drift", "-o", "drift.csv", status=3)
    assert len((shell.folder / "drift.csv").read_text().splitlines()) == 3
    shell("drift", "--restore", "--yes")
    policy = harbour.muster.objects["policies"]["policy-1"]
    assert (policy["encrypted"], policy["leastRelease"]) == (True, "99.0")
    assert "no drift" in shell("drift").stderr
    held = harbour.muster.objects
    odd = {**policy, "id": "p-odd", "name": "handhelds", "encrypted": not policy["encrypted"], "assignedTo": []}
    kept = dict(held["policies"])
    held["policies"].clear()
    held["policies"].update({"p-odd": odd, **kept})  # of three of that name the first is not in the baseline
    shell("drift", "muster", "--restore", "--yes")
    assert "p-odd" not in held["policies"]
    assert "no drift" in shell("drift").stderr


def test_a_baseline_knows_which_kinds_it_holds_and_which_part_of_them(quay):
    shell, harbour = quay
    held = harbour.muster.objects
    held["policies"].clear()
    shell("config", "save", "muster", "--into", "baselines")
    shell("config", "save", "bollard", "addresses", "--where", "name like net-*", "--into", "baselines")
    assert "no drift" in shell("drift").stderr
    harbour.bollard.objects["address"]["x"] = {"ref": "x", "name": "elsewhere", "value": "10.1.1.1", "note": ""}
    held["policies"]["p"] = {"id": "p", "name": "by hand", "encrypted": True, "assignedTo": []}
    assert "added    muster/policies/by hand" in shell("drift", status=3).stdout  # although none was there to be saved
    (shell.folder / "baselines/bollard/addresses/net-saltpan.yaml").unlink()
    folder = "baselines/bollard"
    told = shell("config", "push", folder, "--to", "bollard", "--gone", "--yes", status=5)
    assert "net-saltpan is used by" in told.stderr
    assert "elsewhere" not in told.stdout + told.stderr  # of what the folder never spoke of, nothing goes
    shell("drift", "muster", "--accept")
    assert "no drift" in shell("drift", "muster").stderr
    shell("system", "pause", "muster")
    assert "muster" not in shell("drift", status=3).stderr
    shell("system", "resume", "muster")
    harbour.muster.faults.add("fail")
    told = shell("drift", status=4)
    assert "muster could not be looked at" in told.stderr
    assert "added    bollard/addresses/net-saltpan" in told.stdout


@pytest.mark.parametrize("again", [False, True])
@pytest.mark.parametrize("end", [KeyboardInterrupt, SystemExit])
def test_a_save_that_was_cut_off_never_makes_anything_go(quay, monkeypatch, end, again):
    """The first save, or a later one: a folder is whole only once its note says so, which is written last."""
    shell, harbour = quay
    folder, write_yaml = "baselines/bollard", files.write_yaml
    if again:
        shell("config", "save", "bollard", "--into", "baselines")
        for one in harbour.bollard.objects["address"].values():
            one["note"] = "altered since"
    written = []

    def cut(path, document, **how):
        written.append(path)
        if len(written) > 4:
            raise end
        write_yaml(path, document, **how)

    monkeypatch.setattr(files, "write_yaml", cut)
    if end is KeyboardInterrupt:
        assert "is only half saved" in shell("config", "save", "bollard", "--into", "baselines", status=5).stderr
    else:
        with suppress(SystemExit):
            shell("config", "save", "bollard", "--into", "baselines", status=None)
    monkeypatch.undo()
    before = deepcopy(harbour.bollard.objects)
    for file in (shell.folder / folder / "addresses").glob("*.yaml"):
        if file.name not in {Path(path).name for path in written[:4]}:
            file.unlink()  # as if it had never been written
    told = shell("config", "push", folder, "--to", "bollard", "--gone", "--yes", status=None)
    assert "does not say that it holds all of them" in told.stderr
    assert {k: v.keys() for k, v in harbour.bollard.objects.items()} == {k: v.keys() for k, v in before.items()}
    assert "was not saved to its end" in shell("drift", status=2).stderr
    assert "was not saved to its end" in shell("config", "diff", folder, "bollard", status=2).stderr
    shell("config", "save", "bollard", "--into", "baselines")
    assert "no drift" in shell("drift").stderr


def test_what_is_staged_is_seen_waits_and_is_committed_or_taken_back(quay, monkeypatch):
    shell, harbour = quay
    bollard = harbour.bollard
    before = deepcopy(bollard.objects)
    guests(shell)
    assert "staged only" in shell("config", "push", "new", "--to", "bollard", "--stage", "--yes").stderr
    assert "but only staged" in shell("config", "push", "new", "--to", "bollard", status=4).stderr
    assert bollard.objects == before
    told = shell("config", "pending", "bollard", status=3)
    assert told.stdout.count("yes") == 4
    told = shell("pull", "bollard").stderr
    assert "bollard/addresses, services, rulesets, rules: seen with what this user has staged" in told
    assert "with what is staged and not committed: address guest-net added" in shell("config", "list", "bollard").stderr
    write(shell, "more/1.yaml", "addresses", "net-more", {"value": "10.78.0.0/16", "note": ""})
    told = shell("config", "push", "more", "--to", "bollard", "--yes", status=5).stderr
    assert "we have staged and not committed" in told  # a commit would take those along
    for words in (("undo", "1"), ("drop", "1")):
        assert "config unstage bollard" in shell("change", *words, status=2).stderr
    bollard.staged.clear()  # somebody has taken it back there
    assert "change 1 can be run again" in shell("config", "unstage", "bollard", "--yes").stderr
    shell("change", "run", "1", "--stage", "--yes")
    assert "4 taken back" in shell("config", "unstage", "bollard", "--yes").stderr
    assert not bollard.staged
    shell("change", "run", "1", "--stage", "--yes")
    assert json.loads(shell("change", "list", "-f", "json").stdout)[-1]["state"] == "staged"
    assert "config commit bollard" in shell("change", "resume", "1", status=2).stderr
    assert "change 1 is done: 4 steps" in shell("config", "commit", "bollard", "--yes").stderr
    assert bollard.revision == 2
    assert "nothing of yours" in shell("config", "commit", "bollard").stderr
    shell("change", "undo", "1", "--yes")
    assert bollard.objects == before
    monkeypatch.setattr(Committer, "end", lambda *_: (_ for _ in ()).throw(KeyboardInterrupt))
    shell("change", "run", "2", "--yes", status=5)
    monkeypatch.undo()
    assert len(bollard.staged) == 1  # cut off between staging and committing
    shell("change", "resume", "2")
    assert [one["name"] for one in bollard.objects["address"].values()][-1] == "net-more"
    shell("config", "remove", "bollard/addresses/net-more", "--count", "1")
    shell("config", "push", "new", "--to", "bollard", "--draft")
    shell("change", "run", "5", "--first", "1", "--stage", "--yes")  # a part of it, and no more is committed
    shell("config", "commit", "bollard", "--yes")
    states = [row["state"] for row in json.loads(shell("change", "show", "5", "-f", "json").stdout)]
    assert states == ["confirmed", "confirmed", "confirmed", "ready"]  # one rule, with what it needs
    shell("change", "undo", "5", "--yes")
    forget_with_the_session(shell, harbour)
    told = shell("config", "push", "new", "--to", "bollard", "--stage", "--yes", status=2).stderr
    assert "what a session stages ends with it" in told
    assert "takes each write at once" in shell("config", "pending", "muster", status=2).stderr


@pytest.mark.parametrize(("words", "calls"), [((), 3), (("--together",), 1), (("--batch-size", "1"), 4)])
def test_requests_are_cut_for_everything_for_each_kind_or_for_each_object(quay, words, calls):
    shell, harbour = quay
    bollard = harbour.bollard
    guests(shell)
    bollard.calls.clear()
    shell("config", "push", "new", "--to", "bollard", *words, "--yes")
    assert sum(method in ("object.add", "object.add_several") for method in bollard.calls) == calls
    held = bollard.objects
    rules = [rule for rule in held["rule"].values() if held["ruleset"][rule["ruleSet"]]["name"] == "guests"]
    assert [(rule["name"], held["address"][rule["from"]]["name"]) for rule in rules] == [
        ("one", "guest-net"),
        ("two", "guest-net"),
    ]


def test_what_cannot_be_said_and_a_name_among_the_members_are_mistakes_before_anything_is_sent(quay):
    shell, harbour = quay
    before = deepcopy(harbour.muster.objects)
    write(shell, "new/1.yaml", "roles", "office", {"rights": ["sign-in"], "name": "renamed"})
    told = shell("config", "push", "new", "--to", "muster", "--yes", status=2).stderr
    assert "among its members it would rename it" in told
    (shell.folder / "new" / "1.yaml").write_text(
        "format: 1\nkind: policies\nname: laptops\nobject: {lock: {afterMinutes: .inf, leastDigits: 6}}\n"
    )
    told = shell("config", "push", "new", "--to", "muster", "--yes", status=2).stderr
    assert "lock.afterMinutes is not a number that JSON can express" in told
    assert harbour.muster.objects == before


def test_members_that_the_dialect_knows_are_held_to_their_choices_lengths_and_kinds():
    spec = d.Write.model_validate({"keys": "name", "fields": {
        "verdict": {"to": "verdict", "choices": ["pass", "stop"]}, "note": {"to": "note", "longest": 3},
        "place": {"to": "place", "number": True},
    }})  # fmt: skip
    said = _unfit_values(Object(kind="rules", name="r", body={"verdict": "pss", "note": "long", "place": "x"}), spec)
    assert len(said) == 3
    assert 'did you mean "pass"?' in said[0]
    assert _unfit_values(Object(kind="rules", name="r", body={"verdict": "stop", "place": 1}), spec) == []
