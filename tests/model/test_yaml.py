"""YAML of our own: whatever is written, every reader reads it as it was."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from ruamel.yaml import YAML

from concordex.plain_yaml import plain_yaml

ODD = [
    "yes", "No", "~", "null", "1", "1.5", "0x1f", "0o7", "1e3", ".inf", "1_000", "2026-01-01", "=", "<<", "!t",
    "&a", "*b", "a: b", "a:", "a #b", "- x", "? y", "|", "%z", "@q", "`", "a\nb", "\n", "a\n\n", "a\n b\n", " lead\nx",
    "a\r\nb", "é",
    "\x85", "\u2028x", "a\tb", "x  y", "(a)", "a (b) c", "Not a (b", "key\u00a0", "\U0001f6a2", "\U0002ebe1",
]  # fmt: skip
texts = st.text(max_size=12) | st.text("a \n:#-", max_size=9) | st.sampled_from(ODD)
values = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | texts,
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(texts, inner, max_size=3),
    max_leaves=8,
)


@given(st.dictionaries(texts, values, max_size=4) | st.lists(values, max_size=3))
def test_what_is_written_is_read_as_it_was(value):
    written = plain_yaml(value)
    for pure in (False, True):
        assert YAML(typ="safe", pure=pure).load(written) == value


@pytest.mark.parametrize("below", ["x", {"a": [1]}, ["a", {}], "one\ntwo\n"])
def test_a_key_of_any_length_is_read_as_it_was(below):
    value = {"k" * 2_000: below, "after": [{"s " * 900: below}]}
    assert YAML(typ="safe").load(plain_yaml(value)) == value


@pytest.mark.parametrize(
    ("value", "written"),
    [
        ({"name": "quay/let the crew in", "place": 3}, "name: quay/let the crew in\nplace: 3\n"),
        ({"on": True, "to": None}, '"on": true\nto: null\n'),
        ({"rights": ["sign-in", {"a": 1, "b": []}]}, "rights:\n  - sign-in\n  - a: 1\n    b: []\n"),
        ({"banner": "one\ntwo\n"}, "banner: |\n  one\n  two\n"),
    ],
)  # fmt: skip
def test_it_is_what_a_person_would_write(value, written):
    assert plain_yaml(value) == written
