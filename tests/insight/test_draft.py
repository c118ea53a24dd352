"""A draft: what was seen is written, what is only likely is a comment, and whatever was seen, the file is a dialect."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from concordex.insight.draft.drafted import draft
from concordex.insight.draft.fields import Profile, guesses, time_form
from concordex.insight.draft.guesses import open_guesses, taken
from concordex.insight.draft.pages import pages_of
from concordex.insight.draft.seen import AnswerSeen, ApiSeen, ListSeen, OneSeen
from concordex.insight.draft.written import written
from concordex.wire.dialect.load import from_text
from tests.manners import Manners


def lamps(start: int, stop: int) -> list[dict]:
    return [{"id": f"L{at}", "label": f"lamp {at}", "counted": at * 7 % 5} for at in range(start, stop)]


def seen(*answers: tuple[dict, dict], headers=None, urls=None) -> ListSeen:
    told = [
        AnswerSeen(parameters=asked, body=body, headers=(headers or {}).get(n, {}), url=(urls or {}).get(n, ""))
        for n, (asked, body) in enumerate(answers)
    ]
    return ListSeen(path="/lamps", answers=told)


def test_what_followed_what_tells_how_a_list_is_cut():
    offset = seen(
        ({"from": "1", "many": "3"}, {"lamps": lamps(0, 3), "n": 8}),
        ({"from": "4", "many": "3"}, {"lamps": lamps(3, 6), "n": 8}),
    )
    made = pages_of(offset, "lamps")
    assert made.pages == {"by": "offset", "offset": "from", "first": 1, "limit": "many", "size": 3}
    assert made.total == "n"
    number = seen(({}, {"lamps": lamps(0, 3)}), ({"page": "2"}, {"lamps": lamps(3, 6)}))
    assert pages_of(number, "lamps").pages == {"by": "number", "page": "page", "first": 1, "size": 3}
    cursor = seen(
        ({"n": "3"}, {"lamps": lamps(0, 3), "more": {"mark": "m1"}}),
        ({"n": "3", "after": "m1"}, {"lamps": lamps(3, 6), "more": {"mark": None}}),
    )
    assert pages_of(cursor, "lamps").pages == {
        "by": "cursor",
        "next": "more.mark",
        "cursor": "after",
        "limit": "n",
        "size": 3,
    }
    link = seen(
        ({"n": "3"}, {"lamps": lamps(0, 3), "onward": "https://there/lamps?n=3&at=3"}),
        ({"n": "3", "at": "3"}, {"lamps": lamps(3, 6)}), urls={1: "/lamps?at=3&n=3"},
    )  # fmt: skip
    assert pages_of(link, "lamps").pages["by"] == "link"
    header = seen(
        ({}, {"lamps": lamps(0, 3)}), ({"at": "3"}, {"lamps": lamps(3, 6)}),
        headers={0: {"link": '</lamps?at=3>; rel="next"', "x-total-count": "6"}, 1: {"x-total-count": "6"}},
        urls={1: "/lamps?at=3"},
    )  # fmt: skip
    assert pages_of(header, "lamps").pages["by"] == "link_header"
    assert pages_of(header, "lamps").total == "header:x-total-count"


@pytest.mark.parametrize(
    "answers",
    [
        [({}, {"lamps": lamps(0, 3), "n": 3})],  # the number of a page, or of all?
        [({"size": "3"}, {"lamps": lamps(0, 3), "n": 3}), ({"size": "2"}, {"lamps": lamps(0, 2), "n": 2})],
        [({"from": "0"}, {"lamps": lamps(0, 3)}), ({"from": "3"}, {"lamps": lamps(0, 3)})],  # deaf to its parameter
        [({"q": "a"}, {"lamps": lamps(0, 3), "n": 3}), ({"q": "b"}, {"lamps": lamps(5, 8), "n": 3})],  # a search
        [({"n": "3"}, {"lamps": lamps(0, 3)}), ({"n": "4"}, {"lamps": [*lamps(9, 10), *lamps(0, 3)]})],
    ],
)
def test_what_shows_nothing_of_pages_or_of_a_total_is_not_written(answers):
    """A wrong way of paging, or a page's count for a total, would lose records without a word."""
    made = pages_of(seen(*answers), "lamps")
    assert made.pages is None
    assert made.total is None


