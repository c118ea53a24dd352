"""Members of records by their paths, and what is written for other programs."""

from __future__ import annotations

import re
import zipfile
from io import BytesIO

import polars as pl
import pytest

from concordex.errors import CalledWrongly
from concordex.model import inert
from concordex.model.inert import as_text, cell_from_text, from_text, in_markdown, to_workbook
from concordex.model.members import along, edited, flat, paths, pruned, put, put_into, stands, value_at, way_of
from concordex.model.scalars import parse_flag, parse_time, version_parts

RECORD = {"a": {"b": 1, "c": None}, "d": [{"e": 2}, 3], "f": ""}


@pytest.mark.parametrize(
    ("path", "value", "there"),
    [("a.b", 1, True), ("a.c", None, True), ("a.x", None, False), ("a.b.c", None, False), ("x", None, False),
     ("f", "", True), ("d.e", None, False)],
)  # fmt: skip
def test_a_path_leads_to_a_value_or_to_none(path, value, there):
    assert value_at(RECORD, path) == along(RECORD, path.split(".")) == value
    assert stands(RECORD, path.split(".")) is there
    assert value_at(RECORD, None) is None


def test_a_path_that_a_person_types_keeps_its_words_as_they_are():
    assert way_of("Serial.No") == ["Serial", "No"]
    assert way_of("ports[0].MAC") == ["ports", "[0]", "MAC"]
    for text in ("", ".a", "a..b", "a.", "[", "a[0"):
        with pytest.raises(ValueError, match="is not a path"):
            way_of(text)


def test_a_value_is_put_at_a_path_and_what_is_on_the_way_is_made():
    assert put(RECORD, "a.b", 9) == {**RECORD, "a": {"b": 9, "c": None}}
    assert put(RECORD, "f.g.h", 9) == {**RECORD, "f": {"g": {"h": 9}}}
    assert put({}, "x", 1) == {"x": 1}
    assert RECORD["a"]["b"] == 1
    made: dict = {"a": {"b": 1}}
    for path, value in (("x", 1), ("a.c", 2), ("k.l.m", 3)):
        put_into(made, path, value)
    assert made == {"a": {"b": 1, "c": 2}, "x": 1, "k": {"l": {"m": 3}}}


def test_all_paths_of_a_record_are_told_items_of_lists_without_their_places():
    assert list(paths(RECORD)) == ["a", "a.b", "a.c", "d", "d[].e", "f"]
    assert list(paths([[{"x": 1}]])) == ["[][].x"]
    assert list(paths(3)) == []
    assert flat({"a": {"b": {"c": 1}}}) == {"a.b.c": 1}
    assert pruned({"a": 1, "b": {"c": 1}}, ["a.x", "b.y"]) == {"a": 1, "b": {"c": 1}}


@pytest.mark.parametrize(
    ("path", "value", "drop", "after"),
    [
        ("a.b", 9, False, {**RECORD, "a": {"b": 9, "c": None}}),
        ("a.new.deep", 9, False, {**RECORD, "a": {"b": 1, "c": None, "new": {"deep": 9}}}),
        ("a.b", None, True, {**RECORD, "a": {"c": None}}),
        ("d[0].e", 9, False, {**RECORD, "d": [{"e": 9}, 3]}),
        ("d[=3]", 4, False, {**RECORD, "d": [{"e": 2}, 4]}),
        ("d[0]", None, True, {**RECORD, "d": [3]}),
        ("d[1]", None, True, {**RECORD, "d": [{"e": 2}]}),
        ("d[0].e", None, True, {**RECORD, "d": [{}, 3]}),
        ("new[+]", 1, False, {**RECORD, "new": [1]}),
        ("a.c[+]", 1, False, {**RECORD, "a": {"b": 1, "c": [1]}}),
    ],
)
def test_a_typed_path_is_edited_and_nothing_else(path, value, drop, after):
    assert edited(RECORD, path, value, drop=drop) == after


@pytest.mark.parametrize(
    ("path", "drop", "what"),
    [
        ("a.x", True, "a.x: there is no 'x'; there is: b, c"),
        ("a.b.c", False, "a.b.c: there is no 'c' in what is no mapping"),
        ("a[0]", False, "a[0]: there is no list there"),
        ("d[2]", False, "d[2]: the list has no such item; it has: {'e': 2}, 3"),
        ("d[=9]", True, "d[=9]: the list has no such item"),
        ("d[+]", True, "d[+]: the list has no such item"),
        ("d[+].x", False, "d[+].x: the list has no such item"),
    ],
)
def test_what_a_path_leads_to_must_be_there(path, drop, what):
    with pytest.raises(ValueError) as raised:
        edited(RECORD, path, 1, drop=drop)
    assert str(raised.value).startswith(what)
    assert way_of(path)


