"""Readings, thresholds, states and batteries: what is told, and nothing that is not known."""

from __future__ import annotations

import random
from datetime import UTC, datetime, timedelta

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from concordex.insight.batteries import estimated, predicted
from concordex.insight.readings import READINGS, SERIES, believable, from_the_future, latest, rates
from concordex.insight.states import counted, meaning, worst
from concordex.insight.thresholds import Boundary, passing

NOON = datetime(2026, 11, 23, 12, tzinfo=UTC)


def told(*values: tuple, bits: int | None = None) -> pl.DataFrame:
    """Readings of one series, as (seconds after noon, value)."""
    rows = [
        {"system": "s", "device": "d", "part": None, "metric": "m", "value": value, "unit": "x",
         "taken_at": NOON + timedelta(seconds=at), "bits": bits, "since": more[0] if more else None}
        for at, value, *more in values
    ]  # fmt: skip
    return pl.DataFrame(rows, schema=READINGS)


@given(st.lists(st.tuples(st.integers(0, 50), st.integers(0, 99)), min_size=1, max_size=12), st.randoms())
def test_the_last_reading_is_the_last_by_its_time_whatever_the_order(values, rng):
    shuffled = [(at, float(value)) for at, value in values]
    rng.shuffle(shuffled)
    (found,) = latest(told(*shuffled).lazy()).collect().iter_rows(named=True)
    newest = max(at for at, _ in shuffled)
    assert found["taken_at"] == NOON + timedelta(seconds=newest)
    assert found["value"] == [value for at, value in shuffled if at == newest][-1]


def test_readings_without_a_value_too_old_or_from_the_future_do_not_count():
    frame = told((-10, 1.0), (0, 2.0), (1, None), (2, float("nan")), (299, 3.0), (301, 4.0), (9_000, 5.0)).lazy()
    assert believable(frame, NOON, NOON).collect()["value"].to_list() == [2.0, 3.0]
    assert from_the_future(frame, NOON).collect().rows() == [("s", 2)]


@pytest.mark.parametrize(
    ("values", "bits", "rate", "resets", "seconds"),
    [
        ([(0, 10), (60, 70)], 64, 1.0, 0, 60),
        ([(60, 70), (0, 10), (0, 10), (60, 70)], 64, 1.0, 0, 60),  # out of order, and doubled
        ([(0, 2**32 - 10), (10, 10)], 32, 2.0, 0, 10),  # it was full, and began at nought
        ([(0, 5_000), (10, 10), (20, 30)], 32, 2.0, 1, 10),  # it was restarted: that span does not count
        ([(0, 2**32 - 10), (10, 10), (20, 30)], 64, 2.0, 1, 10),
        ([(0, 100), (10, 0)], None, None, 1, 0),
        ([(0, 5)], 64, None, 0, 0),
        ([(0, 5), (0, 9)], 64, None, 0, 0),  # of one moment
        ([(0, 7), (30, 7)], 64, 0.0, 0, 30),
    ],
)
def test_counters_are_rates_that_know_when_they_began_anew(values, bits, rate, resets, seconds):
    found = rates(told(*[(at, float(value)) for at, value in values], bits=bits))
    if rate is None:
        assert found.is_empty()
    else:
        row = found.row(0, named=True)
        assert (row["value"], row["resets"], row["seconds"]) == (rate, resets, seconds)


@given(
    st.lists(st.tuples(st.integers(1, 600), st.integers(0, 2**20)), min_size=1, max_size=8), st.integers(0, 2**32 - 1)
)
def test_a_counter_of_32_bits_that_was_full_on_the_way_tells_the_same_rate(steps, begun):
    at, total, values, plain = 0, begun, [(0, begun % 2**32)], [(0, 0)]
    for seconds, grown in steps:
        at, total = at + seconds, total + grown
        values.append((at, total % 2**32))
        plain.append((at, total - begun))
    one, other = rates(told(*values, bits=32)), rates(told(*plain, bits=64))
    assert one["value"][0] == pytest.approx(other["value"][0])
    assert one["resets"][0] == 0
    assert one.columns[: len(SERIES)] == SERIES


