"""A shelf in a folder that several machines see: files come whole, and what was begun and not finished goes."""

from __future__ import annotations

import errno
import os
import shutil
import time

import pytest

from concordex.errors import StoreError
from concordex.store.shelf import ShelfPlace, shelf


@pytest.fixture
def sent(tmp_path):
    """A shelf, and a file to be put there."""
    file = tmp_path / "made.parquet"
    file.write_bytes(b"rows" * 99)
    return shelf(ShelfPlace(at=str(tmp_path / "shelf"))), file, tmp_path / "shelf/snapshots"


def test_on_a_full_disk_what_was_there_stays_and_no_half_of_a_file(sent, monkeypatch):
    there, file, folder = sent
    there.put(file, "snapshots/1.parquet")
    copyfile = shutil.copyfile

    def full(source, target, **more):
        copyfile(source, target, **more)
        os.truncate(target, 7)
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr("concordex.store.shelf._WAIT", 0.001)
    monkeypatch.setattr(shutil, "copyfile", full)
    file.write_bytes(b"others")
    with pytest.raises(StoreError, match="No space left"):
        there.put(file, "snapshots/1.parquet")
    assert {path.name: path.read_bytes() for path in folder.iterdir()} == {"1.parquet": b"rows" * 99}


def test_what_a_killed_process_of_any_machine_had_begun_goes_and_what_is_under_way_stays(sent):
    """Also where the first process of every container bears the same number."""
    there, file, folder = sent
    folder.mkdir(parents=True)
    left, under_way = folder / f".{os.getpid()}-aaaa.new", folder / f".{os.getpid()}-bbbb.new"
    for path in (left, under_way):
        path.write_bytes(b"ro")
    os.utime(left, (time.time() - 2 * 86_400,) * 2)
    there.put(file, "snapshots/1.parquet")
    assert {path.name for path in folder.iterdir()} == {"1.parquet", under_way.name}
