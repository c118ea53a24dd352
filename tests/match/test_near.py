"""Serials that are nearly equal are found, whichever sign was mistyped; chains that are too long are cut."""

from __future__ import annotations

import numpy as np
import polars as pl
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from concordex.match.link import _LONGEST, _chains
from concordex.match.near import neighbours

SERIALS = st.text("AB01", min_size=6, max_size=9)


def without_one(text: str) -> set[str]:
    return {text[:at] + text[at + 1 :] for at in range(len(text))}


def near(one: str, other: str) -> bool:
    """Whether taking one sign or none from each can leave the same."""
    return bool((without_one(one) | {one}) & (without_one(other) | {other}))


def is_found(*serials: str, lonely: tuple[bool, ...] = (True, True)) -> bool:
    systems = np.arange(1, len(serials) + 1)
    columns = neighbours(pl.Series(serials), systems, np.array(lonely))
    return any(column[0] != 0 and column[0] == column[1] for column in columns)


@given(SERIALS, SERIALS)
def test_two_serials_share_a_number_just_where_one_sign_taken_from_each_leaves_the_same(one, other):
    assume(one != other)
    assert is_found(one, other) == near(one, other)


@given(SERIALS, st.integers(0, 8), st.sampled_from(["wrong", "more", "less", "exchanged"]))
def test_one_mistyped_sign_anywhere_is_found(serial, at, how):
    at %= len(serial) - 1
    mistyped = {
        "wrong": f"{serial[:at]}X{serial[at + 1 :]}", "more": f"{serial[:at]}X{serial[at:]}",
        "less": serial[:at] + serial[at + 1 :],
        "exchanged": serial[:at] + serial[at + 1] + serial[at] + serial[at + 2 :],
    }[how]  # fmt: skip
    assume(mistyped != serial and len(mistyped) > 5)
    assert is_found(serial, mistyped)


def test_short_serials_and_those_that_several_systems_know_are_near_to_none():
    assert not is_found("AB012", "AB01X")
    assert is_found("AB0123", "AB012X", lonely=(True, False))
    assert not is_found("AB0123", "AB012X", lonely=(False, False))


@pytest.mark.parametrize("pairs", [4, 5])
def test_where_one_system_holds_serials_that_are_near_each_other_they_are_numbers_of_a_series(pairs):
    """Five pairs of one system make it one, and four do not."""
    own = [
        f"{word}{number}" for word in ("QWERTA", "ZXCVBA", "PLMOKA", "TGBYHA", "UJNIKA")[:pairs] for number in (1, 7)
    ]
    serials, systems = pl.Series([*own, "EDCRFA3", "EDCRFA9"]), np.array([1] * len(own) + [2, 3])
    columns = neighbours(serials, systems, np.ones(len(serials), dtype=np.bool_))
    assert any(column[-1] != 0 and column[-1] == column[-2] for column in columns) == (pairs < 5)


def chain(length: int, *scores: float) -> np.ndarray:
    """The chains of so many rows, each linked with the next, the links weighing these in turn."""
    a = np.arange(length - 1)
    score = np.resize(np.array(scores, dtype=np.float32), length - 1)
    whole, chains = _chains(length, a, a + 1, score, np.zeros((0, 2), dtype=np.int64))
    assert set(whole) == {0}
    return chains


def test_a_chain_that_is_too_long_is_cut_at_its_weakest_links_and_one_that_has_none_stays():
    assert set(chain(_LONGEST, 1.0)) == {0}
    assert set(chain(_LONGEST + 1, 1.0)) == {-1}  # nothing holds any two of them together as firmly as is asked then
    assert set(chain(_LONGEST + 1, 30.0)) == {0}
    assert chain(_LONGEST + 2, 8.0, 8.0, 1.0).tolist() == [at // 3 * 3 for at in range(_LONGEST + 2)]
