"""The schemas of our files: what they take is what the program takes, of every example that the documentation gives."""

from __future__ import annotations

import json
import re
from datetime import date
from pathlib import Path

import pytest
from jsonschema import Draft202012Validator
from ruamel.yaml import YAML

from concordex.errors import DocumentError
from concordex.work.api_upkeep import schemas
from concordex.work.workspace.config import check_whole

DOCS = Path(__file__).parents[2] / "docs"
SYSTEMS = "dialect: muster, url: 'https://m.example'"
KEYS = ("timetable", "jobs", "tell", "store", "rights", "systems")


def plain(value):
    """As JSON has it: days as texts."""
    if isinstance(value, dict):
        return {str(name): plain(one) for name, one in value.items()}
    if isinstance(value, list):
        return [plain(one) for one in value]
    return value.isoformat() if isinstance(value, date) else value


def faults(name: str, document) -> list[str]:
    schema = json.loads(schemas()[name][1]())
    Draft202012Validator.check_schema(schema)
    return [error.message for error in Draft202012Validator(schema).iter_errors(plain(document))]


def blocks(page: str) -> list[dict]:
    """The pieces of ``concordex.yaml`` that a page shows."""
    text = (DOCS / page).read_text()
    found = re.findall(r"(?:^    .*\n|^\n(?=    ))+", text, re.M)
    pieces = ["\n".join(line[4:] for line in block.splitlines()) for block in found]
    documents = [
        YAML(typ="safe").load(piece.replace("{…}", "{}").replace('"…"', f"'{'a' * 64}'"))
        for piece in pieces
        if piece.strip().startswith(tuple(f"{key}:" for key in KEYS))
    ]
    assert documents, page
    return documents


@pytest.mark.parametrize("page", ["jobs.md", "team.md"])
def test_what_the_documentation_shows_is_taken_by_the_schema_and_by_the_program(page, tmp_path):
    whole = {"format": 1, "systems": {name: {"dialect": "muster", "url": "https://m.example", "tags": ["quays"]}
                                      for name in ("muster", "stowage")}}  # fmt: skip
    for document in blocks(page):
        whole |= {**document, "systems": {**whole["systems"], **document.get("systems", {})}}
    assert faults("workspace", whole) == []
    check_whole(tmp_path, whole)


@pytest.mark.parametrize(
    "spoiled",
    [
        {"format": 2}, {"format": 1, "systms": {}}, {"format": 1, "systems": {"a": {"url": "ftp://x"}}},
        {"format": 1, "jobs": {"n": {"steps": []}}}, {"format": 1, "jobs": {"n": {"steps": ["pull"], "evry": "1h"}}},
        {"format": 1, "rights": {"people": {"x": {"may": ["fly"]}}}}, {"format": 1, "store": {"catalogue": "mysql://x"}},
        {"format": 1, "keep": {"snapshots": "ages"}},
    ],
)  # fmt: skip
def test_what_the_schema_refuses_the_program_refuses_too(spoiled, tmp_path):
    assert faults("workspace", spoiled)
    with pytest.raises(DocumentError):
        check_whole(tmp_path, spoiled)


def test_rulings_groups_and_versions_have_schemas_that_take_what_the_program_writes(writing):
    writing("reconcile")
    writing("ruling", "value", "stowage/1", "site", "ferry", "--why", "seen there", status=None)
    writing("group", "add", "routers", "--where", "kind = router")
    for name, file in (("rulings", "rulings.yaml"), ("group", "groups/routers.yaml"), ("workspace", "concordex.yaml")):
        path = writing.folder / file
        assert path.exists() or name == "rulings", file
        if path.exists():
            assert faults(name, YAML(typ="safe").load(path.read_text())) == []
    day = "2026-01-01"
    assert faults("versions", {"format": 1, "wanted": [{"where": "os = x", "version": "7.10", "since": day}]}) == []
    assert faults("versions", {"format": 1, "wanted": [{"where": "os = x", "version": 7.1}]})


def test_the_schemas_that_are_published_are_those_of_the_program(shell):
    for name, (_, make) in schemas().items():
        if name != "dialect":
            assert (DOCS / "schemas" / f"{name}.schema.json").read_text() == make(), "make schema"
            assert shell("schema", name).stdout == make()
    assert "concordex.yaml" in shell("schema").stdout
    assert "did you mean" in shell("schema", "worksapce", status=2).stderr
