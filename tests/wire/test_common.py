"""What a dialect says once: what all lists have in common, and the operations of a description beside it."""

from __future__ import annotations

import json

import pytest

from concordex.errors import DocumentError
from concordex.wire.dialect.load import find, from_text
from tests.lamplight import run
from tests.wire.test_whole import look_at

HEAD = "format: 1\nname: quay\ntitle: Quay\n"
LISTS = """
lists:
  records: items
  total: all
  query: {wide: "yes"}
  pages: {by: offset, offset: from, limit: many, size: 2}
tables:
  devices: {read: {path: /lamps}, fields: {record_id: id}}
  rooms:
    read: {path: /rooms, records: $, total: null, query: null, pages: {by: none}, complete: "the guide says so"}
    fields: {record_id: id}
  files: {read: {file: "*.csv", shape: csv}, fields: {record_id: id}}
"""
DESCRIPTION = {
    "openapi": "3.1.0", "info": {"title": "Quay", "version": "1"}, "servers": [{"url": "https://elsewhere/v2"}],
    "components": {"securitySchemes": {"key": {"type": "apiKey", "in": "header", "name": "Quay-Key"}}},
    "paths": {
        "/lamps": {
            "get": {
                "operationId": "listLamps",
                "parameters": [
                    {"name": name, "in": "query", "schema": {"type": "integer"}} for name in ("from", "many")
                ],
                "responses": {"200": {"description": "", "content": {"application/json": {"schema": {
                    "type": "object", "properties": {"n": {"type": "integer"}, "lamps": {"type": "array", "items": {
                        "type": "object", "properties": {"id": {"type": "string"}}}}},
                }}}}},
            },
            "post": {"operationId": "addLamp", "responses": {"201": {"description": ""}}},
        },
        "/lamps/{lampId}": {"put": {"operationId": "setLamp", "responses": {"200": {"description": ""}}}},
        "/rooms/{room}/lamps/{lamp}": {
            "delete": {"operationId": "takeLamp", "responses": {"204": {"description": ""}}},
        },
    },
}  # fmt: skip
BY_OPERATION = """
base: /v2
described_by: quay.openapi.json
tables:
  devices:
    read: {operation: listLamps, total: n, pages: {by: offset, offset: from, limit: many, size: 2}}
    fields: {record_id: id, name: id}
    write:
      keys: name
      fields: {name: id}
      create: {operation: addLamp}
      update: {operation: setLamp, whole: true}
      delete: {operation: takeLamp, with: {room: "7", lamp: "{record_id}"}}
"""


@pytest.fixture
def beside(tmp_path):
    """Dialects in a folder that has a description."""
    (tmp_path / "quay.openapi.json").write_text(json.dumps(DESCRIPTION))

    def find_with(text):
        (tmp_path / "quay.yaml").write_text(HEAD + text)
        return find("quay", tmp_path)

    return find_with


def test_a_table_reads_as_all_lists_do_but_for_what_it_says_itself():
    tables = from_text(HEAD + LISTS, "quay.yaml").tables
    assert (str(tables["devices"].read.total), tables["devices"].read.query["wide"]) == ("all", "yes")
    assert tables["devices"].read.pages.by == "offset"
    rooms = tables["rooms"].read
    assert (str(rooms.records), rooms.total, rooms.query, rooms.pages.by) == ("$", None, {}, "none")
    assert (tables["files"].read.total, tables["files"].read.query) == (None, {})


def test_what_all_lists_have_in_common_is_extended_like_all_else(tmp_path):
    (tmp_path / "quay.yaml").write_text(HEAD + LISTS)
    (tmp_path / "pier.yaml").write_text(
        "format: 1\nname: pier\ntitle: Pier\nextends: quay\nlists: {total: count, query: null}\n"
        "tables: {rooms: null, boats: {read: {path: /boats}, fields: {record_id: id}}}\n"
    )
    tables = find("pier", tmp_path).tables
    assert {name: str(table.read.total) for name, table in tables.items()} == {
        "devices": "count", "boats": "count", "files": "None",
    }  # fmt: skip
    assert tables["boats"].read.query == {}


