"""Dialects of others are looked at before they are taken, and a package or an archive can put nothing elsewhere."""

from __future__ import annotations

import io
import json
import sys
import tarfile
import zipfile

import pytest

from tests.conftest import Near, Shell

LAMPS = """
format: 1
name: lamps
title: Lamps
tried: [{release: "9.2", recording: lamps.har}]
credentials: {user: {}, word: {secret: true}}
sign_in: {by: basic, password: "{word}"}
tables:
  devices: {read: {path: /lamps, records: lamps}, fields: {record_id: id}}
"""


@pytest.fixture
def shell(tmp_path):
    (tmp_path / "w").mkdir()
    (tmp_path / "w/concordex.yaml").write_text("format: 1\n")
    return Near(tmp_path / "w")


def test_a_dialect_is_shown_and_taken_with_its_recording(shell):
    made = shell.folder.parent / "lamps.zip"
    with zipfile.ZipFile(made, "w") as archive:
        archive.writestr("lamplight-1.0/lamps.yaml", LAMPS)
        archive.writestr("lamplight-1.0/tests/lamps.har", "{}")
        archive.writestr("lamplight-1.0/setup.py", "raise SystemExit")
        archive.writestr("../../evil.yaml.sh", "x")
    done = shell("dialect", "add", str(made), status=5)
    assert "secrets: word" in done.stdout
    assert "tried with: 9.2" in done.stdout
    assert "nothing was added" in done.stderr
    assert not (shell.folder / "dialects").exists()
    shell("dialect", "add", str(made), "--yes")
    assert sorted(path.name for path in (shell.folder / "dialects").rglob("*") if path.is_file()) == [
        "lamps.har",
        "lamps.yaml",
    ]
    assert "9.2 (lamps.har)" in shell("dialect", "show", "lamps").stdout
    shell("dialect", "add", str(made), "--yes")  # the same again is no harm
    (shell.folder / "dialects/lamps.yaml").write_text(LAMPS.replace("/lamps", "/lights"))
    assert "is there already, and is another one" in shell("dialect", "add", str(made), "--yes", status=2).stderr


def tar(*members: tuple[str, bytes | str]) -> bytes:
    """An archive of files and, where the content is a text, links to it."""
    made = io.BytesIO()
    with tarfile.open(fileobj=made, mode="w:gz") as archive:
        for name, content in members:
            told = tarfile.TarInfo(name)
            if isinstance(content, str):
                told.type, told.linkname = tarfile.SYMTYPE, content
                archive.addfile(told)
            else:
                told.size = len(content)
                archive.addfile(told, io.BytesIO(content))
    return made.getvalue()


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (tar(("a/lamps.yaml", "/etc/passwd")), "holds no dialect"),
        (
            tar(("../../lamps.yaml", LAMPS.encode()), ("b/lamps.yaml", LAMPS.encode())),
            "two files that are called lamps.yaml",
        ),
        (tar(("muster.yaml", LAMPS.encode())), "ships with the program"),
        (tar(("lamps.yaml", b"format: 1\nname: [")), "is faulty"),
        (tar(("lamps.yaml", b"#" * 1_100_000)), "larger than 1,000,000 bytes"),
        (tar(*((f"d{n}.yaml", b"x") for n in range(210))), "more than 200 files"),
        (tar(("lamps.yaml", LAMPS.encode()))[:120], "cannot be read"),
        (b"PK\x03\x04 no archive", "is faulty"),
    ],
)
def test_an_archive_that_means_harm_or_is_none_is_refused_and_writes_nothing(shell, content, said):
    made = shell.folder.parent / "lamps.yaml"
    made.write_bytes(content)
    before = sorted(shell.folder.parent.rglob("*"))
    done = shell("dialect", "add", str(made), "--yes", status=None)
    assert done.returncode in (1, 2)
    assert said in done.stderr
    assert sorted(shell.folder.parent.rglob("*")) == before


def test_a_dialect_in_an_installed_package_is_found_without_running_it(tmp_path):
    """It is listed with its package, and is never taken in the place of a shipped one."""
    site = tmp_path / "site"
    (site / "lamplight").mkdir(parents=True)
    (site / "lamplight/__init__.py").write_text("raise SystemExit('it was run')")
    (site / "lamplight/lamps.yaml").write_text(LAMPS)
    (site / "lamplight/muster.yaml").write_text(LAMPS)
    info = site / "lamplight_dialects-1.2.dist-info"
    info.mkdir()
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: lamplight-dialects\nVersion: 1.2\n")
    (info / "entry_points.txt").write_text("[concordex.dialects]\nlamps = lamplight\n")
    shell = Shell(tmp_path)
    assert sys.executable
    env = {"PYTHONPATH": str(site)}
    rows = {row["dialect"]: row["kind"] for row in json.loads(shell("dialect", "list", "-f", "json", env=env).stdout)}
    assert rows["lamps"] == "lamplight-dialects 1.2"
    assert rows["muster"] == "shipped"
    assert "secrets" not in shell("dialect", "show", "lamps", env=env).stderr
    assert "there is no dialect 'lamps'" in shell("dialect", "show", "lamps", status=2).stderr
    (tmp_path / "concordex.yaml").write_text("format: 1\nsystems: {}\n")
    refused = shell("dialect", "add", "lamplight-dialects", "--yes", status=2, env=env).stderr
    assert "muster is the name of a dialect that ships" in refused
    (site / "lamplight/muster.yaml").unlink()
    shell("dialect", "add", "Lamplight_dialects", "--yes", env=env)
    assert (tmp_path / "dialects/lamps.yaml").read_text() == LAMPS
    assert "there is no nowhere" in shell("dialect", "add", "nowhere", "--yes", status=2, env=env).stderr
