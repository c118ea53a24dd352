"""What a description says can be called is read, whatever stands in it, and no other document is asked for."""

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from concordex.insight.described import NotDescribed, described

LAMP = {"type": "object", "required": ["label"], "properties": {
    "label": {"type": "string", "description": "what people call it"}, "lit": {"type": "boolean"},
    "next": {"$ref": "#/components/schemas/Lamp"}, "colour": {"enum": ["red", "green"]},
    "ports": {"type": "array", "items": {"type": "integer"}},
}}  # fmt: skip
NEW = {
    "openapi": "3.1.0", "info": {"title": "Lamps"}, "servers": [{"url": "https://{site}.example/house"}],
    "components": {"schemas": {"Lamp": LAMP, "Round": {"$ref": "#/components/schemas/Round"}},
                   "parameters": {"many": {"name": "many", "in": "query", "schema": {"default": 20}}}},
    "paths": {
        "/lamps/{id}": {
            "parameters": [{"name": "id", "in": "path", "schema": {"type": "string", "format": "uuid"}}],
            "get": {"operationId": "oneLamp", "tags": ["lamps"], "summary": "One lamp",
                    "responses": {"200": {"description": "it"}, "404": {"description": "none"}}},
            "put": {"requestBody": {"content": {"application/json": {"schema": LAMP}}}},
        },
        "/lamps": {"get": {"operationId": "allLamps", "parameters": [{"$ref": "#/components/parameters/many"},
                   {"$ref": "other.json#/x"}, {"$ref": "#/components/schemas/Round"}, {"$ref": "#/no/where"}]}},
    },
}  # fmt: skip
OLD = {"swagger": "2.0", "basePath": "/v1/", "paths": {"/lamps": {"post": {"operationId": "make", "parameters": [
    {"name": "dry", "in": "query", "type": "boolean"},
    {"name": "lamp", "in": "body", "schema": LAMP | {"example": {"label": "x"}}},
]}}}}  # fmt: skip


def test_operations_are_read_with_what_they_take():
    told = described(NEW)
    assert [(one.name, one.method, one.path, one.section) for one in told.operations] == [
        ("oneLamp", "GET", "/house/lamps/{id}", "lamps"),
        ("PUT /house/lamps/{id}", "PUT", "/house/lamps/{id}", "house"),
        ("allLamps", "GET", "/house/lamps", "house"),
    ]  # fmt: skip
    one, put, every = told.operations
    assert [(p.name, p.stands, p.kind, p.required) for p in one.parameters] == [("id", "path", "string (uuid)", True)]
    assert one.answers == {"200": "it", "404": "none"}
    assert [(p.name, p.required, p.kind) for p in put.parameters if p.stands == "body"] == [
        ("label", True, "string"), ("lit", False, "boolean"), ("next", False, "object"),
        ("colour", False, "red | green"), ("ports", False, "list of integer"),
    ]  # fmt: skip
    assert (put.body, put.example["label"], put.example["colour"], put.example["ports"]) == (
        "application/json", "text", "red", [1]
    )  # fmt: skip
    assert [(p.name, p.example) for p in every.parameters] == [("many", 20)]
    assert told.notes == [
        "other.json#/x is not followed: another document",
        "#/components/schemas/Round is not followed: it means itself", "#/no/where means nothing",
    ]  # fmt: skip
    assert [one.name for one in told.about(["LAMP", "get", "all"])] == ["allLamps"]


def test_an_older_form_has_its_body_among_the_parameters():
    (made,) = described(OLD).operations
    assert (made.path, made.body, made.example) == ("/v1/lamps", "application/json", {"label": "x"})
    assert [(p.name, p.stands) for p in made.parameters][:2] == [("dry", "query"), ("label", "body")]


def test_what_describes_itself_without_end_is_bounded():
    wide = {"type": "object", "properties": {f"m{at}": {"$ref": "#/components/schemas/Wide"} for at in range(20)}}
    paths = {
        f"/w{at}": {"post": {"requestBody": {"content": {"application/json": {"schema": wide}}}}} for at in range(4000)
    }
    told = described({"openapi": "3.0.3", "components": {"schemas": {"Wide": wide}}, "paths": paths})
    assert len(told.operations) == 4000
    assert len(json.dumps(told.operations[-1].example)) < 20_000


ANY = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text("abc#/$", max_size=6),
    lambda held: st.lists(held, max_size=3) | st.dictionaries(
        st.sampled_from(["get", "post", "parameters", "schema", "$ref", "name", "in", "content", "properties", "type",
                         "items", "enum", "allOf", "requestBody", "responses", "tags", "application/json"])
        | st.text(max_size=2), held, max_size=4),
    max_leaves=25,
)  # fmt: skip


PATHS = st.dictionaries(
    st.text("/{a}", max_size=4), st.dictionaries(st.sampled_from(["get", "post", "parameters"]), ANY)
)


@given(PATHS | ANY, ANY, st.sampled_from(["2.0", "3.0.1", "3.1.0"]))
def test_whatever_stands_in_it_it_is_read_or_told(paths, components, form):
    document = {
        "openapi" if form > "3" else "swagger": form,
        "paths": paths,
        "components": components,
        "servers": components,
    }
    try:
        told = described(document)
    except NotDescribed:
        return
    for one in told.operations:
        said = (one.parameters, one.example, one.answers, one.body, told.notes)
        assert len(json.dumps(said, default=str)) < 1_000_000  # bounded, whatever it describes


@pytest.mark.parametrize("document", [None, [], {}, {"paths": {}}, {"openapi": "4.0", "paths": {}}, {"openapi": "3.0"}])
def test_what_is_no_description_is_told(document):
    with pytest.raises(NotDescribed):
        described(document)
