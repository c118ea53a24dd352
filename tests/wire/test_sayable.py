"""What a dialect can say of reading: links inside records, lists of rows, lists that belong to a record, any method."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta
from types import SimpleNamespace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from concordex.errors import BadAnswer, DocumentError, RequestRefused
from concordex.wire.dialect import Answers, XmlShape
from concordex.wire.dialect.load import from_file
from concordex.wire.dialect.templates import Template
from concordex.wire.http.formats import decode, encode
from concordex.wire.writing.records import refused_in
from tests.lamplight import RECORDS, dialect, lamps, run
from tests.lamplight import reading as reading_of


def reading(url, spoken, table="lamps"):
    return run(reading_of(url, spoken, table))


def test_one_object_is_a_record_and_rows_and_plain_values_are(serve):
    one = reading(serve(lambda *_: (200, RECORDS[0])).url, lamps("{path: /, records: $}"))
    assert one.frame["name"].to_list() == ["lamp-001"]
    plain = reading(serve(lambda *_: (200, ["a", "b"])).url, lamps("{path: /, members: [id]}"))
    assert plain.frame["record_id"].to_list() == ["a", "b"]
    said = {"cols": ["label", "id"], "rows": [["one", 1], ["two", 2]]}
    rows = reading(serve(lambda *_: (200, said)).url, lamps("{path: /, records: rows, members: cols}"))
    assert rows.frame.select("record_id", "name").rows() == [("1", "one"), ("2", "two")]
    uneven = {"cols": ["id"], "rows": [[1, 2]]}
    with pytest.raises(Exception, match="a row has 2 values, where 1 members are named: id"):
        reading(serve(lambda *_: (200, uneven)).url, lamps("{path: /, records: rows, members: cols}"))


def test_calls_go_where_a_link_inside_a_record_leads(serve):
    """Relative to the list or from the root; a null link is no list; `{…}` may hold JSONPath."""

    def answer(_m, path, *_):
        lists = {
            "/api/lamps": [{"id": 1, "self": "lamps/1", "@x.ports": "/api/lamps/1/ports"},
                           {"id": 2, "self": None, "@x.ports": None}],
            "/api/lamps/1": {"label": "one"},
            "/api/lamps/1/ports": [{"mac": "0A1B2C000001"}, {"mac": "0A1B2C000002"}],
        }  # fmt: skip
        return (200, lists[path]) if path in lists else (404, {})

    spoken = dialect(
        "base: /api\ntables: {lamps: {read: {path: /lamps, complete: the guide says so, details: {link: self},"
        " gathers: [{link: \"$['@x.ports']\", under: ports, complete: the guide says so}]},"
        " fields: {record_id: id, name: label, macs: '$.ports[*].mac'}}}"
    )
    look = reading(serve(answer).url, spoken)
    assert look.outcome == "whole", look.why
    assert look.frame.select("name", "macs").rows() == [
        ("one", ["0a:1b:2c:00:00:01", "0a:1b:2c:00:00:02"]), (None, None),
    ]  # fmt: skip
    named = dialect(
        "base: /api\ntables: {lamps: {read: {path: /lamps, details: {path: \"{$['self']}\", under: more}},"
        " fields: {record_id: id}}}"
    )
    assert "no value for {$['self']}" in reading(serve(answer).url, named).fault


def test_a_list_of_its_own_is_gathered_whole_or_the_table_is_not(serve):
    ports = {
        f"/lamps/{r['id']}/ports": [{"mac": f"0A1B2C0000{r['id']:02x}"}, {"mac": f"0A1B2D0000{r['id']:02x}"}]
        for r in RECORDS
    }

    def answer(_m, path, query, *_):
        if path == "/lamps":
            return 200, RECORDS
        start = int(query["from"])
        return (500, {}) if path in state["bad"] else (200, {"n": 2, "p": ports[path][start : start + 1]})

    spoken = dialect(
        "limits: {tries: 1}\ntables: {lamps: {read: {path: /lamps, complete: the guide says so,"
        " gathers: [{path: '/lamps/{id}/ports',"
        " records: p, total: n, pages: {by: offset, offset: from, limit: many}, under: ports}]},"
        " fields: {record_id: id, macs: '$.ports[*].mac'}}}"
    )
    state = {"bad": ()}
    look = reading(serve(answer).url, spoken)
    assert look.outcome == "whole", look.why
    assert look.frame["macs"].list.len().to_list() == [2] * 23
    state["bad"] = ("/lamps/3/ports",)
    look = reading(serve(answer).url, spoken)
    assert look.outcome == "partial"
    assert "the details of 1 records could not be had" in look.fault


@pytest.mark.parametrize("first", ["full", "short"])
def test_of_lists_that_are_gathered_the_worst_says_what_the_table_is(serve, first):
    """Whichever came first: one that may be cut, and one that is."""

    def answer(_m, path, query, *_):
        if path == "/lamps":
            return 200, [{"id": 1}, {"id": 2}]
        full = (path == "/lamps/1/ports") == (first == "full")
        return 200, {"p": [{"mac": f"0A1B2C00000{at}"} for at in range(2)], **({} if full else {"n": 9})}

    spoken = dialect(
        "tables: {lamps: {read: {path: /lamps, complete: the guide says so,"
        " gathers: [{path: '/lamps/{id}/ports', records: p, total: n, under: ports}]},"
        " fields: {record_id: id, macs: '$.ports[*].mac'}}}"
    )
    look = reading(serve(answer).url, spoken)
    assert look.outcome == "partial"
    assert "the list ports" in look.fault


def test_several_records_of_a_second_list_belong_to_one_of_the_first(serve):
    ports = [{"of": 1 + at % 2, "mac": f"0a1b2c00000{at}"} for at in range(4)]
    served = serve(lambda _m, path, *_: (200, RECORDS[:2] if path == "/lamps" else ports))
    spoken = dialect(
        "tables: {lamps: {read: {path: /lamps, also: [{path: /ports, match: {of: id}, under: ports, several: true}]},"
        " fields: {record_id: id, macs: '$.ports[*].mac'}}}"
    )
    assert reading(served.url, spoken).frame["macs"].list.len().to_list() == [2, 2]


@pytest.mark.parametrize("method", ["PROPFIND", "REPORT", "POST"])
def test_a_list_is_read_by_any_method(serve, method):
    served = serve(lambda m, *_: (200, RECORDS) if m == method else (405, {}))
    assert reading(served.url, lamps(f"{{path: /lamps, method: {method}}}")).distinct == 23


def test_links_of_a_system_that_knows_itself_by_another_name_count_by_their_path(serve):
    def answer(_m, path, query, *_):
        at = int(query.get("at", 0))
        more = f"http://inside.example:8080/lamps?at={at + 10}" if at + 10 < 23 else None
        return 200, {"l": RECORDS[at : at + 10], "next": more}

    url = serve(answer).url
    assert "another host" in reading(url, lamps("{path: /lamps, records: l, pages: {by: link, next: next}}")).fault
    look = reading(url, lamps("{path: /lamps, records: l, pages: {by: link, next: next, path_only: true}}"))
    assert (look.outcome, look.distinct) == ("whole", 23)


def test_graphql_pages_by_its_cursors_and_tells_its_errors(serve):
    """The query in the body, the cursor in its variables, `errors` inside HTTP 200."""

    def answer(_m, _p, _q, body, _h):
        if state["broken"]:
            return 200, {"data": None, "errors": [{"message": "no such field: lumps"}]}
        assert body["query"] == "query($after: String) { lamps(after: $after) { nodes {id} pageInfo {endCursor} } }"
        at = int(body.get("variables", {}).get("after") or 0)
        info = {"endCursor": str(at + 10), "hasNextPage": at + 10 < 23}
        return 200, {
            "data": {"lamps": {"totalCount": 23, "nodes": RECORDS[at : at + 10], "pageInfo": info}},
            "errors": [],
        }

    spoken = dialect("""
