"""Looking at tables: every format holds the same records, and nothing in them acts."""

from __future__ import annotations

import csv
import html
import io
import json
import re
import zipfile
from datetime import UTC, datetime, timedelta

import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from markdown_it import MarkdownIt
from ruamel.yaml import YAML

from concordex.cli.draw import clean
from concordex.errors import CalledWrongly
from concordex.model import inert
from concordex.model.inert import in_markdown
from concordex.work.show.columns import Columns
from concordex.work.show.show_options import ShowOptions
from concordex.work.show.summary import summed
from tests.conftest import Near, make_workspace
from tests.spite import spiteful
from tests.stories.test_decisions import lists, lists_once, row

__all__ = ["lists", "lists_once"]  # fixtures

COLUMNS = ["--columns", "system,name,serial,macs,last_seen"]
WHERE = ["--where", "kind = laptop", "--sort", "system,name,serial"]


@pytest.fixture
def bollard(tmp_path, harbour):
    shell = make_workspace(tmp_path, harbour, ["bollard"], Near)
    shell("pull", "-t", "devices", "-t", "rulesets")
    return shell


@pytest.fixture(scope="module")
def laptops(pulled):
    """The laptops as the Python API gives them."""
    return pulled.workspace.show(
        "devices", where="kind = laptop", sort=["system", "name", "serial"], columns=COLUMNS[1].split(",")
    ).frame


def test_ndjson_and_json_hold_the_records(pulled, laptops):
    lines = pulled("show", "devices", *WHERE, *COLUMNS, "-f", "ndjson").stdout.splitlines()
    rows = [json.loads(line) for line in lines]
    assert rows == json.loads(pulled("show", "devices", *WHERE, *COLUMNS, "-f", "json").stdout)
    assert [row["name"] for row in rows] == laptops["name"].to_list()
    assert [row["macs"] for row in rows] == laptops["macs"].to_list()
    assert all(row["last_seen"] is None or row["last_seen"].endswith("Z") for row in rows)


def test_csv_yaml_and_markdown_hold_the_records(pulled, laptops):
    text = pulled("show", "devices", *WHERE, *COLUMNS, "-f", "csv").stdout
    assert [row["serial"] or None for row in csv.DictReader(io.StringIO(text))] == laptops["serial"].to_list()
    rows = YAML(typ="safe").load(pulled("show", "devices", *WHERE, *COLUMNS, "-f", "yaml").stdout)
    assert [row["name"] for row in rows] == laptops["name"].to_list()
    lines = pulled("show", "devices", *WHERE, *COLUMNS, "-f", "markdown").stdout.splitlines()
    assert len(lines) == laptops.height + 2


def test_files_get_their_format_from_their_ending(pulled, laptops, tmp_path):
    for ending, read in (("parquet", pl.read_parquet), ("xlsx", pl.read_excel), ("csv", pl.read_csv)):
        path = tmp_path / f"laptops.{ending}"
        pulled("show", "devices", *WHERE, *COLUMNS, "-o", str(path))
        assert read(path).height == laptops.height
    assert [path.name for path in tmp_path.iterdir() if path.name.startswith(".")] == []


def test_a_table_in_a_pipe_is_plain_text_that_columns_tools_can_read(pulled):
    done = pulled("show", "devices", "--where", "name = rt-eider-01 or kind = router", "--columns", "name,kind")
    lines = done.stdout.splitlines()
    assert lines[0].split() == ["name", "kind"]
    assert "\x1b" not in done.stdout + done.stderr
    assert all(line.split()[-1] == "router" for line in lines[1:])


def test_counts_add_up_to_the_whole(pulled):
    rows = json.loads(pulled("show", "devices", "--count-by", "system,kind", "-f", "json").stdout)
    assert sum(row["count"] for row in rows) == pulled.workspace.show("devices").frame.height
    assert [row["count"] for row in rows] == sorted((row["count"] for row in rows), reverse=True)


def test_the_funnel_counts_what_each_clause_leaves(pulled):
    where = "kind in (laptop, tablet) and last_seen newer than 5d and battery.level < 50"
    rows = json.loads(pulled("show", "devices", "--where", where, "--funnel", "-f", "json").stdout)
    everything = pulled.workspace.show("devices").frame.height
    assert [row["clause"] for row in rows] == ["(all)", *where.split(" and ")]
    assert rows[0]["left"] == everything
    assert rows[-1]["left"] == pulled.workspace.show("devices", where=where).frame.height
    assert 0 < rows[-1]["left"] < rows[1]["left"] < everything


