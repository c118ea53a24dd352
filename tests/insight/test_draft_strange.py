"""Manners that others invented: met on services that somebody else wrote, or such as would have lost records there."""

from __future__ import annotations

import pytest

from concordex.insight.draft.drafted import draft
from concordex.insight.draft.pages import pages_of, shaping
from concordex.insight.draft.seen import AnswerSeen, ApiSeen, ListSeen, OneSeen, below
from concordex.insight.draft.standards import ShippedStandard
from concordex.insight.draft.written import written
from concordex.wire.dialect.load import from_text
from tests.insight.test_draft import lamps, seen


def test_a_link_to_the_last_page_is_not_that_to_the_next():
    """Whoever looked at the last page first would skip all that lies between."""
    told = seen(
        ({"n": "3"}, {"lamps": lamps(0, 3), "links": {"last": "/lamps?at=6&n=3", "next": "/lamps?at=3&n=3"}}),
        ({"n": "3", "at": "6"}, {"lamps": lamps(6, 8)}), urls={1: "/lamps?at=6&n=3"},
    )  # fmt: skip
    assert pages_of(told, "lamps").pages is None
    onward = seen(
        ({"n": "3"}, {"lamps": lamps(0, 3), "links": {"last": "/lamps?at=3&n=3", "next": "/lamps?at=3&n=3"}}),
        ({"n": "3", "at": "3"}, {"lamps": lamps(3, 5)}), urls={1: "/lamps?at=3&n=3"},
    )  # fmt: skip
    assert pages_of(onward, "lamps").pages == {"by": "link", "next": "links.next", "limit": "n", "size": 3}


def test_a_header_of_any_name_may_lead_to_the_next_page_encoded_or_not():
    told = seen(
        ({"page[n]": "3"}, {"lamps": lamps(0, 3)}), ({"page[n]": "3", "at": "3"}, {"lamps": lamps(3, 5)}),
        headers={0: {"next-page": "http://there/lamps?page%5Bn%5D=3&at=3"}}, urls={1: "/lamps?at=3&page[n]=3"},
    )  # fmt: skip
    made = pages_of(told, "lamps").pages
    assert made == {"by": "link", "next": "header:Next-Page", "limit": "page[n]", "size": 3}


def test_numbers_of_another_name_are_pages_only_where_a_total_stays():
    """`lamp=1`, `lamp=2` are two lists: read as pages, all lamps behind a gap would be lost."""
    other = seen(({"room": "1"}, {"lamps": lamps(0, 3), "n": 3}), ({"room": "2"}, {"lamps": lamps(3, 6), "n": 3}))
    assert pages_of(other, "lamps").pages is None
    paged = seen(({"room": "1"}, {"lamps": lamps(0, 3), "n": 8}), ({"room": "2"}, {"lamps": lamps(3, 6), "n": 8}))
    assert pages_of(paged, "lamps").pages == {"by": "number", "page": "room", "first": 1, "size": 3}


def test_pages_that_were_asked_for_side_by_side_are_still_in_order():
    told = seen(*(({"page": str(n), "per": "2"}, {"lamps": lamps(n * 2, n * 2 + 2)}) for n in (1, 3, 2, 4)))
    assert pages_of(told, "lamps").pages == {"by": "number", "page": "page", "first": 1, "limit": "per", "size": 2}


def test_the_size_of_a_page_is_no_total_and_of_two_that_agree_one_is_taken():
    told = seen(*(
        ({"page": str(n), "size": "3"}, {"lamps": lamps(n * 3, n * 3 + came), "size": 3, "total": 5, "count": 5})
        for n, came in ((1, 3), (2, 2))
    ))  # fmt: skip
    assert pages_of(told, "lamps").total == "total"


@pytest.mark.parametrize(("full", "shown"), [((0, 8), True), ((0, 4), False)])
def test_spans_of_time_are_pages_where_a_full_one_was_asked_again(full, shown):
    """Without a full span nobody knows how many the system sends at most, and what it cuts off."""
    day = 86_400
    spans = [(0, 2), (0, 1), (1, 2), (2, 3)] if shown else [(0, 1), (1, 2), (2, 3)]
    told = seen(*(
        (
            {"since": str(1.79e9 + a * day), "until": str(1.79e9 + b * day)},
            {"lamps": lamps(*full) if b - a > 1 else lamps(a, b)},
        )
        for a, b in spans
    ))  # fmt: skip
    made = pages_of(told, "lamps").pages
    way = {"by": "window", "since": "since", "until": "until", "full": 8, "time": "epoch"}
    assert made == (way if shown else None)


def test_a_parameter_that_every_call_had_is_left_to_a_person():
    """It may shape the list, or narrow it: written into the dialect a filter would lose records without a word."""
    told = seen(*(({"site": "7", "page": str(n)}, {"lamps": lamps(n * 3, n * 3 + 3)}) for n in (1, 2)))
    assert shaping(told, pages_of(told, "lamps").pages) == {"site": "7"}
    text = written(draft("d", ApiSeen(lists=[told]), {}), "here")
    assert '      # query: {site: "7"}   # not shown' in text
    assert from_text(text, "d.yaml").tables["lamps"].read.query == {}


