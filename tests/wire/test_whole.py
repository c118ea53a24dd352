"""Whole is a proof: against a server of many manners, no part is ever called whole."""

from __future__ import annotations

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from concordex.errors import WireError
from concordex.wire.http.links import related
from concordex.wire.http.session import Endpoint, Session
from concordex.wire.reading.pages import Narrow, whole_number
from concordex.wire.reading.read import count, read_table
from tests.lamplight import Lamplight, dialect, lamps, run
from tests.manners import Manners

OFFSET = "pages: {by: offset, offset: from, limit: many, size: %d%s}"
NUMBER = "pages: {by: number, page: page, limit: many, size: %d%s}"


def look_at(url, spoken, narrow=None):
    async def within():
        async with Session(Endpoint(name="lamplight", url=url), spoken) as session:
            return await read_table(session, "lamps", narrow)

    return run(within())


def told(serve, manners, read, narrow=None, **more):
    """What a table of a server with these manners is called, by what, how many came, and why."""
    spoken = lamps(f"{{path: /lamps, records: lamps, {read}}}", limits={"tries": 1}, **more)
    look = look_at(serve(manners).url, spoken, narrow)
    return look.outcome, look.proof, look.distinct, look


CASES = {
    # an honest list, by each way of paging
    "a total that agrees": (Manners(), f"total: n, {OFFSET % (10, '')}", "whole", "total", 64),
    "an empty page": (Manners(total="none"), OFFSET % (10, ""), "whole", "end", 64),
    "numbers from nought": (Manners(by="number"), f"total: n, {NUMBER % (10, ', first: 0')}", "whole", "total", 64),
    "a link that is null": (Manners(by="link", total="none"), "pages: {by: link, next: next}", "whole", "end", 64),
    "a mark that is absent": (
        Manners(by="cursor", last="absent"), "total: n, pages: {by: cursor, next: next, cursor: mark}",
        "whole", "total", 64),
    "a total by a call": (Manners(by="once"), "total: {path: /tally, at: n}", "whole", "total", 64),
    # systems that send fewer than they are asked for
    "a cap below size": (Manners(total="none", cap=7), OFFSET % (50, ""), "whole", "end", 64),
    "a cap, by number": (Manners(by="number", base=1, total="none", cap=7), NUMBER % (50, ""), "whole", "end", 64),
    "pages of their own size": (
        Manners(by="number", base=1, total="none", cap=20), "pages: {by: number, page: page, size: 100}",
        "whole", "end", 64),
    "a short page in the middle": (Manners(total="none", short={3: 2}), OFFSET % (10, ""), "whole", "end", 64),
    "a short page, side by side": (Manners(short={3: 2}), f"total: n, {OFFSET % (10, '')}", "whole", "total", 64),
    "a cap at a round number": (
        Manners(size=2500, total=1000, stop=1000), f"total: n, {OFFSET % (100, '')}", "unproven", None, 1000),
    # numbers that begin elsewhere
    "first 1 on a list from 0": (Manners(total="none"), OFFSET % (10, ", first: 1"), "partial", None, 63),
    "page 1 on pages from 0": (Manners(by="number", total="none"), NUMBER % (10, ""), "partial", None, 54),
    "first 0 on a list from 1": (Manners(base=1, total="none"), OFFSET % (10, ", first: 0"), "partial", None, 0),
    # totals
    "a total that is capped": (Manners(total=50), f"total: n, {OFFSET % (10, '')}", "whole", "end", 64),
    "a total too high": (Manners(total=70), f"total: n, {OFFSET % (10, '')}", "partial", None, 64),
    "each page's own count": (Manners(total="own"), f"total: n, {OFFSET % (10, '')}", "whole", "end", 64),
    "no total where one is promised": (Manners(total="none"), f"total: n, {OFFSET % (10, '')}", "partial", None, 64),
    "a null total": (Manners(total="null"), f"total: n, {OFFSET % (10, '')}", "partial", None, 64),
    "a total of -1": (Manners(total=-1), f"total: n, {OFFSET % (10, '')}", "partial", None, 64),
    "a total as text": (Manners(size=1064, total="1,064"), f"total: n, {OFFSET % (200, '')}", "whole", "total", 1064),
    "its own count, at once": (Manners(by="once", total="own"), "total: n", "unproven", None, 64),
    "a total, and a list at once": (Manners(by="once", stop=40), "total: n", "partial", None, 40),
    # past the end
    "404 that is said": (Manners(total="none", past=404), OFFSET % (10, ", past_end: 404"), "whole", "end", 64),
    "404 that is not said": (Manners(past=404), f"total: n, {OFFSET % (10, '')}", "unproven", None, 64),
    "404 without a total": (Manners(total="none", past=404), OFFSET % (10, ""), "partial", None, 64),
    "a last page that repeats, said": (
        Manners(total="none", past="repeats"), OFFSET % (10, ", past_end: repeats"), "whole", "end", 64),
    "a last page that repeats": (Manners(total="none", past="repeats"), OFFSET % (10, ""), "partial", None, 64),
    "a system that ignores offsets": (Manners(total="none", deaf=True), OFFSET % (10, ""), "partial", None, 10),
    "the same, with a wrong word": (
        Manners(total="none", deaf=True), OFFSET % (10, ", past_end: repeats"), "unproven", None, 10),
    "a page number where an offset is meant": (
        Manners(by="number", total="none"), "pages: {by: offset, offset: page, limit: many, size: 10}",
        "unproven", None, 10),
    "one page, and 404 past it": (Manners(size=8, total="none", past=404), OFFSET % (10, ", past_end: 404"),
        "whole", "end", 8),
    "one page that is all there is": (Manners(size=8, total="none"), OFFSET % (10, ""), "whole", "end", 8),
    # links and marks
    "more that says the opposite": (
        Manners(by="cursor", total="none", more="reversed"),
        "pages: {by: cursor, next: next, cursor: mark, more: more}", "unproven", None, 10),
    "the opposite, shown by asking for fewer": (
        Manners(by="cursor", total="none", more="reversed"),
        "pages: {by: cursor, next: next, cursor: mark, more: more, limit: many, size: 20}", "partial", None, 20),
    "a wrong path to the link": (
        Manners(by="link", total="none", cap=10), "pages: {by: link, next: onward}", "unproven", None, 10),
    "the same, shown by asking for fewer": (
        Manners(by="link", total="none"), "pages: {by: link, next: onward, limit: many, size: 20}",
        "partial", None, 20),
    "a small list whose last page has no link": (
        Manners(by="link", size=5, total="none", last="absent"), "pages: {by: link, next: next, limit: many, size: 20}",
        "whole", "end", 5),
    "a wrong path to more": (
        Manners(by="cursor", total="none", more="true"), "pages: {by: cursor, next: next, cursor: mark, more: rest}",
        "partial", None, 10),
    "more without a mark": (
        Manners(by="cursor", total="none", more="lies"), "pages: {by: cursor, next: next, cursor: mark, more: more}",
        "partial", None, 64),
    "no link to a last page that is not full": (
        Manners(by="link", total="none", shy=True), "pages: {by: link, next: next, limit: many, size: 20}",
        "unproven", None, 60),
    "the same, and no size to ask for": (
        Manners(by="link", total="none", shy=True), "pages: {by: link, next: next}", "unproven", None, 60),
    "no link to a page that would not be full, and one page shorter than asked": (
        Manners(by="link", size=4, cap=3, total="none", shy=True),
        "pages: {by: link, next: next, limit: many, size: 4}", "partial", None, 3),
    "one page shorter than asked, and the last of it is told of": (
        Manners(by="link", size=3, total="none"), "pages: {by: link, next: next, limit: many, size: 4}",
        "whole", "end", 3),
    "counted from 0 and not from 1, and some sizes alone": (
        Manners(by="offset", size=2, total="none", sizes=(4, 10)),
        "pages: {by: offset, offset: from, limit: many, first: 1, size: 4}", "partial", None, 1),
    "one page, and some sizes alone": (
        Manners(by="link", size=3, total="none", sizes=(4, 10)),
        "pages: {by: link, next: next, limit: many, size: 4}", "unproven", None, 3),
    "no mark to it, and one page": (
        Manners(by="cursor", size=70, total="none", shy=True, last="absent"),
        "pages: {by: cursor, next: next, cursor: mark, limit: many, size: 50}", "unproven", None, 50),
    "a last page that is full, and no other size": (
        Manners(by="link", size=60, total="none", sizes=(10, 20)),
        "pages: {by: link, next: next, limit: many, size: 20}",
        "unproven", None, 60),
    "a last page that is full": (
        Manners(by="link", size=60, total="none"), "pages: {by: link, next: next, limit: many, size: 20}",
        "whole", "end", 60),
    "a mark that leads back": (
        Manners(by="cursor", total="none", last="loop"), "pages: {by: cursor, next: next, cursor: mark}",
        "partial", None, 64),
    "a mark that stays the same, said": (
        Manners(by="cursor", total="none", last="same"),
        "pages: {by: cursor, next: next, cursor: mark, same_mark: true}", "whole", "end", 64),
    "a mark that stays the same": (
        Manners(by="cursor", total="none", last="same"), "pages: {by: cursor, next: next, cursor: mark}",
        "partial", None, 20),
    "a member with a dot in its name": (
        Manners(by="link", total="none", mark="@list.next"), "pages: {by: link, next: \"$['@list.next']\"}",
        "whole", "end", 64),
    "a header that tells of several relations": (
        Manners(by="header", total="none", mark='<%s>; title="a, b; rel=\\"last\\""; rel="Last NEXT"'),
        "pages: {by: link_header}", "whole", "end", 64),
    "a header that is none": (
        Manners(by="header", total="none", mark="%s; rel=next"), "pages: {by: link_header}", None, None, 0),
    # the dialect's word
    "a list at once": (Manners(by="once", total="none"), "", "unproven", None, 64),
    "a list that is vouched for": (
        Manners(by="once", total="none"), "complete: the guide says that it is never cut", "whole", "vouched", 64),
}  # fmt: skip


