"""Workspaces of strangers: nothing is run and nothing read for them that a person has not agreed to."""

from __future__ import annotations

import os
import struct
import time
from pathlib import Path

import pytest

from concordex import trust
from concordex.errors import BadAnswer, SecretError
from concordex.wire.dialect import jsonpath
from concordex.wire.dialect.load import text_of
from concordex.wire.dialect.paths import PathError, at
from concordex.wire.http import formats
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


WORDS = ["command:touch RAN", "env:OURS", "file:../ours", "keyring:bank/ours"]


def wanted(word: str, to: str = "http://127.0.0.1:9 as stowage") -> trust.Wanted:
    return trust.Wanted(word, "store", to)


def listed(path: Path) -> None:
    """Give a stranger the right to write by an access-control list, which the mode shows as that of the group."""
    nobody = 0xFFFF_FFFF
    entries = ((1, 7, nobody), (2, 7, STRANGER), (4, 5, nobody), (0x10, 7, nobody), (0x20, 5, nobody))
    packed = struct.pack("<I", 2) + b"".join(struct.pack("<HHI", *entry) for entry in entries)
    try:
        os.setxattr(path, "system.posix_acl_access", packed)
    except OSError:
        pytest.skip("no access-control lists on this file system")


def linked(root: Path) -> None:
    """What the file leads to lies where everybody writes."""
    there = root.parent / "there"
    there.mkdir()
    (root / "concordex.yaml").rename(there / "concordex.yaml")
    (root / "concordex.yaml").symlink_to(there / "concordex.yaml")
    there.chmod(0o777)


PLANTED = {
    "the file": lambda root: give_away(root / "concordex.yaml"), "the folder": give_away,
    "a folder above": lambda root: give_away(root.parent), "open to all": lambda root: root.chmod(0o777),
    "open above": lambda root: root.parent.chmod(0o777), "by a list": listed, "by a link": linked,
}  # fmt: skip


@NOBODY
@pytest.mark.parametrize("planted", PLANTED)
@pytest.mark.parametrize("word", WORDS[:2])
def test_a_planted_workspace_runs_nothing_and_has_nothing(tmp_path, monkeypatch, planted, word):
    """Found by walking upwards from a folder of ours."""
    state = tmp_path / "state"
    root = tmp_path / "share" / "depot"
    word = word.replace("RAN", str(tmp_path / "ran"))
    workspace(root, word)
    within = root / "ours" / "deep"
    within.mkdir(parents=True)
    PLANTED[planted](root)
    shell, env = Near(within), {"XDG_STATE_HOME": str(state), "OURS": "a secret of ours"}

    def had() -> bool:
        told = shell("system", "check", status=1, env=env)
        said = told.stdout + told.stderr
        refused = "may not be used by this workspace" in said
        assert refused == ("concordex trust" in said)
        assert refused or not word.startswith("command:") or (tmp_path / "ran").exists()
        return not refused

    assert not had()
    assert not (tmp_path / "ran").exists()
    told = shell("trust", status=5, env=env)  # nobody is asked, so nobody agrees
    assert word in told.stdout
    assert "http://127.0.0.1:9 as stowage" in told.stdout
    assert not had()
    shell("trust", "--yes", env=env)
    assert had()
    assert not list(root.rglob("trusted*"))  # kept outside
    assert "1 agreement taken back" in shell("trust", "--forget", env=env).stderr
    assert not had()


@NOBODY
@pytest.mark.parametrize("altered", ["the command", "the address", "the proof of who answers", "what is asked"])
def test_whatever_leads_a_secret_elsewhere_is_asked_again(tmp_path, altered):
    """Whoever may write there waits until we have agreed, and alters it then."""
    root = tmp_path / "depot"
    workspace(root, "env:OURS")
    root.chmod(0o777)
    shell, env = Near(root), {"XDG_STATE_HOME": str(tmp_path / "state"), "OURS": "a secret", "THEIRS": "another"}
    shell("trust", "--yes", env=env)
    assert "is not had" not in shell("system", "check", status=1, env=env).stdout
    file = root / "concordex.yaml"
    if altered == "what is asked":
        (root / "dialects").mkdir()
        (root / "dialects" / "stowage.yaml").write_text(text_of("stowage").replace("method: GET", "method: DELETE"))
    else:
        was, now = {
            "the command": ("env:OURS", "env:THEIRS"), "the address": ("127.0.0.1:9", "127.0.0.1:8"),
            "the proof of who answers": ("credentials:", "tls: {verify: false}, credentials:"),
        }[altered]  # fmt: skip
        file.write_text(file.read_text().replace(was, now))
    assert "may not be used by this workspace" in shell("system", "check", status=1, env=env).stdout


@NOBODY
@pytest.mark.parametrize("word", WORDS)
def test_a_workspace_of_somebody_else_gets_no_secret_of_ours(tmp_path, monkeypatch, word):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    shell = workspace(tmp_path / "theirs", word)
    (tmp_path / "ours").write_text("a secret of ours")
    give_away(shell.folder / "concordex.yaml")
    told = shell("system", "check", status=1, env={"OURS": "a secret of ours"})
    assert "may not be used by this workspace" in told.stdout
    assert trust.doubts(shell.folder, wanted(word))


def test_in_a_folder_of_ones_own_nothing_is_asked(tmp_path, monkeypatch):
    """Also below the folder for temporary files, where everybody may write and nobody takes away what is another's."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    (tmp_path / "open").mkdir(mode=0o777)
    (tmp_path / "open").chmod(0o1777)
    shell = workspace(tmp_path / "open" / "mine", "command:echo word")
    assert "nothing to approve" in shell("trust").stderr
    assert trust.doubts(shell.folder, wanted("command:echo word")) is None


def test_a_row_names_a_secret_and_runs_nothing(tmp_path):
    """A table comes by mail; what it says is shown, and agreed to as a text."""
    shell = workspace(tmp_path / "mine", "env:OURS")
    with pytest.raises(SecretError, match="a row says where a secret is kept, and runs nothing"):
        shell.workspace.secrets.of_row(f"command:touch {tmp_path}/ran", "store")
    assert not (tmp_path / "ran").exists()


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
    monkeypatch.setattr(formats, "_PATIENCE", 0.3)
    served = serve(lambda *_: (200, HUNG.encode()))
    spoken = lamps(r"{path: /, records: $, shape: {by: text, pattern: '^(?P<id>(a|aa)+)$'}}", limits={"tries": 1})
    begun = time.monotonic()
    with pytest.raises(BadAnswer, match="did not finish matching"):
        run(reading(served.url, spoken))
    assert time.monotonic() - begun < 5
