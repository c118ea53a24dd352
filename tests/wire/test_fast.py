"""Long lists: pages that are decoded only in part say what they would say if they were decoded whole, and memory is
not what bounds a table."""

from __future__ import annotations

import json
import os
import resource
import signal
import subprocess
import sys
import time

import polars as pl
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from concordex.errors import BadAnswer
from concordex.store.growing import GrowingFile
from concordex.store.snapshots import Content, content, facts_of
from concordex.wire.http.formats import decode
from concordex.wire.reading.list_reader import ListReader, list_reader
from concordex.wire.reading.pages import Page
from concordex.wire.reading.records import DecodedRecords
from concordex.wire.reading.seen import SeenIds
from concordex.wire.reading.table_read import _IDLE, Collector
from tests.conftest import Near, interrupt
from tests.lamplight import dialect, reading, run

SPOKEN = dialect("""
errors: {present: trouble}
tables:
  lamps:
    read:
      {path: /lamps, records: data.lamps, total: n, revision: state.at,
       pages: {by: cursor, next: onward.mark, cursor: mark, more: onward.more}}
    fields:
      {record_id: id, name: [label, other.label], macs: other.cards, serial: other.deep.serial, status: "@on",
       kind: other}
""")
TABLE, READER = SPOKEN.tables["lamps"], ListReader(SPOKEN, SPOKEN.tables["lamps"])
PATHS = [path for field in TABLE.fields.values() for path in field.from_]
BESIDE = ("n", "trouble", "state", "onward")

values = st.recursive(
    st.none() | st.booleans() | st.integers(-(10**22), 10**22) | st.floats(allow_nan=False, allow_infinity=False)
    | st.text(max_size=8) | st.sampled_from(["\ud800", "é", "\U0001f6a2", '"', "\\ud"]),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner, max_size=3),
    max_leaves=6,
)  # fmt: skip
others = st.fixed_dictionaries(
    {}, optional={"label": values, "cards": values, "deep": st.fixed_dictionaries({}, optional={"serial": values})}
)
records = st.fixed_dictionaries(
    {}, optional={"id": values, "label": values, "other": others | values, "@on": values, "note": values}
)
answers = st.fixed_dictionaries(
    {},
    optional={
        "data": st.fixed_dictionaries({}, optional={"lamps": st.lists(records, max_size=4) | values}) | values,
        "n": values, "trouble": values, "state": st.fixed_dictionaries({"at": values}) | values,
        "onward": st.fixed_dictionaries({}, optional={"mark": values, "more": values}) | values, "else": values,
    },
)  # fmt: skip


@given(
    answers, st.booleans(), st.sampled_from([None, 1]), st.tuples(st.integers(0, 400), st.integers(0, 255)) | st.none()
)
@example({"trouble": None, "data": {"lamps": []}, "n": [2**63, -(2**63)]}, False, None, None)
@example({"data": {"lamps": [{"id": 2**63, "note": 10**30}, {"id": -(2**63), "note": 1}]}}, False, None, None)
def test_a_page_that_is_decoded_in_part_says_what_the_whole_of_it_says(answer, escaped, indent, damage):
    """Whatever stands in it, and whatever becomes of it on the way; or it is left to be decoded whole."""
    text = json.dumps(answer, ensure_ascii=escaped, indent=indent)
    page = bytearray(text.encode(errors="surrogatepass"))
    if damage is not None and damage[0] < len(page):
        page[damage[0]] = damage[1]
    part = READER.page(bytes(page))
    if part is None:
        return
    try:
        whole = decode(bytes(page), SPOKEN.shape)
    except BadAnswer as error:
        assert "stands twice" in error.what  # which is looked for on the first page only
        return
    for path in (TABLE.read.total.path, TABLE.read.revision.path, SPOKEN.errors.present, TABLE.read.pages.next.path):
        assert (path.first(part), path.shown(part)) == (path.first(whole), path.shown(whole))
    assert part.names() == list(whole)
    mine, theirs = part["data"]["lamps"], DecodedRecords(whole["data"]["lamps"])
    assert list(mine) == theirs.records
    for path in PATHS:
        assert list(map(_exact, mine.column(path))) == list(map(_exact, theirs.column(path)))
    assert [json.loads(text) for text in mine.texts()] == json.loads(bytes(page))["data"]["lamps"]


def _exact(value):
    """A value as it becomes text; whole numbers of any size digit by digit."""
    return str(value) if isinstance(value, int) and not isinstance(value, bool) and abs(value) >= 2**63 else value