def test_counters_that_move_do_not_make_another_page():
    """The same records, asked again, are the same page, whatever counts in them has gone on."""
    again = [{**record, "counted": 99} for record in lamps(0, 3)]
    made = pages_of(seen(({"size": "1"}, {"lamps": lamps(0, 3)}), ({"size": "2"}, {"lamps": again})), "lamps")
    assert made.pages is None


RECORDS = [
    {
        "nodeKey": f"n{at}", "chassis": {"serial": f"SN{at:04d}X", "maker": "Ropeworks"},
        "mac": f"02:00:00:00:00:{at:02x}", "heard": 1_795_000_000_000 + at, "family": ("switching", "radio")[at % 2],
        "berth": "Cobble Quay", "battery": {"status": "ok"}, "firmware": f"7.{at}.1",
        "sharedMac": "02:00:00:00:99:99", "owner": "", "addr": f"10.0.0.{at}",
    }
    for at in range(12)
]  # fmt: skip


def test_fields_are_known_by_name_by_looks_and_by_values_known_elsewhere():
    profiles = [Profile(path, [_at(record, path) for record in RECORDS]) for path in _paths(RECORDS[0])]
    known = {"user": set(), "site": {"cobblequay"}}
    made = {guess.name: guess for guess in guesses(profiles, known, "nodeKey")}
    sure = {name: guess.path for name, guess in made.items() if guess.sure}
    assert sure["serial"] == "chassis.serial"
    assert sure["maker"] == "chassis.maker"
    assert sure["macs"] == "mac"  # and not what several share
    assert sure["ips"] == "addr"
    assert sure["os_version"] == "firmware"
    assert made["last_seen"].read_as == "epoch_ms"
    assert made["kind"].values == {"switching": "switch", "radio": "access-point"}
    assert made["site"].read_as == "slug"
    assert "status" not in sure  # a battery's is not the device's
    odd = [Profile("title", [f"x{at}-{at * at}" for at in range(9)])]
    assert not any(g.sure for g in guesses([Profile("zz", odd[0].values)], {}, ""))
    (found,) = guesses([Profile("zz", odd[0].values)], {"serial": {f"x{at}{at * at}" for at in range(9)}}, "")
    assert (found.name, found.sure) == ("serial", True)
    assert "100% of its values are known as serial elsewhere" in found.why


def _paths(record: dict, above: str = "") -> list[str]:
    return [
        path for name, value in record.items()
        for path in (_paths(value, f"{above}{name}.") if isinstance(value, dict) else [f"{above}{name}"])
    ]  # fmt: skip


def _at(record: dict, path: str):
    for name in path.split("."):
        record = record[name]
    return record


@pytest.mark.parametrize(
    ("values", "form"),
    [
        (["2026-11-20T10:00:00Z", None], "iso"), ([1_795_000_000], "epoch"), ([1_795_000_000_000], "epoch_ms"),
        (["Mon, 23 Nov 2026 07:22:19 GMT"], "http_date"), (["7.1.2"], None), ([7], None),
        (["2026"], None), ([True], None),
    ],
)  # fmt: skip
def test_moments_are_known_by_how_they_are_written(values, form):
    assert time_form(Profile("at", values)) == form


