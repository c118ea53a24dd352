"""Records completed by calls of their own: what came is true of its record, or the table is not called whole."""

from __future__ import annotations

import json

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from concordex.errors import WireError
from concordex.wire.http.session import Endpoint, Session
from concordex.wire.reading.belonging import Belonging
from concordex.wire.reading.read import read_table
from concordex.wire.reading.tables import read_tables
from tests.lamplight import Lamplight, dialect, run

TABLE = """
limits: {tries: TRIES}
tables:
  devices:
    read: {path: /lamps, records: lamps, complete: the guide says so, WITH}
    fields:
      record_id: id
      name: label
      depth: {from: BELOWwatts, type: number}
      macs: {from: "$.ports[*].mac"}
      texts: {from: "$.doing[*].mood", type: texts}
"""
DETAILS = [
    "{path: '/lamps/{id}'}",
    "{path: '/lamps/{id}', record: lamp}",
    "{path: '/lamps/{id}', record: lamp, under: more}",
]
PAGES = ["", ", pages: {by: offset, offset: from, limit: many, size: 2}"]
FAILING = {
    "refused": (500, {}), "page": (200, b"<html>sign in</html>"), "cut": (0, b""), "null": (200, None),
    "none": (200, []), "silent": (204, b""), "error": (200, {"error": "ask again"}),
}  # fmt: skip


def looked_at(url, completed, tries, below):
    spoken = dialect(TABLE.replace("WITH", completed).replace("TRIES", tries).replace("BELOW", below))

    async def within():
        async with Session(Endpoint(name="lamplight", url=url), spoken) as session:
            return await read_table(session, "devices")

    return run(within())


WAYS = st.sampled_from(["good"] * 9 + ["once", "other", "gone", "fewer", "more", *FAILING])


@pytest.fixture(scope="module")
def moody():
    """One server whose answers each example sets."""
    state = {}
    served = Lamplight(lambda _method, path, query, *_: state["answer"](path, query))
    yield served.url, state
    served.server.shutdown()


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.lists(st.tuples(WAYS, WAYS), max_size=6), WAYS, st.sampled_from(DETAILS), st.sampled_from(PAGES),
    st.integers(1, 2),
)  # fmt: skip
def test_what_is_completed_equals_the_truth_or_is_not_called_whole(moody, ways, away, details, pages, tries):
    """Details that fail, tell of another, or of an error; lists of a record's own, and a second list, that lack."""
    url, state = moody
    lamps, asked = range(len(ways)), set()

    def ports(lamp: int) -> list:
        return [{"mac": f"02:00:00:00:{lamp:02x}:{at:02x}"} for at in range(lamp % 4)]

    def spoiled(way, path, good, other):
        if way == "once" and path not in asked:
            asked.add(path)
            return 503, {}
        return FAILING.get(way) or ((404, {}) if way == "gone" else (200, other if way == "other" else good))

    def counted(way, name, records, of):
        return {name: records[: -1 if way == "fewer" else None], "n": of + (way == "more")}

    def answer(path, query):
        if path == "/lamps":
            return 200, {"lamps": [{"id": lamp, "label": f"l{lamp}"} for lamp in lamps]}
        if path == "/states":
            said = counted(away, "states", [{"host": lamp, "mood": f"m{lamp}"} for lamp in lamps], len(lamps))
            return spoiled(away, path, said, said)
        lamp = int(path.split("/")[2])
        if path.endswith("/ports"):
            begin, many = int(query.get("from", 0)), int(query.get("many", 99))
            said = counted(ways[lamp][1], "ports", ports(lamp)[begin : begin + many], len(ports(lamp)))
            return spoiled(ways[lamp][1], path, said, said)  # a list of another's ports says nothing of it
        told = [{"id": one, "watts": one * 7} for one in (lamp, (lamp + 1) % len(lamps))]
        return spoiled(ways[lamp][0], path, *({"lamp": one} if "record" in details else one for one in told))

    state["answer"] = answer
    gathers = f"gathers: [{{path: '/lamps/{{id}}/ports', records: ports, total: n, under: ports{pages}}}]"
    also = "also: [{path: /states, records: states, total: n, match: {host: id}, several: true, under: doing}]"
    try:
        look = looked_at(url, f"details: {details}, {gathers}, {also}", str(tries), "more." * ("under" in details))
    except WireError:
        return
    odd = {"other", "error"} & {way for way, _ in ways} and not {"good", "once"} & {way for way, _ in ways}
    if look.outcome != "whole" or odd:  # where none is of its own record, nothing shows it
        return
    there = {int(record["record_id"]): record for record in look.frame.to_dicts()}
    for lamp, (details_way, ports_way) in enumerate(ways):
        if "gone" not in (details_way, ports_way):  # which is told
            assert there[lamp]["depth"] == lamp * 7
            assert sorted(there[lamp]["macs"] or []) == [port["mac"] for port in ports(lamp)]
            assert there[lamp]["texts"] == [f"m{lamp}"]


