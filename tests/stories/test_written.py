"""Values on their way out: moments, numbers, lists; what was shown can be pushed, and what was written shows."""

from __future__ import annotations

import json

import pytest
import xlsxwriter

from concordex.change.rows import read_values
from concordex.errors import CalledWrongly
from concordex.model.fields import Type
from concordex.work.workspace.tabular import read_rows
from tests.spite import spiteful
from tests.stories.test_changes import at, inventory, newest, restore  # noqa: F401 - fixtures
from tests.stories.test_once import states


@pytest.mark.parametrize(("time", "kept"), [("", "2026-03-01T08:00:00+00:00"), (", time: epoch", 1772352000)])
def test_a_moment_is_written_read_back_and_brought_back(tmp_path, serve, time, kept):
    """In a push, a set and an undo; and once it is so, nothing is to do."""
    spoken = f"seen: {{from: seen, type: time{', as: epoch' if time else ''}}}"
    shell, spite = spiteful(
        tmp_path, serve,
        more=lambda text: text.replace("seen: seen}", f"seen: {{to: seen{time}}}}}").replace(
            "seen: {from: seen, type: time}", spoken
        ),
    )  # fmt: skip
    (tmp_path / "x.csv").write_text("name,seen\nlamp-1,2026-03-01T09:00:00+01:00\n")
    words = ("push", str(tmp_path / "x.csv"), "--to", "spite", "--table", "devices", "--yes")
    shell(*words)
    (record,) = spite.tables["devices"].values()
    assert record["seen"] == kept
    assert "nothing to do" in shell(*words).stderr
    shell("set", "spite", "lamp-1", "seen=2026-04-01", "--yes")
    assert record["seen"] != kept
    shell("change", "undo", "2", "--yes")
    assert spite.tables["devices"][record["id"]]["seen"] == kept
    shell("change", "undo", "1", "--yes")
    assert not spite.tables["devices"]
    assert "is no time" in shell("set", "spite", "--table", "devices", "name like lamp-*", "seen=soon", status=2).stderr


@pytest.mark.parametrize(
    ("rows", "what"),
    [
        ([{"name": "a", "position": ["1", "2"]}], "are 2 values, and the field takes one"),
        ([{"name": ["a", "b"]}], "are 2 values, and the field takes one"),
        ([{"name": "a", "position": "inf"}], "is no number"),
        ([{"name": "a", "position": "NaN"}], "is no number"),
        ([{"name": "a", "position": "abc"}], "is no number"),
    ],
)  # fmt: skip
def test_what_a_field_cannot_hold_is_told_before_anything_is_sent(tmp_path, serve, rows, what):
    shell, spite = spiteful(tmp_path, serve)
    (tmp_path / "x.json").write_text(json.dumps(rows))
    told = shell("push", str(tmp_path / "x.json"), "--to", "spite", "--table", "devices", "--yes", status=2)
    assert what in told.stdout
    assert not spite.sent


@pytest.mark.parametrize("ending", ["csv", "json", "ndjson", "yaml", "xlsx"])
def test_a_file_of_no_bytes_is_a_mistake(tmp_path, serve, ending):
    shell, _ = spiteful(tmp_path, serve)
    (tmp_path / f"x.{ending}").write_bytes(b"")
    told = shell("push", str(tmp_path / f"x.{ending}"), "--to", "spite", "--table", "devices", status=2)
    assert "is empty" in told.stderr


@pytest.mark.parametrize("ending", ["csv", "xlsx", "json", "ndjson", "parquet"])
def test_what_was_shown_is_pushed_back_with_nothing_to_do(at, tmp_path, ending):  # noqa: F811
    """Lists, times, numbers and empty values come back as they went out."""
    shell, _ = at
    path = str(tmp_path / f"x.{ending}")
    shell("show", "devices", "--system", "stowage", "-o", path)
    told = shell("push", path, "--to", "stowage").stderr
    assert "nothing to do" in told
    assert "left aside, since they are only read: system, record_id" in told


def test_a_record_is_found_by_its_name_whatever_the_keys_are(tmp_path, serve):
    old = "      keys: name\n      required: name\n      fields: {name: label, comment"
    shell, spite = spiteful(
        tmp_path, serve, more=lambda text: text.replace(old, old.replace("keys: name", "keys: comment"))
    )
    spite.put("devices", label="rt-knot-01", note="k1")
    spite.put("devices", label="k1", note="k2")
    shell("pull")
    shell("set", "spite", "rt-knot-01", "position=3", "--yes")
    assert [one["at"] for one in spite.tables["devices"].values() if "at" in one] == [3]
    shell("delete", "spite", "k2", "--count", "1")
    assert set(spite.labels()) == {"rt-knot-01"}


