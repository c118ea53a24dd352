"""Copies of systems: what is pulled of them is what was pulled; a change is tried there before it is sent."""

from __future__ import annotations

import json
import os
import re
import signal
import time

import httpx
import pytest

from concordex import Workspace
from concordex.errors import CalledWrongly
from concordex.model.fields import ORIGINAL
from tests.conftest import Near, make_workspace
from tests.stories.test_nine import NINE


def tables_of(here: Workspace, system: str) -> dict:
    """What is kept of a system: its rows, and its own records whatever the order of their members."""
    kept = {}
    for shot in here.memory.newest(system=system):
        frame = here.frames.scan(shot.file).collect().sort("record_id")
        own = [json.loads(text) for text in frame[ORIGINAL]]
        kept[shot.table] = (shot.outcome, frame.drop(ORIGINAL).to_dicts(), own)
    return kept


def test_a_copy_and_a_recording_of_each_stand_in_give_what_was_pulled(tmp_path, harbour):
    """In nine manners of asking; no system is asked meanwhile, no secret is needed, and none is in any recording."""
    shell = make_workspace(tmp_path, harbour, NINE, Near)
    shell("pull", "--record", "rec")
    here = shell.workspace
    kept = {name: tables_of(here, name) for name in NINE}
    for standin in harbour.standins:
        standin.faults.clear()
    secrets = [path.read_text().strip() for path in tmp_path.glob("*.secret")]
    for path in tmp_path.glob("*.secret"):
        path.unlink()
    for name in NINE:
        with here.rehearsals.serve(name) as served:
            there = Workspace(served.workspace)
            there.pull()
            assert tables_of(there, name) == kept[name]
            assert not served.made.copy.noted.untold
        assert not served.workspace.exists()
    assert "no system was asked" in shell("pull", "--replay", "rec").stderr
    there = Workspace(shell.folder / "rec/replayed")
    assert {name: tables_of(there, name) for name in NINE} == kept
    assert not any(standin.faults.requests for standin in harbour.standins)
    files = list((shell.folder / "rec").glob("*.har"))
    text = "".join(path.read_text() for path in files)
    assert not [secret for secret in secrets for line in secret.splitlines() if len(line) > 7 and line in text]
    assert all((path.stat().st_mode & 0o077) == 0 for path in files)


def test_a_copy_is_used_in_a_workspace_of_its_own_and_forgets(writing):
    """By any program on this machine, with its credentials and no others; what is written to it ends with it."""
    process = writing.begin("rehearse", "stowage", "--into", "copy")
    try:
        told = [process.stdout.readline() for _ in range(8)]
        url = re.search(r"http://127\.0\.0\.1:\d+", "".join(told))[0]
        assert any("concordex -w copy pull stowage" in line for line in told)
        assert httpx.get(f"{url}/v2/gear").status_code == 401
        assert httpx.get(f"{url}/v2/gear", headers={"Host": "quay.example"}).status_code == 421
        assert (writing.folder / "copy/stowage-key.secret").stat().st_mode & 0o077 == 0
        assert "7 whole" in writing("-w", "copy", "pull").stderr
        made = writing("-w", "copy", "set", "stowage", "name like sw-*", "comment=rehearsed", "--yes")
        assert "confirmed" in made.stderr
        where = ["--where", "comment = rehearsed", "--count-by", "kind"]
        count = writing("-w", "copy", "show", "devices", "--live", *where)
        assert "switch" in count.stdout
        again = writing("rehearse", "stowage", "--port", url.rpartition(":")[2], "--into", "other", status=2)
        assert "port" in again.stderr
        assert "is there already" in writing("rehearse", "stowage", "--into", "copy", status=2).stderr
    finally:
        process.send_signal(signal.SIGTERM)
        _, said = process.communicate(timeout=30)
    assert re.search(r"the copy of stowage ends: \d+ requests, \d+ writes", said)
    assert not (writing.folder / "copy").exists()


