"""The fleet as it is seen: racks, links, and what is wrong with them."""

from __future__ import annotations

import json
import re
from xml.etree import ElementTree as ET

import networkx as nx
import pytest

from concordex.standins.server import Harbour
from tests.conftest import MOMENT, Near, make_workspace

FLEET = 'kind matches "^(rack|link)_"'


def rows(shell, *words, status=0):
    return json.loads(shell(*words, "-f", "json", status=status).stdout)


def test_what_is_wrong_with_racks_and_links_is_found_and_nothing_else(pulled, shared_harbour):
    """By the truth that the fleet knows; only a device that the inventory holds twice is wrong without design."""
    gear = {str(number): one["title"] for number, one in shared_harbour.stowage.lists["gear"].items()}
    left = {(kind, concerned) for kind, concerned in shared_harbour.wrong}
    assert {kind for kind, _ in left} == {
        "taken", "outside", "behind", "disputed", "contradicted", "unknown", "uneven"
    }  # fmt: skip
    for found in rows(pulled, "findings", "--where", FLEET, "-n", "0", status=3):
        kind, (_, number) = found["kind"].partition("_")[2], found["about"].split("/", 1)
        known = {number, gear.get(number)}
        mine = [wrong for wrong in shared_harbour.wrong if wrong[0] == kind and wrong[1] & known]
        assert mine or kind == "twice", found
        left -= {(kind, concerned) for kind, concerned in mine}
    assert not left


def test_racks_tell_their_room_and_where_something_fits(pulled, shared_harbour):
    told = {row["rack"]: row for row in rows(pulled, "racks", status=3)}
    lists = shared_harbour.stowage.lists
    assert len(told) == len(lists["racks"])
    heights = {number: product["height"] for number, product in lists["products"].items()}
    clean = next(
        rack for rack in lists["racks"].values()
        if not told[rack["name"]]["wrong"] and told[rack["name"]]["things"] > 2
    )  # fmt: skip
    mine = [one for one in lists["gear"].values() if one["rackId"] == clean["id"]]
    used = sum(heights[one["productId"]] for one in mine)
    row = told[clean["name"]]
    assert (row["used"], row["free"], row["things"]) == (used, 42 - used, len(mine))
    fits = rows(pulled, "racks", "--fits", f"{42 - used}U", "--where", f'rack = "{clean["name"]}"')
    assert [(gap["from"], gap["to"]) for gap in fits] == [(used + 1, 42)]
    assert rows(pulled, "racks", "--fits", "43") == []
    half = rows(pulled, "racks", "--fits", "1", "--face", "rear", "--where", f'rack = "{clean["name"]}"')
    assert sum(gap["free"] for gap in half) >= 42 - used  # what is not deep leaves its rear free
    drawn = pulled("racks", clean["name"].upper()).stdout
    assert drawn.startswith(f"{clean['name']}: ")
    assert f"({42 - used} free)" in drawn
    assert all(one["title"] in drawn for one in mine)
    listed = rows(pulled, "racks", clean["name"])
    assert {thing["label"] for thing in listed} == {one["title"].strip() for one in mine}
    bad = next(name for name, rack in told.items() if rack["wrong"])
    assert " ! " in pulled("racks", bad, status=3).stdout