@pytest.mark.parametrize(
    ("where", "muster_helps"),
    [
        ("kind in (tablet, handheld) and last_seen newer than 3d", True),
        ("kind = laptop and name like 'SF-*'", True),
        ("kind = tablet or user present", False),
        ("site in (cobble-quay, saltpan) and kind = switch", False),
        ("last_seen newer than 2d and os_version < 7.2.10", True),
        ("name = SW-COBBLE-QUAY-01", False),
        ("not kind = switch", False),
    ],
)
def test_asking_the_systems_gives_what_filtering_here_gives(pulled, shared_harbour, where, muster_helps):
    """The systems may apply a part of the filter; the result is the same, and less is sent."""
    seen = len(shared_harbour.muster.faults.requests)
    options = {"where": where, "systems": ["fairlead", "muster"], "columns": ["system", "record_id"]}
    live = pulled.workspace.show("devices", live=True, **options).frame
    kept = pulled.workspace.show("devices", **options).frame
    assert set(live.rows()) == set(kept.rows())
    asked = [path for _, path in shared_harbour.muster.faults.requests[seen:] if path.startswith("/muster")]
    assert ("where=" in asked[0]) == muster_helps


def test_a_live_funnel_says_who_applied_what(pulled):
    where = "kind = tablet and battery.level < 50"
    done = pulled("show", "devices", "--live", "-s", "muster", "--where", where, "--funnel", "-f", "json")
    rows = json.loads(done.stdout)
    assert [row["applied_by"] for row in rows] == ["muster", "muster", "concordex"]
    assert [row["clause"] for row in rows][1:] == where.split(" and ")
    counts = [row["left"] for row in rows]
    assert counts[0] > counts[1] > counts[2] > 0


@pytest.mark.parametrize(
    ("words", "what", "advice"),
    [
        (["show", "device"], "no table 'device'", '"devices"'),
        (["show", "devices", "--columns", "nmae"], "no column 'nmae'", '"name"'),
        (["show", "devices", "--system", "mustr"], "no system 'mustr'", '"muster"'),
        (
            ["show", "devices", "--where", "sreial present"],
            'no field "sreial"\n    sreial present\n    ^^^^^^',
            '"serial"',
        ),
        (["show", "devices", "--where", "name = (x"], "expected a value here\n    name = (x\n           ^", ""),
        (["show", "devices", "--funnel"], "--funnel goes with --where", ""),
        (["show", "devices", "--format", "pdf"], "pdf", "table"),
        (["pull", "mustre"], "no system 'mustre'", '"muster"'),
        (["pull", "--table", "devces"], "a table 'devces'", '"devices"'),
        (["findings", "--kind", "conflit"], "'conflit'", '"conflict"'),
        (["explain", "sw-cobble-quay-0l"], "no device is known", "did you mean"),
        (["change", "show", "7"], "no change 7", "none yet"),
        (["sync", "muster"], "cannot be written", "dialects.md"),
    ],
)
def test_a_wrong_word_is_told_with_the_nearest_right_one(pulled, words, what, advice):
    done = pulled(*words, status=2)
    assert what in done.stderr
    assert advice in done.stderr
    assert done.stdout == ""


@pytest.mark.parametrize(
    ("where", "told"),
    [
        ("site = coble-quay", 'no record of devices has the site coble-quay; did you mean "cobble-quay"?'),
        ("site = cobble-quay and os_version < 0.1", "no record of devices meets os_version < 0.1"),
        ("kind = router and kind = switch", "each clause finds some, and no record meets them all"),
    ],
)
def test_a_filter_that_finds_nothing_says_why(pulled, where, told):
    done = pulled("show", "devices", "--where", where, "-f", "csv")
    assert "0 of " in done.stderr
    assert told in done.stderr
    assert len(done.stdout.splitlines()) == 1


def test_a_kind_that_there_is_not_is_a_mistake(pulled):
    assert 'did you mean "switch"?' in pulled("show", "devices", "--where", "kind = swich", status=2).stderr
    pulled("show", "findings", "--where", "kind = conflict")  # the kinds of findings are others


