"""Where devices stand in racks: what cannot be is told, and nothing else."""

from __future__ import annotations

import pytest

from concordex.insight.racks import Mounted, clashes

RACK, OTHER = ("quay", "r1"), ("quay", "r2")
THERE = [Mounted(label="sw-1", rack=RACK, at=10, height=2, face="front")]


@pytest.mark.parametrize(
    ("at", "height", "face", "rack", "told"),
    [
        (12, 1, "front", RACK, None), (9, 1, "front", RACK, None), (11, 1, "front", RACK, "is taken there by sw-1"),
        (9, 2, "front", RACK, "is taken there by sw-1"), (10, 1, "rear", RACK, None),
        (10, 1, None, RACK, "is taken there by sw-1"), (10, 1, "front", OTHER, None),
        (42, 1, None, RACK, None), (42, 2, None, RACK, "is outside of the rack, which has 42 units"),
        (0, 1, None, RACK, "is outside of the rack"), (1.5, 1, None, RACK, "is outside of the rack"),
        (900, 4, None, OTHER, None),  # nobody knows how high that one is
    ],
)  # fmt: skip
def test_a_unit_is_taken_by_one_device_on_each_face_and_within_the_rack(at, height, face, rack, told):
    new = Mounted(label="new", rack=rack, at=at, height=height, face=face)
    (found,) = clashes([new], THERE, {RACK: 42})
    assert found is None if told is None else (found or "").startswith(told)


def test_two_new_ones_are_in_each_others_way():
    new = [Mounted(label=name, rack=RACK, at=1, height=1, face=None) for name in "ab"]
    assert clashes(new, [], {}) == [None, "is taken there by a"]
