"""The filter language: what it means, what its mistakes look like, and the laws that hold for any filter."""

import time
from datetime import UTC, datetime

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from concordex.errors import QueryError
from concordex.model.fields import FIELDS, Type
from concordex.query.bind import Binder
from concordex.query.frames import to_polars
from concordex.query.funnel import funnel
from concordex.query.parse import parse
from concordex.query.pushdown import FilterTest, reach

NOW = datetime(2026, 11, 23, tzinfo=UTC)
SCHEMA = {name: FIELDS[name] for name in ("name", "serial", "macs", "ips", "kind", "os_version", "last_seen")}
SCHEMA["ports"] = Type.NUMBER
FRAME = pl.DataFrame(
    {
        "name": ["sw-1", "SW-02", "rt-1", None],
        "serial": ["AA1", None, "aa2", "B3"],
        "macs": [["0a:1b:2c:00:00:01"], ["0a:1b:2d:00:00:01", "ff:00:00:00:00:01"], [], None],
        "ips": [["10.20.1.1", "fd00:20::1"], ["10.21.0.1"], ["192.0.2.255"], None],
        "kind": ["switch", "switch", "router", "other"],
        "os_version": ["7.2.9", "7.2.10", "7.2.10-rc1", None],
        "last_seen": [datetime(2026, 11, day, tzinfo=UTC) for day in (1, 20, 22)] + [None],
        "ports": [24.0, 48.0, None, 0.0],
        "original": ['{"battery":{"level":10}}', '{"battery":{"level":9}}', '{"note":"Wet"}', "{}"],
    }
)


def rows(text: str) -> list[int]:
    """The rows of FRAME for which the filter holds."""
    binder = Binder(parse(text), SCHEMA, NOW)
    return FRAME.with_row_index("row").filter(to_polars(binder.query.node, binder))["row"].to_list()


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("name = SW-1", [0]),
        ('name = "sw-02"', [1]),
        (r'name = "\sw-02"', [1]),
        ("name != sw-1", [1, 2, 3]),
        ("kind in (switch, ROUTER)", [0, 1, 2]),
        ("kind not in (switch)", [2, 3]),
        ("os_version < 7.2.10", [0, 2]),
        ("os_version = 7.2.10.0", [1]),
        ("os_version >= v7.2.10", [1]),
        ("last_seen older than 14d", [0]),
        ("last_seen newer than 72h", [2]),
        ("last_seen newer than 2026-11-19", [1, 2]),
        ("last_seen < 2026-11-02T00:00:00Z", [0]),
        ("ip within 10.20.0.0/16", [0]),
        ("ip within fd00::/8", [0]),
        ("ip within 192.0.2.255/32", [2]),
        ("ips = 10.21.0.1", [1]),
        ("ip = FD00:20:0::1", [0]),
        ("mac within 0A1B", [0, 1]),
        ('mac within "0a-1b-2c"', [0]),
        ("mac = ff00.0000.0001", [1]),
        ('name like "sw-*"', [0, 1]),
        ("name like sw-?", [0]),
        ('name matches "^(sw|rt)-[0-9]$"', [0, 2]),
        ("serial missing", [1]),
        ("ip missing", [3]),
        ("macs missing", [2, 3]),
        ("serial present and name present", [0, 2]),
        ("count(ips) > 1", [0]),
        ("count(macs) = 0", [2, 3]),
        ("ports >= 24", [0, 1]),
        ("battery.level < 10", [1]),
        ("extra.battery.level present", [0, 1]),
        ("extra.note = wet", [2]),
        ("not (kind = switch or name missing)", [2]),
        ("kind = switch and name = sw-1 or kind = router", [0, 2]),
        ("kind = switch and (name = sw-1 or kind = router)", [0]),
        ("not kind = switch and not kind = router", [3]),
    ],
)
def test_a_filter_keeps_the_records_that_it_means(text, expected):
    assert rows(text) == expected


@pytest.mark.parametrize(
    ("text", "column", "what", "advice"),
    [
        ("nam = x", 0, 'no field "nam"', '"name"'),
        ("name lik x", 5, '"lik" is not a test', '"like"'),
        ("name not = x", 5, '"not" is not a test', "not in"),
        ('name = "x', 7, "not closed", ""),
        ("(name = a", 9, 'expected ")"', ""),
        ("name = a b", 9, 'expected "and"', ""),
        ("", 0, "empty", ""),
        ("name =", 6, "expected a value", ""),
        ("os_version older than 3d", 0, "cannot be asked", "<="),
        ("last_seen older 3d", 16, '"than"', ""),
        ("last_seen older than soon", 21, "not a time", ""),
        ("ip = 10.0.0.0/8", 5, "not an address", "ip within 10.0.0.0/8"),
        ("ip = 10.0.0", 5, "not an address", ""),
        ("ip within 10.0.0.0/99", 10, "not an address range", "10.20.0.0/16"),
        ("mac = 0a1b", 6, "whole MAC", "mac within"),
        ('name matches "a("', 13, "regular expression", ""),
        ('name matches "a(?=b)"', 13, "regular expression", ""),
        ("count(name) > 1", 6, "holds one value", ""),
        ("count(ips) like 3", 11, "a count is compared", ""),
        ("ports > many", 8, "not a number", ""),
    ],
)
def test_a_mistake_stands_under_a_caret_with_the_nearest_right_word(text, column, what, advice):
    with pytest.raises(QueryError) as caught:
        rows(text)
    lines = str(caught.value).split("\n")
    assert what in lines[0]
    assert lines[2].index("^") - 4 == column
    assert advice in caught.value.advice
    assert advice or not caught.value.advice  # where nothing is to be advised, nothing is