@pytest.mark.parametrize(
    ("page", "fast"),
    [
        (b'{"id":1}\n{"id":2}\n', True), (b'{"id":1}\n{"id":2}', True), (b'{"id":1} {"id":2}\n', False),
        (b'{"id":\n1} {"id":2}\n', False), (b'{"id":1}\n\n{"id":2}\n', False), (b'{"id":1}\n{"id"', False),
        (b'{"id":1,"x":"\xff"}\n', False), (b'[1]\n', False),
    ],
)  # fmt: skip
def test_a_file_of_lines_has_one_record_in_each(page, fast):
    lines = dialect("tables: {lamps: {read: {file: x, shape: ndjson}, fields: {record_id: id}}}")
    assert (ListReader(lines, lines.tables["lamps"]).page(page) is not None) is fast


@pytest.mark.parametrize(
    "read",
    [
        "{path: /l, records: '$.lamps[*]'}", "{path: /l, records: lamps, keyed_by: id}", "{rpc: l, records: lamps}",
        "{path: /l, records: lamps, members: [id]}", "{path: /l, records: lamps, shape: csv}",
        "{path: /l, records: lamps, total: lamps.n}", "{path: /l, records: lamps.all, revision: lamps}",
    ],
)  # fmt: skip
def test_what_stands_at_no_plain_path_is_decoded_whole(read):
    spoken = dialect(f"rpc: {{path: /r}}\ntables: {{lamps: {{read: {read}, fields: {{record_id: id}}}}}}")
    assert list_reader(spoken, spoken.tables["lamps"]) is None


@given(st.lists(st.lists(st.integers(0, 60).map(str), max_size=12), max_size=12), st.booleans())
def test_an_id_is_new_once_however_many_came_before(pages, packs):
    seen, known = SeenIds(), set()
    for page in pages:
        places = seen.new(page)
        first = [at for at, number in enumerate(page) if number not in known and number not in page[:at]]
        assert (list(range(len(page))) if places is None else places) == first
        known |= set(page)
        assert len(seen) == len(known)
        if packs:
            seen._pack()


def test_what_rows_say_has_one_digest_however_they_are_divided():
    frame = pl.DataFrame({"record_id": ["a", "b", "c"], "ips": [["x"], [], None], "original": ["1", "2", "3"]})
    parts = Content()
    parts.add(frame[1:])
    parts.add(frame[:1])
    assert parts.digest() == content(frame.reverse()) == content(frame.with_columns(original=pl.lit("")))
    assert content(frame[:2]) != content(frame) != content(frame.with_columns(record_id=pl.Series(["a", "b", "b"])))


# --- long tables, through the program

MANY, PAGE = 80_000, 10_000
LIST = """\
format: 1
name: long
title: A long list
tables:
  devices:
    read: {path: /d, records: d, total: n, pages: {by: offset, offset: from, limit: many, size: 10000}}
    fields: {record_id: id, name: label, site: place, serial: {from: serial}, last_seen: {from: at, as: epoch}}
"""


class LongList:
    """Serves as many records as it says, but for what a test has it do."""

    def __init__(self, count: int = MANY) -> None:
        self.count, self.says, self.alter, self.asked, self.pause = count, count, lambda start, page: page, 0, 0.0

    def __call__(self, _method, _path, query, _body, _headers):
        self.asked += 1
        time.sleep(self.pause)
        start, many = int(query["from"]), int(query["many"])
        page = [
            {"id": n, "label": f"lamp-{n}", "place": ("quay", "mole", None)[n % 3], "serial": f"S{n:06d}", "at": n}
            for n in range(start, min(start + many, self.count))
        ]
        return 200, {"n": self.says, "d": self.alter(start, page)}


@pytest.fixture
def long(tmp_path, serve):
    """A server of a long list, and a workspace for it."""
    answer = LongList()
    root = tmp_path / "workspace"
    (root / "dialects").mkdir(parents=True)
    (root / "dialects" / "long.yaml").write_text(LIST)
    (root / "concordex.yaml").write_text(
        f"format: 1\nsystems: {{long: {{dialect: long, url: '{serve(answer).url}',"
        " leave_out: [{where: 'name = lamp-7', why: seven}]}}\n"
    )
    return Near(root), answer


def files(shell) -> list[str]:
    folder = shell.folder / ".concordex" / "snapshots"
    return sorted(path.name for path in folder.rglob("*") if path.is_file())


