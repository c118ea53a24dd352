"""Dialects drafted from stand-ins, recordings and guides: what they call whole is whole, and what is unsure is said."""

from __future__ import annotations

import json

import pytest

from concordex import Workspace
from concordex.wire.dialect import load
from tests.conftest import Near, make_workspace
from tests.manners import Manners
from tests.stories.test_trace import archive, console  # noqa: F401 - a fixture

pytestmark = pytest.mark.devices(200)  # of what takes one page, nothing shows whether the list is cut

#: Stand-ins that answer at paths, with their guides, and what of a draft is to be right without a touch.
BY_GUIDE = ("fairlead", "masthead", "muster", "crowsnest", "pilotage", "stowage", "purser")


@pytest.mark.parametrize("name", BY_GUIDE)
def test_what_a_draft_calls_whole_is_whole(tmp_path, harbour, name):
    """Each draft signs in, and of each list that it calls whole every record comes that the real dialect reads."""
    shell = make_workspace(tmp_path, harbour, [name], Near)
    truth = shell.workspace
    truth.pull()
    held = {shot.table: shot.distinct for shot in truth.memory.newest(system=name)}
    paths = {str(table.read.path).partition("{")[0]: held[n] for n, table in truth.dialect(name).tables.items()}
    shell(
        "dialect",
        "draft",
        "drafted",
        "--from",
        name,
        "--from",
        f"{__file__.rpartition('/tests/')[0]}/docs/guides/{name}.md",
    )
    shell.config(lambda text: text.replace(f"dialect: {truth.dialect(name).name}", "dialect: drafted"))
    here = Workspace(shell.folder)
    here.pull()
    drafted = here.dialect(name)
    seen = 0
    for shot in (one for one in here.memory.newest(system=name) if one.table in drafted.tables):
        assert shot.outcome != "failed", shot.fault
        path = str(drafted.tables[shot.table].read.path).partition("{")[0]
        if shot.outcome == "whole" and path in paths:
            assert shot.distinct == paths[path], shot.table
            seen += 1
    if name != "masthead":  # nothing shows there that a list is never cut
        assert seen
    assert all(table.read.complete is None for table in drafted.tables.values())


def test_a_console_gives_a_dialect_that_signs_in_as_it_did(archive):  # noqa: F811
    """The body of its sign-in, what the answer gave and where it went; no secret of the recording is in the file."""
    shell = archive(console())
    done = shell("dialect", "draft", "lamps", "--from", "console.har")
    text = (shell.folder / "lamps.yaml").read_text()
    made = load.from_file(shell.folder / "lamps.yaml")
    sign_in = made.sign_in.model_dump(mode="json", by_alias=True, exclude_defaults=True)
    assert sign_in["call"] == {"path": "/enter", "json": {"user": "{user}", "password": "{password}"}}
    assert sign_in["carries"]["headers"] == {"Authorization": "Bearer {given}"}
    assert made.credentials["password"].secret
    read = made.tables["lamps"].read
    assert (read.path, str(read.records), str(read.total), read.pages.by) == ("/api/lamps", "lamps", "found", "number")
    assert "oil-and-wick" not in text + done.stdout
    assert "tok-5f2e9a-lantern" not in text + done.stdout
    assert "is there already" in shell("dialect", "draft", "lamps", "--from", "console.har", status=2).stderr
    assert "neither a file nor a system" in shell("dialect", "draft", "x", "--from", "nothing.har", status=2).stderr


LIE = {
    "openapi": "3.0.3", "info": {"title": "Lamps"}, "servers": [{"url": "/api"}],
    "components": {"securitySchemes": {"k": {"type": "apiKey", "in": "header", "name": "X-Key"}}},
    "paths": {
        "/lamps": {"get": {
            "parameters": [{"name": n, "in": "query", "schema": {"type": "integer"}} for n in ("offset", "limit")],
            "responses": {"200": {"content": {"application/json": {"schema": {"type": "object", "properties": {
                "lamps": {"type": "array", "items": {"type": "object", "properties": {
                    "id": {"type": "string"}, "serialNumber": {"type": "string"}}}},
                "total": {"type": "integer"}}}}}}},
        }},
    },
}  # fmt: skip


OPEN = """
format: 1
name: quay
title: Quay
tables:
  lamps:
    read:
      path: /lamps
      records: lamps
      # total: n   # not shown: is it the number of all, or of one page?
      # pages: {by: offset, offset: page, limit: many, size: 10}   # not shown: concordex call quay /lamps page=2
      # pages: {by: offset, offset: from, limit: many, size: 10}   # not shown: concordex call quay /lamps from=2
      # pages: {by: window, since: from, until: to, full: ?}   # not shown: concordex call quay /lamps
      # query: {stop: "1"}   # not shown: every call had it: does it narrow the list?
    fields:
      record_id: id
      # name: label   # likely: it is called so
"""


