"""A system gets another name: all that is known of it goes on, and the journal tells that it was so."""

from __future__ import annotations

import getpass
import json
import re

import polars as pl
import pytest

from concordex.errors import StoreError
from concordex.store import renaming
from concordex.work.concordance import reconcile as reconciling
from concordex.work.upkeep import rename as made_of
from tests.stories.test_shared import beside, place, schema  # noqa: F401 - fixtures

OLD, NEW = "stowage", "quay-inventory"
ASKED = (
    ["show", "devices"], ["show", "entries"], ["findings"], ["ruling", "list"],
    ["system", "list", "--columns", "system,state,records,proof"],
    ["change", "list", "--columns", "change,system,state"], ["pulls", "--columns", "pull,outcome"],
)  # fmt: skip


def said(shell, *words: str) -> list[dict]:
    """What a command says as JSON, with the new name for the old one, and what was new by now known."""
    text = re.sub(rf"\b{OLD}\b", NEW, shell(*words, "-f", "json", status=None).stdout)
    rows = json.loads(text.replace('"new"', '"known"'))
    return [{**row, "systems": sorted(row["systems"])} if row.get("systems") else row for row in rows]


def rename(shell, status: int = 0) -> str:
    return shell("system", "rename", OLD, NEW, "--yes", status=status).stderr


def named(shell, old: str = OLD) -> set[str]:
    """Where the store still says the old name: columns of tables, and of the concordance's frames."""
    here = shell.workspace
    rows = {table: here.catalogue.database.rows(f"SELECT * FROM {table}") for table in here.catalogue.database.tables()}
    found = {
        f"{table}.{column}"
        for table in rows
        for row in rows[table]
        for column, value in row.items()
        if re.search(rf"(?<!['\w-]){old}(?![\w-])", str(value))
    }
    for file in (shell.folder / ".concordex/concordance").rglob("*.parquet"):
        frame = pl.read_parquet(file)
        for column in frame.columns:
            values = frame[column].explode() if frame.schema[column] == pl.List else frame[column]
            if values.cast(pl.String).eq(old).any():
                found.add(f"{file.stem}.{column}")
    return found


@pytest.mark.parametrize("where", ["own", "shared"])
def test_what_is_known_of_a_system_goes_on_under_its_new_name(writing, where, request, tmp_path):
    """Its devices, findings, rulings, changes and jobs; a change that was run under the old name is undone under it."""
    writing("reconcile")
    writing.config(
        lambda text: (
            text.replace(f"  {OLD}:\n", f"  # theirs\n  {OLD}: # since spring\n")
            + f"jobs: {{a: {{every: 1d, systems: [{OLD}], steps: ['pull {{systems}}', 'sync {OLD} --tag {OLD}']}}}}\n"
        )
    )
    writing("set", OLD, "kind = router", "comment=night desk", "--yes")
    known = said(writing, "show", "entries", "--columns", "name,systems,serial")
    one, other = [row["serial"] for row in known if row["systems"] == [NEW] and row["serial"]][:2]
    writing("ruling", "apart", one, other, "--why", "two sheds")
    writing("system", "check", OLD)
    if where == "shared":
        writing("store", "move", *request.getfixturevalue("place"))
    other = beside(writing, tmp_path / "other")
    writing("reconcile")
    before = [said(writing, *words) for words in ASKED]
    told = rename(writing)
    assert f"jobs.a.steps.1: sync {NEW} --tag {OLD}" in told
    assert "journal notes it (changes: 1)" in told
    file = (writing.folder / "concordex.yaml").read_text()
    assert f"  # theirs\n  {NEW}: # since spring\n" in file
    assert f"{OLD}/" not in (writing.folder / "rulings.yaml").read_text()
    assert named(writing) <= {"links.what", "snapshots.file", "files.name", "changes.about", "steps.causes"}
    if where == "shared":  # another machine follows
        rename(other)
        assert said(other, *ASKED[1]) == before[1]
    for _ in range(2):
        assert [said(writing, *words) for words in ASKED] == before
        writing("reconcile")
    assert "all as they were written" in writing("journal", "verify").stderr
    writing("pull", NEW)
    writing("change", "undo", "1", "--yes")
    assert not json.loads(writing("show", "devices", "--where", "comment = 'night desk'", "-f", "json").stdout)