def test_places_are_numbers_and_whole_numbers_are_written_so(shell, serve):
    places = [11, "2", 60, 1, "12", "NaN", None, 2.5]
    served = serve(lambda *_: (200, [{"id": at, "unit": place} for at, place in enumerate(places)]))
    (shell.folder / "dialects" / "odd.yaml").write_text(
        "format: 1\nname: odd\ntitle: Odd\ntables: {devices: {read: {path: /, complete: the guide says so},"
        " fields: {record_id: id, name: id, position: unit}}}\n"
    )
    shell("system", "add", "odd", "-d", "odd", "-u", served.url)
    shell("pull", "odd")

    def asked(*words):
        return json.loads(shell("show", "devices", "-c", "position", *words, "-f", "json").stdout)

    assert [row["position"] for row in asked("--where", "position > 9", "--sort", "position")] == [11, 12, 60]
    assert [row["position"] for row in asked("--sort", "position")] == [1, 2, 2.5, 11, 12, 60, None, None]
    assert '"position": 11\n' in shell("show", "devices", "-c", "position", "-n", "1", "-f", "json").stdout


def test_parents_are_shown_and_filtered_by_name_and_their_ids_on_request(pulled):
    name = pulled.workspace.show("interfaces", limit=1).frame["parent"][0]
    rows = json.loads(pulled("show", "interfaces", "--where", f"parent = {name}", "-f", "json").stdout)
    assert {row["parent"] for row in rows} == {name}
    assert "parent_id" not in rows[0]
    ids = json.loads(pulled("show", "interfaces", "-c", "parent,parent_id", "-n", "1", "-f", "json").stdout)
    device = pulled.workspace.show("devices", where=f'record_id = "{ids[0]["parent_id"]}"').frame
    assert ids[0]["parent"] in device["name"].to_list()


def test_what_hangs_from_a_device_has_what_is_known_of_it_beside_it(pulled):
    of_fairlead, about = ("show", "interfaces", "-s", "fairlead"), ("kind", "site", "entry")
    ports = pulled.workspace.show("interfaces", systems=["fairlead"], columns=["record_id", "parent_id"]).frame
    nodes = pulled.workspace.show("records", systems=["fairlead"], columns=["record_id", *about]).frame
    told = {row["record_id"]: row for row in nodes.rows(named=True)}
    node_of = dict(ports.iter_rows())
    site = told[ports["parent_id"][0]]["site"]
    there = {port for port, node in node_of.items() if told[node]["site"] == site}
    assert 0 < len(there) < ports.height
    where = ("--where", f"device.site = {site}")
    rows = json.loads(pulled(*of_fairlead, *where, "-f", "json").stdout)
    assert {row["record_id"] for row in rows} == there
    assert all(row[f"device.{name}"] == told[node_of[row["record_id"]]][name] for row in rows for name in about)
    assert "device.name" not in rows[0]
    named = pulled.workspace.show("interfaces", columns=["parent", "device.name"], limit=5).frame
    assert named["parent"].to_list() == named["device.name"].to_list()
    live = pulled(*of_fairlead, "--live", *where, "-c", "record_id", "-f", "json").stdout
    assert {row["record_id"] for row in json.loads(live)} == there
    for words, why in (
        (["--where", "device.sit = x"], 'did you mean "device.site"?'),
        (["-c", "device.kin"], 'did you mean "device.kind"?'),
        (["--where", "device.kind = swich"], 'there is no device.kind "swich"'),
    ):
        assert why in pulled(*of_fairlead, *words, status=2).stderr


def test_the_ends_of_a_link_are_devices_with_all_that_is_known_of_them(pulled):
    links = pulled.workspace.show("links", columns=["near_id", "far_id", "near.site", "far.kind", "near.entry"]).frame
    nodes = pulled.workspace.show("records", systems=["fairlead"]).frame.rows(named=True)
    told = {row["record_id"]: row for row in nodes}
    assert links.height
    for near, far, site, kind, entry in links.iter_rows():
        assert (site, entry) == (told[near]["site"], told[near]["entry"])
        assert kind == (told[far]["kind"] if far in told else None)
    shown = json.loads(pulled("show", "links", "-n", "1", "-f", "json").stdout)[0]
    assert {"near", "near.site", "far", "far.site"} <= shown.keys()
    assert not {"near_id", "near.entry"} & shown.keys()