def test_only_the_words_for_yes_and_no_are_flags_and_a_time_without_zone_is_utc():
    assert [parse_flag(word) for word in ("TRUE", "1", "no", "2", "yes no")] == [True, True, False, None, None]
    assert parse_time("2026-11-23T12:00").isoformat() == "2026-11-23T12:00:00+00:00"
    assert parse_time("2026-11-23T12:00-02:30").isoformat() == "2026-11-23T14:30:00+00:00"
    assert (parse_time("x"), parse_time("9999-12-31T23:59:59-14:00")) == (None, None)


@pytest.mark.parametrize(
    ("low", "high"),
    [
        ("1.0dev3", "1.0"),
        ("1.0-beta", "1.0-preview"),
        ("1.0", "1.0p1"),
        ("1.0p1", "1.1"),
        ("1.0a0", "1.0b"),
        ("1.0a", "1.0.0.5"),
        ("9", "10"),
    ],
)
def test_a_version_comes_before_another(low, high):
    assert version_parts(low) < version_parts(high)
    assert version_parts(f"V{low} ") == version_parts(low)
    assert version_parts(f"{high}.0.0") == version_parts(high)


CELLS = ["=1+1", "+1", "-1", "@x", "\tx", "'=1", "''-x", "plain", "'quoted", None, "a=b"]


def test_what_a_spreadsheet_would_obey_is_a_text_and_comes_back_as_it_was():
    frame = pl.DataFrame({"x": CELLS, "n": range(len(CELLS)), "left": CELLS})
    written = as_text(frame, ["x", "n"])
    assert written["x"].to_list() == [
        "'=1+1", "'+1", "'-1", "'@x", "'\tx", "''=1", "'''-x", "plain", "'quoted", None, "a=b"
    ]  # fmt: skip
    assert (written["left"].to_list(), written["n"].to_list()) == (CELLS, list(range(len(CELLS))))
    assert as_text(frame)["left"].to_list() == written["x"].to_list()
    assert from_text(written, ["x", "n"]).equals(frame)
    assert [None if cell is None else cell_from_text(cell) for cell in written["x"]] == CELLS


def test_what_acts_in_markdown_is_shown_and_not_obeyed():
    assert in_markdown("a|b *c* <d>\ne") == r"a\|b \*c\* \<d\> e"
    assert in_markdown("http://x www.y a.b A&B &amp; x:y") == r"http\://x www\.y a.b A&B \&amp; x:y"


def test_a_workbook_holds_texts_as_texts_and_is_as_wide_as_they_need(monkeypatch):
    frame = pl.DataFrame({"name": ["=1", "http://x", "w" * 90], "n": [1, None, 3], "empty": [None] * 3})
    buffer = BytesIO()
    to_workbook(frame, buffer)
    with zipfile.ZipFile(buffer) as book:
        sheet = book.read("xl/worksheets/sheet1.xml").decode()
    cells = dict(re.findall(r'<c r="([A-Z]+\d+)"[^>]*>(.*?)</c>', sheet))
    texts = {at: re.sub("<[^>]+>", "", cell) for at, cell in cells.items()}
    assert texts == {
        "A1": "name", "B1": "n", "C1": "empty", "A2": "=1", "B2": "1", "A3": "http://x", "A4": "w" * 90, "B4": "3"
    }  # fmt: skip
    assert ("<f>" in sheet, "hyperlink" in sheet, 'topLeftCell="A2"' in sheet) == (False, False, True)
    assert inert._widths(frame) == [60, 3, 7]
    monkeypatch.setattr(inert, "_MOST_ROWS", 4)
    to_workbook(frame, BytesIO())  # three rows and a heading are four
    monkeypatch.setattr(inert, "_MOST_ROWS", 3)
    with pytest.raises(CalledWrongly, match=r"3 rows are more than a workbook holds \(2\)"):
        to_workbook(frame, BytesIO())
    with pytest.raises(CalledWrongly, match=r"name of row 2 has 40,000 characters"):
        monkeypatch.undo()
        to_workbook(pl.DataFrame({"name": ["x" * 40_000]}), BytesIO())