def test_what_details_are_asked_by_may_stand_anywhere_in_the_request(serve):
    """And where a record lacks it, nothing is asked in its place."""
    asked = []

    def answer(_method, path, query, body, headers):
        if path == "/lamps":
            return 200, {"lamps": [{"id": 1, "on": True, "size": 2.0}, {"id": 2, "on": False, "size": 2.5}, {"id": 3}]}
        asked.append((query, body, headers["X-Lamp"]))
        return 200, {"watts": 7}

    call = '{method: POST, path: /lamp, query: {on: "{on}"}, form: {size: "{size}"}, headers: {X-Lamp: "{id}"}}'
    look = looked_at(serve(answer).url, f"details: {call}", "1", "")
    assert sorted(asked, key=str) == [({"on": "false"}, "size=2.5", "2"), ({"on": "true"}, "size=2", "1")]
    assert "of 1 records could not be had: lamplight: there is no value for {on} in what is sent to /lamp" in look.why


def test_what_says_nothing_of_whom_it_belongs_to_belongs_to_nobody(serve):
    """Neither to what says nothing either."""

    def answer(_method, path, *_):
        lamps = [{"id": 1, "room": "hall"}, {"id": 2, "room": None}, {"id": 3}]
        states = [{"where": "hall", "label": "lit"}, {"where": None, "label": "dark"}, {"label": "dim"}]
        return 200, {"lamps": lamps} if path == "/lamps" else states

    look = looked_at(
        serve(answer).url, "also: [{path: /x, match: {where: room}, complete: the guide says so}]", "1", ""
    )
    assert look.whole
    assert look.frame["name"].to_list() == ["lit", None, None]


@pytest.mark.parametrize(
    ("announced", "room", "outcome"),
    [(2, 2, "unproven"), (2, 1, "whole"), (2, None, "whole"), (1, 2, "whole"), (1, 1, "whole")],
)
def test_a_name_that_was_lost_with_a_part_of_another_table_is_missed(serve, announced, room, outcome):
    """A site that the system itself has not is none; one that did not come is not known."""

    def answer(_method, path, *_):
        rooms = {"rooms": [{"id": 1, "label": "attic"}], "n": announced}
        return 200, rooms if path == "/rooms" else [{"id": 1, "room": room}, {"id": 2, "room": 1}]

    spoken = dialect("""
    tables:
      sites:
        read: {path: /rooms, records: rooms, total: n, complete: the guide says so}
        fields: {record_id: id, name: label}
      devices: {read: {path: /x, complete: it is told}, fields: {record_id: id, site: {from: room, via: sites}}}
    """)

    async def within():
        async with Session(Endpoint(name="lamplight", url=serve(answer).url), spoken) as session:
            return {name: look async for name, look in read_tables(session, ["devices"])}

    look = run(within())["devices"]
    assert look.outcome == outcome
    why = "of 1 id in site it is not known what is meant: sites is partial"
    assert look.why == (why if outcome == "unproven" else None)


