"""The dialect format: what ships is valid, and a mistake names its file, line and key."""

from __future__ import annotations

import json
import re
from importlib import resources

import pytest
from pydantic import BaseModel

from concordex.errors import ConcordexError, DocumentError
from concordex.wire.dialect import Call, calls_of
from concordex.wire.dialect.load import find, from_file, schema, shipped
from concordex.wire.dialect.paths import Path, PathError
from concordex.work.show.requests import calls, carried
from tests.conftest import Near

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
    assert {find(name).name for name in shipped()} == standins | {
        "odata",
        "openmetrics",
        "redfish",
        "restconf",
        "scim",
    }  # and standards


def test_the_schema_that_ships_is_the_format_that_is_checked():
    kept = resources.files("concordex.dialects").joinpath("dialect.schema.json").read_text()
    assert kept == schema(), "run `make schema`"


def test_the_schema_accepts_what_the_program_accepts():
    described = json.loads(schema())
    assert described["additionalProperties"] is False
    assert set(described["required"]) == {"format", "name", "title", "tables"}
    assert described["$defs"]["Create"]["properties"]["batch_size"]["minimum"] == 1


@pytest.mark.parametrize(
    ("before", "after", "line", "key", "text"),
    [
        ("title: A", "titel: A", 3, "titel", "did you mean `title`"),
        ("by: basic", "by: magic", 4, "sign_in", "should say `by:` with one of"),
        ("      path: /things\n", "", 8, "tables.devices.read.path", "where is the list"),
        ("limit: size", "limt: size", 10, "tables.devices.read.pages.limt", "`limit`"),
        ("by: offset,", "by: offset, first: 7,", 10, "tables.devices.read.pages.first", "7"),
        ("$.ports[*].mac", "$.ports[*.mac", 14, "tables.devices.fields.macs.from", "not JSONPath"),
        ("      record_id: id\n", "", 11, "tables.devices.fields", "record_id is required"),
        (", type: number", "", 15, "tables.devices.fields.depth", "say its `type`"),
        ("type: number", "type: nmber", 15, "tables.devices.fields.depth.type", "'nmber'"),
        ("from: depth", "via: depths, from: depth", 15, "tables.devices.fields.depth.via", "no table 'depths'"),
        ("from: depth", "of: depths, from: depth", 15, "tables.devices.fields.depth.of", "no table 'depths'"),
        ("from: depth", "of: devices, via: devices, from: depth", 15, "tables.devices.fields.depth.of", "one of them"),
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


UNRESOLVED = [
    ("read: {path: /a, records: '$['}", "read.records", "not JSONPath"),
    ("read: {path: /a, total: 'a..b'}", "read.total", "neither a plain member path"),
    ("read: {path: /a, changed: {parameter: since, gone: '$[?'}}", "read.changed.gone", "not JSONPath"),
    ("read: {path: /a, also: [{path: /b, match: {'$[': id}}]}", "read.also[0].match", "not JSONPath"),
    ("read: {path: /a, details: {path: '/{$[}'}}", "read.details.path", "not JSONPath"),
    ("read: {path: /a, pages: {by: window, since: s, until: u, field: seen}}", "read.pages.field", "no field 'seen'"),
    ("read: {path: '/{nobody}'}", "read.path", "nothing is known here as {nobody}"),
    ("filters: [{field: name, tests: '=', path: '/n/{vlaue}'}]", "filters[0].path", "nothing is known here as {vlaue}"),
    ("write: {fields: {name: '$.a[0]'}}", "write.fields.name", "cannot be written to"),
    ("write: {update: {path: /a, within: 'a..b'}}", "write.update.within", "cannot be written to"),
    ("write: {delete: {path: /a, binned: 'name ='}}", "write.delete.binned", "a value"),
    ("write: {delete: {path: /a, binned: 'nme = x'}}", "write.delete.binned", 'no field "nme"'),
    ("write: {ready: {when: name present, failed: 'nme = x'}}", "write.ready.failed", 'no field "nme"'),
    ("write: {ready: {when: name present, facts: [nme]}}", "write.ready.facts", "no field 'nme'"),
    (
        "write: {create: {path: /a, answers: {refused: 'status >', reason: r}}}",
        "write.create.answers.refused",
        "a value",
    ),
    ("write: {retire: {stte: gone}}", "write.retire", "no field 'stte'"),
    ("write: {refusals: {records: '$[', reason: r}}", "write.refusals.records", "not JSONPath"),
    ("write: {stands: {rack: rack}}", "write.stands.rack", "no field 'rack'"),
]


@pytest.mark.parametrize(("part", "key", "text"), UNRESOLVED)
def test_what_cannot_be_resolved_is_refused_when_the_dialect_is_loaded(tmp_path, part, key, text):
    """Every path, name, field and filter, with its line: nothing waits until a system is asked."""
    part = part.replace("write: {", "write: {keys: name, ")
    read = "" if part.startswith("read") else "    read: {path: /a}\n"
    path = tmp_path / "small.yaml"
    path.write_text("format: 1\nname: small\ntitle: S\ntables:\n  a:\n    fields: {record_id: id, name: label}\n"
                    f"{read}    {part}\n")  # fmt: skip
    with pytest.raises(DocumentError) as caught:
        from_file(path)
    line = 8 if read else 7
    told = [(at, where) for at, where, what in caught.value.faults if text in what]
    assert told, caught.value.faults
    assert told[0][0] == line
    assert told[0][1].startswith(f"tables.a.{key}")


def test_a_name_in_a_header_of_every_request_would_be_sent_as_it_stands(tmp_path):
    (tmp_path / "small.yaml").write_text("headers: {X-Place: 'of {user}'}\n" + GOOD)
    with pytest.raises(DocumentError, match="is sent as it stands"):
        from_file(tmp_path / "small.yaml")


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
    assert "ok" in shell("dialect", "check", str(path)).stderr
    path.write_text(GOOD.replace("title", "titel"))
    assert "line 3: titel: unknown key; did you mean `title`?" in shell("dialect", "check", str(path), status=1).stderr
    assert json.loads(shell("dialect", "schema").stdout)["title"] == "Concordex dialect"
    assert "stowage" in shell("dialect", "list").stdout


@pytest.mark.parametrize(
    ("act", "fault"),
    [("{path: /x, shows: nowhere}", "there is no field 'nowhere'"),
     ("{path: /x, taken_back: stop}", "no action 'stop'"),
     ("{path: /x, each: targets}", "'targets' is not among `config: {references: …}`")],
)  # fmt: skip
def test_an_act_speaks_of_what_is_there(tmp_path, act, fault):
    write = f"    write: {{keys: name, actions: {{start: {act}}}}}\n"
    (tmp_path / "small.yaml").write_text(GOOD + write)
    with pytest.raises(DocumentError, match=re.escape(fault)):
        from_file(tmp_path / "small.yaml")


def every_call(part):
    """Each request that stands anywhere in a dialect, however deep."""
    if isinstance(part, Call):
        yield part
    if isinstance(part, BaseModel):
        part = {name: getattr(part, name) for name in type(part).model_fields}
    for inner in part.values() if isinstance(part, dict) else part if isinstance(part, list) else ():
        yield from every_call(inner)


@pytest.mark.parametrize("name", shipped())
def test_what_a_dialect_asks_is_told_before_it_is_asked(name):
    spoken = find(name)
    told = calls(spoken)
    for call in every_call(spoken.model_copy(update={"lists": None})):  # which stands in every table
        assert any(call is one for _, one in calls_of(spoken)), call
        where = getattr(call, "file", None) or call.path
        assert any(row["where"].endswith(where) for row in told), where
    assert {row["does"] for row in told if row["for"].endswith(("create", "update", "delete"))} <= {"alters"}
    secret = {name for name, one in spoken.credentials.items() if one.secret}
    sent = {word for row in told for word in row["credentials"].split(", ")} | set(carried(spoken).split(", "))
    assert secret <= sent


def test_dialect_show_tells_what_is_read_written_and_called(tmp_path):
    (tmp_path / "odd.yaml").write_text(
        "format: 1\nname: odd\ntitle: Odd\ncredentials: {key: {secret: true}}\n"
        "sign_in: {by: header, header: Odd-Key, value: '{key}'}\ntables:\n"
        "  keys: {read: {file: 'all/*.csv', shape: csv}, fields: {record_id: id}}\n"
        "  devices:\n    read: {path: /d, method: POST, json: {word: '{key}'}, each: {of: keys}}\n"
        "    fields: {record_id: id}\n"
    )
    shell = Near(tmp_path)
    short = shell("dialect", "show", "./odd.yaml").stdout
    assert "files: all/*.csv, below the folder" in short
    assert "requests that read, as it says itself: 1 POST" in short
    assert "sent with each: key; to the system's own address alone" in short
    rows = json.loads(shell("dialect", "show", "./odd.yaml", "--requests", "-f", "json").stdout)
    assert [(row["does"], row["how"], row["where"], row["for each of"], row["credentials"]) for row in rows] == [
        ("reads", "file", "all/*.csv", "", ""), ("reads, it says", "POST", "/d", "keys", "key")
    ]  # fmt: skip
