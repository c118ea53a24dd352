"""The public Python API: the README's job without the command line, in a script and inside an event loop."""

from __future__ import annotations

import ast
import asyncio
import inspect
import runpy
from collections import Counter
from pathlib import Path

import pytest
from docs.reference import page

import concordex
from concordex import Workspace
from concordex.cli.parts import SUMMARIES
from concordex.errors import StoreError
from concordex.work.api_dialects import Dialects
from concordex.work.api_objects import Objects
from tests.conftest import make_workspace


def test_the_whole_job_goes_through_the_api(tmp_path, fresh_harbour):
    folder = make_workspace(tmp_path, fresh_harbour).folder
    with Workspace(folder) as here:
        assert all(step.ok for step in here.check())
        assert here.pull().outcome == "whole"
        assert here.show("devices", where="kind = switch", columns=["name"], limit=3).frame.height == 3
        summary = here.reconcile()
        assert here.entries().height == summary.entries
        assert sum(summary.findings.values()) == here.findings().height
        (one,) = here.explain(here.entries()["entry"][0])
        assert one.records
        prepared, _ = here.sync("stowage")
        change = here.keep(prepared)
        told: list[tuple[int, int]] = []
        done = here.run(change.number, lambda ended, of: told.append((ended, of)))
        assert told[-1][0] == told[-1][1] == len(change.writes)
        assert {step.state for step in done.steps} == {"confirmed", "held"}
        assert not here.sync("stowage")[0].writes
        back = here.keep(here.undo(change.number))
        assert here.run(back.number).state == "done"


def test_configuration_objects_are_saved_compared_and_put_back(tmp_path, fresh_harbour):
    folder = make_workspace(tmp_path, fresh_harbour).folder
    with Workspace(folder) as here:
        held = here.objects.live("muster")
        here.objects.save("muster", held, here.kinds.chosen("muster"), folder / "baselines")
        assert not here.objects.drift()["muster"].differences
        role = next(one for one in held.objects if one.kind == "roles")
        original = here.objects.original(f"muster/roles/{role.name}", None, here.objects.live)
        copy = here.objects.copied(original, [], [], name="of the api", bound=False)
        made = here.keep(here.objects.copy(original, copy)[0])
        assert here.run(made.number).state == "done"
        (added,) = here.objects.drift()["muster"].differences
        assert (added.what, added.key[:2]) == ("added", ("roles", "of the api"))
        back = here.keep(here.objects.restore(here.objects.drift()["muster"]))
        here.run(back.number)
        assert not here.objects.drift()["muster"].differences


def test_inside_a_running_event_loop_it_waits_just_the_same(shell):
    async def notebook() -> str:
        return shell.workspace.pull(["muster"], ["devices"]).outcome

    assert asyncio.run(notebook()) == "whole"


def test_what_is_closed_is_closed_and_can_be_used_again(shell):
    with shell.workspace as here:
        here.pull(["muster"], ["devices"])
        opened = here.catalogue.database
    with pytest.raises(StoreError, match="closed"):
        opened.rows("SELECT 1")
    assert here.show("devices").frame.height


def test_a_workspace_that_is_made_has_no_system_yet(tmp_path):
    assert Workspace.make(tmp_path / "new").config.systems == {}


@pytest.mark.parametrize("shown", [Workspace, Objects, Dialects])
def test_every_method_says_what_it_does_and_gives_typed_results(shown):
    for name, method in inspect.getmembers(shown, inspect.isfunction):
        if not name.startswith("_"):
            assert method.__doc__, name
            assert "return" in method.__annotations__, name


def test_the_reference_page_is_what_the_docstrings_say():
    assert Path(__file__).parents[2].joinpath("docs", "api.md").read_text() == page(), "make reference"


def test_the_reference_of_commands_and_the_manual_are_what_the_program_says():
    docs = Path(__file__).parents[2] / "docs"
    made = runpy.run_path(str(docs / "commands.py"))["made"]()
    assert {name: (docs / name).read_text() for name in made} == made, "make reference"
    for name in SUMMARIES:
        assert f"### `concordex {name}`" in made["commands.md"]
        assert f"\n.B {name}\n" in made["man/concordex.1"]


def test_no_class_name_means_two_things():
    """Who reads a name need not ask which of two is meant."""
    named = Counter(
        node.name
        for file in Path(concordex.__file__).parent.rglob("*.py")
        for node in ast.walk(ast.parse(file.read_text(encoding="utf-8")))
        if isinstance(node, ast.ClassDef) and not node.name.startswith("_")
    )
    assert [name for name, times in named.items() if times > 1] == []