def test_details_of_another_kind_are_not_those_of_this_list_though_their_ids_agree():
    """All methods of JSON-RPC have one path: that says nothing of whose record it is."""
    listed = ListSeen(path="/rpc", rpc="lamp.list", answers=[AnswerSeen(parameters={}, body={"lamps": lamps(0, 3)})])
    boat = {"id": "L1", "label": "boat", "serialNumber": "SN00017X"}
    other = OneSeen(path="/rpc", rpc="boat.detail", values={"id": "L1"}, body=boat)
    assert not draft("d", ApiSeen(lists=[listed], ones=[other]), {}).tables[0].details
    mine = OneSeen(path="/rpc", rpc="lamp.detail", values={"id": "L1"}, body=boat | {"label": "lamp 1"})
    text = written(draft("d", ApiSeen(lists=[listed], ones=[mine], rpc="/rpc"), {}), "here")
    assert from_text(text, "d.yaml").tables["lamp"].read.details.rpc == "lamp.detail"


def test_a_filter_is_what_all_that_came_has_and_other_records_have_not():
    """As a comment alone, whatever speaks for it: one that leaves something out loses it."""
    rows = [{"id": f"L{at}", "siteCode": ("quay", "pier")[at % 2], "status": "lit"} for at in range(6)]
    told = ListSeen(path="/lamps", takes=["status", "deep"], answers=[
        AnswerSeen(parameters={}, body={"lamps": rows}),
        AnswerSeen(parameters={"where": "QUAY", "deep": "lit"}, body={"lamps": rows[::2]}),
    ])  # fmt: skip
    text = written(draft("d", ApiSeen(lists=[told]), {"site": {"quay", "pier", "moor"}}), "here")
    assert '    #   - {field: site, tests: "=", parameter: where}   # all that came with where=QUAY has it' in text
    assert '    #   - {field: status, tests: "=", parameter: status}   # it is called as the member is' in text
    assert "parameter: deep" not in text  # all records are so, with it and without
    assert not from_text(text, "d.yaml").tables["lamps"].filters


@pytest.mark.parametrize(
    ("above", "name", "path"),
    [("", "a", "a"), ("a", "b", "a.b"), ("", "@odata.count", "$['@odata.count']"), ("a", "b c", "$['a']['b c']"),
     ("$['x.y']", "z", "$['x.y']['z']"), ("", "it's", r"$['it\'s']")],
)  # fmt: skip
def test_a_member_of_any_name_has_a_path(above, name, path):
    from concordex.wire.dialect.paths import Path

    assert below(above, name) == path
    value = {"a": {"b": 1, "b c": 1}, "@odata.count": 1, "x.y": {"z": 1}, "it's": 1} | ({"a": 1} if path == "a" else {})
    assert Path(path).first(value) == 1


def test_what_one_list_showed_holds_of_another_in_the_same_envelope_alone():
    long = seen(*(
        ({"from": str(n), "many": "3"}, {"lamps": lamps(n, n + 3), "n": 9, "at": n}) for n in (0, 3)
    ))  # fmt: skip
    rooms = {"rooms": [{"id": "r1"}, {"id": "r2"}]}
    for body, asked, same in (
        ({**rooms, "n": 2, "at": 0}, {"from": "0", "many": "3"}, True),
        ({**rooms, "n": 1, "at": 0}, {"from": "0", "many": "3"}, False),  # its total is less than what came
        (rooms, {"from": "0", "many": "3"}, False),  # it has none
        ({**rooms, "n": 2}, {}, False),  # it takes no such parameters
        ({"held": {**rooms, "n": 2}}, {"from": "0", "many": "3"}, False),  # it stands elsewhere
    ):
        short = ListSeen(path="/rooms", answers=[AnswerSeen(parameters=asked, body=body)])
        made = {table.seen.path: table.pages for table in draft("d", ApiSeen(lists=[long, short]), {}).tables}
        assert bool(made["/rooms"].pages) == bool(made["/rooms"].total) == same, body


def test_details_stand_elsewhere_only_where_more_than_the_id_agrees():
    """Ids of two lists may be the same by chance."""
    listed = ListSeen(path="/rooms/all", answers=[AnswerSeen(parameters={}, body={"lamps": lamps(0, 3)})])
    own = OneSeen(
        path="/lamp/{id}", values={"id": "L1"}, body={"id": "L1", "label": "lamp 1", "serialNumber": "SN00017X"}
    )
    chance = OneSeen(path="/boat/{id}", values={"id": "L1"}, body={"id": "L1", "label": "boat", "serialNumber": "SN1"})
    tables = draft("d", ApiSeen(lists=[listed], ones=[own]), {}).tables
    assert tables[0].details
    assert not draft("d", ApiSeen(lists=[listed], ones=[chance]), {}).tables[0].details
    text = written(draft("d", ApiSeen(lists=[listed], ones=[own]), {}), "here")
    assert from_text(text, "d.yaml").tables[tables[0].name].read.details.path == "/lamp/{id}"