def asked(shell, sql, *words):
    return json.loads(shell("query", sql, "-f", "json", *words).stdout)


def test_sql_says_of_all_tables_what_show_says(pulled):
    by_site = {row["site"]: row["n"] for row in asked(pulled, "select site, count(*) as n from entries group by site")}
    counted = json.loads(pulled("show", "entries", "--count-by", "site", "-f", "json").stdout)
    assert by_site == {row["site"]: row["count"] for row in counted}
    where = "device.kind = switch and status = down"
    down = json.loads(pulled("show", "interfaces", "--where", where, "-f", "json").stdout)
    sql = """select record_id from interfaces where "device.kind" = 'switch' and status = 'down'  -- not 'up'"""
    assert {row["record_id"] for row in asked(pulled, sql)} == {row["record_id"] for row in down}
    joined = asked(pulled, "select r.name, e.site from records r join entries e on r.entry = e.entry", "-n", "0")
    assert len(joined) == pulled.workspace.show("records").frame.height
    assert "original" not in asked(pulled, "select * from devices limit 1")[0]
    own = asked(pulled, "select original from devices where system = 'stowage' limit 1")[0]["original"]
    assert own.startswith("{")
    listed = json.loads(pulled("query", "--tables", "-f", "json").stdout)
    types = {(row["table"], row["column"]): row["type"] for row in listed}
    assert types["devices", "macs"] == "list of MAC addresses"
    assert types["interfaces", "device.site"] == "text"
    assert pulled("query", "-", said="select count(*) as n from links").stdout


@pytest.mark.parametrize(("sql", "why"), [
    ("drop table devices", "only reads"),
    ("delete from devices", "only reads"),
    ("/* select */ drop table devices", "only reads"),
    ("with t as (select 1) delete from devices", "not understood"),
    ("select 1; drop table devices", "not understood"),
    ("select * from read_csv('/etc/passwd')", "read_csv is no table"),
    ("select * from \"read_csv\" ('/etc/passwd')", "read_csv is no table"),
    ("select name from devics", 'did you mean "devices"?'),
    ("select nme from devices", 'did you mean "name"?'),
    ("select name from", "not understood"),
    ("select \"it's\" from devices", "there is no column \"it's\""),
    ("select count(*), count(*) from devices", "another name"),
    ("", "only reads"),
    ("select nosuch(name) from devices", "not understood"),
    ("select name from devices group by", "not understood"),
])  # fmt: skip
def test_a_query_that_cannot_be_meant_or_would_not_only_read_is_told(pulled, sql, why):
    before = {path: path.stat().st_mtime_ns for path in pulled.folder.rglob("*.parquet")}
    told = pulled("query", sql, status=2).stderr
    assert why in told
    assert "an error of our own" not in told
    assert {path: path.stat().st_mtime_ns for path in pulled.folder.rglob("*.parquet")} == before


def test_a_query_of_a_date_asks_what_was_pulled_by_then(lists):
    lists.say("net", row(id="1", name="sw-1"))
    lists("pull", "net")
    then = datetime.now(UTC).isoformat()
    lists.say("net", row(id="1", name="sw-2"))
    lists("pull", "net")
    sql = "select name from devices where system = 'net'"
    assert asked(lists, sql, "--as-of", then) == [{"name": "sw-1"}]
    assert asked(lists, sql) == [{"name": "sw-2"}]
    told = lists("query", "select * from findings", "--as-of", then, status=2).stderr
    assert "there is no table 'findings'" in told


def test_entries_of_a_date_are_what_was_pulled_by_then_would_make(lists):
    """A device that was renamed has its name and number; one that is gone is there, under no number of today's."""
    lists.say("net", row(id="1", name="sw-1", serial="KEB1"), row(id="2", name="sw-2", serial="KEB2"))
    lists.say("inv", row(id="7", name="sw-1", serial="KEB1"))
    lists("pull")
    then = datetime.now(UTC).isoformat()
    early = asked(lists, "select name, systems from entries order by name", "--as-of", then)
    assert early == [{"name": "sw-1", "systems": ["inv", "net"]}, {"name": "sw-2", "systems": ["net"]}]
    lists.say("net", row(id="1", name="sw-one", serial="KEB1"), row(id="3", name="sw-3", serial="KEB3"))
    lists.say("inv", row(id="7", name="sw-one", serial="KEB1"))
    lists("pull")
    lists("reconcile")
    now = {one["name"]: one["entry"] for one in asked(lists, "select name, entry from entries")}
    assert now.keys() == {"sw-one", "sw-3"}
    done = lists("show", "entries", "--as-of", then, "-c", "entry,name", "--sort", "name", "-f", "json")
    assert json.loads(done.stdout) == [{"entry": now["sw-one"], "name": "sw-1"}, {"entry": None, "name": "sw-2"}]
    assert "by the rules, rulings and weights of today" in done.stderr
    assert "no devices were pulled by" in lists("show", "entries", "--as-of", "2020-01-01", status=2).stderr


