"""What changed since the last pull: nothing is missed, whatever the clocks say and whatever was pulled in between."""

from __future__ import annotations

import json
import time
from datetime import UTC, datetime, timedelta
from email.utils import formatdate

import polars as pl
import pytest

from concordex.wire.reading.table_read import TableRead
from concordex.work.pull.in_progress import begun
from concordex.work.pull.pull import keep_part
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
        self.lit = range(int(self.now()), int(self.now()) - 36_000, -300)
        served = serve(self)
        served.server.RequestHandlerClass.date_time_string = lambda handler: formatdate(
            time.time() if handler.path == "/enter" else self.now(), usegmt=True
        )
        if not dated:
            served.server.RequestHandlerClass.send_response = lambda handler, status: handler.send_response_only(status)
        self.url = served.url

    def now(self) -> float:
        return time.time() + self.apart

    def alter(self, number: str, label: str, ago: float = 0.0) -> None:
        self.lamps[number]["label"] = label
        self.stamps[number] = self.now() - ago

    def __call__(self, _method, path, query, *_) -> tuple:
        if path == "/enter":
            return 200, {"token": "t-1"}
        if path == "/events":
            begin, end = int(query["from"]), int(query["to"])
            return 200, [{"id": at, "label": "lit"} for at in self.lit if begin <= at < end]
        self.asked.append(query)
        after = int(query.get("after", 0))
        held = [lamp for number, lamp in self.lamps.items() if self.stamps[number] >= after]
        held = [lamp for lamp in held if query.get("label", lamp["label"]) == lamp["label"]]
        return 200, {"lamps": held, "n": len(held) if "label" in query else len(self.lamps)}


@pytest.fixture
def pulled(tmp_path, serve):
    """A workspace for such a system."""

    def made(more: str = "", **how) -> tuple[Near, Store]:
        store = Store(serve, **how)
        (tmp_path / "dialects").mkdir()
        (tmp_path / "dialects/lamps.yaml").write_text(DIALECT + more)
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


ENTERED = """\
sign_in: {by: call, call: {path: /enter}, gives: {token: token}, carries: {headers: {Lamp-Token: '{token}'}}}
"""


def test_what_changed_is_asked_for_by_the_clock_of_the_system_and_not_of_who_lets_us_in(pulled):
    """Whose clock is right, as that of an identity provider may be."""
    shell, store = pulled(ENTERED, apart=-900)
    store.alter("1", "bow")
    assert "1 changed" in shell("pull", "--changed-only").stderr
    assert names(shell) == ["bow", "lamp-0", "lamp-2"]


def test_what_changed_while_a_long_pull_went_on_is_found_though_a_change_read_a_part_back_since(pulled):
    shell, store = pulled()
    long_ago = datetime.now(UTC) - timedelta(minutes=20)
    with shell.workspace as here:
        here.catalogue.database.run("UPDATE snapshots SET seconds = 1200, began = ?", (long_ago.isoformat(),))
        held = here.show("devices", columns=["record_id", "name"]).frame.filter(pl.col("record_id") == "2")
        with begun(here) as number:
            back = TableRead(held=held.select("record_id", "name"), received=1, distinct=1)
            keep_part(here, number, "quay", "devices", back, time.monotonic(), "1 record read back")
            here.catalogue.end_pull(number, "whole")
    store.alter("1", "bow", ago=900)  # after it had been read
    assert "1 changed" in shell("pull", "--changed-only").stderr
    assert names(shell) == ["bow", "lamp-0", "lamp-2"]


EVENTS = """\
  events:
    read: {path: /events, pages: {by: window, since: from, until: to, reach: 1d, span: 6h, full: 200, time: epoch}}
    fields: {record_id: id, name: label}
"""


def test_a_recording_of_a_system_whose_clock_is_ahead_gives_what_was_pulled(pulled):
    """Though by the time that it is replayed our clock has overtaken it."""
    shell, store = pulled(EVENTS, apart=1_200)
    shell("pull", "--record", "rec")
    assert shell.workspace.show("events").frame.height == len(store.lit)
    store.apart = -86_400  # it is not asked
    (row,) = json.loads(shell("pull", "--replay", "rec", "--table", "events", "-f", "json").stdout)
    assert (row["outcome"], row["distinct"]) == ("whole", len(store.lit))


SITES = "  sites: {read: {path: /rooms, complete: one answer has all}, fields: {record_id: id, name: label}}\n"
#: What a table is told beside its list, what a field is of it, and why all is pulled then.
BESIDE = {
    "": ("", "label", "is another than in pull 1"),
    "a name": ("", "room, via: sites", "is another than in pull 1"),
    "a list": (
        "also: [{path: /moods, match: {lamp: id}, under: in, complete: never is cut}]",
        "in.mood",
        "without them",
    ),
    "its own": ("gathers: [{path: '/{id}', under: own, complete: never is cut}]", "'$.own[0].mood'", "without them"),
}


@pytest.mark.parametrize("beside", BESIDE)
def test_what_is_told_beside_a_record_may_change_without_it(tmp_path, serve, beside):
    """The name of its room, a second list, one of its own, or the dialect: no stamp of the record says so."""
    store, told = Store(serve), {"word": "old"}

    def answer(method, path, query, *rest):
        if path == "/lamps":
            status, said = store(method, path, query, *rest)
            return status, said | {"lamps": [lamp | {"room": 7} for lamp in said["lamps"]]}
        lamps = store.lamps if path == "/moods" else [""]
        return 200, [{"id": 7, "lamp": lamp, "label": told["word"], "mood": told["word"]} for lamp in lamps]

    more, member, why = BESIDE[beside]
    text = DIALECT.replace("one answer has all}", f"one answer has all, {more}}}") + SITES
    text = text.replace("name: label}", f"name: label, comment: {{from: {member}, type: text}}}}", 1)
    (tmp_path / "dialects").mkdir()
    dialect = tmp_path / "dialects/lamps.yaml"
    dialect.write_text(text)
    (tmp_path / "concordex.yaml").write_text(
        f"format: 1\nsystems:\n  quay: {{dialect: lamps, url: '{serve(answer).url}'}}\n"
    )
    shell = Near(tmp_path)
    shell("pull")
    told["word"] = "new"
    if not beside:
        dialect.write_text(text.replace("from: label, type", "always: new, type"))
    store.alter("1", "other")
    assert why in shell("pull", "--changed-only").stderr
    shown = json.loads(shell("show", "devices", "-c", "comment", "-f", "json").stdout)
    assert {row["comment"] for row in shown} == {"new"}
    again = shell("pull", "--changed-only").stderr
    assert ("1 changed and 0 gone" in again) is (not more)


def test_what_is_left_out_no_more_is_pulled(pulled):
    """What a rule hid was counted as there, whatever hides it now."""
    shell, _ = pulled()
    rule = "  quay: {leave_out: [{where: name = lamp-%d, why: it is ours}], "
    shell.config(lambda text: text.replace("  quay: {", rule % 1))
    shell("pull")
    shell.config(lambda text: text.replace("lamp-1", "lamp-2"))
    assert "what is left out, is another than in pull 2" in shell("pull", "--changed-only").stderr
    assert names(shell) == ["lamp-0", "lamp-1"]