@pytest.mark.parametrize(
    ("value", "severity", "bound"),
    [
        (25.0, None, None),
        (20.0, None, None),
        (19.9, "warning", "< 20"),
        (9.0, "error", "< 10"),
        (10.0, "warning", "< 20"),
    ],
)
def test_a_value_beyond_both_bounds_has_passed_the_worse(value, severity, bound):
    found = passing(pl.DataFrame({"value": [value]}), {"warning": Boundary.of("< 20"), "error": Boundary.of("<10.0")})
    assert found.select("severity", "bound").rows() == ([(severity, bound)] if severity else [])


@pytest.mark.parametrize(
    ("text", "passed"), [("> 1", [2.0]), (">= 1", [1.0, 2.0]), ("<= 1", [0.0, 1.0]), ("< 1", [0.0])]
)
def test_a_bound_is_passed_on_its_own_side(text, passed):
    assert passing(pl.DataFrame({"value": [0.0, 1.0, 2.0]}), {"error": Boundary.of(text)})["value"].to_list() == passed
    for wrong in ("", "1", "> x", "=> 1", "> 1 %"):
        with pytest.raises(ValueError, match="is no bound"):
            Boundary.of(wrong)


def test_words_mean_what_a_dialect_says_and_what_nobody_tells_is_unknown():
    said = pl.DataFrame({"status": ["Up", " down", "odd", None, "unsure"]})
    states = said.select(meaning("status", {"up": "normal", "down": "error", "unsure": "warning"}))
    assert states.to_series().to_list() == ["normal", "error", "unknown", "unknown", "warning"]
    frame = pl.DataFrame(
        {"entry": ["a", "a", "b", "b", "c"], "state": ["normal", "error", "unknown", "normal", "unknown"], "k": [1] * 5}
    )
    assert dict(worst(frame, "entry").select("entry", "state").iter_rows()) == {
        "a": "error", "b": "normal", "c": "unknown"
    }  # fmt: skip
    row = counted(worst(frame, "entry"), ["k"]).row(0, named=True)
    assert row == {"k": 1, "normal": 1, "warning": 0, "error": 1, "unknown": 1, "all": 3}


@pytest.mark.parametrize(
    ("days", "ceiling", "observed", "words"),
    [
        (120, 730, 200, "120 days"), (730, 730, 200, "at least 730 days"), (900, 730, None, "at least 900 days"),
        (120, None, None, "120 days"), (120, 730, 3, "120 days (little known: 3 days observed)"),
        (730, 730, 3, "at least 730 days (little known: 3 days observed)"), (None, 730, 3, "not known"),
        (-1, None, None, "not known"), (0, 730, 90, "0 days"),
    ],
)  # fmt: skip
def test_what_a_system_predicts_is_told_with_what_it_is_worth(days, ceiling, observed, words):
    assert predicted(days, ceiling, observed).words == words


def test_our_own_estimate_has_a_range_that_holds_the_truth_and_is_none_of_too_little():
    held = 0
    for seed in range(60):
        rng = random.Random(seed)
        wear = rng.uniform(0.02, 0.2)
        days = [float(day) for day in range(-30, 1)]
        told_of = [90 - wear * (day + 30) + rng.gauss(0, 0.3) for day in days]
        remaining = estimated(days, told_of, 60)
        truth = (90 - wear * 30 - 60) / wear
        assert remaining.basis == "estimated"
        assert remaining.least is not None
        held += remaining.least <= truth <= (remaining.most or float("inf"))
    assert held >= 54  # of 60, at 95 %
    assert estimated([0.0, 1.0, 2.0, 3.0], [90, 89, 88, 87], 60).words == "not known"
    assert estimated([0.0, 0.1, 0.2, 0.3, 0.4], [90, 89, 88, 87, 86], 60).words == "not known"  # of one day
    assert estimated([], [], 60).words == "not known"
    flat = estimated([float(day) for day in range(10)], [80, 80.2, 79.9, 80.1, 80, 79.9, 80.1, 80, 80.1, 79.9], 60)
    assert flat.most is None  # nobody knows that it will ever be worn
    assert estimated([float(day) for day in range(9)], [59 - day for day in range(9)], 60).most == 0.0
