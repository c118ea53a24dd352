"""What a filter is once it has been read: its parts, where each stands, and what groups stand for."""

from __future__ import annotations

from datetime import UTC, datetime

import polars as pl
import pytest

from concordex.errors import QueryError
from concordex.model.fields import ORIGINAL, Type, type_of
from concordex.query.bind import OPERATORS, Binder, beside_it
from concordex.query.groups import Group, expand, filter_of, parsed
from concordex.query.named import bearing
from concordex.query.parse import TESTS, parse
from concordex.query.predicate import predicate, predicate_of, types_in
from concordex.query.tree import And, Clause, Not, clauses_of

NOW = datetime(2026, 11, 23, tzinfo=UTC)


def said(node: object) -> object:
    """A part of a filter as nested lists."""
    if isinstance(node, Clause):
        field = f"count({node.field.text})" if node.counted else node.field.text
        return [field, node.operator, *(word.text for word in node.values)]
    if isinstance(node, Not):
        return ["not", said(node.part)]
    return ["and" if isinstance(node, And) else "or", *map(said, node.parts)]


@pytest.mark.parametrize(
    ("text", "tree"),
    [
        ("a = 1", ["a", "=", "1"]),
        ("(a == 1)", ["a", "=", "1"]),
        ("((a = 1))", ["a", "=", "1"]),
        ("a = 1 and (b = 2 and c = 3)", ["and", ["a", "=", "1"], ["b", "=", "2"], ["c", "=", "3"]]),
        ("a = 1 or b = 2 and c = 3", ["or", ["a", "=", "1"], ["and", ["b", "=", "2"], ["c", "=", "3"]]]),
        ("not a = 1 and b = 2", ["and", ["not", ["a", "=", "1"]], ["b", "=", "2"]]),
        ("NOT not a missing", ["not", ["not", ["a", "missing"]]]),
        ("a not in (1, 2)", ["not", ["a", "in", "1", "2"]]),
        ("a not within 10.0.0.0/8", ["not", ["a", "within", "10.0.0.0/8"]]),
        ("a OLDER Than 3d", ["a", "older than", "3d"]),
        ("a newer than 3d", ["a", "newer than", "3d"]),
        ("count(a) >= 2", ["count(a)", ">=", "2"]),
        ('count("a") = 2', ["count(a)", "=", "2"]),
        ("count = 2", ["count", "=", "2"]),
        ("a = 'it\\'s \"x\"'", ["a", "=", 'it\'s "x"']),
        ('a = "b,c"', ["a", "=", "b,c"]),
        ('a in (",", ")")', ["a", "in", ",", ")"]),
        ("a present", ["a", "present"]),
        ("a matches ^x", ["a", "matches", "^x"]),
    ],
)
def test_a_filter_is_read_by_its_grammar(text, tree):
    assert said(parse(text).node) == tree


@pytest.mark.parametrize(
    ("text", "at", "what"),
    [
        ('"(" = 1', 0, "expected the name of a field here"),
        ("and = 1", 0, "expected the name of a field here"),
        ("count(=) = 1", 6, "expected the name of a field here"),
        ("count(a = 1", 8, 'expected ")" here'),
        ('count(a ")" = 1', 8, 'expected ")" here'),
        ("a in (1 2)", 8, 'expected ")" here'),
        ("a in 1", 5, 'expected "(" here'),
        ("a in ()", 6, "expected a value here"),
        ("a = =", 4, "expected a value here"),
        ("a older 3d", 8, 'expected "than" after "older"'),
        ("a = 1 b", 6, 'expected "and", "or" or the end here'),
        ("a = 'x", 4, "this quotation mark is not closed"),
        ("   ", 0, "the filter is empty"),
        ("a = 1 !", 6, "cannot be read here"),
    ],
)
def test_a_mistake_is_told_where_it_stands(text, at, what):
    with pytest.raises(QueryError) as raised:
        parse(text)
    assert (raised.value.start, str(raised.value).split("\n")[0]) == (at, what)
    assert raised.value.end > at


def test_each_part_knows_where_it_was_written():
    query = parse("a = 1 and (b = 2 or c = 3) and not d missing")
    assert [query.written(node) for node in query.conjuncts] == ["a = 1", "(b = 2 or c = 3)", "not d missing"]
    assert [clause.field.text for clause in clauses_of(query.node)] == ["a", "b", "c", "d"]
    assert parse("a = 1 or b = 2").conjuncts == (parse("a = 1 or b = 2").node,)
    words = [(word.text, word.start, word.end, word.quoted) for word in parse("a in (1, 'x')").node.values]
    assert words == [("1", 6, 7, False), ("x", 9, 12, True)]


GROUPS = {
    "quay": Group(where="site = quay"),
    "old": Group(where="os < 7 or os missing"),
    "both": Group(any_of=["quay", "old"]),
    "each": Group(all_of=["quay", "old"]),
    "less": Group(all_of=["quay"], but_not=["old"]),
    "round": Group(any_of=["quay", "about"]),
    "about": Group(all_of=["round"]),
    "wrong": Group(where="site = = x"),
}
QUAY, OLD = ["site", "=", "quay"], ["or", ["os", "<", "7"], ["os", "missing"]]