def test_operations_stand_for_methods_and_paths_and_the_description_for_the_rest(beside):
    made = beside(BY_OPERATION)
    table = made.tables["devices"]
    assert (table.read.path, str(table.read.records)) == ("/lamps", "lamps")
    assert (table.write.create.method, table.write.create.path) == ("POST", "/lamps")
    assert (table.write.update.method, table.write.update.path) == ("PUT", "/lamps/{record_id}")
    assert (table.write.delete.method, table.write.delete.path) == ("DELETE", "/rooms/7/lamps/{record_id}")
    assert (made.sign_in.by, made.sign_in.header, list(made.credentials)) == ("header", "Quay-Key", ["key"])


@pytest.mark.parametrize(
    ("was", "by", "told"),
    [
        ("listLamps", "listLamp", "line 9: tables.devices.read.operation: the description has no 'listLamp'"),
        ("limit: many", "limit: max", "listLamps takes no parameter 'max'; it takes from, many"),
        ("operation: addLamp", "operation: addLamp, path: /lamps", "the operation has one: say one of the two"),
        (', with: {room: "7", lamp: "{record_id}"}', "", "has several names"),
        ('room: "7"', 'hall: "6", room: "7"', "has no such name"),
        ("base: /v2", "base: /v3", "does not begin with the base /v3"),
        ("quay.openapi.json", "../quay.openapi.json", "should be the name of a file beside the dialect"),
        ("quay.openapi.json", "pier.openapi.json", "there is no pier.openapi.json beside the dialect"),
    ],
)
def test_what_the_description_does_not_have_is_told_with_its_line(beside, was, by, told):
    assert was in BY_OPERATION
    with pytest.raises(DocumentError, match=r"quay\.yaml") as error:
        beside(BY_OPERATION.replace(was, by))
    assert told in str(error.value)


@pytest.mark.parametrize(
    ("cut", "counts", "outcome"),
    [(3, True, "partial"), (3, False, "partial"), (10, False, "partial"), (10, True, "whole")],
)
def test_a_service_that_breaks_the_standard_is_not_whole_by_its_word(serve, cut, counts, outcome):
    """OData promises a link to the rest; one that cuts a list without one, or counts nothing, is found out."""

    def answer(_method, _path, query, *_):
        assert query["$count"] == "true"
        told = {"value": [{"Id": at} for at in range(10)][:cut]}
        return 200, told | ({"@odata.count": 10} if counts else {})

    spoken = from_text(
        "format: 1\nname: q\ntitle: Q\nextends: odata\n"
        "tables: {lamps: {read: {path: /Lamps}, fields: {record_id: Id}}}\n",
        "q.yaml",
    )
    assert look_at(serve(answer).url, spoken).outcome == outcome


def test_a_body_may_hold_an_operation_of_its_own(beside):
    """What is sent is no call, whatever its members are called."""
    made = beside(
        BY_OPERATION.replace(
            "create: {operation: addLamp}", "create: {operation: addLamp, json: {operation: add, kind: lamp}}"
        )
    )
    assert made.tables["devices"].write.create.json_body == {"operation": "add", "kind": "lamp"}
    assert made.tables["devices"].write.create.path == "/lamps"


def test_a_description_stands_beside_the_dialect_that_names_it(beside, tmp_path, monkeypatch):
    """Also where another, elsewhere, extends that one."""
    from concordex.wire.dialect import load, packages

    beside(BY_OPERATION)
    told = packages.Packaged(file=tmp_path / "quay.yaml", package="quays", version="1")
    monkeypatch.setattr(load, "packaged", lambda: {"quay": told})
    own = tmp_path / "own"
    own.mkdir()
    (own / "pier.yaml").write_text("format: 1\nname: pier\ntitle: Pier\nextends: quay\n")
    assert find("pier", own).tables["devices"].read.path == "/lamps"


def test_the_description_is_asked_of_nobody(beside, serve):
    """What a description calls its server is not where a system is asked."""
    both = [{"id": "a"}, {"id": "b"}]
    served = serve(lambda _m, _p, query, *_: (200, {"n": 2, "lamps": both if query["from"] == "0" else []}))
    made = beside(BY_OPERATION).model_copy(update={"sign_in": from_text(HEAD + LISTS, "q.yaml").sign_in})

    async def within():
        from concordex.wire.http.session import Endpoint, Session
        from concordex.wire.reading.read import read_table

        async with Session(Endpoint(name="quay", url=served.url), made) as session:
            return await read_table(session, "devices")

    assert run(within()).outcome == "whole"
    assert {path for _, path, _ in served.requests} == {"/v2/lamps"}