def test_a_page_that_begins_within_the_one_before_is_not_the_next():
    """The mark of a page's first record, given back, leads one record on: by it every list would be read for ever."""
    told = seen(({}, {"lamps": lamps(0, 3), "first": "m0"}), ({"after": "m0"}, {"lamps": lamps(1, 4), "first": "m1"}))
    assert pages_of(told, "lamps").pages is None


def test_a_flag_says_that_there_is_more_only_if_it_said_no_once_and_yes_wherever_one_went_on():
    def flagged(*flags: bool) -> dict:
        told = [
            ({"after": f"mark{n}"} if n else {}, {"lamps": lamps(n * 3, n * 3 + 3), "next": f"mark{n + 1}", "on": on})
            for n, on in enumerate(flags)
        ]
        return pages_of(seen(*told), "lamps").pages

    assert flagged(True, True, False)["more"] == "on"
    for flags in ((True, True, True), (False, True, True), (False, False, False)):
        assert "more" not in flagged(*flags)


def test_links_are_no_records_and_what_is_called_like_an_id_within_one_is_its_id():
    """The longest list of the answer holds links; and a cursor is a place in a list that moves with it."""
    links = [{"rel": f"x{n}", "href": f"/{n}", "type": "text/html"} for n in range(9)]
    edges = [{"cursor": f"at{n}", "node": lamp} for n, lamp in enumerate(lamps(0, 3))]
    told = ListSeen(path="/lamps", answers=[AnswerSeen(parameters={}, body={"links": links, "edges": edges})])
    table = draft("d", ApiSeen(lists=[told]), {}).tables[0]
    assert (table.records, table.record_id) == ("edges", "node.id")
    only = ListSeen(path="/lamps", answers=[AnswerSeen(parameters={}, body={"links": links})])
    assert not draft("d", ApiSeen(lists=[only]), {}).tables


def test_an_address_of_a_place_is_not_its_name_and_a_relation_is_told_by_the_word_above_its_id():
    sites = [{"id": str(n), "code": f"q-{n}"} for n in range(5)]
    records = [
        {**lamp, "office": f"/api/sites/{n}/", "relations": {"site": {"data": {"id": str(n % 5)}}}}
        for n, lamp in enumerate(lamps(0, 9))
    ]
    lists = [ListSeen(path=f"/{name}", answers=[AnswerSeen(parameters={}, body={"all": rows})])
             for name, rows in (("lamps", records), ("sites", sites))]  # fmt: skip
    table = next(one for one in draft("d", ApiSeen(lists=lists), {}).tables if one.seen.path == "/lamps")
    assert table.via["site"] == ("relations.site.data.id", "sites")
    assert "office" not in {guess.path for guess in table.fields}


def test_lists_that_share_their_last_word_are_called_by_the_one_before():
    lists = [
        ListSeen(path=f"/sets/{name}/items", answers=[AnswerSeen(parameters={}, body={"all": rows})])
        for name, rows in (("lamps", lamps(0, 3)), ("shelves", [{"id": "1"}, {"id": "2"}]))
    ]
    assert [table.name for table in draft("d", ApiSeen(lists=lists), {}).tables] == ["lamps", "shelves"]


def test_a_standard_that_is_followed_is_extended_and_said_once():
    answers = [AnswerSeen(parameters={}, body={"@odata.context": "/q/$metadata#Lamps", "value": lamps(0, 3)})]
    api = ApiSeen(
        lists=[ListSeen(path="/q/Lamps", answers=answers)],
        sign_in={"by": "basic"},
        credentials={"user": {}, "password": {"secret": True}},
    )
    shipped = {"odata": ShippedStandard({"/": "sets"}, "", "none", (), "value")}
    text = written(draft("d", api, {}, shipped), "here")
    made = from_text(text, "d.yaml")
    assert (made.extends, made.base, made.sign_in.by) == ("odata", "/q", "basic")
    assert made.tables["lamps"].read.pages.by == "link"
    assert "records:" not in text
    nothing = written(draft("d", ApiSeen(lists=[ListSeen(path="/q/Lamps", answers=answers)]), {}), "here")
    assert "extends" not in nothing
    api.lists.append(ListSeen(path="/other/rooms", answers=[AnswerSeen(parameters={}, body={"rooms": lamps(0, 2)})]))
    mixed = from_text(written(draft("d", api, {}, shipped), "here"), "d.yaml")  # below its base it would be asked amiss
    assert {f"{mixed.base}{table.read.path}" for table in mixed.tables.values()} == {"/q/Lamps", "/other/rooms"}