@pytest.mark.parametrize(
    ("words", "what"),
    [
        (("racks", "nowhere rack 1"), "there is no rack 'nowhere rack 1'"), (("racks", "--fits", "0"), "is no number"),
        (("racks", "--fits", "x"), "is no number of units"), (("racks", "--face", "front"), "goes with --fits"),
        (("racks", "--fits", "1", "--face", "top"), "is front or rear"), (("racks", "--where", "fre > 1"), '"free"'),
        (("racks", "--draw", "x.txt"), "svg, png, pdf"), (("links", "--draw", "x.txt"), "graphml, dot"),
        (("links", "nobody-1"), "no device with links is known as 'nobody-1'"),
        (("racks", "a", "--fits", "1"), "--fits looks at all racks"),
        (("racks", "-c", "fre"), 'did you mean "free"?'), (("links", "-c", "nere"), 'did you mean "near"?'),
        (("versions", "--spread", "-c", "oss"), 'did you mean "os"?'),
        (("health", "-c", "nam"), 'did you mean "name"?'),
        (("health", "--use", "-c", "hour"), 'did you mean "hours"?'),
        (("health", "--batteries", "-c", "sit"), 'did you mean "site"?'),
        (("links", "a", "--where", "speed > 1"), "one at a time"), (("links", "--where", "sped > 1"), '"speed"'),
    ],
)  # fmt: skip
def test_what_is_asked_wrongly_is_told(pulled, words, what):
    assert what in pulled(*words, status=2).stderr


def test_ports_tell_what_is_behind_them_and_ways_go_over_links_that_are_there(pulled, shared_harbour):
    cables = [end for end in shared_harbour.fairlead.cables if end["up"]]
    lies = {key for _, concerned in shared_harbour.wrong for key in concerned}
    names = {node["nodeKey"]: node["label"] for node in shared_harbour.fairlead.nodes}
    twice = {name for name in names.values() if list(names.values()).count(name) > 1}  # stacks share one
    honest = next(
        end for end in cables
        if end["cableKey"] not in lies and names[end["near"]] not in twice and names[end["far"]] not in twice
    )  # fmt: skip
    near, far = names[honest["near"]], names[honest["far"]]
    behind = rows(pulled, "links", near)
    mine = next(row for row in behind if row["port"] == honest["nearPort"] and row["neighbour"] == far)
    assert (mine["its_port"], mine["speed"], mine["told"]) == (honest["farPort"], honest["mbps"], "both")
    hosts = [one for one in shared_harbour.fairlead.attached if one["node"] == honest["near"]]
    assert {row["neighbour"] for row in behind if row["kind"] == "host"} == {one["label"] for one in hosts}
    (hop,) = rows(pulled, "links", "--path", near, far)
    assert (hop["from"], hop["port"], hop["to"], hop["its_port"]) == (near, honest["nearPort"], far, honest["farPort"])
    assert "are one device" in pulled("links", "--path", near, near).stderr
    every = rows(pulled, "links", "-n", "0")
    assert len(every) < len(shared_harbour.fairlead.cables)
    down = {row["near"] for row in rows(pulled, "links", "--where", "status = down")}
    assert down == {row["near"] for row in every if row["status"] == "down"}


HOSTILE = [
    "<script>alert(1)</script>",
    '$\\frac{1}{0}$ & "x" ]]>',
    "n" * 300,
    "\u202egnirts\u2066 \u05d0\u05d1",
    "a\nb\x1b[31m\x00",
]


def test_names_from_outside_are_texts_and_nothing_else_in_every_figure(tmp_path, writing, fresh_harbour):
    """Markup, formulas, signs that turn text round, line breaks, names without end."""
    harbour = fresh_harbour
    gear = [one for one in harbour.stowage.lists["gear"].values() if one["rackId"] is not None]
    for one, name in zip(gear, HOSTILE, strict=False):
        one["title"] = name
    linked = [node for node in harbour.fairlead.nodes if node["family"] == "switching"]
    for node, name in zip(linked, HOSTILE, strict=False):
        node["label"] = name
    writing("pull")
    writing("racks", "--draw", str(tmp_path / "racks.svg"), status=None)
    for ending in ("svg", "png", "pdf", "graphml", "dot"):
        writing("links", "--draw", str(tmp_path / f"links.{ending}"))
    for name in ("racks.svg", "links.svg"):
        text = (tmp_path / name).read_text(encoding="utf-8")
        root = ET.fromstring(text)
        assert not {node.tag for node in root.iter() if node.tag.endswith(("script", "image", "foreignObject", "}a"))}
        said = "".join(root.itertext())
        assert "<script>" in said
        assert not re.search("[\u202e\u2066\x1b]|n{80}", said)
    graph = nx.read_graphml(tmp_path / "links.graphml")
    assert HOSTILE[0] in graph
    assert (tmp_path / "links.png").read_bytes().startswith(b"\x89PNG")
    dot = (tmp_path / "links.dot").read_text()
    assert len(dot.splitlines()) == graph.number_of_nodes() + graph.number_of_edges() + 2


