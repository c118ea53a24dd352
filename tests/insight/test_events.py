"""What happened, and how long things were in use."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from concordex.insight.events import EVENTS, by_day, by_hour, hours_of_use, sessions

NOON = datetime(2026, 11, 23, 12, tzinfo=UTC)
END = NOON + timedelta(hours=100)


def told(*marks: tuple[float, str], entry: str = "a") -> pl.DataFrame:
    """Events as (hours after noon, word); ``+`` begins the use of a device, ``-`` ends it."""
    rows = [
        dict.fromkeys(EVENTS)
        | {"system": "s", "device": "d", "event": word, "at": NOON + timedelta(hours=at), "begins": word == "+",
           "ends": word == "-", "entry": entry}
        for at, word in marks
    ]  # fmt: skip
    return pl.DataFrame(rows, schema={**EVENTS, "entry": pl.String})


@pytest.mark.parametrize(
    ("marks", "spans"),
    [
        ([(1, "+"), (3, "-")], [(1, 3)]),
        ([(3, "-"), (1, "+")], [(1, 3)]),  # in any order
        ([(1, "+"), (2, "+"), (3, "-"), (4, "-")], [(1, 3)]),  # what begins it again does not count, nor ends it again
        ([(2, "-"), (5, "+")], [(0, 2), (5, 100)]),  # in use before, and still
        ([(1, "+"), (1.5, "x"), (3, "-"), (3, "+"), (4, "-")], [(1, 3), (3, 4)]),
        ([(1, "x")], []), ([], []), ([(1, "+"), (1, "-")], []),
    ],
)  # fmt: skip
def test_a_device_is_in_use_from_what_begins_that_to_what_ends_it(marks, spans):
    found = sessions(told(*marks), NOON, END)
    hours = [((a - NOON).total_seconds() / 3600, (b - NOON).total_seconds() / 3600)
             for a, b in found.select("begun", "ended").iter_rows()]  # fmt: skip
    assert hours == spans
    used = hours_of_use(found)
    assert used["hours"].to_list() == ([sum(b - a for a, b in spans)] if spans else [])


@given(st.lists(st.tuples(st.integers(0, 99), st.sampled_from("+-x")), max_size=20))
def test_uses_of_a_device_never_overlap_nor_reach_beyond_the_while(marks):
    found = sessions(told(*marks), NOON, END).sort("begun")
    assert all(NOON <= begun < ended <= END for begun, ended in found.select("begun", "ended").iter_rows())
    ends, begins = found["ended"].to_list(), found["begun"].to_list()
    assert all(end <= begun for end, begun in zip(ends, begins[1:], strict=False))


def test_events_are_counted_by_day_and_hour():
    frame = pl.concat([told((0, "+"), (0.5, "-"), (13, "+")), told((0.2, "+"), entry="b")])
    assert by_day(frame).select("event", "count", "devices").rows() == [("+", 2, 2), ("-", 1, 1), ("+", 1, 1)]
    hours = by_hour(frame)
    assert list(hours) == ["Mon 2026-11-23", "Tue 2026-11-24"]
    assert (hours["Mon 2026-11-23"][12], hours["Tue 2026-11-24"][1], sum(map(sum, hours.values()))) == (3, 1, 4)
