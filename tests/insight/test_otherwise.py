"""OData metadata, GraphQL schemas and RESTCONF servers are browsed and called like any description."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from concordex.insight.described import described
from concordex.insight.otherwise import of_graphql, of_odata, of_restconf
from tests.conftest import Near

METADATA = """<?xml version="1.0"?>
<edmx:Edmx Version="4.0" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices>
<Schema Namespace="Lamps" xmlns="http://docs.oasis-open.org/odata/ns/edm">
<EntityType Name="Lamp"><Key><PropertyRef Name="LampId"/></Key>
<Property Name="LampId" Type="Edm.Int32"/><Property Name="Label" Type="Edm.String"/>
<Property Name="LitAt" Type="Edm.DateTimeOffset"/><Property Name="Colours" Type="Collection(Edm.String)"/></EntityType>
<EntityContainer Name="House"><EntitySet Name="Lamps" EntityType="Lamps.Lamp"/></EntityContainer>
</Schema></edmx:DataServices></edmx:Edmx>"""


def kind(name: str, *around: str) -> dict:
    told: dict = {"kind": "SCALAR", "name": name}
    for way in around:
        told = {"kind": way, "name": None, "ofType": told}
    return told


SCHEMA = {"data": {"__schema": {
    "queryType": {"name": "Q"}, "mutationType": {"name": "M"},
    "types": [
        {"kind": "OBJECT", "name": "Q", "fields": [
            {"name": "lamps", "description": "all lamps", "type": kind("Lamp", "LIST"), "args": [
                {"name": "room", "type": kind("String", "NON_NULL")}, {"name": "first", "type": kind("Int")}]},
        ]},
        {"kind": "OBJECT", "name": "M", "fields": [{"name": "light", "args": [], "type": kind("Boolean")}]},
        {"kind": "OBJECT", "name": "Lamp", "fields": [
            {"name": "id", "type": kind("ID")}, {"name": "room", "type": kind("Room")},
            {"name": "self", "type": kind("Lamp")}]},
        {"kind": "OBJECT", "name": "Room", "fields": [{"name": "label", "type": kind("String")}]},
    ],
}}}  # fmt: skip
LIBRARY = {"ietf-yang-library:yang-library": {"module-set": [{"module": [
    {"name": "ietf-system", "revision": "2014-08-06"}, {"name": "lamp-types", "revision": "2026-01-01"},
]}]}}  # fmt: skip


@pytest.fixture
def lamps(tmp_path, serve):
    """A server that speaks all three, and a workspace that is told where."""
    sent: list[tuple] = []

    def answer(method, path, query, body, _headers):
        sent.append((method, path, dict(query), body))
        if path == "/odata/$metadata":
            return 200, METADATA.encode()
        if path == "/odata/Lamps":
            return 200, {"value": [{"LampId": 1, "Label": "a"}]}
        if path == "/graphql":
            if "__schema" in body["query"]:
                return 200, SCHEMA
            return 200, {"data": {"lamps": [{"id": "1"}]}}
        told = {
            "/restconf/data/ietf-yang-library:yang-library": LIBRARY,
            "/restconf/data": {"ietf-restconf:data": {"ietf-system:system": {}}},
            "/restconf/operations": {"ietf-restconf:operations": {"ietf-system:system-restart": None}},
            "/restconf/data/ietf-system:system": {"ietf-system:system": {"hostname": "lamp-1"}},
        }
        return (200, told[path]) if path in told else (404, {})

    (tmp_path / "dialects").mkdir()
    (tmp_path / "dialects/bare.yaml").write_text(
        "format: 1\nname: bare\ntitle: Bare\ntables: {none: {read: {path: /none}, fields: {record_id: id}}}\n"
    )
    url = serve(answer).url
    lines = ["format: 1", "systems:"]
    for name, where in (("odata", "/odata/$metadata"), ("graph", "graphql:/graphql"), ("yang", "restconf:/restconf")):
        lines.append(f"  {name}: {{dialect: bare, url: '{url}', describes: '{where}'}}")
    (tmp_path / "concordex.yaml").write_text("\n".join(lines) + "\n")
    return Near(tmp_path), sent


def test_what_odata_says_is_listed_told_and_called(lamps):
    shell, sent = lamps
    rows = json.loads(shell("call", "odata", "--list", "-f", "json").stdout)
    assert [row["path"] for row in rows if row["operation"] in ("Lamps", "Lamps_by_key")] == [
        "/odata/Lamps",
        "/odata/Lamps({LampId})",
    ]
    about = shell("call", "odata", "--about", "Lamps").stdout
    assert "$filter" in about
    assert shell("call", "odata", "Lamps", "$top=1").stdout
    assert sent[-1][:3] == ("GET", "/odata/Lamps", {"$top": "1"})
    made = json.loads(shell("call", "odata", "--list", "create", "-f", "json").stdout)
    assert made[0]["method"] == "POST"
    shell("dialect", "draft", "drafted", "--from", "odata")  # and a dialect of what it answers
    assert "record_id: LampId" in (shell.folder / "dialects/drafted.yaml").read_text()


def test_a_graphql_query_is_written_asked_by_its_name_and_a_mutation_wants_to_be_meant(lamps):
    shell, sent = lamps
    about = shell("call", "graph", "--about", "lamps").stdout
    assert "concordex call graph lamps room=VALUE" in about
    assert json.loads(shell("call", "graph", "lamps", "room=north", "first=2").stdout)["data"]["lamps"]
    _, path, _, body = sent[-1]
    assert path == "/graphql"
    assert body["variables"] == {"room": "north", "first": 2}
    members = "{ id room { label } }"  # what is sent as a variable and not declared would narrow nothing
    assert body["query"] == f"query ($room: String!, $first: Int) {{ lamps(room: $room, first: $first) {members} }}"
    asked = len(sent)
    assert "may alter something" in shell("call", "graph", "light", status=2).stderr
    assert len(sent) == asked


def test_what_a_restconf_server_offers_is_listed_with_its_modules(lamps):
    shell, _ = lamps
    rows = {row["operation"]: row for row in json.loads(shell("call", "yang", "--list", "-f", "json").stdout)}
    assert rows["ietf-system:system"]["about"] == "all of it (RFC 8040, 4.3), ietf-system of 2014-08-06"
    assert rows["do ietf-system:system-restart"]["method"] == "POST"
    assert "lamp-types of 2026-01-01" in rows["module lamp-types"]["about"]
    assert "lamp-1" in shell("call", "yang", "ietf-system:system").stdout


def test_what_is_described_is_called_where_it_was_described(lamps):
    """A system's url may have a path of its own, below which its dialect asks: the description is asked without it."""
    shell, sent = lamps
    shell.config(lambda text: text.replace("', describes: 'graph", "/below', describes: 'graph").replace(
        "', describes: 'restconf", "/below', describes: 'restconf"))  # fmt: skip
    for name in ("graph", "yang"):
        shell("call", name, "--list")
    assert json.loads(shell("call", "graph", "lamps", "room=north").stdout)["data"]["lamps"]
    assert "lamp-1" in shell("call", "yang", "ietf-system:system").stdout
    assert not [path for _, path, *_ in sent if path.startswith("/below")]