@given(st.text(max_size=40) | st.text(alphabet="()<>=!,\"' andornotinlike07.", max_size=40))
def test_any_text_is_a_filter_or_a_mistake_that_points_into_it(text):
    try:
        Binder(parse(text), SCHEMA, NOW).check()
    except QueryError as error:
        assert 0 <= error.start <= len(text)
        assert error.start < error.end


CLAUSES = st.sampled_from(
    [
        "name = sw-1", "name != rt-1", "os_version < 7.2.10", "ip within 10.20.0.0/15", "mac within 0a1b",
        "serial missing", "last_seen older than 5d", "count(ips) > 0", "ports > 24", "battery.level < 20",
        "kind in (switch, other)", "name like 's*'",
    ]
)  # fmt: skip
FILTERS = st.recursive(
    CLAUSES,
    lambda inner: st.one_of(
        inner.map(lambda a: f"not ({a})"),
        st.tuples(inner, inner).map(lambda ab: f"({ab[0]}) and ({ab[1]})"),
        st.tuples(inner, inner).map(lambda ab: f"({ab[0]}) or ({ab[1]})"),
    ),
    max_leaves=5,
)


@given(FILTERS)
def test_a_filter_and_its_opposite_split_the_table(text):
    """What is missing is on one side or the other, never on none: else records vanish without a word."""
    assert sorted(rows(text) + rows(f"not ({text})")) == [0, 1, 2, 3]


@given(FILTERS, FILTERS)
def test_and_is_intersection_and_or_is_union(a, b):
    assert set(rows(f"({a}) and ({b})")) == set(rows(a)) & set(rows(b))
    assert set(rows(f"({a}) or ({b})")) == set(rows(a)) | set(rows(b))


@given(st.lists(FILTERS, min_size=1, max_size=4))
def test_a_funnel_narrows_and_ends_where_the_filter_does(parts):
    text = " and ".join(f"({part})" for part in parts)
    stages = funnel(FRAME.lazy(), Binder(parse(text), SCHEMA, NOW))
    counts = [stage.left for stage in stages]
    assert counts == sorted(counts, reverse=True)
    assert (counts[0], counts[-1]) == (FRAME.height, len(rows(text)))


ABILITIES = [
    FilterTest(field="kind", tests=("=", "in"), parameter="family", several=",", any_case=True,
            values={"switch": ["sw", "stack"], "router": ["gw"]}),
    FilterTest(field="status", tests=("=",), parameter="state", any_case=True, values={"up": ["ok"]},
               otherwise="down"),
    FilterTest(field="model", tests=("=",), parameter="type", any_case=True, values={"x1": ["one"]}),
    FilterTest(field="name", tests=("=",), parameter="label", any_case=True),
    FilterTest(field="name", tests=("like",), parameter="q", write="name:'{value}'", wildcards={"*": "%"},
               any_case=True, escape="doubled"),
    FilterTest(field="user", tests=("=",), parameter="who", write="user:'{value}'", any_case=True),
    FilterTest(field="site", tests=("=",), parameter="q2", write='at "{value}"', any_case=True, escape="backslash"),
    FilterTest(field="serial", tests=("=",), parameter="serial"),
    FilterTest(field="asset_tag", tests=("=",), parameter="tag", values={"t1": ["one"]}),
    FilterTest(field="ips", tests=("=",), parameter="at", values={"10.0.0.1": ["first"]}),
    FilterTest(field="serial", tests=("present",), parameter="has", write="serial"),
    FilterTest(field="os_version", tests=("=",), parameter="release", any_case=True),
    FilterTest(field="last_seen", tests=("newer than", "older than", "="), parameter="after", time="epoch"),
]  # fmt: skip