def test_what_a_draft_leaves_open_is_read_from_its_file():
    """Each guess with its table, until the person has made it a line or taken it out."""
    asked = ListSeen(
        path="/lamps", answers=[AnswerSeen(parameters={}, body={"lamps": lamps(0, 3), "n": 3})], takes=["page"]
    )
    text = written(draft("l", ApiSeen(lists=[asked]), {}), "l")
    assert [(guess.table, guess.said) for guess in open_guesses(text)] == [
        ("lamps", "total: n"), ("lamps", "pages: {by: number, page: page}")
    ]  # fmt: skip
    assert "concordex call l /lamps page=2" in open_guesses(text)[1].how
    assert open_guesses(taken(text, {open_guesses(text)[0]: "so"})) == open_guesses(text)[1:]


def test_lists_hang_from_what_stands_in_their_path_and_details_add_fields():
    zones = ListSeen(
        path="/m/zones", answers=[AnswerSeen(parameters={}, body={"zones": [{"code": "z1"}, {"code": "z2"}]})]
    )
    radios = ListSeen(
        path="/m/zones/{zone}/radios",
        answers=[
            AnswerSeen(parameters={}, values={"zone": zone}, body={"radios": [{"ref": "a", "caption": f"ap-{zone}"}]})
            for zone in ("z1", "z2")
        ],
    )
    one = OneSeen(
        path="/m/zones/{zone}/radios/{radio}", values={"zone": "z1", "radio": "a"},
        body={"radio": {"ref": "a", "serial": "SX00017", "mac": "02:00:00:00:00:01", "model": "M1"}},
    )  # fmt: skip
    made = draft("m", ApiSeen(lists=[zones, radios], ones=[one]), {})
    dialect = from_text(written(made, "m"), "m.yaml")
    table = dialect.tables["devices"]
    assert dialect.base == "/m"
    assert (table.read.each.of, table.read.path) == ("sites", "/zones/{record_id}/radios")
    assert table.read.details.path == "/zones/{record_id}/radios/{ref}"
    assert str(table.read.details.record) == "radio"
    assert table.fields["record_id"].below_parent


VALUES = st.one_of(st.none(), st.booleans(), st.integers(-5, 10**13), st.text(max_size=6), st.just("2026-11-20"))
NAMES = st.text(st.characters(codec="utf-8", exclude_categories=["Cs"]), min_size=1, max_size=8) | st.sampled_from(
    ["id", "name", "serial", "mac", "on", "no", "a.b", "x y", "$", "#", "page", "next", "total", "{id}"]
)
BODIES = st.recursive(
    VALUES, lambda below: st.lists(below, max_size=4) | st.dictionaries(NAMES, below, max_size=4), max_leaves=20
)


@given(
    st.lists(
        st.tuples(st.sampled_from(["/a", "/a/b", "/a/{x}", "/a/{x}/b", "/"]), st.lists(BODIES, max_size=3)), max_size=4
    )
)
def test_whatever_was_seen_the_file_is_a_dialect(told):
    """Any names, any answers: what cannot be said is left out, and the file loads."""
    given_ = [
        ListSeen(path=path, answers=[
            AnswerSeen(parameters={"page": str(n)}, body=body, values={"x": "1"} if "{" in path else {})
            for n, body in enumerate(bodies)
        ])
        for path, bodies in told
    ]  # fmt: skip
    api = ApiSeen(title='a "title": #1', lists=given_)
    assert from_text(written(draft("any", api, {}), "any"), "any.yaml").tables


@pytest.mark.parametrize("by", ["offset", "number", "link", "cursor"])
def test_lies_of_a_list_are_not_drafted_as_its_manner(by):
    """A server that ignores its parameters, in every manner: no way of paging is drafted from its answers."""
    manners = Manners(by=by, deaf=True, total="own", last="absent")
    answers = []
    for asked in ({}, {"start": "10", "page": "1", "mark": "10"}, {"start": "20", "page": "2", "mark": "20"}):
        _, body, _ = manners("GET", "/lamps", asked, None, {})
        answers.append((asked, json.loads(json.dumps(body))))
    made = pages_of(seen(*answers), "lamps")
    assert made.pages is None
    assert made.total is None
