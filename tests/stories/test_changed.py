"""What changed since the last pull: nothing is missed, whatever the clocks say and whatever was pulled in between."""

from __future__ import annotations

import time
from datetime import UTC, datetime, timedelta
from email.utils import formatdate

import pytest

from tests.conftest import Near

DIALECT = """\
format: 1
name: lamps
title: Lamps
tables:
  devices:
    read:
      {path: /lamps, records: lamps, total: n, changed: {parameter: after, time: epoch}, complete: one answer has all}
    filters: [{field: name, tests: "=", parameter: label}]
    fields: {record_id: id, name: label}
"""


class Store:
    """A system that stamps what is altered by a clock of its own, which may be ``apart`` from ours."""

    def __init__(self, serve, apart: float = 0.0, dated: bool = True) -> None:
        self.apart, self.asked = apart, []
        self.lamps = {str(at): {"id": str(at), "label": f"lamp-{at}"} for at in range(3)}
        self.stamps = dict.fromkeys(self.lamps, 0.0)
        served = serve(self)
        served.server.RequestHandlerClass.date_time_string = lambda *_: formatdate(self.now(), usegmt=True)
        if not dated:
            served.server.RequestHandlerClass.send_response = lambda handler, status: handler.send_response_only(status)
        self.url = served.url

    def now(self) -> float:
        return time.time() + self.apart

    def alter(self, number: str, label: str, ago: float = 0.0) -> None:
        self.lamps[number]["label"] = label
        self.stamps[number] = self.now() - ago

    def __call__(self, _method, _path, query, *_) -> tuple:
        self.asked.append(query)
        after = int(query.get("after", 0))
        held = [lamp for number, lamp in self.lamps.items() if self.stamps[number] >= after]
        held = [lamp for lamp in held if query.get("label", lamp["label"]) == lamp["label"]]
        return 200, {"lamps": held, "n": len(held) if "label" in query else len(self.lamps)}


@pytest.fixture
def pulled(tmp_path, serve):
    """A workspace for such a system."""

    def made(**how) -> tuple[Near, Store]:
        store = Store(serve, **how)
        (tmp_path / "dialects").mkdir()
        (tmp_path / "dialects/lamps.yaml").write_text(DIALECT)
        (tmp_path / "concordex.yaml").write_text(
            f"format: 1\nsystems:\n  quay: {{dialect: lamps, url: '{store.url}'}}\n"
        )
        shell = Near(tmp_path)
        shell("pull")
        return shell, store

    return made


def names(shell: Near) -> list[str]:
    return sorted(shell.workspace.show("devices", columns=["name"]).frame["name"].to_list())


@pytest.mark.parametrize("apart", [0, -900, 900, -90_000])
def test_what_changed_is_found_however_far_the_clocks_are_apart(pulled, apart):
    """It is stamped, and asked for, by the system's own clock (its Date header, RFC 9110, 6.6.1)."""
    shell, store = pulled(apart=apart)
    for label in ("bow", "stern"):
        store.alter("1", label)
        told = shell("pull", "--changed-only").stderr
        assert "1 changed" in told
        assert names(shell) == sorted(["lamp-0", "lamp-2", label])
    assert sum("after" in query for query in store.asked) == 2


def test_a_system_that_does_not_tell_its_time_is_pulled_in_full(pulled):
    shell, store = pulled(apart=-900, dated=False)
    store.alter("1", "bow")
    assert "pulled in full: what time it was there" in shell("pull", "--changed-only").stderr
    assert names(shell) == ["bow", "lamp-0", "lamp-2"]
    assert not any("after" in query for query in store.asked)


def test_what_changed_while_a_long_pull_went_on_is_found_though_a_part_was_pulled_since(pulled):
    """A part that is put into what was there makes the rest of it no newer."""
    shell, store = pulled()
    long_ago = datetime.now(UTC) - timedelta(minutes=20)
    with shell.workspace as here:  # it had begun twenty minutes before it was kept
        here.catalogue.database.run("UPDATE snapshots SET seconds = 1200, began = ?", (long_ago.isoformat(),))
    store.alter("1", "bow", ago=900)  # after it had been read
    shell("pull", "--where", "name = 'lamp-2'")
    assert names(shell) == ["lamp-0", "lamp-1", "lamp-2"]
    assert "1 changed" in shell("pull", "--changed-only").stderr
    assert names(shell) == ["bow", "lamp-0", "lamp-2"]
