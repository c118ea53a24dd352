"""A store that several machines share: a catalogue in PostgreSQL, snapshots in a folder or an object store."""

from __future__ import annotations

import json
import shutil
import threading
import time
from itertools import count
from pathlib import Path

import pytest

from tests.conftest import Near, Shell

_schemas = count(1)


@pytest.fixture
def place(postgres, tmp_path):
    """Where a test's own store is to be, as the words of `store move`."""
    schema = f"w{next(_schemas)}_{tmp_path.name[-20:].lower()}".replace("-", "_")
    return ["--catalogue", postgres.url, "--schema", schema, "--snapshots", str(tmp_path / "shelf")]


def beside(shell: Shell, folder: Path) -> Near:
    """The same workspace on another machine, which has the files that people keep, and nothing of the store."""
    shutil.copytree(shell.folder, folder, ignore=shutil.ignore_patterns(".concordex"))
    return Near(folder)


def seen(shell: Shell) -> str:
    return shell("show", "devices", "-f", "json").stdout


def test_a_store_that_is_moved_is_all_there_and_everything_goes_on(writing, place, postgres, tmp_path):
    """The same devices, pulls, changes, seals and concordance; another machine sees them too; and back again."""
    writing("reconcile")
    writing("set", "stowage", "kind = router", "comment=night desk", "--draft")
    before = [seen(writing), writing("pulls", "-f", "json").stdout, writing("change", "show", "1", "-f", "json").stdout]
    seal = writing("journal", "verify", "-f", "json").stdout
    told = writing("store", "move", *place).stderr
    assert "rows are in postgresql://" in told
    assert not (writing.folder / ".concordex" / "catalogue.sqlite").exists()
    assert next((writing.folder / ".concordex").glob("catalogue.sqlite.moved-*"))
    other = beside(writing, tmp_path / "other")
    for shell in (writing, other):
        now = [seen(shell), shell("pulls", "-f", "json").stdout, shell("change", "show", "1", "-f", "json").stdout]
        assert now == before
        assert shell("journal", "verify", "-f", "json").stdout == seal
    writing("pull", "fairlead")
    assert [row["pull"] for row in json.loads(other("pulls", "-f", "json").stdout)] == [2, 1]
    assert seen(other) == seen(writing)
    other("change", "run", "1", "--yes", "--count", str(len(json.loads(before[2]))))
    assert "done" in writing("change", "list").stdout
    assert "wrong" not in other("doctor", "-f", "json").stdout.replace('"wrong": 0', "")
    other("backup", str(tmp_path / "b.tar"))
    other("backup", str(tmp_path / "b.tar"), "--check")
    writing("store", "move", "--here")
    assert seen(writing) == seen(writing)
    assert "0 links" not in writing("journal", "verify").stderr
    assert (
        "cannot be used" in other("pulls", status=2).stderr
        or "nothing has been pulled" in other("pulls", status=2).stderr
    )
