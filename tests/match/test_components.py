"""What hangs together, and which texts of lists are meant."""

from __future__ import annotations

import numpy as np
import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from concordex.match.components import components
from concordex.match.identity import showing


@given(st.lists(st.tuples(st.integers(0, 11), st.integers(0, 11))))
def test_rows_hang_together_where_pairs_lead_from_one_to_the_other(pairs):
    """By the book: of two groups that a pair connects every row takes the lesser name."""
    named = list(range(12))
    for a, b in pairs:
        named = [min(named[a], named[b]) if name in (named[a], named[b]) else name for name in named]
    ends = np.array(pairs, dtype=np.int64).reshape(-1, 2)
    assert components(12, ends[:, 0], ends[:, 1]).tolist() == named


@given(st.lists(st.none() | st.lists(st.none() | st.sampled_from(["ab", "b", ""]), max_size=3)))
def test_lists_that_show_a_text_are_found_by_their_places(lists):
    places = [at for at, texts in enumerate(lists) if any(text and text.startswith("a") for text in texts or ())]
    assert showing(pl.Series(lists, dtype=pl.List(pl.String)), "^a").tolist() == places
