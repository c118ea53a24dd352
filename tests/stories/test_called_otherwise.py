"""A system calls a record otherwise than it was sent: it is found, or told, and never made a second time."""

from __future__ import annotations

import json
import re
import unicodedata
from collections.abc import Callable
from typing import Any

import pytest

from tests.spite import Spite, spiteful
from tests.stories.test_once import states


def calling(spite: Spite, does: Callable[[str], str]) -> None:
    """Let the system call what it is sent as ``does`` says."""

    def meets(method: str, table: str, more: list[str], body: Any, headers: dict[str, str]) -> None:
        for record in body if isinstance(body, list) else [body] if method == "POST" else []:
            record["label"] = does(record["label"])

    spite.meets = meets


def pushed(shell, tmp_path, *names: str, status: int) -> str:
    (tmp_path / "x.json").write_text(json.dumps([{"name": name, "comment": "c"} for name in names]))
    done = shell("push", str(tmp_path / "x.json"), "--to", "spite", "--table", "devices", "--yes", status=status)
    return done.stdout + done.stderr


@pytest.mark.parametrize(("name", "does"), [
    ("Cafe\u0301-1", lambda name: unicodedata.normalize("NFC", name)),
    ("Caf\u00e9-1", lambda name: unicodedata.normalize("NFD", name)),
    ("lamp  1", lambda name: " ".join(name.split())),
    ("lamp\u00a01", lambda name: " ".join(name.split())),
    ("lamp-a", str.upper),
])  # fmt: skip
def test_what_means_the_same_is_found_and_left(tmp_path, serve, name, does):
    shell, spite = spiteful(tmp_path, serve)
    calling(spite, does)
    pushed(shell, tmp_path, name, status=0)
    assert states(shell) == ["confirmed"]
    shell("pull")
    assert "nothing to do" in pushed(shell, tmp_path, name, status=0)


@pytest.mark.parametrize("many", [1, 10])
@pytest.mark.parametrize(("name", "does"), [
    ("lamp-0123456789-0123456789", lambda name: name[:12]),
    ("lamp 1", lambda name: name.replace(" ", "-")),
])  # fmt: skip
def test_what_is_called_otherwise_differs_and_is_not_made_again(tmp_path, serve, many, name, does):
    """The record that it says it made is ours, and can be taken back; the file pushed again makes no second one."""
    shell, spite = spiteful(tmp_path, serve, many=many)
    calling(spite, does)
    assert f"read back: name is {does(name)}, not {name}" in pushed(shell, tmp_path, name, "other", status=4)
    shell("pull")
    told = pushed(shell, tmp_path, name, "other", "third", status=4)
    assert re.search("change 1 made it as record 10[12], which is called otherwise there", told)
    assert spite.labels() == {does(name): 1, "other": 1, "third": 1}
    shell("change", "undo", "1", "--yes")
    assert spite.labels() == {"third": 1}
    calling(spite, str)
    shell("change", "resume", "2")
    assert spite.labels() == {name: 1, "third": 1}


@pytest.mark.parametrize("id_told", [True, False])
def test_what_another_change_sent_and_nobody_saw_is_not_sent_again(tmp_path, serve, id_told):
    """Also where the system makes it only long afterwards, or tells the id of a record that was there before."""
    shell, spite = spiteful(tmp_path, serve, settles="0s")
    spite.put("devices", label="lamp-0")
    spite.meets = lambda *_: (201, {"id": 101}) if id_told else (500, {"why": "out of order"})
    pushed(shell, tmp_path, "lamp-1", status=4)
    assert states(shell) == ["unknown"]
    spite.meets = lambda *_: None
    told = pushed(shell, tmp_path, "lamp-1", "lamp-2", status=4)
    assert "change 1 sent it, and whether it was made is unknown: concordex change resume 1 looks again" in told
    assert spite.labels() == {"lamp-0": 1, "lamp-2": 1}
    shell("change", "resume", "1", "--send-again")
    shell("change", "resume", "2")
    assert spite.labels() == {"lamp-0": 1, "lamp-1": 1, "lamp-2": 1}


def test_a_person_who_puts_a_change_aside_lets_it_be_made_anew(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve, settles="0s")
    spite.meets = lambda *_: (500, {"why": "out of order"})
    pushed(shell, tmp_path, "lamp-1", status=4)
    spite.meets = lambda *_: None
    shell("change", "drop", "1")
    pushed(shell, tmp_path, "lamp-1", status=0)
    assert spite.labels() == {"lamp-1": 1}