@pytest.mark.parametrize(
    ("manners", "shown"),
    [
        (Manners(), ["pages: {by: offset, offset: from, limit: many, size: 10}", "total: n"]),
        (Manners(total="own"), ["pages: {by: offset, offset: from, limit: many, size: 10}"]),
        (Manners(total=50), ["pages: {by: offset, offset: from, limit: many, size: 10}"]),
        (Manners(deaf=True), []),
        (Manners(deaf=True, total="own"), []),
        (Manners(stop=40), []),
        (Manners(past="repeats", total="none"), []),
    ],
)
def test_what_a_draft_left_open_is_taken_only_where_the_list_proves_whole_by_it(tmp_path, serve, manners, shown):
    """A server that counts each page, that is deaf, that stops, that begins anew: nothing of it becomes a line."""
    asked = []

    def answer(method, path, query, body, headers):
        asked.append(query)
        status, told, *more = manners(method, path, query, body, headers)
        return status, {**told, "lamps": told["lamps"][:1]} if "stop" in query else told, *more

    (tmp_path / "dialects").mkdir()
    file = tmp_path / "dialects/quay.yaml"
    file.write_text(OPEN)
    (tmp_path / "concordex.yaml").write_text(
        f"format: 1\nsystems: {{quay: {{dialect: quay, url: '{serve(answer).url}'}}}}\n"
    )
    shell = Near(tmp_path)
    told = shell("dialect", "check", "quay", "--against", "quay", "--settle", "--yes", "-f", "json")
    rows = {row["guess"]: row for row in json.loads(told.stdout)}
    assert sorted(guess for guess, row in rows.items() if row["result"] == "shown") == sorted(shown)
    assert rows["name: label"]["result"] == "yours"
    assert "lamp-0001" in rows["name: label"]["seen"]
    assert rows['query: {stop: "1"}']["result"] == "no"  # it leaves records out
    lines = [
        line.split("  # ")[0].strip() for line in file.read_text().splitlines() if not line.strip().startswith("#")
    ]
    assert [line for line in lines if line.startswith(("pages", "total"))] == sorted(shown, key=lines.index)
    assert (" whole " in shell("pull", status=None).stdout) == bool(shown)


def test_a_draft_that_somebody_alters_meanwhile_is_not_written_over(tmp_path, serve):
    (tmp_path / "dialects").mkdir()
    file, manners = tmp_path / "dialects/quay.yaml", Manners()
    file.write_text(OPEN)

    def answer(*asked):
        file.write_text(OPEN + "# a colleague was here\n")
        return manners(*asked)

    url = serve(answer).url
    (tmp_path / "concordex.yaml").write_text(f"format: 1\nsystems: {{quay: {{dialect: quay, url: '{url}'}}}}\n")
    told = Near(tmp_path)("dialect", "check", "quay", "--against", "quay", "--settle", "--yes", status=2)
    assert "was altered meanwhile" in told.stderr
    assert file.read_text().endswith("# a colleague was here\n")


def test_a_description_that_lies_gives_candidates_and_nothing_sure(tmp_path, serve):
    """It promises a total and offsets; the server has neither: they stand in no draft of what the server answers."""

    def deaf(_method, path, _query, _body, _headers):
        lamps = [{"id": f"L{n}", "serialNumber": f"SN{n:05d}"} for n in range(7)]
        return (200, LIE) if path == "/api.json" else (200, {"lamps": lamps, "total": 3})

    (tmp_path / "lie.json").write_text(json.dumps(LIE))
    shell = Near(tmp_path)
    shell("dialect", "draft", "described", "--from", "lie.json")
    described = load.from_file(tmp_path / "described.yaml")
    assert described.sign_in.by == "header"
    assert described.tables["lamps"].read.pages.by == "none"  # promised, and not seen
    assert "# pages: {by: offset, offset: offset, limit: limit}" in (tmp_path / "described.yaml").read_text()
    (tmp_path / "dialects").mkdir()
    (tmp_path / "dialects/bare.yaml").write_text(
        "format: 1\nname: bare\ntitle: Bare\ntables: {none: {read: {path: /none}, fields: {record_id: id}}}\n"
    )
    (tmp_path / "concordex.yaml").write_text(
        f"format: 1\nsystems:\n  lamps: {{dialect: bare, url: '{serve(deaf).url}', describes: /api.json}}\n"
    )
    shell("dialect", "draft", "drafted", "--from", "lamps")
    read = load.from_file(tmp_path / "dialects/drafted.yaml").tables["lamps"].read
    assert read.pages.by == "none"
    assert read.total is None