def test_a_file_that_says_the_new_name_already_is_followed_and_two_systems_are_not_made_one(shell):
    """By hand, or because it was cut off in between: what was pulled since stands beside what was before."""
    shell("pull")
    shell.config(
        lambda text: re.sub(rf"\b{OLD}\b(?!\.secret)", NEW, text).replace(f"dialect: {NEW}", f"dialect: {OLD}")
    )
    shell("pull", NEW)
    rename(shell)
    pulls = shell.workspace.catalogue.database.rows("SELECT pull FROM snapshots WHERE system = ?", (NEW,))
    assert {row["pull"] for row in pulls} == {1, 2}
    assert "there is no system" in rename(shell, status=2)
    shell.workspace.catalogue.database.run("UPDATE snapshots SET system = 'old-quay' WHERE system = ?", ("muster",))
    told = shell("system", "rename", "old-quay", NEW, "--yes", status=5).stderr
    assert "would make two systems one" in told
    assert "something called 'muster' already" in shell("system", "rename", NEW, "muster", "-y", status=2).stderr
    assert "is no name of a system" in shell("system", "rename", NEW, "The Quay", "-y", status=2).stderr


def test_nothing_is_renamed_while_something_runs_a_change_is_open_or_the_journal_was_altered(writing):
    """And then nothing at all is altered, in no file and in no table; seals made anew would hide what was done."""
    writing("set", OLD, "kind = router", "comment=x", "--draft")
    before, database = (writing.folder / "concordex.yaml").read_text(), writing.workspace.catalogue.database
    with writing.workspace.locks.of_job(""):
        assert "concordex work runs" in rename(writing, status=5)
    database.run("INSERT INTO links SELECT id + 1, change, 'begun', moment, digest, seal, seal FROM links")
    assert "journal was altered" in rename(writing, status=5)
    database.run("DELETE FROM links WHERE what = 'begun'")
    writing.workspace.journal.begin(1, 1)
    assert "change 1" in rename(writing, status=5)
    assert (writing.folder / "concordex.yaml").read_text() == before
    assert not named(writing, NEW)


def test_a_rename_that_is_cut_off_between_files_and_store_is_gone_on_with(writing, monkeypatch):
    """Nothing half-made is left, and until then the new name is a system that was never pulled."""
    writing("reconcile")
    before = said(writing, "show", "entries")
    with monkeypatch.context() as cut:
        cut.setattr(renaming, "resettle", full)
        assert "the disk is full" in rename(writing, status=1)
    states = {row["system"]: row["state"] for row in said(writing, "system", "list")}
    assert states[NEW] == "never"
    assert len(list((writing.folder / ".concordex/concordance").iterdir())) == 1
    assert said(writing, "show", "entries") == before
    rename(writing)
    assert said(writing, "show", "entries") == before
    assert {row["state"] for row in said(writing, "system", "list")} == {"connected"}


def test_a_reconcile_that_comes_between_is_not_overwritten(writing, monkeypatch):
    """What was made under the old name meanwhile is the newest, and is carried over by the next try."""
    writing("reconcile")
    rewritten = made_of._rewritten

    def and_reconciled(*given) -> None:
        rewritten(*given)
        monkeypatch.undo()
        writing("reconcile", "--relearn")

    monkeypatch.setattr(made_of, "_rewritten", and_reconciled)
    assert "somebody reconciled" in rename(writing, status=5)
    before = said(writing, "show", "entries")
    newest = writing.workspace.catalogue.reconciliation()["id"]
    rename(writing)
    assert said(writing, "show", "entries") == before
    assert writing.workspace.catalogue.reconciliation()["id"] == newest


def test_a_reconcile_that_a_rename_overtakes_is_not_kept(writing, monkeypatch):
    """It would have made new entries of all devices of that system, under a name that nobody has any longer."""
    writing("reconcile")
    before, counted = said(writing, "show", "entries"), reconciling._summary

    def and_renamed(*given):
        monkeypatch.undo()
        rename(writing)
        return counted(*given)

    monkeypatch.setattr(reconciling, "_summary", and_renamed)
    assert "was renamed while" in writing("reconcile", "--relearn", status=5).stderr
    writing("reconcile", "--relearn")
    assert said(writing, "show", "entries") == before


def test_who_may_not_decide_renames_nothing_also_where_the_file_says_the_new_name(shell):
    shell("pull")
    shell.config(
        lambda text: (
            re.sub(rf"\b{OLD}\b(?!\.secret)", NEW, text).replace(f"dialect: {NEW}", f"dialect: {OLD}")
            + f"rights: {{people: {{{getpass.getuser()}: {{may: [see, pull, run]}}}}}}\n"
        )
    )
    assert "may not decide" in rename(shell, status=5)
    assert "snapshots.system" in named(shell)


def full(*_) -> None:
    raise StoreError("the disk is full")