def test_a_list_in_which_so_many_pages_bring_nothing_new_has_no_end():
    """From its first page on; a page that brings something begins the count anew."""
    collector, none = Collector(TABLE), Page(records=[])

    def pages(count: int) -> None:
        for _ in range(count):
            collector.add(none)
            collector.refuse_endless(None, "quay")

    pages(_IDLE - 1)
    collector.add(Page(records=[{"id": 1}]))
    collector.refuse_endless(None, "quay")
    pages(_IDLE - 1)
    with pytest.raises(BadAnswer, match="the list has no end"):
        pages(1)
    collector = Collector(TABLE)
    pages(_IDLE - 1)
    with pytest.raises(BadAnswer, match="the list has no end"):
        pages(1)


def test_a_long_table_is_kept_as_a_short_one_is(long):
    shell, _ = long
    shell("pull")
    frame = shell.workspace.show("devices").frame
    assert frame.height == MANY - 1
    rows = frame.sort(pl.col("record_id").cast(pl.Int64)).select("record_id", "name", "site", "serial").rows()
    assert rows[:2] == [("0", "lamp-0", "quay", "S000000"), ("1", "lamp-1", "mole", "S000001")]
    assert [int(row[0]) for row in rows] == [n for n in range(MANY) if n != 7]
    assert files(shell) == ["000001.keys.parquet", "000001.parquet"]
    (path,) = (shell.folder / ".concordex").rglob("000001.parquet")
    assert path.stat().st_mode & 0o777 == 0o600
    facts = facts_of(path)
    assert (facts["outcome"], facts["received"], facts["left_out"]) == ("whole", MANY, {"seven": 1})
    again = shell.workspace.frames.content_of("snapshots/long/devices/000001.parquet")
    shell("pull")
    assert shell.workspace.frames.content_of("snapshots/long/devices/000002.parquet") == again
    assert again == content(frame.drop("system"))


def test_of_two_looks_one_is_kept_and_nothing_of_the_other(long):
    """A record that moved into a page already read: the first look does not add up."""
    shell, answer = long
    answer.alter = lambda start, page: (
        page if answer.asked > 9 or start != 40_000 else [{**page[0], "id": 3}, *page[1:]]
    )
    shell("pull")
    (row,) = json.loads(shell("pulls", "1", "-f", "json").stdout)
    assert (row["outcome"], row["received"], row["distinct"]) == ("whole", MANY, MANY)
    assert files(shell) == ["000001.keys.parquet", "000001.parquet"]


def test_a_long_table_that_does_not_add_up_is_partial(long):
    shell, answer = long
    answer.says = MANY + 5
    shell("pull", status=4)
    (row,) = json.loads(shell("pulls", "1", "-f", "json").stdout)
    assert (row["outcome"], row["received"]) == ("partial", MANY)
    assert (
        pl.scan_parquet(next((shell.folder / ".concordex").rglob("000001.parquet"))).select(pl.len()).collect().item()
    )


def test_ids_that_are_one_once_they_are_read_make_a_long_table_partial(long):
    """They came as two, far apart: L5 and l5, read in small letters."""
    shell, answer = long
    path = shell.folder / "dialects" / "long.yaml"
    path.write_text(path.read_text().replace("record_id: id", "record_id: {from: id, as: lower}"))
    answer.alter = lambda _start, page: [
        {**one, "id": "l5" if one["id"] == 79_000 else f"L{one['id']}"} for one in page
    ]
    assert "no longer different, once they are read" in shell("pull", status=4).stderr
    answer.alter = lambda _start, page: [{**one, "id": f"L{one['id']}"} for one in page]
    shell("pull")


def test_of_a_long_table_that_fails_nothing_is_left(long):
    """In the middle the list is no list, and what is left of it says nothing of the rest."""
    shell, answer = long
    answer.alter = lambda start, page: page if start < 60_000 else ["no record"]
    shell("pull", status=4)
    (row,) = json.loads(shell("pulls", "1", "-f", "json").stdout)
    assert row["outcome"] == "partial"
    shell("pull", status=4)
    assert files(shell) == [f"00000{at}{what}.parquet" for at in (1, 2) for what in (".keys", "")]


def test_a_key_that_stands_twice_is_refused_on_the_first_page(long, serve):
    twice = b'{"n": 1, "d": [{"id": 1, "id": 2}]}'
    spoken = dialect(LIST.replace("format: 1\nname: long\ntitle: A long list\n", ""))
    with pytest.raises(BadAnswer, match="'id' stands twice"):
        run(reading(serve(lambda *_: (200, twice)).url, spoken, "devices"))