@pytest.mark.parametrize("case", CASES)
def test_each_manner_is_called_what_it_is(serve, case):
    manners, read, outcome, proof, came = CASES[case]
    if outcome is None:
        with pytest.raises(WireError, match="RFC 8288"):
            told(serve, manners, read)
        return
    found = told(serve, manners, read)
    assert found[:3] == (outcome, proof, came), found[3].why
    assert bool(found[3].why) == (outcome != "whole")


def test_the_total_of_all_is_no_fault_while_a_filter_is_on(serve):
    manners = Manners(stop=12, total="true")
    found = told(serve, manners, f"total: n, {OFFSET % (10, '')}", Narrow(parameters={"place": "quay"}))
    assert found[:3] == ("whole", "end", 12)


def test_a_total_that_changes_while_it_is_read_is_looked_at_again(serve):
    """A record is taken away in front of the second page: what moved up is missed, and the last total agrees."""
    gone = {"now": False}

    def answer(method, path, query, body, headers):
        start = int(query["from"])
        records = [{"id": at, "label": "x"} for at in range(1, 31) if not (gone["now"] and at == 1)]
        gone["now"] = True
        return 200, {"lamps": records[start : start + 10], "n": len(records)}

    outcome, _, came, look = told(serve, answer, f"total: n, {OFFSET % (10, '')}")
    assert (outcome, came) == ("whole", 29)
    assert "the second did" in look.notes[-1]