@pytest.mark.parametrize(
    ("text", "parameters"),
    [
        ("kind = switch", {"family": "sw,stack,switch"}),  # a word that the dialect does not list means itself
        ("kind in (switch, router)", {"family": "sw,stack,switch,gw,router"}),
        ("kind = printer", {"family": "printer"}),
        ("kind = sw", {}),  # their word for something else
        ("status = up", {"state": "ok"}),
        ("status = down", {}),  # whatever is not listed
        ("model = x1", {}),  # two words, and the parameter takes one
        ("name = Sw-1 and last_seen newer than 2026-11-01", {"label": "Sw-1", "after": "1793491199"}),
        ("last_seen older than 2026-11-01", {"after": "1793491201"}),  # part of a second may be cut off there
        ("last_seen = 2026-11-01", {}),
        ("serial = AA1", {}),  # the system would tell AA1 from aa1, and we do not
        ("serial present", {"has": "serial"}),
        ("asset_tag = t1", {}),  # also of words that it lists
        ("ip = 10.0.0.1", {}),  # two words, and the parameter takes one
        ("ip = 10.0.0.2", {"at": "10.0.0.2"}),
        ("os_version = 7.2", {}),  # 7.2.0 is the same version, and another text
        ("""name like "O'Dell*" """, {"q": "name:'O''Dell%'"}),
        ('name like "50%*"', {}),  # a mark of theirs, which means itself to us
        ('name like "a?"', {}),  # a mark of ours for which they have none
        ("""user = "o'dell" """, {}),  # it would have to be escaped, and nobody says how
        ("user = mo", {"who": "user:'mo'"}),
        ("""site = 'a "b" c' """, {"q2": 'at "a \\"b\\" c"'}),
        ("kind = switch or name = sw-1", {}),  # neither part must hold
        ("not kind = switch", {}),
        ("name = a and name = b", {"label": "a"}),  # the parameter can be given once
    ],
)
def test_only_what_cannot_lose_records_is_handed_to_the_system(text, parameters):
    query = parse(text)
    assert reach(query, Binder(query, FIELDS, NOW, closed={}), ABILITIES).parameters == parameters


def test_a_list_of_its_own_is_asked_for_at_its_path_and_there_is_one_alone():
    ability = FilterTest(field="site", tests=("=",), path="/places/{value}/nodes", any_case=True)
    query = parse("site = 'a/b' and site = quay")
    reached = reach(query, Binder(query, FIELDS, NOW, closed={}), [ability])
    assert (reached.path, len(reached.nodes), reached.parameters) == ("/places/a%2Fb/nodes", 1, {})


@pytest.mark.parametrize(
    ("time", "said"),
    [("iso", "2026-10-31T23:59:59Z"), ("epoch", "1793491199"), ("epoch_ms", "1793491199000")],
)
def test_a_moment_is_handed_over_as_the_system_writes_moments(time, said):
    query = parse("last_seen newer than 2026-11-01")
    ability = FilterTest(field="last_seen", tests=("newer than",), parameter="after", time=time)
    assert reach(query, Binder(query, FIELDS, NOW, closed={}), [ability]).parameters == {"after": said}


def test_what_is_too_long_for_an_address_is_not_said_in_one():
    """Thousands of names would be refused, or cut by what stands before a system: all is asked for instead."""
    ability = FilterTest(field="name", tests=("in",), parameter="label", several=",", any_case=True)
    for many, said in ((100, True), (3_000, False)):
        query = parse(f"name in ({', '.join(f'sw-{number:05}' for number in range(many))})")
        assert bool(reach(query, Binder(query, FIELDS, NOW), [ability]).nodes) == said


def test_a_filter_of_a_thousand_parts_or_of_many_levels_ends(pulled):
    """Parts by the thousand are applied; levels by the hundred are a mistake."""
    begun = time.monotonic()
    for word in ("or", "and"):
        text = f" {word} ".join(f"name != x{at}" for at in range(1_000))
        assert pulled.workspace.show("devices", where=text, limit=3).frame.height == 3
    assert time.monotonic() - begun < 20
    for text in (f"{'(' * 500}name = x{')' * 500}", f"{'not ' * 500}name = x"):
        assert "is nested more than 50 deep" in pulled("show", "devices", "--where", text, status=2).stderr


@pytest.mark.parametrize(("opening", "closing"), [("(", ")"), ("not ", "")])
def test_a_filter_may_be_nested_fifty_deep_and_no_deeper(opening, closing):
    parse(f"{opening * 50}name = x{closing * 50}")
    parse(" and ".join([f"{opening * 50}name = x{closing * 50}"] * 2))  # what was closed again counts no more
    deeper = f"{opening * 51}name = x{closing * 51}"
    for text in (deeper, f"{opening * 50}name = x{closing * 50} and {deeper}"):
        with pytest.raises(QueryError, match="nested more than 50 deep"):
            parse(text)


@pytest.mark.parametrize(
    ("text", "what", "advice"),
    [
        ("name lik x", '"lik" is not a test', 'did you mean "like"?'),
        ("name qqqq x", '"qqqq" is not a test', "tests: "),
        ("name", 'expected a test after "name"', "tests: "),
        ("name )", 'expected a test after "name"', "tests: "),
    ],
)
def test_a_filter_without_a_test_is_told_where_one_should_be(text, what, advice):
    with pytest.raises(QueryError) as raised:
        parse(text)
    assert str(raised.value).startswith(what)
    assert str(raised.value.advice).startswith(advice)