def test_a_rack_that_was_put_right_is_found_no_more_and_what_is_accepted_stays_so(writing, fresh_harbour):
    """Also where no device changed, so that nothing else is reconciled anew."""
    writing("reconcile")
    before = {(one["kind"], one["about"]): one for one in rows(writing, "findings", "--where", FLEET, status=3)}
    taken = next(one for (kind, _), one in before.items() if kind == "link_uneven")
    writing("ruling", "accept", taken["entry"], taken["kind"], "--about", taken["about"], "--why", "known")
    (kept,) = {key for kind, ends in fresh_harbour.wrong for key in ends if kind == "uneven"} & {
        taken["about"].partition("/")[2]
    }  # fmt: skip
    mended = {key for kind, ends in fresh_harbour.wrong if kind == "uneven" and kept not in ends for key in ends}
    for end in fresh_harbour.fairlead.cables:
        end["duplex"] = "full" if end["cableKey"] in mended else end["duplex"]
    writing("pull", "fairlead")
    writing("reconcile")
    after = {(one["kind"], one["about"]) for one in rows(writing, "findings", "--where", FLEET, status=3)}
    ended = {about for kind, about in before if kind == "link_uneven" and about != taken["about"]}
    assert len(ended) == 1
    assert {(kind, about) for kind, about in before if about not in {*ended, taken["about"]}} == after
    assert {one["state"] for one in rows(writing, "findings", "--where", FLEET, status=3)} == {"known"}
    accepted = rows(writing, "findings", "--accepted", "--kind", "link_uneven", status=3)
    assert [one["accepted"].partition(" (")[0] for one in accepted] == ["known"]
    assert {one["about"] for one in rows(writing, "findings", "--gone", status=3)} == ended


def test_without_racks_or_links_that_is_what_is_said(tmp_path, harbour):
    shell = make_workspace(tmp_path, harbour, ["muster"], kind=Near)
    shell("pull")
    assert "no racks were pulled" in shell("racks", status=2).stderr
    assert "no links were pulled" in shell("links", status=2).stderr
    shell("reconcile")
    assert isinstance(shell.workspace.findings().height, int)


def test_a_larger_fleet_says_the_same_of_itself_each_time():
    one, other = (Harbour.of(120, moment=MOMENT, seed=7) for _ in range(2))
    assert one.wrong == other.wrong
    assert one.fairlead.cables == other.fairlead.cables


WANTED = """\
format: 1
wanted:
- {where: os = TideOS, version: 7.2.10, since: 2026-10-15}
- {where: os = TideOS and site = gull-stairs, version: 7.2.11, since: 2026-10-15}
- {where: os = TideOS and site = gull-stairs, version: "9.9", since: 2999-01-01}
support:
- {where: os = TideOS, below: "7.2", ends: 2026-11-18}
- {where: os = TideOS, below: "7.2.10", ends: 2999-01-01}
"""