@pytest.mark.parametrize("pages", [OFFSET % (10, ""), NUMBER % (100, ", first: 0, past_end: repeats")])
def test_records_are_known_again_by_their_ids_whatever_else_of_them_moves(serve, pages):
    """Counters and times change with every request, and the list is proved all the same."""
    manners = Manners(by="number" if "number" in pages else "offset", total="none", past="repeats")
    manners.past = "repeats" if "repeats" in pages else "empty"

    def answer(*asked):
        status, body, more = manners(*asked)
        return status, {"lamps": [{**lamp, "seen": manners.asked} for lamp in body["lamps"]]}, more

    assert told(serve, answer, pages)[:3] == ("whole", "end", 64)


def test_a_revision_is_the_same_on_all_pages(serve):
    manners = Manners()

    def answer(*asked):
        status, body, more = manners(*asked)
        return status, body | {"rev": "a" if manners.asked < 3 else "b"}, more

    outcome, _, _, look = told(serve, answer, f"total: n, revision: rev, {OFFSET % (10, '')}")
    assert outcome == "whole", look.why  # the second look finds it settled
    manners.asked, manners.short = 0, {}
    manners2 = Manners()

    def restless(*asked):
        status, body, more = manners2(*asked)
        return status, body | {"rev": manners2.asked}, more

    outcome, _, _, look = told(serve, restless, f"total: n, revision: rev, {OFFSET % (10, '')}")
    assert outcome == "partial"
    assert "the list changed meanwhile" in look.why


