"""Reasons: kept as words of code with their facts, drawn as sentences in one place."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from concordex.change.reasons import Reason, Why, because, from_text, has, resting, to_text
from concordex.cli.reasons import _WORDS, words

PLAIN = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**53), 2**53) | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner, max_size=3),
    max_leaves=6,
)
FACTS = st.dictionaries(st.text(min_size=1, max_size=6).filter(lambda name: name != "why"), PLAIN, max_size=3)


@given(st.lists(st.builds(Reason, st.sampled_from(list(Why)), FACTS), max_size=4).map(tuple))
def test_what_is_kept_of_reasons_is_what_they_were(reasons):
    assert from_text(to_text(reasons)) == reasons


def test_every_reason_has_words():
    assert _WORDS.keys() == set(Why)


def test_words_of_an_earlier_release_stay_as_they_were():
    assert words(from_text("the record is gone since the preview")) == "the record is gone since the preview"
    assert from_text(None) == ()


def test_what_an_entry_resembles_is_told_by_its_facts_and_in_the_words_of_an_earlier_release():
    now = because(Why.RESEMBLES, other="E00007", called=None, share="address")
    assert words(now) == "it may be there already: E00007 (without a name) has the same address"
    before = from_text('[{"why": "resembles", "text": "E00007 (core-a) has the same name"}]')
    assert words(before) == "it may be there already: E00007 (core-a) has the same name"


def test_reasons_are_told_with_those_that_they_rest_on():
    lost = (*because(Why.ERROR, text="cut off"), *because(Why.BLIND, text="no route"))
    told = resting(Why.NOT_SEEN, lost)
    assert words(told) == (
        "it may have arrived, and does not show: cut off; and it could not be looked up: no route"
    )  # fmt: skip
    assert has(told, Why.NOT_SEEN, Why.GONE)
    assert not has(told, Why.ERROR)
    assert words(resting(Why.WAS, because(Why.REQUIRED, fields=["model", "site"]), state="held")) == (
        "held: it has no model, no site"
    )
    fields = {"os": {"now": "7.2", "before": None, "since": "2026-11-02T08:00:00+00:00"}}
    assert words(because(Why.CHANGED, fields=fields)) == (
        "changed there since the preview: os is now 7.2 (was empty; seen since 2026-11-02 08:00)"
    )
