"""Workspaces of strangers: nothing is run and nothing read for them that a person has not agreed to."""

from __future__ import annotations

import os
import time
from pathlib import Path

import pytest

from concordex import trust
from concordex.errors import BadAnswer
from concordex.wire import jsonpath, shapes
from concordex.wire.paths import PathError, at
from tests.conftest import Near
from tests.lamplight import lamps, reading, run

STRANGER = 12_345
NOBODY = pytest.mark.skipif(os.getuid() != 0, reason="only root can give files away")


def workspace(folder: Path, word: str) -> Near:
    """One whose secret is kept as ``word`` says."""
    folder.mkdir(parents=True)
    (folder / "concordex.yaml").write_text(
        "format: 1\nsystems:\n  store: {dialect: stowage, url: 'http://127.0.0.1:9',"
        f" credentials: {{key: '{word}'}}}}\n"
    )
    return Near(folder)


def give_away(path: Path) -> None:
    os.chown(path, STRANGER, STRANGER)


@NOBODY
@pytest.mark.parametrize("planted", ["the file", "the folder", "a folder above", "open to all", "open above"])
def test_a_planted_workspace_runs_nothing(tmp_path, monkeypatch, planted):
    """Found by walking upwards from a folder of ours."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    outer = tmp_path / "share"
    root = outer / "depot"
    workspace(root, f"command:touch {tmp_path}/ran")
    within = root / "ours" / "deep"
    within.mkdir(parents=True)
    {
        "the file": lambda: give_away(root / "concordex.yaml"),
        "the folder": lambda: give_away(root),
        "a folder above": lambda: give_away(outer),
        "open to all": lambda: root.chmod(0o777),
        "open above": lambda: outer.chmod(0o777),
    }[planted]()
    shell = Near(within)
    told = shell("system", "check", status=1)
    assert "is not had for this workspace" in told.stdout + told.stderr
    assert "concordex trust" in told.stdout + told.stderr
    assert not (tmp_path / "ran").exists()
    told = shell("trust", status=5)  # nobody is asked, so nobody agrees
    assert f"command:touch {tmp_path}/ran" in told.stdout
    shell("system", "check", status=1)
    assert not (tmp_path / "ran").exists()
    shell("trust", "--yes")
    shell("system", "check", status=1)
    assert (tmp_path / "ran").exists()
    assert not list(root.rglob("trusted*"))  # kept outside
    (tmp_path / "ran").unlink()
    file = root / "concordex.yaml"
    owner = file.stat()
    file.write_text(file.read_text().replace("touch", "touch -a"))  # what is altered is asked again
    os.chown(file, owner.st_uid, owner.st_gid)
    shell("system", "check", status=1)
    assert not (tmp_path / "ran").exists()
    assert "1 agreement taken back" in shell("trust", "--forget").stderr


@NOBODY
@pytest.mark.parametrize("word", ["env:OURS", "file:../ours", "keyring:bank/ours"])
def test_a_workspace_of_somebody_else_gets_no_secret_of_ours(tmp_path, monkeypatch, word):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    shell = workspace(tmp_path / "theirs", word)
    (tmp_path / "ours").write_text("a secret of ours")
    give_away(shell.folder / "concordex.yaml")
    told = shell("system", "check", status=1, env={"OURS": "a secret of ours"})
    assert "is not had for this workspace" in told.stdout
    assert trust.doubts(shell.folder, word)


def test_in_a_folder_of_ones_own_nothing_is_asked(tmp_path, monkeypatch):
    """Also below the folder for temporary files, where everybody may write and nobody takes away what is another's."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    (tmp_path / "open").mkdir(mode=0o777)
    (tmp_path / "open").chmod(0o1777)
    shell = workspace(tmp_path / "open" / "mine", "command:echo word")
    assert "nothing to agree to" in shell("trust").stderr
    assert trust.doubts(shell.folder, "command:echo word") is None