SPANS = """
tables:
  lamps:
    read:
      path: /lit
      pages: {by: window, since: since, until: until, reach: 6h, span: 2h, full: 200, time: %s}
    fields: {record_id: id, name: id}
"""


@pytest.mark.parametrize(("time", "outcome"), [("epoch", "whole"), ("epoch_ms", "unproven")])
def test_spans_are_never_cut_below_what_the_dialect_calls_full(serve, time, outcome):
    """The system cuts each span at 50 records, and the dialect says 200; moments in the wrong unit find nothing."""
    from datetime import UTC, datetime

    now = int(datetime.now(UTC).timestamp())
    lit = [{"id": at, "at": now - 6 * 3600 + 60 + at * 25} for at in range(800)]

    def answer(_m, _p, query, *_):
        found = [one for one in lit if int(query["since"]) <= one["at"] < int(query["until"])]
        return 200, found[:50]

    look = look_at(serve(answer).url, dialect(SPANS % time))
    assert look.outcome == outcome
    assert look.distinct == (800 if outcome == "whole" else 0), look.notes


def test_days_without_an_event_are_no_list_without_an_end(serve):
    from datetime import UTC, datetime

    now = int(datetime.now(UTC).timestamp())

    def answer(_m, _p, query, *_):
        return 200, [{"id": at, "at": when} for at, when in ((1, now - 190_000), (2, now - 60))
                     if int(query["since"]) <= when < int(query["until"])]  # fmt: skip

    look = look_at(serve(answer).url, dialect((SPANS % "epoch").replace("reach: 6h", "reach: 60h")))
    assert (look.outcome, look.distinct) == ("whole", 2), look.why


def test_pages_by_ranges(serve):
    """RFC 9110, section 14: Range asks, Content-Range tells what came of how many, 416 that there is no more."""
    import re

    def answer(_m, _p, _q, _b, headers):
        start, end = map(int, re.fullmatch(r"lamps=(\d+)-(\d+)", headers["Range"]).groups())
        records = [{"id": at, "label": "x"} for at in range(64)][start : end + 1][:20]
        if not records:
            return 416, {}, [("Content-Range", "lamps */64")]
        return 206, records, [("Content-Range", f"lamps {start}-{start + len(records) - 1}/64")]

    look = look_at(serve(answer).url, lamps("{path: /lamps, pages: {by: range, unit: lamps, size: 50}}"))
    assert (look.outcome, look.proof, look.distinct) == ("whole", "total", 64)


@pytest.mark.parametrize(
    ("header", "expected"),
    [
        ('<a>; rel="next"', {"next": "a"}),
        ("<a>;rel=next", {"next": "a"}),
        ('<a>; REL="Next"', {"next": "a"}),
        ('<a>; rel="prev next", <b>; rel=last', {"prev": "a", "next": "a", "last": "b"}),
        ('<a>; title="next, please; rel=\\"last\\""; rel="next"', {"next": "a"}),
        ('<a,b>; rel="next"', {"next": "a,b"}),
        (', , <a> ; rel = "next" ,', {"next": "a"}),
        ('<a>; rel="next"; rel="last"', {"next": "a"}),
        ('<a>; rel="next", <b>; rel="next"', {"next": "a"}),
        ("<a>; title*=UTF-8''x%20y; rel=next", {"next": "a"}),
        ('<a>; anchor="/other"; rel="next"', {}),
        ('<a>; anchor=""; rel="next"', {"next": "a"}),
        ('<a>; anchor="#part"; rel="next"', {"next": "a"}),
        ("<a>", {}),
        ("<>; rel=next", {"next": ""}),
        ("", {}),
    ],
)
def test_a_link_header_says_what_the_standard_means(header, expected):
    assert related([header], "http://h/lamps") == expected


