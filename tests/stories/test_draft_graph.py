"""A service that is asked with documents of GraphQL is drafted like any other, and only what reads is ever sent."""

from __future__ import annotations

import base64
import json

import pytest

from concordex.insight.questions import question_of
from tests.conftest import Near

LAMPS = [{"id": f"L{n}", "label": f"lamp {n}", "serialNumber": f"SN{n:05}X", "mac": f"0c:b1:00:00:00:{n:02x}"}
         for n in range(53)]  # fmt: skip
DIALECT = """
format: 1
name: graph
title: Graph
errors: {present: errors, message: "$.errors[0].message"}
tables:
  devices:
    read:
      path: /graphql
      method: POST
      json: {query: "# all\\nquery Lamps($first: Int!, $after: String) { lamps(first: $first, after: $after)
        { edges { node { id label serialNumber mac } cursor } pageInfo { hasNextPage startCursor endCursor } } }",
        variables: {}}
      records: data.lamps.edges
      pages: {by: cursor, next: data.lamps.pageInfo.endCursor, cursor: variables.after,
              more: data.lamps.pageInfo.hasNextPage, limit: variables.first, size: 20}
    fields: {record_id: node.id, name: node.label}
"""


def scalar(name: str, *around: str) -> dict:
    told: dict = {"kind": "SCALAR", "name": name}
    for way in around:
        told = {"kind": way, "name": None, "ofType": told}
    return told


def kind(name: str, **members: dict) -> dict:
    return {"kind": "OBJECT", "name": name, "fields": [{"name": n, "type": t} for n, t in members.items()]}


TEXT, FLAG = scalar("String"), scalar("Boolean")
ARGS = [{"name": "first", "type": scalar("Int")}, {"name": "after", "type": TEXT}]
SCHEMA = {"data": {"__schema": {"queryType": {"name": "Q"}, "mutationType": {"name": "M"}, "types": [
    {"kind": "OBJECT", "name": "Q", "fields": [{"name": "lamps", "args": ARGS, "type": scalar("Lamps")}]},
    {"kind": "OBJECT", "name": "M", "fields": [{"name": "getLamps", "args": [], "type": scalar("Lamps")}]},
    kind("Lamps", edges=scalar("Edge", "LIST"), pageInfo=scalar("Info")),
    kind("Edge", cursor=TEXT, node=scalar("Lamp")),
    kind("Info", hasNextPage=FLAG, hasPreviousPage=FLAG, startCursor=TEXT, endCursor=TEXT),
    kind("Lamp", id=scalar("ID"), label=TEXT, serialNumber=TEXT, mac=TEXT),
]}}}  # fmt: skip


@pytest.fixture
def graph(tmp_path, serve):
    """A graph of lamps, with what was asked of it, and a workspace with a dialect that a person wrote."""
    state = {"asked": [], "broken": False}

    def mark(n: int) -> str:
        return base64.b64encode(f"at:{n}".encode()).decode()

    def answer(_m, _p, _q, body, _h):
        state["asked"].append(body["query"])
        if "__schema" in body["query"]:
            return 200, SCHEMA
        told = body.get("variables") or {}
        after, most = told.get("after"), told.get("first", 20)
        begin = int(base64.b64decode(after).decode()[3:]) + 1 if after else 0
        own = list(enumerate(LAMPS))[begin : begin + min(most, 20)]
        info = {
            "hasNextPage": begin + len(own) < len(LAMPS), "hasPreviousPage": begin > 0,
            "startCursor": mark(own[0][0]) if own else None, "endCursor": mark(own[-1][0]) if own else None,
        }  # fmt: skip
        told = {"data": {"lamps": {"pageInfo": info, "edges": [{"cursor": mark(n), "node": one} for n, one in own]}}}
        return 200, {**told, "errors": [{"message": "one shelf did not answer"}]} if state["broken"] else told

    (tmp_path / "dialects").mkdir()
    (tmp_path / "dialects/graph.yaml").write_text(DIALECT)
    (tmp_path / "concordex.yaml").write_text(
        f"format: 1\nsystems: {{g: {{dialect: graph, url: '{serve(answer).url}', describes: 'graphql:/graphql'}}}}\n"
    )
    return Near(tmp_path), state


def pulled(shell: Near, state: dict) -> str:
    config = shell.folder / "concordex.yaml"
    config.write_text(config.read_text().replace("dialect: graph,", "dialect: drafted,"))
    told = json.loads(shell("pull", "-f", "json").stdout)
    assert [(one["outcome"], one["distinct"]) for one in told] == [("whole", 53)]
    state["broken"] = True  # half an answer with an error beside it is no answer
    return json.loads(shell("pull", "-f", "json", status=1).stdout)[0]["outcome"]


def test_a_recording_of_documents_gives_a_dialect_that_pulls_all_of_them(graph):
    shell, state = graph
    shell("pull", "--record", "seen")
    shell("dialect", "draft", "drafted", "--from", "seen/g.har")
    text = (shell.folder / "dialects/drafted.yaml").read_text()
    assert "record_id: node.id" in text  # and not the cursor, which is a place in the list
    assert "next: data.lamps.pageInfo.endCursor" in text
    assert "more: data.lamps.pageInfo.hasNextPage" in text
    assert pulled(shell, state) == "failed"


def test_a_schema_gives_a_dialect_and_no_mutation_is_sent_whatever_it_is_called(graph):
    shell, state = graph
    shell("dialect", "draft", "drafted", "--from", "g")
    assert state["asked"]
    assert not [one for one in state["asked"] if "getLamps" in one]
    assert pulled(shell, state) == "failed"


def test_a_document_says_itself_whether_it_only_reads_and_a_half_one_says_nothing():
    reads = {
        "{ lamps { id } }": True, "query X { lamps { id } }": True, "mutation getLamps { getLamps { id } }": False,
        "subscription S { lamps { id } }": False, "fragment F on Lamp { id } query Q { lamps { ...F } }": True,
        '# mutation\nquery { a: lamps(room: "mutation { x }") { id } }': True,
    }  # fmt: skip
    assert {text: question_of({"query": text}).reads for text in reads} == reads
    both = "query A { lamps { id } } mutation B { light }"
    assert question_of({"query": both}) is None  # it does not say which
    assert question_of({"query": both, "operationName": "A"}).reads
    assert not question_of({"query": both, "operationName": "B"}).reads
    for other in ("select 1", "{", '{"match": {"a": 1}}', "", 7, "query { lamps { id }"):
        assert question_of({"query": other}) is None
    told = question_of({"query": 'query($n: Int!, $m: [Float!], $t: String! = "x") { a: lamps(n: $n) { id } }'})
    assert (told.needed, told.numbers, told.fields) == ({"n"}, {"n", "m"}, ("a",))
