"""What a record did not take of what was written, and the order in which objects are written."""

from __future__ import annotations

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from concordex.change.compare import _folded, verdict
from concordex.change.depend import in_order
from concordex.change.objects import Kind, Object
from concordex.change.reasons import Why
from concordex.model.folded import folded


def test_what_a_system_does_not_tell_is_not_called_another():
    """A secret is written and never read back: that it does not stand there says nothing."""
    assert verdict({"password": "wick"}, {}, {"name": "lamp"}) == ()
    assert verdict({"name": "lamp"}, {}, {"name": "lamp"}) == ()
    (told,) = verdict({"name": "lamp"}, {"name": "old"}, {"name": "old"})
    assert told.why is Why.DIFFERS
    (own,) = verdict({"name": "Lamp-07"}, {}, {"name": "lamp 7"})
    assert own.why in (Why.OWN_WAY, Why.DIFFERS)


def test_objects_that_need_nothing_stand_by_their_kind_their_place_and_their_name():
    """Whatever the names of kinds and objects: kinds in the order in which they are told, rules by their place."""
    kinds = {
        "zones": Kind(table="zones"),
        "addresses": Kind(table="addresses"),
        "rules": Kind(table="rules", place="at"),
    }
    told = [("rules", "b", {"at": 1}), ("rules", "a", {"at": 2}), ("addresses", "x", {}), ("zones", "y", {})]
    given = [Object(kind=kind, name=name, body=body) for kind, name, body in [*told, ("addresses", "w", {})]]
    assert [(one.kind, one.name) for one in in_order(given, kinds)] == [
        ("zones", "y"), ("addresses", "w"), ("addresses", "x"), ("rules", "b"), ("rules", "a"),
    ]  # fmt: skip


@given(st.lists(st.text(st.sampled_from("aÄäé\u0301\u00a0\t \nß1"), max_size=6), min_size=1))
def test_a_column_is_compared_as_its_texts_are(texts):
    """Once by one, or all at once; what is folded stays so, and no line break is lost."""
    column = pl.DataFrame({"said": texts}).select(_folded(pl.col("said"))).to_series().to_list()
    assert column == [folded(text) for text in texts]
    assert [folded(text) for text in column] == column
    assert [text.count("\n") for text in column] == [text.strip().count("\n") for text in texts]