def test_it_is_the_first_page_that_came_that_is_decoded_whole(serve):
    """Not the first that was asked for, and was cut."""
    spoken = dialect(LIST.replace("format: 1\nname: long\ntitle: A long list\n", ""))
    pages = iter([b'{"n": 1, "d": [{"id"', b'{"n": 1, "d": [{"id": 1, "id": 2}]}'])
    with pytest.raises(BadAnswer, match="'id' stands twice"):
        run(reading(serve(lambda *_: (200, next(pages))).url, spoken, "devices"))


def test_an_error_that_comes_with_a_list_is_told_in_its_words(serve):
    """On a later page, of which only a part is decoded: the session has ended, or it says what is wrong."""
    spoken = dialect(
        LIST.replace("format: 1\nname: long\ntitle: A long list\n", "errors: {present: bad, message: bad.text}\n")
    )
    list_of = LongList(30_000)

    def answer(*asked):
        status, body = list_of(*asked)
        return status, body if asked[2]["from"] == "0" else {**body, "bad": {"text": "the clerk is at lunch"}}

    look = run(reading(serve(answer).url, spoken, "devices"))
    assert "the clerk is at lunch" in look.fault


def test_records_that_are_left_out_are_meant_by_others_all_the_same(long):
    """Of a long table that others refer to."""
    shell, _ = long
    path = shell.folder / "dialects" / "long.yaml"
    path.write_text(
        path.read_text() + "  ports:\n    read: {path: /d, records: d, total: n, pages:"
        " {by: offset, offset: from, limit: many, size: 10000}}\n"
        "    fields: {record_id: id, name: {from: id, via: devices}}\n"
    )
    shell("pull")
    frame = shell.workspace.show("ports", where="record_id = 7").frame
    assert frame["name"].to_list() == ["lamp-7"]


def test_a_pull_that_is_stopped_leaves_nothing_half_written(long):
    shell, answer = long
    answer.pause = 0.3
    process = shell.begin("pull")
    interrupt(process, lambda: any(name.endswith(".new") for name in files(shell)))
    assert process.returncode == 5
    assert files(shell) == []


def test_what_a_killed_pull_had_begun_is_swept_up_when_nobody_can_be_writing_it(long):
    shell, answer = long
    answer.pause = 0.3
    process = shell.begin("pull")
    interrupt(process, lambda: any(name.endswith(".new") for name in files(shell)), signal.SIGKILL)
    (begun,) = (shell.folder / ".concordex" / "snapshots").rglob("*.new")
    answer.pause, answer.count, answer.says = 0.0, 10, 10
    shell("pull")
    assert begun.exists()  # perhaps another machine writes it
    os.utime(begun, (1, 1))
    mine = begun.with_name(f".{os.getpid()}-999.new")
    mine.touch()
    os.utime(mine, (time.time() - 7_200,) * 2)
    shell("pull")
    assert not begun.exists()
    assert mine.exists()  # its process lives
    os.utime(mine, (time.time() - 90_000,) * 2)
    shell("pull")
    assert not mine.exists()  # another bears the number of its process


def test_a_disk_that_is_full_in_the_middle_of_a_pull_is_told(long):
    """The limit on files stands for the disk: a write fails when the table is half there."""
    shell, _ = long
    code = "import signal; signal.signal(25, signal.SIG_IGN); from concordex.__main__ import main; main()"  # SIGXFSZ
    done = subprocess.run(
        [sys.executable, "-B", "-c", code, "pull"],  # byte code would be cut as well, and be found by others
        cwd=shell.folder, capture_output=True, text=True, timeout=60, check=False,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (200_000, 200_000)),
    )  # fmt: skip
    assert done.returncode == 1, done.stderr
    assert "cannot be written" in done.stderr
    assert [name for name in files(shell) if name.endswith(("new", "parquet"))] == []


def test_what_goes_wrong_while_a_piece_is_made_is_raised_and_nothing_is_left(tmp_path):
    growing = GrowingFile(tmp_path / "x.parquet")
    growing.add(lambda: pl.DataFrame({"a": [1]}))
    growing.add(lambda: 1 / 0)
    with pytest.raises(ZeroDivisionError):
        growing.settle()
    growing.discard()
    growing.discard()
    assert list(tmp_path.iterdir()) == []