def test_who_is_behind_what_is_wanted_and_out_of_support_is_told_with_what_could_be_installed(pulled, tmp_path):
    """The last rule in force counts; of several ends of support the first."""
    (pulled.folder / "versions").mkdir(exist_ok=True)
    (pulled.folder / "versions" / "a.yaml").write_text(WANTED)
    entries = {row["entry"]: row for row in rows(pulled, "show", "entries", "--where", "os = TideOS", "-n", "0")}
    told = {row["entry"]: row for row in rows(pulled, "versions", "--all", "-n", "0", status=3)}
    assert told.keys() == entries.keys()
    for entry, row in told.items():
        wanted = "7.2.11" if row["site"] == "gull-stairs" else "7.2.10"
        order = ["7.1.8", "7.2.4", "7.2.10", "7.2.11"]
        assert row["wanted"] == wanted
        version = entries[entry]["os_version"]
        if version not in order:  # nobody tells it, or somebody typed another
            continue
        gap = order.index(version) - order.index(wanted)
        assert row["state"] == ("behind" if gap < 0 else "ahead" if gap else "current")
        assert row["behind"] == (-gap if gap < 0 else None)
        assert row["support"] == {"7.1.8": "ended", "7.2.4": "supported"}.get(version)
        if "fairlead" in entries[entry]["systems"]:
            assert row["update"] == ("7.2.11" if version != "7.2.11" else None)
    left = rows(pulled, "versions", "-n", "0", status=3)
    assert {row["entry"] for row in left} == {e for e, r in told.items() if r["state"] in ("behind", "unknown")}
    counted = pulled("versions", status=3).stderr
    assert f"{sum(row['state'] == 'behind' for row in told.values())} behind" in counted
    spread = {
        row["os_version"]: row["devices"] for row in rows(pulled, "versions", "--spread", "--where", "os = TideOS")
    }
    assert sum(spread.values()) == len(entries)
    over = rows(pulled, "versions", "--spread", "--over", "1d", "--where", "os = TideOS")
    assert {row["day"] for row in over} <= {str(MOMENT.date()), over[-1]["day"]}
    assert sum(row["devices"] for row in over if row["day"] == over[-1]["day"]) == sum(
        count for version, count in spread.items() if version is not None
    )
    (pulled.folder / "versions" / "a.yaml").write_text(WANTED.replace("7.2.10,", "7.10,"))
    assert "7.10 as the number 7.1" in pulled("versions", status=1).stderr
    (pulled.folder / "versions" / "a.yaml").write_text(WANTED.replace("os = TideOS,", "oss = x,"))
    assert 'no field "oss"' in pulled("versions", status=2).stderr
    (pulled.folder / "versions" / "a.yaml").unlink()
    assert "no version is wanted" in pulled("versions", status=2).stderr
    assert "goes with --spread" in pulled("versions", "--over", "3d", status=2).stderr


def test_a_finding_of_what_is_no_device_is_accepted_by_its_name(writing):
    """A site that hangs on one device: it may, for a reason; no other kind of it is meant, and no other site."""
    writing("reconcile")
    site, other = (row["name"] for row in rows(writing, "findings", "--kind", "site_hanging", "-n", "2", status=3))
    writing("ruling", "accept", site.upper(), "site_hanging", "--why", "a ship has one")
    writing("reconcile")
    left = [row["name"] for row in rows(writing, "findings", "--kind", "site_hanging", status=3)]
    assert (site in left, other in left) == (False, True)
    assert "is known as" in writing("ruling", "accept", site, "link_unknown", status=2).stderr
    told = writing("ruling", "accept", "nowhere", "site_hanging", status=2).stderr
    assert other in told
    about = rows(writing, "ruling", "list")[0]["of"]
    writing("ruling", "remove", about)
    writing("reconcile")
    assert len(rows(writing, "findings", "--kind", "site_hanging", status=3)) == len(left) + 1


def test_links_of_which_some_may_lack_say_of_no_site_that_it_hangs(tmp_path, fresh_harbour):
    """A second way may be among what is missing: seen with all links, said by none that are cut short."""
    shell = make_workspace(tmp_path, fresh_harbour, kind=Near)
    fresh_harbour.named("fairlead").faults.add("short", "/fl/3/cables")
    shell("pull", status=4)
    shell("reconcile")
    short = rows(shell, "findings", "--kind", "site_hanging", status=None)
    fresh_harbour.named("fairlead").faults.clear()
    shell("pull")
    shell("reconcile")
    assert (short, bool(rows(shell, "findings", "--kind", "site_hanging", status=3))) == ([], True)