errors: {present: errors, message: "$.errors[0].message"}
tables:
  lamps:
    read:
      path: /graphql
      method: POST
      json: {query: "query($after: String) { lamps(after: $after) { nodes {{id}} pageInfo {{endCursor}} } }"}
      records: data.lamps.nodes
      total: data.lamps.totalCount
      pages:
        by: cursor
        cursor: variables.after
        next: data.lamps.pageInfo.endCursor
        more: data.lamps.pageInfo.hasNextPage
    fields: {record_id: id}
""")
    state = {"broken": False}
    look = reading(serve(answer).url, spoken)
    assert (look.outcome, look.proof, look.distinct) == ("whole", "total", 23), look.why
    state["broken"] = True
    with pytest.raises(RequestRefused) as caught:
        reading(serve(answer).url, spoken)
    assert "no such field: lumps" in caught.value.why


def test_seconds_before_a_moment_are_a_time_and_flags_are_told_in_a_systems_words(serve):
    rows = [(90, "Yup"), ("3600.5", "NOPE"), (None, "?"), ("long", None)]
    said = [{"id": at, "idle": idle, "lit": lit} for at, (idle, lit) in enumerate(rows)]
    spoken = dialect(
        "tables: {lamps: {read: {path: /}, fields: {record_id: id, last_seen: {from: idle, as: ago},"
        " lit: {from: lit, type: flag, values: {yup: 'true', nope: 'false'}}}}}"
    )
    look = reading(serve(lambda *_: (200, said)).url, spoken)
    seen = look.frame["last_seen"].to_list()
    assert abs(datetime.now(UTC) - seen[0] - timedelta(seconds=90)) < timedelta(seconds=20)
    assert abs(seen[0] - seen[1] - timedelta(seconds=3510.5)) < timedelta(seconds=1)
    assert seen[2:] == [None, None]
    assert look.frame["lit"].to_list() == [True, False, None, None]
    assert look.lost["last_seen"] == 1


ROOMS = ", rooms: {read: {path: /r}, fields: {record_id: id, name: n}}"
PUT = ", write: {keys: name, update: {method: PUT, path: '/lamps/{record_id}'%s}}"
TABLE = "tables: {lamps: {read: {path: /lamps%s}, fields: {record_id: id, name: label%s}%s}%s}"


@pytest.mark.parametrize(
    ("parts", "what"),
    [
        ((", query: {q: '{nme}'}", "", "", ""), r"nothing is known here as \{nme\}"),
        ((", json: {q: 'a {b} c'}", "", "", ""), r"\{\{b\}\} would be the text itself"),
        ((", details: {path: '/x/{whatever}'}", "", "", ""), None),
        (("", ", site: {from: r, via: rooms, take: nme}", "", ROOMS),
         'rooms has no field \'nme\'; did you mean "name"'),
        (("", ", macs: {from: r, via: rooms}", "", ROOMS),
         "holds a list, and `via` means one record"),
        (("", ", macs: {from: r, values: {a: b}}", "", ""), "holds a list"),
        (("", ", lit: {from: r, type: flag, values: {a: up}}", "", ""), "of a flag, our words"),
        (("", "", ", filters: [{field: name, tests: equals, parameter: q}]", ""), "'equals' is not a test"),
        (("", "", PUT % "", ""), "puts what is sent in the place of all"),
        (("", "", PUT % ", whole: true", ""), None),
        (("", "", ", write: {keys: name, delete: {path: '/lamps/{recrd_id}'}}", ""), "did you mean \"record_id\""),
        (("", "", ", write: {keys: record_id}", ""), "a natural key is what people know"),
        (("", "", "", ", rooms: {read: {path: /r}, fields: {record_id: id}, config: {}}"), "known by their names"),
        ((", headers: {X-Token: abc}", "", "", ""), "looks like a secret"),
        ((", headers: {X-Odd: 9f8e7d6c5b4a39281706f5e4d3c2b1a0}", "", "", ""), "looks like a secret"),
        ((", total: '$.[bad'", "", "", ""), "is not JSONPath"),
    ],
)  # fmt: skip
def test_a_dialect_that_cannot_be_meant_is_refused(tmp_path, parts, what):
    path = tmp_path / "odd.yaml"
    path.write_text("format: 1\nname: odd\ntitle: Odd\n" + TABLE % parts + "\n")
    if what is None:
        from_file(path)
        return
    with pytest.raises(DocumentError, match=what):
        from_file(path)


@pytest.mark.parametrize(
    ("listed", "read", "told"),
    [
        ([], "complete: the guide says so", "no record at all came"),
        ([{"label": "x"}], "complete: the guide says so", "came without an id"),
        (RECORDS, "total: n, records: l", "no total stands at n"),
        (RECORDS, "records: l, pages: {by: number, page: page, size: 5}", "a page came again"),
        (RECORDS, "records: l", "say why it is `complete`, if it is"),
    ],
)
def test_what_a_trial_cannot_see_is_not_well(shell, serve, listed, read, told):
    records = "" if "records" in read else "records: l, "
    (shell.folder / "dialects" / "odd.yaml").write_text(
        "format: 1\nname: odd\ntitle: Odd\n"
        f"tables: {{lamps: {{read: {{path: /, {records}{read}}}, fields: {{record_id: id}}}}}}\n"
    )
    shell("system", "add", "odd", "-d", "odd", "-u", serve(lambda *_: (200, {"l": listed})).url)
    done = shell("dialect", "check", "odd", "--against", "odd", "-f", "json", status=1)
    assert told in done.stdout


def test_a_filter_that_loses_its_record_is_not_well(shell, serve):
    """The system takes `place` for something else, and the record for which the filter holds does not come back."""

    def answer(_m, _p, query, *_):
        found = [r for r in RECORDS if query.get("place") in (None, "nowhere")]
        return 200, {"l": [{**r, "site": "quay"} for r in found]}

    (shell.folder / "dialects" / "odd.yaml").write_text(
        "format: 1\nname: odd\ntitle: Odd\n"
        "tables: {lamps: {read: {path: /, records: l, complete: the guide says so},"
        " fields: {record_id: id, site: site},"
        " filters: [{field: site, tests: '=', parameter: place, any_case: true}]}}\n"
    )
    shell("system", "add", "odd", "-d", "odd", "-u", serve(answer).url)
    done = shell("dialect", "check", "odd", "--against", "odd", "-f", "json", status=1)
    assert "is not among the 0 that came" in done.stdout


def test_every_shipped_dialect_is_well_on_its_system(tmp_path, harbour):
    from tests.conftest import Near, make_workspace

    harbour.fairlead.charges["wh-1"] = {
        "name": "wh-1",
        "host": "10.8.0.9",
        "port": 1,
        "user": "u",
        "password": "p",
        "since": 0,
    }
    names = ["fairlead", "muster", "stowage", "masthead", "crowsnest", "bollard", "pilotage", "purser"]
    shell = make_workspace(tmp_path, harbour, names, Near)
    for name in names:
        done = shell("dialect", "check", name, "--against", name, "-f", "json")
        assert '"FAILED"' not in done.stdout


def test_what_is_sent_as_xml_declares_its_prefixes(serve):
    """Namespaces in XML 1.0, section 3: an undeclared prefix is no XML."""
    spoken = XmlShape(by="xml", namespaces={"q": "urn:quay", "": "urn:plain", "other": "urn:unused"})
    sent = encode({"q:lamp": {"q:label": "a", "watt": "4"}}, spoken)
    root = decode(sent, spoken)["q:lamp"]
    assert (root.pop("@xmlns"), root) == ({"q": "urn:quay", "": "urn:plain"}, {"q:label": "a", "watt": "4"})
    assert b"urn:unused" not in sent
    assert encode({"lamp": None}, XmlShape(by="xml")).endswith(b"<lamp></lamp>")


def test_a_value_cannot_end_the_quotes_that_it_stands_in():
    """What a record says is never code of the query that it is filled into."""
    text = 'mutation { rename(id: "{record_id}", label: "{name}") {{ok}} }'
    said = Template(text).fill({"record_id": 'a"b', "name": 'x") { wipe(all: true) \\ } #\n'})
    assert said == 'mutation { rename(id: "a\\"b", label: "x\\") { wipe(all: true) \\\\ } #\\n") {ok} }'
    assert Template("{name}").fill({"name": 'a"b'}) == 'a"b'


@given(st.text(max_size=20))
def test_whatever_is_filled_in_between_quotes_is_one_string(value):
    assert json.loads(Template('["a", "{name}"]').fill({"name": value})) == ["a", value]


GOOD, BAD = {"id": 1, "code": 201, "Note": "odd"}, {"code": 409, "ok": False, "fault": {"kind": 5}, "why": "full"}


@pytest.mark.parametrize(
    "rule",
    ["code >= 400", "ok = false", "fault present", "fault.kind = 5", "why like full*", "note missing"],
)
@pytest.mark.parametrize(
    "answer", [[GOOD, GOOD], [GOOD, BAD], [BAD, BAD], [GOOD, BAD | {"code": "409", "ok": "false"}]]
)
def test_which_of_a_list_was_refused_is_told_also_by_what_no_record_has(rule, answer):
    """What only a refused one says is nowhere where none was: by that it was sent already."""
    rules = Answers.model_validate({"refused": rule, "reason": "why"})
    session = SimpleNamespace(endpoint=SimpleNamespace(name="lamplight"), began=datetime.now(UTC))
    refused = refused_in(session, rules, answer, 2)
    assert [one.index for one in refused] == [at for at, told in enumerate(answer) if told is not GOOD]
    assert {one.reason for one in refused} <= {"full"}
    with pytest.raises(BadAnswer, match="tells nothing of record 2 of 2"):
        refused_in(session, rules, [GOOD, None], 2)