SLUG = (
    ("read: {path: /sites", "read: {path: /sites"),
    (
        "    fields: {record_id: id, name: label}\n",
        "    fields: {record_id: id, name: label, code: {from: code, type: text}}\n",
    ),
    (
        "      required: name\n      fields: {name: label}\n",
        "      required: [name, code]\n      fields: {name: label, code: MADE}\n",
    ),
)


@pytest.mark.parametrize("made", ["{to: code, made_from: name}", "code"])
def test_what_a_record_made_on_the_way_requires_is_made_or_missed_before_the_run(tmp_path, serve, made):
    def more(text: str) -> str:
        for old, new in SLUG:
            assert old in text
            text = text.replace(old, new, 1)
        return text.replace("MADE", made)

    shell, spite = spiteful(tmp_path, serve, more=more)
    (tmp_path / "x.json").write_text(json.dumps([{"name": "lamp-1", "site": "North Mole 2"}, {"name": "lamp-2"}]))
    words = ("push", str(tmp_path / "x.json"), "--to", "spite", "--table", "devices", "--make", "sites", "--yes")
    if "made_from" in made:
        shell(*words)
        assert [one["code"] for one in spite.tables["sites"].values()] == ["north-mole-2"]
        (tmp_path / "s.json").write_text(json.dumps([{"name": "South Mole", "code": "SM-1"}]))
        shell("push", str(tmp_path / "s.json"), "--to", "spite", "--table", "sites", "--yes")
        assert [one["code"] for one in spite.tables["sites"].values()][1:] == ["SM-1"]  # what is said stays
        return
    told = shell(*words, status=4)
    assert "to create it code must be known" in told.stdout
    assert set(spite.labels()) == {"lamp-2"}
    assert sorted(states(shell)) == ["confirmed", "held"]


@pytest.mark.parametrize("first", ["code", "name"])
def test_a_reference_is_found_by_any_natural_key_of_its_table(tmp_path, serve, first):
    """Whichever comes first, also of a record that is made on the way."""

    def more(text: str) -> str:
        for old, new in SLUG:
            text = text.replace(old, new, 1)
        keys = "keys: [code, name]" if first == "code" else "keys: [name, code]"
        return text.replace(
            "      keys: name\n      required: [name, code]", f"      {keys}\n      required: name"
        ).replace("MADE", "code")

    shell, spite = spiteful(tmp_path, serve, more=more)
    there = spite.put("sites", label="quay", code="q1")
    shell("pull")
    (tmp_path / "x.json").write_text(
        json.dumps([{"name": "lamp-1", "site": "quay"}, {"name": "lamp-2", "site": "pier"}, {"name": "lamp-3"}])
    )
    shell("push", str(tmp_path / "x.json"), "--to", "spite", "--table", "devices", "--make", "sites", "--yes")
    made = {one["label"]: one.get("room") for one in spite.tables["devices"].values()}
    (pier,) = [number for number, one in spite.tables["sites"].items() if one["label"] == "pier"]
    assert made == {"lamp-1": there, "lamp-2": pier, "lamp-3": None}


def test_a_note_that_nothing_takes_is_not_dropped_in_silence(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve)
    (tmp_path / "x.json").write_text('[{"name": "lamp-1"}]')
    shell("push", str(tmp_path / "x.json"), "--to", "spite", "--table", "devices", "--draft")
    told = shell("change", "run", "1", "--yes", "--note", "tonight", status=2).stderr
    assert "spite takes no note" in told
    assert not spite.sent


def sheet(path, *rows: list, formula: tuple[str, object] | None = None) -> str:
    """A workbook of two sheets, whose second has these rows."""
    with xlsxwriter.Workbook(str(path)) as book:
        book.add_worksheet("about").write(0, 0, 1e18)
        page = book.add_worksheet("lamps & <more>")
        for at, row in enumerate(rows):
            page.write_row(at, 0, row)
        if formula:
            page.write_formula(1, 1, formula[0], None, formula[1])
    return str(path)


