"""Versions beside those that are wanted."""

from __future__ import annotations

import pytest

from concordex.insight.versions import is_below, newest, releases_behind, standing


@pytest.mark.parametrize(
    ("version", "wanted", "state", "behind"),
    [
        ("7.2.4", "7.2.10", "behind", 2), ("7.2.10", "7.2.10.0", "current", 0), ("7.2.11", "7.2.10", "ahead", 0),
        (None, "7.2.10", "unknown", None), ("7.1", "7.2.10", "behind", 3), ("7.2.10-rc1", "7.2.10", "behind", 1),
        ("1", "9", "behind", 6),
    ],
)  # fmt: skip
def test_a_version_stands_beside_the_one_that_is_wanted(version, wanted, state, behind):
    known = ["7.2.4", "7.2.8", "7.2.8.0", "7.2.10", "7.2.11", "7.2.12"]
    assert (standing(version, wanted), releases_behind(version, wanted, known)) == (state, behind)


def test_bounds_and_the_newest():
    assert [is_below(v, b) for v, b in (("7.1", "7.2"), ("7.2", "7.2.0"), (None, None), ("1", None))] == [
        True, False, False, True
    ]  # fmt: skip
    assert (newest(["7.2.9", "7.2.10", "7.2"]), newest([])) == ("7.2.10", None)