def test_a_guide_in_the_place_of_a_description_is_told_what_reads_it(lamps):
    shell, _ = lamps
    (shell.folder / "GUIDE.md").write_text(
        "# Lamps\n\nLists: `GET /lamps?from=0&many=10` gives {lamps: [...]}: all\n  of: them\n"
    )
    shell.config(lambda text: text.replace("/odata/$metadata", "GUIDE.md"))
    told = shell("call", "odata", "--list", status=2).stderr
    assert "neither JSON nor YAML" in told
    assert "concordex dialect draft NAME --from FILE" in told


def test_one_that_tells_nothing_is_told_so(lamps):
    shell, _ = lamps
    shell.config(
        lambda text: text.replace("restconf:/restconf", "restconf:/elsewhere").replace("graphql:/graphql", "graphql:/x")
    )
    assert "nothing below /elsewhere tells of modules" in shell("call", "yang", "--list", status=1).stderr
    assert "no answer to a question for a GraphQL schema" in shell("call", "graph", "--list", status=2).stderr


NAMES = st.sampled_from(
    ["Edmx", "DataServices", "Schema", "EntityContainer", "EntitySet", "@Name", "data", "__schema", "types",
     "queryType", "name", "fields", "args", "type", "ofType", "a:b"]
)  # fmt: skip
JSONS = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=4),
    lambda below: st.lists(below, max_size=3) | st.dictionaries(NAMES, below, max_size=3),
    max_leaves=12,
)


@given(JSONS, JSONS, JSONS)
def test_whatever_is_answered_it_is_read_or_called_none(one, two, three):
    for make in (lambda: of_odata(one if isinstance(one, dict) else {}, "/x"), lambda: of_graphql(one, "/x")):
        try:
            told = described(make())
        except ValueError:
            continue
        for operation in told.operations:
            assert isinstance(operation.parameters, list)
    assert described(of_restconf(one, two, three, "/r")).form == "RESTCONF (RFC 8040)"