@pytest.mark.parametrize(("cell", "formula", "told"), [
    (12345678901234567890, None, "B2 is a number of more than 15 digits"),
    (1000000000000000, None, "B2 is a number of more than 15 digits"),
    ("x", ("=1/0", "#DIV/0!"), "B2 holds an error: #DIV/0!"),
    (999999999999999, None, None), ("12345678901234567890", None, None), ("x", ("=A2", "lamp"), None),
])  # fmt: skip
def test_what_a_spreadsheet_has_lost_is_a_mistake(tmp_path, serve, cell, formula, told):
    shell, spite = spiteful(tmp_path, serve)
    file = sheet(tmp_path / "x.xlsx", ["name", "comment"], ["lamp-1", cell], formula=formula)
    words = ("push", file, "--to", "spite", "--table", "devices", "--sheet", "lamps & <more>", "--yes")
    done = shell(*words, status=2 if told else 0)
    if told:
        assert told in done.stderr
        assert not spite.sent
    else:
        assert [one["note"] for one in spite.tables["devices"].values()] == [str(formula[1] if formula else cell)]


@pytest.mark.parametrize(
    ("content", "row"),
    [
        ("name;serial\nlamp-1;a\nlamp-2;\u200bb\n".encode(), 3),
        ("sep=;\r\nname;serial\r\nlamp-1;a\r\nlamp-2;\u200bb\r\n".encode(), 3),
        ("name\tserial\nlamp-1\ta\nlamp-2\t\u200bb\n".encode("utf-16"), 3),
        ("\ufeffname,serial\n\n,\nlamp-1,a\n\nlamp-2,\u200bb\n,\n".encode(), 6),
        ('name,serial\n"lamp-1","a\n"\nlamp-2,\u200bb\n'.encode(), 3),
    ],
    ids=["semicolons", "said", "utf-16", "blank", "two lines"],
)
def test_a_table_of_text_is_read_as_a_spreadsheet_writes_it_and_a_mistake_is_told_by_its_row(tmp_path, content, row):
    (tmp_path / "x.csv").write_bytes(content)
    rows = read_rows(str(tmp_path / "x.csv"))
    assert [one.typed["name"] for one in rows] == ["lamp-1", "lamp-2"]
    assert rows[1].place == f"row {row}"
    fields = {"name": "name", "serial": "serial"}
    read, mistakes = read_values(rows, fields, dict.fromkeys(fields, Type.TEXT), {})
    assert [one.values["name"] for one in read] == ["lamp-1", "lamp-2"]
    assert [(one.place, one.what) for one in mistakes] == [(f"row {row}", "holds what nobody sees: U+200B")]


def test_of_a_workbook_rows_are_counted_as_it_shows_them_and_one_of_several_sheets_is_named(tmp_path):
    path = str(tmp_path / "x.xlsx")
    with xlsxwriter.Workbook(path) as book:
        choices = book.add_worksheet("lists")
        choices.write(0, 0, "name")
        choices.write(1, 0, 1e18)
        page = book.add_worksheet("lamps")
        for at, row in ((2, ["name"]), (4, ["lamp-1"]), (7, ["lamp-2"])):
            page.write_row(at, 0, row)
        page.activate()
        page.set_first_sheet()
        choices.hide()
    assert [(one.place, one.typed) for one in read_rows(path)] == [
        ("row 5", {"name": "lamp-1"}), ("row 8", {"name": "lamp-2"}),
    ]  # fmt: skip
    file = sheet(tmp_path / "y.xlsx", ["name"], ["lamp-1"])
    with pytest.raises(CalledWrongly, match="several sheets: about, lamps & <more>"):
        read_rows(file)


def test_a_line_of_nothing_counts_among_lines_of_json(tmp_path):
    (tmp_path / "x.ndjson").write_text('{"name": "lamp-1"}\n\n{"name": "lamp-2"}\n')
    assert [one.place for one in read_rows(str(tmp_path / "x.ndjson"))] == ["line 1", "line 3"]


def test_a_byte_order_mark_before_json_is_ignored(tmp_path):
    (tmp_path / "x.json").write_bytes(b'\xef\xbb\xbf[{"name": "lamp-1"}]')
    assert read_rows(str(tmp_path / "x.json"))[0].typed == {"name": "lamp-1"}


def test_a_number_that_a_spreadsheet_cut_short_is_no_text(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve)
    (tmp_path / "x.csv").write_text("name,comment\nlamp-1,1.23457E+19\nlamp-2,1E5\n")
    words = ("push", str(tmp_path / "x.csv"), "--to", "spite", "--table", "devices", "--yes")
    assert "1.23457E+19  is a number that a spreadsheet has cut short" in shell(*words, status=2).stdout
    assert not spite.sent
