"""Links as both ends tell them: one cable, however it is told, and each lie named once."""

from __future__ import annotations

from datetime import UTC, datetime

import networkx as nx
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from concordex.insight.cabling import ENDS, NODES, cables, untrue
from concordex.insight.topology import Graph

NOON = datetime(2026, 11, 23, 12, tzinfo=UTC)


def ends(*told: tuple) -> pl.DataFrame:
    """Ends as ``(near, port, far, port)`` and what else is said."""
    rows = []
    for at, (near, near_port, far, far_port, *more) in enumerate(told):
        facts = {"near": near, "near_port": near_port, "far": far, "far_port": far_port, "status": "up"}
        rows.append(dict.fromkeys(ENDS) | {"system": "s", "record_id": f"l{at}", **facts, **(more[0] if more else {})})
    return pl.DataFrame(rows, schema=ENDS)


def nodes(*names: str) -> pl.DataFrame:
    rows = [dict.fromkeys(NODES) | {"system": "s", "id": name, "name": f"sw-{name}", "ips": [f"10.0.0.{at}"]}
            for at, name in enumerate(names)]  # fmt: skip
    return pl.DataFrame(rows, schema=NODES)


def test_a_cable_is_one_whichever_of_its_ends_tell_of_it():
    frame = ends(
        ("b", "2", "a", "1", {"speed": 10.0, "status": "down", "first_seen": NOON}),
        ("a", "1", "b", "2", {"speed": 1.0, "status": "up"}),
        ("a", "3", "c", None), ("c", "9", "a", "4"), ("d", "1", "d", "1"), ("a", None, "b", None),
        ("a", None, None, None),
    )  # fmt: skip
    laid = cables(frame).sort("near", "near_port", "far", nulls_last=True)
    assert laid.select("near", "near_port", "far", "far_port", "told").rows() == [
        ("a", "1", "b", "2", "both"), ("a", "3", "c", None, "one"), ("a", "4", "c", "9", "one"),
        ("a", None, "b", None, "one"), ("d", "1", "d", "1", "one"),
    ]  # fmt: skip
    assert laid.row(0, named=True) | {"first_seen": NOON, "status": "down", "speed": 1.0} == laid.row(0, named=True)
    assert cables(ends()).is_empty()


@pytest.mark.parametrize(
    ("told", "found"),
    [
        ([("a", "1", "b", "1"), ("b", "1", "a", "1")], []),
        ([("a", "1", "b", "1")], []),  # the other end tells nothing: that is no other word
        ([("a", "1", "b", "1"), ("b", "1", "c", "1")],
         [("disputed", "l0", "sw-a 1 tells of sw-b 1, which tells of sw-c 1")]),
        ([("a", "1", "b", "1"), ("b", "1", "c", "1"), ("c", "1", "b", "1")],
         [("disputed", "l0", "sw-a 1 tells of sw-b 1, which tells of sw-c 1")]),
        ([("a", "1", "b", "1"), ("b", "1", "c", "1"), ("c", "1", "d", "1"), ("d", "1", "c", "1")],
         [("disputed", "l0", "sw-a 1 tells of sw-b 1, which tells of sw-c 1")]),  # b is wrong, and c is not
        ([("a", None, "b", None), ("b", None, "c", None)], []),  # without ports several may be meant
        ([("a", "1", "b", "1", {"far_name": "SW-B.ferries.example"})], []),
        ([("a", "1", "b", "1", {"far_name": "sw-x"})],
         [("contradicted", "l0", "sw-a 1 tells of sw-x there, and b is sw-b")]),
        ([("a", "1", "b", "1", {"far_ip": "10.0.0.1"})], []),
        ([("a", "1", "b", "1", {"far_ip": "10.0.0.9"})],
         [("contradicted", "l0", "sw-a 1 tells of 10.0.0.9 there, and b is 10.0.0.1")]),
        ([("a", "1", "z", "1", {"far_name": "q"})],
         [("unknown", "l0", "sw-a 1 tells of a device that nobody knows: z, q")]),
        ([("a", "1", "b", "1"), ("b", "1", "z", "4")],
         [("unknown", "l1", "sw-b 1 tells of a device that nobody knows: z")]),  # and is not in dispute as well
        ([("a", "1", "b", "1", {"speed": 1.0}), ("b", "1", "a", "1", {"speed": 10.0, "duplex": "half"})],
         [("uneven", "l0", "sw-a 1 and sw-b 1 differ: speed 1 and 10")]),
        ([("a", "1", "b", "1", {"duplex": "full"}), ("b", "1", "a", "1", {"duplex": "half"})],
         [("uneven", "l0", "sw-a 1 and sw-b 1 differ: duplex full and half")]),
        ([], []),
    ],
)  # fmt: skip
def test_a_link_that_cannot_be_as_it_is_told_is_named_once(told, found):
    met = untrue(ends(*told), nodes("a", "b", "c", "d"), ["s"])
    assert met.select("kind", "record_id", "seen").rows() == found


