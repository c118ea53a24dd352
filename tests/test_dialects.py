"""The dialect format: what ships is valid, and a mistake names its file, line and key."""

from __future__ import annotations

import json
from importlib import resources

import pytest

from concordex.errors import ConcordexError, DocumentError
from concordex.wire.load import find, from_file, schema, shipped
from concordex.wire.paths import Path, PathError

GOOD = """\
format: 1
name: small
title: A small system
sign_in: {by: basic}
credentials: {user: {}, password: {secret: true}}
tables:
  devices:
    read:
      path: /things
      pages: {by: offset, offset: from, limit: size}
    fields:
      record_id: id
      name: [label, alias]
      macs: {from: "$.ports[*].mac"}
      depth: {from: depth, type: number}
"""


def test_every_shipped_dialect_is_valid():
    standins = {
        "fairlead", "masthead", "bollard", "muster", "crowsnest", "pilotage", "binnacle", "stowage", "purser",
        "capstan",
    }  # fmt: skip
    assert {find(name).name for name in shipped()} == standins


def test_the_schema_that_ships_is_the_format_that_is_checked():
    kept = resources.files("concordex.dialects").joinpath("dialect.schema.json").read_text()
    assert kept == schema(), "run `make schema`"


def test_the_schema_accepts_what_the_program_accepts():
    described = json.loads(schema())
    assert described["additionalProperties"] is False
    assert set(described["required"]) == {"format", "name", "title", "tables"}
    assert described["$defs"]["Create"]["properties"]["most"]["minimum"] == 1


@pytest.mark.parametrize(
    ("before", "after", "line", "key", "text"),
    [
        ("title: A", "titel: A", 3, "titel", "did you mean `title`"),
        ("by: basic", "by: magic", 4, "sign_in", "should say `by:` with one of"),
        ("      path: /things\n", "", 8, "tables.devices.read.path", "where is the list"),
        ("limit: size", "limt: size", 10, "tables.devices.read.pages.limt", "`limit`"),
        ("by: offset,", "by: offset, first: 7,", 10, "tables.devices.read.pages.first", "7"),
        ("$.ports[*].mac", "$.ports[*.mac", 14, "tables.devices.fields.macs", "not JSONPath"),
        ("      record_id: id\n", "", 11, "tables.devices.fields", "record_id is required"),
        (", type: number", "", 15, "tables.devices.fields.depth", "say its `type`"),
        ("type: number", "type: nmber", 15, "tables.devices.fields.depth.type", "'nmber'"),
        ("from: depth", "via: depths, from: depth", 15, "tables.devices.fields.depth.via", "no table 'depths'"),
        ("format: 1", "format: 2", 1, "format", "2"),
        ("name: small", "name: small\nname: twice", 3, "", "duplicate key"),
        ("  devices:\n", "  devices: [\n", 9, "", "not valid YAML"),
    ],
)
def test_a_mistake_names_file_line_and_key(tmp_path, before, after, line, key, text):
    assert before in GOOD
    path = tmp_path / "small.yaml"
    path.write_text(GOOD.replace(before, after, 1))
    with pytest.raises(DocumentError) as caught:
        from_file(path)
    found = [fault for fault in caught.value.faults if text in fault[2]]
    assert found, caught.value.faults
    assert found[0][:2] == (line, key)
    assert str(path) in str(caught.value)


def test_every_mistake_is_told_at_once(tmp_path):
    path = tmp_path / "small.yaml"
    path.write_text(GOOD.replace("path: /things", "pth: /things").replace("type: number", "type: x"))
    with pytest.raises(DocumentError) as caught:
        from_file(path)
    assert {fault[0] for fault in caught.value.faults} == {9, 15}


def test_a_dialect_of_the_workspace_goes_before_a_shipped_one(tmp_path):
    (tmp_path / "muster.yaml").write_text(GOOD)
    assert find("muster", tmp_path).title == "A small system"
    with pytest.raises(ConcordexError) as caught:
        find("mustard", tmp_path)
    assert "muster" in caught.value.advice


RECORD = {"a": {"b": [1, 2]}, "ports": [{"mac": "x"}, {"mac": "y"}], "e": None}


@pytest.mark.parametrize(
    ("path", "value"),
    [
        ("a.b", [1, 2]), ("$.a.b", [1, 2]), ("$", RECORD), ("a.z.y", None), ("e.f", None),
        ("$.ports[*].mac", ["x", "y"]), ("$.ports[0].mac", "x"), ("$.ports[9].mac", None),
        ("$['a','e']", [{"b": [1, 2]}, None]),
    ],
)  # fmt: skip
def test_a_path_finds_its_value(path, value):
    assert Path(path).first(RECORD) == value


@pytest.mark.parametrize("path", ["a..b", "a[0]", "$.a[", "$[?@.x", ""])
def test_what_is_no_path_is_refused(path):
    with pytest.raises(PathError):
        Path(path)


def test_the_command_checks_a_file_and_prints_the_schema(shell):
    path = shell.folder / "dialects" / "ours.yaml"
    path.write_text(GOOD)
    assert "well" in shell("dialect", "check", str(path)).stderr
    path.write_text(GOOD.replace("title", "titel"))
    assert "line 3: titel: unknown key; did you mean `title`?" in shell("dialect", "check", str(path), status=1).stderr
    assert json.loads(shell("dialect", "schema").stdout)["title"] == "Concordex dialect"
    assert "stowage" in shell("dialect", "list").stdout