def test_what_a_killed_rehearsal_left_is_not_in_the_way_of_the_next(writing):
    """Though it bears the number that this process has now, as the first of a container does."""
    writing("sync", "stowage", "--draft", status=0)
    place = writing.folder / f".concordex/rehearsals/change-1-{os.getpid()}/.concordex"
    place.mkdir(parents=True)
    (place / "catalogue.sqlite").write_text("torn")
    writing("change", "run", "1", "--against-copy", status=4)
    assert not place.exists()


def test_a_change_is_rehearsed_refused_there_mended_and_run(writing, fresh_harbour):
    """Neither the inventory nor the journal knows of the rehearsal, which needs no secret of ours."""
    stowage, (folder, secret) = fresh_harbour.stowage, (writing.folder, writing.folder.parent / "stowage.secret")
    asked = ["show", "devices", "--system", "stowage", "--where", "model present", "-n", "1", "-f", "json"]
    row = json.loads(writing(*asked).stdout)[0]
    known = {name: row[name] for name in ("site", "maker", "model")}
    (folder / "new.csv").write_text(f"name,serial,kind,{','.join(known)}\n" + "".join(
        f"sw-new-0{n},NEW{n},switch,{','.join(known.values())}\n" for n in (1, 2)
    ))  # fmt: skip
    writing("push", "new.csv", "--to", "stowage", "--draft")
    next(iter(stowage.lists["gear"].values()))["title"] = "sw-new-02"  # meanwhile somebody has taken the name
    writing("pull", "stowage")
    stowage.faults.clear()
    (kept := folder / "key").write_text(secret.read_text())
    secret.unlink()
    done = writing("change", "run", "1", "--against-copy", status=4)
    assert not stowage.faults.requests
    assert "sw-new-02" in done.stdout
    assert "1 step written, read back and confirmed" in done.stderr
    assert "nothing was sent to stowage" in done.stderr
    assert json.loads(writing("change", "list", "-f", "json").stdout)[0]["state"] == "draft"
    assert not list((folder / ".concordex/rehearsals").iterdir())
    next(iter(stowage.lists["gear"].values()))["title"] = "sw-old-02"
    secret.write_text(kept.read_text())
    writing("pull", "stowage")
    assert "2 steps written" in writing("change", "run", "1", "--against-copy").stderr
    assert "2 steps written" in writing("change", "run", "1", "--yes").stderr


def test_what_a_copy_cannot_show_is_told(writing):
    """What an action does, no dialect tells; guards hold there too; what is no API has no copy."""
    writing("action", "fairlead", "restart", "kind = switch", "--draft")
    done = writing("change", "run", "1", "--against-copy")
    assert re.search(r"not rehearsed: its dialect does not tell what restart does .* \(\d+ times\)", done.stderr)
    assert "taken" in done.stderr
    assert "read back" not in done.stderr
    writing("set", "fairlead", "kind = switch", "name=x", "--draft")
    writing.config(lambda text: text + "guards: {updates: 3}\n")
    assert "and the workspace allows 3" in writing("change", "run", "2", "--against-copy", status=5).stderr


def test_nothing_is_served_of_what_was_not_pulled_or_twice_from_one_folder(tmp_path, harbour):
    here = make_workspace(tmp_path, harbour, ["purser", "stowage"]).workspace
    with pytest.raises(CalledWrongly, match="nothing has been pulled yet"), here.rehearsals.serve("purser"):
        pass
    here.pull(["purser"])
    with pytest.raises(CalledWrongly, match="nothing of stowage has been pulled"), here.rehearsals.serve("stowage"):
        pass
    with here.rehearsals.serve("purser") as served:
        with pytest.raises(CalledWrongly, match=r"is served from .* already"), here.rehearsals.serve("purser"):
            pass
        assert (served.workspace / "concordex.yaml").is_file()  # the first one's was left alone
    began = time.monotonic()
    with here.rehearsals.serve("purser"):
        pass
    assert time.monotonic() - began < 10