def test_nobody_is_unknown_to_a_system_whose_devices_are_not_known_whole():
    assert untrue(ends(("a", "1", "z", "1")), nodes("a"), []).is_empty()


def cut(graph: nx.Graph, top: object, mine: set, main: set | None = None) -> bool:
    """Whether a site's devices are cut off from the top, or, where that itself is gone, from the largest part."""
    left = mine & {*graph}
    if top in graph:
        return bool(left) and not any(nx.has_path(graph, top, node) for node in left)
    return bool(left) and main is not None and not left & main


EDGES = st.lists(st.tuples(st.integers(0, 9), st.integers(0, 9)), min_size=1, max_size=16)


@given(EDGES, st.lists(st.sampled_from("abc"), min_size=10, max_size=10))
def test_a_site_hangs_on_just_what_cuts_it_off_when_it_is_taken_away(pairs, letters):
    """By taking each device and each link away in turn, and looking."""
    edges = [(a, b, at) for at, (a, b) in enumerate(pairs)]
    whole = Graph.of(edges)
    sites = dict(enumerate(letters))
    for part in nx.connected_components(whole.graph):
        mine = whole.graph.subgraph(part)
        found = {hanging.site: hanging for hanging in Graph(nx.Graph(mine)).hanging(sites)}
        meets = {node: len({sites[other] for other in mine[node]}) for node in mine}
        top = max(mine, key=lambda node: (meets[node], len(mine[node]), str(node)))
        for site in {sites[node] for node in part} if len({sites[node] for node in part}) > 1 else ():
            own = {node for node in part if sites[node] == site}
            links = {
                data["links"][0] for a, b, data in mine.edges(data=True)
                if len(data["links"]) == 1 and cut(nx.restricted_view(mine, [], [(a, b)]), top, own)
            }  # fmt: skip
            hung = found.get(site)
            assert {*(hung.links if hung else ())} == links
            through = {node for node in part - {top} if cut(nx.restricted_view(mine, [node], []), top, own - {node})}
            told = {*(hung.devices if hung else ())}
            foreign = {node for node in through if sites[node] != site}
            assert told - {top} == (foreign or (through if top not in told else set())) - {top}


def test_what_hangs_on_the_place_where_sites_meet_is_what_is_not_in_its_largest_part():
    edges = [("hub", "a1", 0), ("hub", "b1", 1), ("b1", "b2", 2), ("b2", "b3", 3), ("hub", "hub2", 4)]
    sites = {"hub": "office", "hub2": "office", "a1": "a", "b1": "b", "b2": "b", "b3": "b"}
    hanging = {found.site: (found.there, found.devices, found.links) for found in Graph.of(edges).hanging(sites)}
    assert hanging == {"a": (1, ["hub"], [0]), "b": (3, ["b1"], [1])}
    assert Graph.of([]).hanging({}) == []


def test_of_a_site_in_pieces_the_largest_is_meant_and_told_once():
    """Else each piece would be a finding that says it of the whole site."""
    edges = [("hub", "b1", 0), ("b1", "b2", 1), ("far", "b3", 2), ("hub", "c1", 3), ("far", "c2", 4)]
    sites = {"hub": "office", "far": "depot", "b1": "b", "b2": "b", "b3": "b", "c1": "c", "c2": "d"}
    found = [(found.site, found.there) for found in Graph.of(edges).hanging(sites)]
    assert [there for site, there in found if site == "b"] == [2]
    assert len(found) == len({site for site, _ in found})


def test_a_way_is_as_short_as_can_be_and_tells_the_links_that_it_takes():
    graph = Graph.of([("a", "b", 0), ("b", "c", 1), ("b", "c", 2), ("c", "d", 3), ("x", "y", 4), ("a", "a", 5)])
    assert graph.way("a", "d") == [("a", []), ("b", [0]), ("c", [1, 2]), ("d", [3])]
    assert graph.way("a", "a") == [("a", [])]
    assert graph.way("a", "x") is None
    assert graph.way("a", "nobody") is None