def test_over_time_each_day_has_what_was_there_at_its_end_and_what_came_and_went(lists):
    noon = datetime.now(UTC).replace(hour=12, minute=0) - timedelta(days=1)
    told = {3: {"1": "quay", "2": "quay"}, 1: {"2": "quay", "3": "depot"}, 0: {"2": "depot", "3": "depot", "4": None}}
    database = lists.workspace.catalogue.database
    for days_before, there in told.items():
        lists.say("net", *(row(id=number, name=f"sw-{number}", site=site) for number, site in there.items()))
        lists("pull", "net")
        (snapshot,) = lists.workspace.memory.newest("devices", system="net")
        taken = (noon - timedelta(days=days_before)).isoformat()
        database.run("UPDATE snapshots SET taken = ? WHERE id = ?", (taken, snapshot.id))

    def days(*words):
        rows = json.loads(lists("show", "devices", "-s", "net", "--over", "5d", *words, "-f", "json").stdout)
        return [list(row.values())[1:] for row in rows]

    assert days() == [[2, 0, 0], [2, 0, 0], [2, 1, 1], [3, 1, 0], [3, 0, 0]]
    moved = [line for line in days("--count-by", "site,site") if line[2] or line[3]]
    assert moved == [["depot", 1, 1, 0], ["quay", 1, 0, 1], ["depot", 2, 1, 0], ["quay", 0, 0, 1], [None, 1, 1, 0]]
    assert days("--where", "site = quay") == [[2, 0, 0], [2, 0, 0], [1, 0, 1], [0, 0, 1], [0, 0, 0]]
    # on what is not whole nothing has vanished, and nothing is new beside it
    (snapshot,) = lists.workspace.memory.newest("devices", until=noon - timedelta(days=1), system="net")
    database.run("UPDATE snapshots SET outcome = 'unproven' WHERE id = ?", (snapshot.id,))
    assert days()[2:4] == [[2, 1, 0], [3, 0, 0]]
    assert "was unproven" in lists("show", "devices", "-s", "net", "--over", "5d").stderr


@pytest.mark.parametrize(("words", "why"), [
    (["devices", "--over", "3x"], "is not a duration"),
    (["devices", "--over", "3d:yer"], "is no span of time"),
    (["devices", "--over", "900w:hour"], "more than 1,000 times"),
    (["devcs", "--over", "3d"], 'did you mean "devices"?'),
    (["entries", "--over", "3d"], "show records --over"),
    (["devices", "--over", "3d", "--live"], "and not with --live"),
    (["devices", "--over", "3d", "--count-by", "sit"], 'did you mean "site"?'),
    (["devices", "--over", "3d", "--where", "kind = swich"], 'did you mean "switch"?'),
])  # fmt: skip
def test_what_has_no_past_is_told(pulled, words, why):
    assert why in pulled("show", *words, status=2).stderr


MOMENTS = st.datetimes(datetime(2025, 12, 20), datetime(2026, 1, 12), timezones=st.just(UTC))
READ = st.lists(st.tuples(st.sampled_from("ab"), st.none() | st.integers(-9, 9), MOMENTS), max_size=12)


