"""When something is due: the same on every machine, once for each moment, and by the clock on the wall."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from concordex.rhythm import NoRhythm, Rhythm, spread

MOMENTS = st.datetimes(datetime(2026, 1, 1), datetime(2027, 12, 31), timezones=st.just(UTC))
ZONES = st.sampled_from(["UTC", "Europe/Berlin", "America/St_Johns", "Australia/Lord_Howe", "Asia/Kathmandu"])
TIMES = st.tuples(st.integers(0, 23), st.integers(0, 59)).map(lambda at: f"{at[0]:02}:{at[1]:02}")
RHYTHMS = st.one_of(
    st.builds(lambda s: Rhythm(every=timedelta(seconds=s)), st.integers(1, 10**6)),
    st.builds(Rhythm.daily, st.lists(TIMES, min_size=1, max_size=3), st.just(()), ZONES),
    st.builds(lambda e, z: Rhythm(expressions=(e,), zone=z),
              st.sampled_from(["*/20 * * * *", "0 */5 * * *", "15 3 1 * *", "0 2 * * MON-FRI"]), ZONES),
)  # fmt: skip


@given(RHYTHMS, MOMENTS)
def test_what_comes_next_is_the_last_that_came_once_it_is_there_and_nothing_lies_between(rhythm, moment):
    onward, last = rhythm.after(moment), rhythm.until(moment)
    assert last <= moment < onward
    assert rhythm.until(onward) == onward
    assert rhythm.until(onward - timedelta(seconds=1)) == last
    assert rhythm.after(last) == onward


def test_a_time_that_a_spring_night_leaves_out_comes_after_it_and_one_that_comes_twice_comes_once():
    berlin, nightly = ZoneInfo("Europe/Berlin"), Rhythm.daily(["02:30"], zone="Europe/Berlin")

    def comes(begin: datetime, times: int) -> list[str]:
        told = []
        for _ in range(times):
            begin = nightly.after(begin)
            told.append(f"{begin.astimezone(berlin):%d. %H:%M}")
        return told

    assert comes(datetime(2026, 3, 28, tzinfo=UTC), 3) == ["28. 02:30", "29. 03:00", "30. 02:30"]
    assert comes(datetime(2026, 10, 24, tzinfo=UTC), 3) == ["24. 02:30", "25. 02:30", "26. 02:30"]
    hours = Rhythm(every=timedelta(hours=1))  # and what comes every hour comes in the hour that is there twice as well
    assert hours.after(datetime(2026, 10, 25, 0, 59, tzinfo=UTC)) == datetime(2026, 10, 25, 1, tzinfo=UTC)


@pytest.mark.parametrize("expression", ["", "* * * *", "61 * * * *", "0 0 30 2 *", "a b c d e"])
def test_what_never_comes_is_no_rhythm(expression):
    with pytest.raises(NoRhythm):
        Rhythm(expressions=(expression,))


@given(st.text(), MOMENTS, st.integers(0, 10_000))
def test_all_machines_spread_a_job_alike_and_not_further_than_said(name, due, most):
    later = spread(name, due, timedelta(seconds=most))
    assert timedelta() <= later <= timedelta(seconds=most)
    assert later == spread(name, due, timedelta(seconds=most))