def test_what_was_agreed_to_and_cannot_be_read_is_told(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    shell = workspace(tmp_path / "mine", "command:echo word")
    shell.folder.chmod(0o777)
    (tmp_path / "concordex").mkdir()
    (tmp_path / "concordex" / "trusted.json").write_text("{")
    assert "trusted.json cannot be read" in shell("trust", status=1).stderr


@pytest.mark.parametrize("pattern", ["../../ours/secret.csv", "/etc/passwd", "link.csv", "*/../../ours/secret.csv"])
@pytest.mark.parametrize("named", [True, False])
def test_a_dialect_reads_nothing_outside_of_the_folder_that_the_workspace_names(tmp_path, serve, pattern, named):
    """Nor where it could: what it would read, it could send to the system, or to whoever wrote it."""
    (tmp_path / "ours").mkdir()
    (tmp_path / "ours" / "secret.csv").write_text("id,name\nroot,hunter2\n")
    root = tmp_path / "theirs"
    (root / "dialects").mkdir(parents=True)
    (root / "exports").mkdir()
    (root / "exports" / "link.csv").symlink_to(tmp_path / "ours" / "secret.csv")
    asked = []
    url = serve(lambda method, path, *_: asked.append(path) or (200, [])).url
    (root / "dialects" / "odd.yaml").write_text(
        "format: 1\nname: odd\ntitle: Odd\ntables:\n"
        f"  users: {{read: {{file: '{pattern}', shape: {{by: csv}}}}, fields: {{record_id: id, name: name}}}}\n"
        "  devices: {read: {path: '/for/{name}', each: {of: users}}, fields: {record_id: id}}\n"
    )
    where = "folder: exports" if named else f"url: {url}"
    (root / "concordex.yaml").write_text(f"format: 1\nsystems: {{odd: {{dialect: odd, {where}}}}}\n")
    shell = Near(root)
    told = [shell(*words, status=None) for words in (("system", "check"), ("pull",), ("dialect", "check", "odd"))]
    said = "".join(one.stdout + one.stderr for one in told[:2])
    assert any(why in said for why in ("outside of", "is a link out of", "the workspace names no folder"))
    assert not asked
    assert "hunter2" not in "".join(one.stdout + one.stderr for one in told)
    assert not list(root.rglob("*.parquet"))


HUNG = "a" * 60 + "!"
NESTED = [0]
for _ in range(200):
    NESTED = [NESTED]


@pytest.mark.parametrize(
    ("path", "records"),
    [("$.l[?match(@.id, '(a|aa)+')]", [{"id": HUNG}]), ("$..[?count($..*) > 1]", [{"id": 1}] * 3_000),
     ("$.l" + "[*,*,*,*]" * 60, [[[[[[[[[[1] * 9] * 9] * 9] * 9] * 9] * 9] * 9] * 9] * 9]), ("$..id", NESTED)],
    ids=["pattern", "each of all of all", "doubled again and again", "deep"],
)  # fmt: skip
def test_a_path_of_a_stranger_comes_to_an_end(monkeypatch, path, records):
    monkeypatch.setattr(jsonpath, "PATIENCE", 0.3)
    begun = time.monotonic()
    with pytest.raises(BadAnswer, match=r"not found within|nested too deeply"):
        at(path).several({"l": records})
    assert time.monotonic() - begun < 5


@pytest.mark.parametrize(
    "path", ["$" + "[?@" * 300 + "]" * 300, "$" + "[0]" * 9_000, "$[?" + "(" * 480 + "@.a" + ")" * 480 + "]"]
)
def test_a_path_that_is_itself_a_burden_is_none(path):
    with pytest.raises(PathError, match="is not JSONPath") as told:
        at(path)
    assert len(str(told.value)) < 200


def test_a_pattern_of_a_stranger_comes_to_an_end(serve, monkeypatch):
    monkeypatch.setattr(shapes, "_PATIENCE", 0.3)
    served = serve(lambda *_: (200, HUNG.encode()))
    spoken = lamps(r"{path: /, records: $, shape: {by: text, pattern: '^(?P<id>(a|aa)+)$'}}", limits={"tries": 1})
    begun = time.monotonic()
    with pytest.raises(BadAnswer, match="could not be looked for"):
        run(reading(served.url, spoken))
    assert time.monotonic() - begun < 5