@given(rows=READ, span=st.sampled_from(["hour", "day", "week"]))
def test_sums_by_groups_and_spans_of_time_are_those_of_the_records(rows, span):
    frame = pl.DataFrame(
        rows, schema={"site": pl.String, "level": pl.Float64, "taken_at": pl.Datetime("us", "UTC")}, orient="row"
    )
    by = ["site", f"taken_at:{span}"]
    made, _ = summed(frame.lazy(), Columns(frame.lazy()), ShowOptions(count_by=by, of="level"))
    groups: dict = {}
    for site, level, at in rows:
        year, week, _ = at.isocalendar()
        called = {"hour": f"{at:%Y-%m-%dT%H}:00Z", "day": f"{at:%Y-%m-%d}", "week": f"{year}-W{week:02}"}[span]
        groups.setdefault((site, called), []).append((at, level))
    assert [row[:2] for row in made.iter_rows()] == sorted(groups)
    for site, called, count, least, most, mean, total, last in made.iter_rows():
        mine = groups[site, called]
        known = [(at, level) for at, level in mine if level is not None]
        levels = [level for _, level in known]
        assert (count, total) == (len(mine), sum(levels))
        assert (least, most) == ((min(levels), max(levels)) if levels else (None, None))
        assert mean == (pytest.approx(sum(levels) / len(levels), rel=1e-5) if levels else None)
        newest = [level for at, level in known if at == max(at for at, _ in known)]
        assert last in newest or (last is None and not known)


@pytest.mark.parametrize(("words", "why"), [
    (["hosts", "--of", "name"], "is text, and no number"),
    (["hosts", "--of", "speeed"], "there is no column"),
    (["hosts", "--count-by", "name:day"], "name is no time"),
    (["hosts", "--count-by", "last_seen:dya"], 'did you mean "day"?'),
])  # fmt: skip
def test_what_cannot_be_summed_up_is_told(pulled, words, why):
    assert why in pulled("show", *words, status=2).stderr


def test_where_nothing_says_when_a_record_was_so_there_is_no_last_value(pulled):
    assert "there is no last value" in pulled("show", "racks", "--of", "units").stderr


def test_references_in_lists_are_names_too(bollard):
    rows = json.loads(bollard("show", "rulesets", "-c", "name,targets,targets_id", "-f", "json").stdout)
    firewalls = bollard.workspace.show("devices", systems=["bollard"]).frame
    names = dict(firewalls.select("record_id", "name").iter_rows())
    assert rows
    assert all([names[one] for one in row["targets_id"]] == row["targets"] for row in rows)
    found = bollard("show", "rulesets", "--where", f"targets = {rows[0]['targets'][0]}", "-f", "json").stdout
    assert [row["name"] for row in json.loads(found)] == [rows[0]["name"]]
    assert "targets_id" not in json.loads(found)[0]


def test_counts_obey_their_limit_and_a_column_is_named_once(pulled):
    assert len(json.loads(pulled("show", "devices", "--count-by", "site", "-n", "2", "-f", "json").stdout)) == 2
    assert "'name' is named twice" in pulled("show", "devices", "-c", "name,site,name", status=2).stderr


def test_what_devices_are_called_acts_on_nothing(pulled, tmp_path):
    names = ["--where", "not name matches '^[a-z0-9 ./()-]*$'", "--columns", "name"]
    table = pulled("show", "devices", *names).stdout
    assert "\\x1b[31mred" in table
    assert "\x1b" not in table
    rows = list(csv.reader(io.StringIO(pulled("show", "devices", *names, "-f", "csv").stdout)))
    assert ["'=1+1"] in rows
    assert not [row for row in rows if row and row[0].startswith("=")]
    assert "\\<b\\>bold" in pulled("show", "devices", *names, "-f", "markdown").stdout
    pulled("show", "devices", *names, "-o", str(tmp_path / "x.xlsx"))
    assert "=1+1" in pl.read_excel(tmp_path / "x.xlsx")["name"].to_list()
    assert json.loads(pulled("show", "devices", "--where", "name = '=1+1'", "-f", "json").stdout)[0]["name"] == "=1+1"


def test_control_signs_are_made_visible_and_letters_are_left():
    assert clean("Fähre ⚓ \x1b]0;x\x07\u202e\n") == "Fähre ⚓ \\x1b]0;x\\x07\\u202e\\n"


def test_an_empty_filter_is_no_filter_that_means_everything(pulled):
    assert "the filter is empty" in pulled("show", "devices", "--where", " ", status=2).stderr


def test_what_was_pulled_is_its_owners_only(pulled):
    """The store, the catalogue and every snapshot."""
    store = pulled.folder / ".concordex"
    assert store.stat().st_mode & 0o777 == 0o700
    files = [path for path in store.rglob("*") if path.is_file() and path.name != ".gitignore"]
    assert files
    assert {path.stat().st_mode & 0o077 for path in files if path.suffix in (".parquet", ".sqlite")} == {0}