@pytest.mark.parametrize(
    "header", ["a; rel=next", "<a; rel=next", '<a>; rel="next', "<a> rel=next", "<a>; rel=next <b>"]
)
def test_a_link_header_that_cannot_be_read_is_a_fault(header):
    with pytest.raises(ValueError, match="character"):
        related([header])


_WORDS = st.text(st.characters(codec="ascii", categories=["L", "N"]), min_size=1, max_size=6)


@given(st.lists(st.tuples(_WORDS, _WORDS, st.text(st.characters(codec="ascii", min_codepoint=32)))), st.booleans())
def test_a_link_header_is_read_back_as_it_was_written(links, split):
    """Whatever stands in a title, each relation leads where it was written to lead."""
    quoted = [title.replace("\\", "\\\\").replace('"', '\\"') for *_, title in links]
    parts = [f'</{target}>; title="{t}"; rel="{rel}"' for (target, rel, _), t in zip(links, quoted, strict=True)]
    expected: dict[str, str] = {}
    for target, rel, _ in links:
        expected.setdefault(rel.lower(), f"/{target}")
    assert related(parts if split else [", ".join(parts)]) == expected


@pytest.mark.parametrize(
    ("said", "count"),
    [(64, 64), (64.0, 64), ("64", 64), (" 1,064 ", 1064), ("1.064", 1064), ("1 064", 1064), ("12'345'678", 12345678),
     (-1, None), (None, None), (True, None), ("", None), ("many", None), ("1,06", None), (6.5, None)],
)  # fmt: skip
def test_a_total_is_a_number_however_it_is_written(said, count):
    assert whole_number(said) == count


@pytest.mark.parametrize("heeds", [True, False])
def test_what_a_cache_kept_is_not_asked_for_nor_called_whole(serve, heeds):
    """One in between had pages of yesterday; of one that gives them all the same it is told."""
    kept, new = Manners(size=20), Manners(size=24)
    yesterday = [("Age", "86400"), ("Date", "Mon, 01 Jan 2024 00:00:00 GMT")]

    def cache(method, path, query, body, headers):
        if heeds and headers.get("Cache-Control") == "no-cache":
            return new(method, path, query, body, headers)
        return *kept(method, path, query, body, headers)[:2], yesterday

    spoken = lamps(f"{{path: /lamps, records: lamps, total: n, {OFFSET % (10, '')}}}", limits={"tries": 1})

    async def within():
        async with Session(Endpoint(name="lamplight", url=serve(cache).url), spoken) as session:
            return await read_table(session, "lamps"), session.now_there

    look, there = run(within())
    assert (look.outcome, look.distinct, there is None) == (("whole", 24, False) if heeds else ("unproven", 20, True))
    assert heeds or "came out of a cache" in look.why


@pytest.mark.parametrize("sizes", [(), (10,)])
def test_how_many_there_are_is_told_also_where_only_some_sizes_may_be_asked_for(serve, sizes):
    spoken = lamps("{path: /lamps, records: lamps, total: n, pages: {by: offset, offset: from, limit: many, size: 10}}")
    url = serve(Manners(size=23, sizes=sizes)).url

    async def asked():
        async with Session(Endpoint(name="lamplight", url=url), spoken) as session:
            return await count(session, "lamps")

    assert run(asked()) == 23


@pytest.fixture(scope="module")
def moody():
    """One server whose manners each example sets."""
    state = {"manners": Manners()}

    def answer(*asked):
        return state["manners"](*asked)

    served = Lamplight(answer)
    yield served.url, state
    served.server.shutdown()


