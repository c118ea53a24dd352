"""A change of few records of many asks for these alone, and for the whole list where one of them does not come."""

from __future__ import annotations

import json
from collections.abc import Callable

import pytest

from tests.spite import Spite, spiteful

FILTER = '    filters: [{field: name, tests: ["=", in], parameter: label, several: ",", any_case: true}]\n'


def narrow(records: list, query: dict[str, str]) -> list:
    """Only what was asked for, as it should be."""
    wanted = query["label"].lower().split(",") if "label" in query else None
    return [one for one in records if wanted is None or one["label"].lower() in wanted]


@pytest.fixture
def many(tmp_path, serve):
    """Forty lamps, of which the system gives those of some names alone."""
    head, mark, tail = "      status: mood\n", "      seen: {from: seen, type: time}\n", "    write:\n"

    def more(text: str) -> str:
        assert head + mark + tail in text
        return text.replace(head + mark + tail, head + mark + FILTER + tail)

    shell, spite = spiteful(tmp_path, serve, more=more)
    for at in range(40):
        spite.put("devices", label=f"lamp-{at}", note="old", watt=40)
    spite.narrow = narrow
    shell("pull")
    spite.lists.clear()
    return shell, spite


def notes(spite: Spite) -> dict[str, str]:
    return {one["label"]: one["note"] for one in spite.tables["devices"].values()}


@pytest.mark.parametrize(("where", "asked"), [("lamp-7", "lamp-7"), ("name in (lamp-7, lamp-8)", "lamp-7,lamp-8")])
def test_only_what_is_altered_is_asked_for_and_what_came_of_it_is_kept(many, where, asked):
    shell, spite = many
    shell("set", "spite", "--table", "devices", where, "comment=new", "--yes")
    assert spite.lists == [{"label": asked}] * 2
    assert [label for label, note in notes(spite).items() if note == "new"] == asked.split(",")
    shown = json.loads(shell("show", "devices", "-f", "json").stdout)
    assert {row["name"]: row["comment"] for row in shown} == notes(spite)
    (row,) = [row for row in json.loads(shell("pulls", "3", "-f", "json").stdout) if row["table"] == "devices"]
    assert (row["outcome"], row["received"]) == ("whole", 40)
    assert "read back by change 1, put into those of pull 2" in str(row)
    shell("change", "undo", "1", "--yes")
    assert set(notes(spite).values()) == {"old"}
    assert {"label": asked} in spite.lists[2:]


def nothing(records: list, query: dict[str, str]) -> list:
    return [] if "label" in query else records


def another(records: list, query: dict[str, str]) -> list:
    return [one | {"id": 7_000} for one in narrow(records, query)] if "label" in query else records


def scant(records: list, query: dict[str, str]) -> list:
    """What is looked up is told in short."""
    short = [{"id": one["id"], "label": one["label"], "note": one["note"]} for one in narrow(records, query)]
    return short if "label" in query else records


def deaf(records: list, query: dict[str, str]) -> list:
    return records


@pytest.mark.parametrize(("lie", "lists"), [(nothing, 4), (another, 4), (scant, 4), (deaf, 2)])
def test_a_system_that_does_not_find_what_it_has_is_asked_for_all_of_it(many, lie: Callable, lists):
    """Its filter finds nothing, or another record of that name, or tells less of it, or is not heard.

    What it has is altered all the same, and once.
    """
    shell, spite = many
    spite.narrow = lie
    shell("set", "spite", "lamp-7", "comment=new", "--yes")
    assert len(spite.lists) == lists
    assert [label for label, note in notes(spite).items() if note == "new"] == ["lamp-7"]
    assert spite.asked["PATCH"] == 1


def test_a_filter_that_is_refused_costs_no_change(many):
    shell, spite = many
    spite.objects = lambda query: (400, {"why": "no such parameter"}) if "label" in query else None
    shell("set", "spite", "lamp-7", "comment=new", "--yes")
    assert notes(spite)["lamp-7"] == "new"


@pytest.mark.parametrize("edit", ["renamed", "gone", "noted"])
def test_what_others_did_meanwhile_is_seen_all_the_same(many, edit):
    """A record that bears another name now is altered; one that is gone, or was altered just there, is not."""
    shell, spite = many
    (number,) = [number for number, one in spite.tables["devices"].items() if one["label"] == "lamp-7"]
    if edit == "gone":
        del spite.tables["devices"][number]
    else:
        spite.tables["devices"][number] |= {"renamed": {"label": "lamp-x"}, "noted": {"note": "theirs"}}[edit]
    done = shell("set", "spite", "lamp-7", "comment=new", "--yes", status=0 if edit == "renamed" else 4)
    assert spite.asked["PATCH"] == (edit == "renamed")
    if edit != "renamed":
        assert {"gone": "is gone", "noted": "theirs"}[edit] in done.stdout
    assert ({} in spite.lists) == (edit != "noted")


def test_a_record_that_we_rename_is_read_back_under_its_new_name(many):
    shell, spite = many
    assert "1 step written, read back and confirmed" in shell("set", "spite", "lamp-7", "name=lamp-x", "--yes").stderr
    assert spite.lists == [{"label": "lamp-7"}, {"label": "lamp-7"}, {}]


def test_a_write_without_an_answer_is_looked_for_by_itself(many):
    shell, spite = many
    spite.plan = ["cut"]
    shell("set", "spite", "lamp-7", "comment=new", "--yes")
    assert spite.asked["PATCH"] == 1
    assert {} not in spite.lists


def test_what_is_made_or_deleted_and_what_is_much_of_the_table_needs_all_of_it(many, tmp_path):
    """That no other bears a key, or that a record is gone, is shown by the whole list alone."""
    shell, spite = many
    (tmp_path / "x.json").write_text(json.dumps([{"name": "lamp-99"}]))
    shell("push", str(tmp_path / "x.json"), "--to", "spite", "--table", "devices", "--yes")
    shell("delete", "spite", "lamp-99", "--count", "1")
    shell("set", "spite", "--table", "devices", "name like lamp-1*", "comment=new", "--yes")
    assert spite.lists
    assert not any(spite.lists)
