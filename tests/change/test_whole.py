"""Records as systems keep them: what in them says when they were altered."""

import pytest

from concordex.change.whole import is_stamp, moved, prints

NOON = 1_795_435_200  # 2026-11-23T12:00:00Z, in seconds


@pytest.mark.parametrize(
    ("value", "stamp"),
    [
        ("2026-11-23T12:00:05Z", True),
        ("2026-11-23T13:00:05+01:00", True),
        ("2026-11-23 12:00:05.25", True),
        (NOON + 5, True),
        ((NOON + 5) * 1000, True),
        (NOON + 5.5, True),
        ("2026-11-22T12:00:05Z", False),
        ("2026-11-23", False),
        ("12:00:05", False),
        (NOON + 61, False),
        (NOON * 1000 - 1, False),
        (5, False),
        (True, False),
        (None, False),
        ([NOON], False),
    ],
)
def test_a_moment_of_the_run_is_the_systems_own_note_of_it(value, stamp):
    assert is_stamp(value, NOON, NOON + 60) is stamp


def test_what_moved_is_what_changed_came_or_went_but_not_what_came_without_a_value():
    left = prints({"a": 1, "b": 2, "gone": 3, "seen": 4}, unwatched={"seen"})
    now = {"a": 1, "b": 5, "seen": 6, "came": 7, "nil": None, "empty": "", "bare": [], "hollow": {}}
    assert moved(left, now) == ["b", "came", "gone"]
    assert moved(left, {"a": 1, "b": 2, "gone": None, "seen": 4}) == ["gone"]