ACTING = ("=cmd|'/c x'!A1", "+1-555", "-2", "@SUM(A1)", "\tx", "'=quoted")


def test_what_a_workbook_has_no_room_for_is_told(monkeypatch):
    """Its cells hold 32,767 signs, and what is longer would be left out without a word."""
    with pytest.raises(CalledWrongly, match="note of row 3 has 32,768 characters"):
        inert.to_workbook(pl.DataFrame({"name": ["a", "b"], "note": ["x" * 32_767, "x" * 32_768]}), io.BytesIO())
    monkeypatch.setattr(inert, "_MOST_ROWS", 3)
    inert.to_workbook(pl.DataFrame({"name": ["a", "b"]}), io.BytesIO())
    with pytest.raises(CalledWrongly, match="more than a workbook holds"):
        inert.to_workbook(pl.DataFrame({"name": ["a", "b", "c"]}), io.BytesIO())


@pytest.mark.parametrize("ending", ["csv", "xlsx"])
def test_what_a_spreadsheet_would_run_is_text_and_comes_back_as_it_was(tmp_path, serve, ending):
    """In exports and in the files that a sync writes; what people put into such a file stays as it is."""
    shell, spite = spiteful(tmp_path, serve)
    for at, text in enumerate(ACTING):
        spite.put("devices", label=f"{'=+-@'[at % 4]}lamp-{at}", note=text)
    path = tmp_path / f"x.{ending}"
    shell("pull")
    shell("show", "devices", "-c", "name,comment", "-o", str(path))
    assert does_nothing(path)
    assert "nothing to do" in shell("push", str(path), "--to", "spite", "--table", "devices").stderr
    shell.config(lambda text: text + f"targets: {{out: {{file: 'out.{ending}', columns: {{name: Name}},"
                 " key: name, where: 'name like *lamp*'}}\n")  # fmt: skip
    out = tmp_path / f"out.{ending}"
    if ending == "csv":
        out.write_text("Name,Theirs\nother,=1+1\n")
    shell("reconcile")
    shell("sync", "out", "--yes")
    assert does_nothing(out, but=1 if ending == "csv" else 0)
    assert "nothing to do" in shell("sync", "out").stderr
    if ending == "csv":
        assert "=1+1" in out.read_text().splitlines()[1]


def does_nothing(path, but: int = 0) -> bool:
    """Whether no cell of a file would be run."""
    if path.suffix == ".xlsx":
        with zipfile.ZipFile(path) as packed:
            sheet = packed.read("xl/worksheets/sheet1.xml")
        return b"<f>" not in sheet
    rows = list(csv.reader(io.StringIO(path.read_text())))
    return sum(cell[:1] in set("=+-@\t") for row in rows for cell in row if cell) == but


@settings(max_examples=60)
@given(st.text(st.sampled_from("a1 |<>&;[]()!*_`~#\\@:/.-=w\n"), max_size=30))
def test_nothing_acts_in_markdown(text):
    shown = MarkdownIt("gfm-like", {"linkify": False}).render(f"| x |\n| --- |\n| {in_markdown(f'a{text}b')} |\n")
    assert not re.search(r"<(?!/?(?:table|thead|tbody|tr|th|td|p)\b)", shown)
    inside = html.unescape(re.search(r"<td>(.*?)</td>", shown, re.DOTALL)[1])
    assert " ".join(inside.split()) == " ".join(f"a{text}b".split())
    assert not re.search(r"(?<!\\)!?\[[^\]]*\]\(", in_markdown(text))


@pytest.mark.parametrize(
    "text", ["https://x.example", "www.x.example", "a@b.example", "![x](javascript:1)", "<img src=x>"]
)
def test_no_address_in_markdown_becomes_a_link(text):
    assert text not in in_markdown(text)


def test_one_long_value_does_not_make_every_row_as_long(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve)
    for at in range(50):
        spite.put("devices", label="x" * 900_000 if at == 7 else f"lamp-{at}")
    shell("pull")
    done = shell("show", "devices")
    assert len(done.stdout) < 200_000
    assert "1 cell of more than 1,000 characters cut in the middle" in done.stderr
    assert "x" * 900_000 in shell("show", "devices", "-f", "json").stdout