@st.composite
def manners_and_dialect(draw):
    """A server's manners, and a dialect for it that may hold mistakes."""
    by = draw(st.sampled_from(["offset", "number", "link", "header", "cursor", "once"]))
    total = draw(st.sampled_from(["", "total: n, "]))
    size = draw(st.integers(0, 60))
    base = draw(st.sampled_from([0, 1]))
    manners = Manners(
        size=size, by=by, base=base, cap=draw(st.sampled_from([None, 3, 7, 20])),
        total=draw(st.sampled_from(["true", "own", "none", "null", -1, 5, 20, 1000])),
        past=draw(st.sampled_from(["empty", "repeats", 404, 400])),
        short=draw(st.dictionaries(st.integers(1, 6), st.integers(1, 4), max_size=2)),
        mark='<%s>; rel="next"' if by == "header" else "next", sizes=draw(st.sampled_from([(), (), (10,), (4, 10)])),
        last=draw(st.sampled_from(["null", "absent", "loop"])),
        more=draw(st.sampled_from([None, "true", "lies", "reversed"])),
        deaf=draw(st.integers(0, 9)) == 0, shy=draw(st.integers(0, 3)) == 0,
    )  # fmt: skip
    if by == "cursor" or (by == "number" and not (total and manners.total == "true")):
        manners.short = {}  # what a short page leaves out, or denies, nothing shows there
    manners.shy &= by == "offset" or not manners.short  # nor which page is the last, where each is of another length
    manners.shy &= isinstance(manners.total, str)  # and a total that is wrong and just what came is believed
    wrong = draw(st.integers(0, 3)) == 0
    first = 1 - base if wrong and draw(st.booleans()) else base
    page = "from" if by == "offset" else "page"
    as_if = {"offset": "number", "number": "offset"}.get(by, by) if wrong and draw(st.booleans()) else by
    next_at = "elsewhere" if wrong and draw(st.booleans()) else "next"
    limit = draw(st.sampled_from(["", "limit: many, "]))
    past = draw(st.sampled_from(["", ", past_end: 404", ", past_end: repeats"]))
    more = draw(st.sampled_from(["", ", more: more"]))
    asked = draw(st.sampled_from([1, 4, 10, 100]))
    pages = {
        "offset": f"{{by: offset, offset: {page}, limit: many, first: {first}, size: {asked}{past}}}",
        "number": f"{{by: number, page: {page}, {limit}first: {first}, size: {asked}{past}}}",
        "link": f"{{by: link, next: {next_at}, {limit}size: {asked}}}",
        "cursor": f"{{by: cursor, next: {next_at}, cursor: mark, {limit}size: {asked}{more}}}",
        "header": f"{{by: link_header, {limit}size: {asked}}}",
        "once": "{by: none}",
    }[as_if]
    return manners, f"{{path: /lamps, records: lamps, {total}pages: {pages}}}"


@settings(max_examples=100, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
@given(manners_and_dialect())
def test_a_pull_equals_the_truth_or_is_not_called_whole(moody, drawn):
    url, state = moody
    state["manners"], read = drawn
    try:
        look = look_at(url, lamps(read, limits={"tries": 1}))
    except WireError:
        return
    if look.outcome == "whole":
        assert sorted(map(int, look.frame["record_id"])) == list(range(1, drawn[0].size + 1))


@settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
@given(
    st.lists(st.integers(0, 6 * 3600 - 120), max_size=40), st.booleans(), st.sampled_from([2, 3, 10, 1000]),
    st.sampled_from([3, 10, 200]), st.booleans(),
)  # fmt: skip
def test_spans_equal_the_truth_or_are_not_called_whole(moody, moments, burst, cap, full, inclusive):
    """Wherever events crowd, and wherever the system cuts a span."""
    from datetime import UTC, datetime

    url, state = moody
    begin = int(datetime.now(UTC).timestamp()) - 6 * 3600 + 60
    events = sorted(begin + (at % 30 if burst else at) for at in moments)

    def answer(_m, _p, query, *_):
        since, until = int(query["since"]), int(query["until"]) + inclusive
        return 200, [{"id": at, "at": when} for at, when in enumerate(events) if since <= when < until][:cap]

    state["manners"] = answer
    spoken = dialect((SPANS % "epoch").replace("full: 200", f"full: {full}"), limits={"tries": 1})
    try:
        look = look_at(url, spoken)
    except WireError:
        return
    if look.outcome == "whole":
        assert sorted(map(int, look.frame["record_id"])) == list(range(len(events)))