@pytest.mark.parametrize("under", ["", ", under: state"])
def test_a_second_list_does_not_give_a_record_another_id(serve, under):
    """As one would whose records have ids of their own: what is written to the first went to another one."""

    def answer(_method, path, *_):
        return 200, {"lamps": [{"id": 1}, {"id": 2}]} if path == "/lamps" else [{"id": 2, "of": 1}, {"id": 1, "of": 2}]

    also = f"also: [{{path: /x, match: {{of: id}}, complete: the guide says so{under}}}]"
    look = looked_at(serve(answer).url, also, "1", "")
    assert [json.loads(text)["id"] for text in look.frame.sort("record_id")["original"]] == [1, 2]
    assert look.why == (None if under else "the second list /x has ids of its own: `under` keeps them apart")


@pytest.mark.parametrize("below", [False, True])
@pytest.mark.parametrize(("heeds", "alike"), [(True, False), (True, True), (False, True)])
def test_a_list_for_each_record_is_not_whole_where_the_system_gives_the_same_to_all(serve, below, heeds, alike):
    """As one does that knows no such parameter; where sites are merely alike, one question more tells them apart."""
    asked = []

    def answer(_method, path, query, *_):
        if path == "/zones":
            return 200, [{"id": zone, "label": f"z{zone}"} for zone in (1, 2, 3)]
        asked.append(query["zone"])
        known = query["zone"] in ("1", "2", "3") or not heeds
        return 200, [{"id": at if alike else f"{query['zone']}-{at}"} for at in range(2)] if known else []

    own = "each: {of: sites}, path: /lamps, query: {zone: '{record_id}'}"
    of_each = (
        "path: /zones, gathers: [{path: /lamps, query: {zone: '{id}'}, under: lamps, complete: the guide says so}]"
    )
    spoken = dialect(f"""
    tables:
      sites: {{read: {{path: /zones, complete: the guide says so}}, fields: {{record_id: id}}}}
      devices:
        read: {{{own if below else of_each}, complete: the guide says so}}
        fields: {{record_id: {{from: id, below_parent: {str(below).lower()}}}}}
    """)

    async def within():
        async with Session(Endpoint(name="lamplight", url=serve(answer).url), spoken) as session:
            return {name: look async for name, look in read_tables(session, ["devices"])}

    look = run(within())["devices"]
    assert look.outcome == ("whole" if heeds else "partial")
    assert heeds or "also where there is no such record" in look.why
    assert len(asked) == 3 + alike


LISTED = [{"id": 1}, {"id": "/lamps/2"}, {"id": "A-3"}]


@pytest.mark.parametrize(
    ("under", "came", "said"),
    [
        ("", [{"id": "1"}, {"id": "http://there/lamps/2"}, {"id": "a3"}], ""),  # another notation is no other id
        ("", [{"watts": 1}, {"id": "/lamps/2"}, {"id": "A-2"}], "the details of 1 records bear another record's id"),
        ("", [{"id": 7}, {"id": 8}, {"id": 9}], "bear other ids than the list"),
        ("more", [{"id": 7}, {"id": 8, "watts": 1}, {"id": 9, "watts": 1}], "of 1 records hold nothing that a field"),
        ("more", [{"id": 7, "watts": 1}, {}, []], ""),  # that there is none is no failure
        ("more", [{"fan": 1}, {"fan": 2}], ""),  # what no field names may be all that was wanted
    ],
)
def test_details_are_told_from_those_of_others_and_from_errors(under, came, said):
    details = DETAILS[2] if under else DETAILS[1]
    text = TABLE.replace("WITH", f"details: {details}").replace("TRIES", "1")
    seen = Belonging(dialect(text.replace("BELOW", "more." if under else "")).tables["devices"])
    for record, more in zip(LISTED, came, strict=False):
        seen.took(record, more)
    doubt = seen.doubt
    told = seen.fault or (doubt.why if doubt else "")
    assert said in told
    assert bool(said) == bool(told)