@pytest.mark.parametrize(
    ("text", "tree"),
    [
        ("group = quay", ["or", QUAY]),
        ("GROUP != quay", ["not", ["or", QUAY]]),
        ("group in (quay, old)", ["or", QUAY, OLD]),
        ("group not in (quay, old)", ["not", ["or", QUAY, OLD]]),
        ("a = 1 and not group = each", ["and", ["a", "=", "1"], ["not", ["or", ["and", QUAY, OLD]]]]),
        ("group = both", ["or", ["or", QUAY, OLD]]),
        ("group = less", ["or", ["and", QUAY, ["not", OLD]]]),
        ("a = 1 or b = 2", ["or", ["a", "=", "1"], ["b", "=", "2"]]),
    ],
)
def test_a_group_stands_for_what_it_says(text, tree):
    assert said(parsed(text, GROUPS).node) == tree


@pytest.mark.parametrize(
    ("text", "at", "what", "advice"),
    [
        ("a = 1 and group = qauy", (18, 22), "there is no group 'qauy'", 'did you mean "quay"?'),
        ("group = round", (8, 13), "a group is made of itself: round > about > round", ""),
        ("group like quay", (0, 15), "a group is asked with = or in, not like", "group = NAME"),
    ],
)
def test_a_group_that_is_none_is_a_mistake_where_it_is_named(text, at, what, advice):
    with pytest.raises(QueryError) as raised:
        parsed(text, GROUPS)
    error = raised.value
    assert ((error.start, error.end), str(error).split("\n")[0], error.advice) == (at, what, advice)


def test_where_there_are_no_groups_the_advice_is_to_make_one():
    with pytest.raises(QueryError) as raised:
        parsed("group = quay", {})
    assert raised.value.advice == "concordex group add NAME --where …"


def test_a_mistake_in_what_a_group_says_is_shown_where_it_is_named():
    query = parsed("a = 1 and group = quay", GROUPS)
    with pytest.raises(QueryError) as raised:
        Binder(query, {"a": Type.NUMBER}, NOW).check()
    assert (raised.value.start, raised.value.end) == (18, 22)
    assert filter_of("quay", GROUPS).text == 'group = "quay"'
    assert said(expand(parse("b = 2"), {}).node) == ["b", "=", "2"]


RECORDS = pl.DataFrame(
    {
        "record_id": ["1", "2", "3"],
        "name": ["core-a", None, "2"],
        "macs": [["0a:1b:2c:00:00:01"], None, []],
        "ips": [["10.20.1.1"], ["fd00::1"], None],
        "user": ["mo", "CORE-A", None],
    }
)


@pytest.mark.parametrize(
    ("word", "bears"),
    [
        (" CORE-A ", {"name": ["1"], "user": ["2"]}), ("2", {"name": ["3"], "record_id": ["2"]}),
        ("0A1B.2C00.0001", {"macs": ["1"]}), ("FD00:0::1", {"ips": ["2"]}), ("10.20.1.1/24", {"ips": ["1"]}),
        ("nobody", {}),
    ],
)  # fmt: skip
def test_a_word_names_the_records_that_bear_it(word, bears):
    tests = bearing(word, RECORDS.columns, ["user"])
    found = {name: RECORDS.filter(test)["record_id"].to_list() for name, test in tests.items()}
    assert {name: ids for name, ids in found.items() if ids} == bears
    assert list(bearing("2", ["record_id", "name"])) == ["name", "record_id"]
    assert bearing("10.20.1.1", ["name"]).keys() == {"name"}


def test_a_filter_on_a_frame_knows_its_columns_and_its_own_record():
    frame = RECORDS.with_columns(pl.lit('{"a":{"b":"7"}}').alias(ORIGINAL))
    asked = parse("a.b = 7 and name present")
    assert frame.filter(predicate_of(frame, asked, NOW))["record_id"].to_list() == ["1", "3"]
    assert ORIGINAL not in types_in(frame.schema)
    with pytest.raises(QueryError, match=r'no field "a.b"'):
        predicate_of(RECORDS, asked, NOW)
    with pytest.raises(QueryError, match='no field "system"'):
        predicate(parse("name = x or system = s"), {"name": Type.TEXT}, NOW)
    assert beside_it("device.nam", ["device.name", "device.site", "name"]) == ["device.name", "device.site"]
    with pytest.raises(QueryError) as raised:
        predicate(parse("device.nam = x"), {"device.name": Type.TEXT, "name": Type.TEXT}, NOW, extra=True)
    assert "device.name" in raised.value.advice
    assert {*TESTS} >= {*OPERATORS} - {"not in"}


@pytest.mark.parametrize(
    ("dtype", "name", "kind"),
    [
        (pl.String, "os_version", Type.VERSION), (pl.String, "x", Type.TEXT), (pl.List(pl.String), "x", Type.TEXTS),
        (pl.Datetime("us", "UTC"), "x", Type.TIME), (pl.Boolean, "x", Type.FLAG), (pl.Int64, "x", Type.NUMBER),
        (pl.Float64, "position", Type.NUMBER), (pl.List(pl.String), "macs", Type.MACS),
    ],
)  # fmt: skip
def test_a_column_is_of_the_type_of_its_name_or_else_of_what_it_holds(dtype, name, kind):
    assert type_of(dtype, name) is kind
    assert kind.is_list is (kind in (Type.TEXTS, Type.MACS, Type.IPS))
    assert (kind.dtype == pl.List(pl.String)) is kind.is_list
