"""Room in racks: what is free is what nothing takes, and what cannot be as it is told is named once."""

from __future__ import annotations

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from concordex.insight.occupancy import RACKS, THINGS, gaps, misplaced, rooms


def things(*rows: dict) -> pl.DataFrame:
    usual = {"rack": 0, "device": None, "at": 1.0, "height": 1.0, "face": "front", "full_depth": False}
    told = [dict.fromkeys(THINGS) | usual | {"label": f"t{at}"} | row | {"thing": at} for at, row in enumerate(rows)]
    return pl.DataFrame(told, schema=THINGS)


def racks(*units: float | None, carries: float | None = None) -> pl.DataFrame:
    return pl.DataFrame([(at, size, carries) for at, size in enumerate(units)], schema=RACKS, orient="row")


ONE = st.fixed_dictionaries(
    {
        "at": st.integers(-2, 14).map(float), "height": st.sampled_from([0.0, 1.0, 1.5, 2.0, 5.0]),
        "face": st.sampled_from(["front", "rear", None]), "full_depth": st.sampled_from([True, False, None]),
    }
)  # fmt: skip


@given(st.lists(ONE, max_size=6), st.sampled_from([None, "front", "rear"]))
def test_free_units_are_those_that_nothing_takes_and_gaps_are_their_longest_runs(rows, face):
    size = 12
    taken = {
        unit
        for row in rows
        if face is None or row["face"] in (None, face) or row["full_depth"]
        for unit in range(int(row["at"]), int(row["at"]) + max(1, -int(-row["height"] // 1)))
    }
    free = [unit for unit in range(1, size + 1) if unit not in taken]
    runs = [(a, b) for a in free for b in free if a <= b and {*range(a, b + 1)} <= {*free}
            and a - 1 not in free and b + 1 not in free]  # fmt: skip
    found = gaps(things(*rows), racks(size), face)
    assert found.sort("from").select("from", "to").rows() == runs
    if face is None:
        row = rooms(things(*rows), racks(size)).row(0, named=True)
        assert (row["free"], row["used"], row["things"]) == (len(free), size - len(free), len(rows))
        assert row["largest"] == max((b - a + 1 for a, b in runs), default=0)


@pytest.mark.parametrize(
    ("rows", "found"),
    [
        ([{"at": 1}, {"at": 2}], []),
        ([{"at": 1, "height": 2}, {"at": 2}], [("taken", 0, 1, 2)]),
        ([{"at": 2}, {"at": 2, "face": "rear"}], []),
        ([{"at": 2, "full_depth": True}, {"at": 2, "face": "rear"}], [("behind", 0, 1, 2)]),
        ([{"at": 2}, {"at": 2, "face": "rear", "full_depth": True}], [("behind", 0, 1, 2)]),
        ([{"at": 2, "face": None}, {"at": 2, "face": "rear"}], [("taken", 0, 1, 2)]),
        ([{"at": 2}, {"at": 2, "rack": 1}], []),
        ([{"at": 3, "device": "a"}, {"at": 3, "device": "a"}], []),  # one device told twice: a finding of its own
        ([{"at": 3, "device": "a"}, {"at": 4, "device": "a"}], [("twice", 0, 1, None)]),
        ([{"at": 3, "device": "a"}, {"at": 3, "device": "a", "rack": 1}], [("twice", 0, 1, None)]),
        ([{"at": 10}], []),
        ([{"at": 10, "height": 2}], [("outside", 0, None, 10)]),
        ([{"at": 0}], [("outside", 0, None, 0)]),
        ([{"at": 1.5}], [("outside", 0, None, 1)]),
        ([{"at": 40, "rack": 1}], []),  # nobody knows how high that one is
        ([{"at": 5e18, "height": 5e18, "rack": 1}, {"at": 1, "height": 3e9, "rack": 1}], []),
    ],
)
def test_what_cannot_be_as_it_is_told_is_named_once(rows, found):
    met = [(fault.kind, fault.thing, fault.other, fault.unit) for fault in misplaced(things(*rows), racks(10, None))]
    assert met == found


@pytest.mark.parametrize(
    ("weights", "heavy"), [([5.0, 5.0], False), ([5.0, 5.1], True), ([11.0, None], True), ([], False)]
)
def test_a_rack_that_bears_more_than_it_carries_is_named(weights, heavy):
    rows = [{"at": at, "weight": weight} for at, weight in enumerate(weights, start=1)]
    met = [(fault.kind, fault.rack) for fault in misplaced(things(*rows), racks(10, carries=10.0))]
    assert met == ([("heavy", 0)] if heavy else [])
    row = rooms(things(*rows), racks(10, carries=10.0)).row(0, named=True)
    assert (row["weight"], row["unweighed"]) == (sum(w or 0 for w in weights), sum(w is None for w in weights))


def test_of_a_rack_of_which_nobody_knows_the_size_nobody_knows_what_is_free():
    row = rooms(things({"at": 4, "height": 2}), racks(None)).row(0, named=True)
    assert (row["used"], row["free"], row["largest"]) == (2, None, None)
    assert gaps(things({"at": 4}), racks(None)).is_empty()
