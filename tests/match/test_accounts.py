"""What systems say beside each other: coverage, agreement, what moved, two accounts compared; entry numbers."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta

import numpy as np
import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from concordex.match import synonyms
from concordex.match.compare import KINDS
from concordex.match.coverage import coverage, moves
from concordex.match.ids import earlier, number
from concordex.match.sides import side_by_side
from concordex.match.virtual_addresses import of_nobody, settled
from concordex.match.weights import _DEFAULTS
from tests.match.test_reconcile import RULES, frame, rec, reconcile
from tests.stories.test_decisions import lists, lists_once, row

__all__ = ["lists", "lists_once"]  # fixtures

LAW = settings(max_examples=40, deadline=None)
FIELDS = ("name", "site", "ips")


def account(*rows: dict) -> pl.DataFrame:
    schema = {"id": pl.String, "name": pl.String, "site": pl.String, "ips": pl.List(pl.String)}
    return pl.DataFrame([{name: told.get(name) for name in schema} for told in rows], schema=schema)


ACCOUNTS = st.dictionaries(
    st.sampled_from("abcdef"),
    st.fixed_dictionaries(
        {
            "name": st.sampled_from([None, "x", "X", "y"]),
            "site": st.sampled_from([None, "quay", "depot"]),
            "ips": st.sampled_from([None, [], ["1", "2"], ["2", "1"], ["3"]]),
        }
    ),
    max_size=6,
).map(lambda told: account(*({"id": key} | values for key, values in told.items())))


@LAW
@given(ACCOUNTS, ACCOUNTS)
def test_every_device_of_two_accounts_is_told_once_or_field_by_field(here, there):
    told = side_by_side(here, there, ["id"], FIELDS)
    states = dict(told.group_by("id").agg(pl.col("state").unique()).iter_rows())
    assert states.keys() == {*here["id"], *there["id"]}
    assert all(len(found) == 1 for found in states.values())
    assert {key for key, (state,) in states.items() if state == "only here"} == {*here["id"]} - {*there["id"]}
    assert {key for key, (state,) in states.items() if state == "only there"} == {*there["id"]} - {*here["id"]}
    different = told.filter(pl.col("state") == "different")
    assert not different["field"].has_nulls()
    assert different.select("id", "field").is_unique().all()


@LAW
@given(ACCOUNTS, ACCOUNTS)
def test_the_other_way_round_is_the_same_the_other_way_round(here, there):
    turned = {"only here": "only there", "only there": "only here"}
    one = side_by_side(here, there, ["id"], FIELDS)
    two = side_by_side(there, here, ["id"], FIELDS)
    assert sorted(one.select("id", "state", "field", "here", "there").iter_rows(), key=repr) == sorted(
        ((key, turned.get(state, state), field, a, b) for key, state, field, b, a in two.select(
            "id", "state", "field", "here", "there").iter_rows()), key=repr,
    )  # fmt: skip


@LAW
@given(ACCOUNTS)
def test_an_account_beside_itself_is_equal_throughout(here):
    assert set(side_by_side(here, here, ["id"], FIELDS)["state"]) <= {"equal"}


def test_case_and_order_make_no_difference_and_silence_is_none():
    here = account({"id": "a", "name": "X", "ips": ["1", "2"]}, {"id": "b", "name": "x", "site": "quay"})
    there = account({"id": "a", "name": "x", "ips": ["2", "1"]}, {"id": "b", "name": "y"})
    told = side_by_side(here, there, ["id"], FIELDS)
    assert told.select("state", "id", "field", "here", "there").rows() == [
        ("different", "b", "name", "x", "y"), ("equal", "a", None, None, None),
    ]  # fmt: skip


def test_coverage_agreement_and_scope():
    rows = [
        rec("net", "1", serial="AAAA1111", site="quay", kind="switch"),
        rec("inv", "1", serial="AAAA1111", site="depot", kind="switch"),
        rec("net", "2", serial="BBBB2222", site="quay", kind="router"),
        rec("end", "3", serial="CCCC3333", kind="laptop"),
        rec("inv", "3", serial="CCCC3333", kind="laptop"),
        rec("inv", "4", serial="DDDD4444"),
    ]
    made = reconcile(frame(*rows), RULES)
    told = coverage(made.members, made.entries, {"inv": pl.col("kind").is_in(["switch", "router"])}, made.agreement)
    assert {name: (one["records"], one["entries"], one["only_here"]) for name, one in told.items()} == {
        "net": (2, 2, 1), "end": (1, 1, 0), "inv": (3, 3, 1),
    }  # fmt: skip
    assert (told["inv"]["due"], told["inv"]["due_known"]) == (2, 1)
    assert "due" not in told["net"]
    assert told["end"]["agreement"] == 1
    assert told["net"]["agreement"] == pytest.approx(2 / 3)  # serial and kind, not the site
    assert told["inv"]["agreement"] == pytest.approx(4 / 5)


def test_what_moved_is_counted_by_entry_and_record():
    first = reconcile(frame(rec("net", "1", serial="AAAA1111"), rec("inv", "2", serial="BBBB2222")), RULES)
    rows = [rec("net", "1", serial="AAAA1111"), rec("inv", "2", serial="AAAA1111"), rec("inv", "9", serial="EEEE5555")]
    second = reconcile(frame(*rows), RULES, first.members)
    assert second.was is not None
    assert moves(second.was, second.members["entry"], first.members["entry"]) == {
        "entries new": 1, "entries gone": 1, "records new": 1, "records moved to another entry": 1,
    }  # fmt: skip
    assert moves(second.members["entry"], second.members["entry"], second.members["entry"]) == {}


GROUPS = st.dictionaries(st.integers(0, 12), st.integers(0, 5), min_size=1, max_size=10)


@LAW
@given(GROUPS, GROUPS)
def test_entries_keep_their_numbers_and_no_number_means_two(before, now):
    def told(groups: dict[int, int]) -> pl.DataFrame:
        keys = [str(key) for key in groups]
        return pl.DataFrame({"system": ["net"] * len(keys), "record_id": keys, "group": [*groups.values()]})

    first = told(before)
    first = first.with_columns(number(first["group"]).alias("entry"))
    second = told(now)
    second = second.with_columns(number(second["group"], earlier(second, first), first["entry"]).alias("entry"))
    pairs = second.select("group", "entry").unique()
    assert pairs["group"].is_unique().all()
    assert pairs["entry"].is_unique().all()
    fresh = [int(entry[1:]) for entry in set(second["entry"]) - set(first["entry"])]
    assert not fresh or min(fresh) > max(int(entry[1:]) for entry in first["entry"])
    again = told(before)
    assert number(again["group"], earlier(again, first), first["entry"]).to_list() == first["entry"].to_list()


def test_words_are_learned_from_pairs_and_new_ones_are_themselves():
    said = pl.Series([word for at in range(8) for word in [f"s{at}", f"Berth {'ABCDEFGH'[at]}"] * 20])
    a = np.arange(0, 320, 2)
    words = synonyms.learn(said, pl.Series(["net", "inv"] * 160), a, a + 1)
    told = pl.Series(["S1", "berth-b", "s2", "pier", "Pier", None])
    one = words.of(told)
    assert one.levels(np.array([0, 0, 0, 3, 0, 0]), np.array([1, 2, 0, 4, 3, 5])).tolist() == [
        synonyms.TOGETHER, synonyms.OPPOSED, synonyms.TOGETHER, synonyms.TOGETHER, synonyms.UNKNOWN, synonyms.UNKNOWN,
    ]  # fmt: skip
    kept = synonyms.Words.of_frames("site", *words.frames("site")).of(told)
    every = np.repeat(np.arange(6), 6), np.tile(np.arange(6), 6)
    assert kept.levels(*every).tolist() == one.levels(*every).tolist()


def test_the_past_of_a_device_tells_what_came_what_changed_and_what_went(lists):
    said = {"id": "1", "name": "sw-1", "serial": "AAAA1111", "site": "quay"}
    for change in ({"os": "1.2"}, {"os": "1.3"}, {"os": "1.3", "mac": "0c:b1:00:00:00:07"}, None, {"os": "1.4"}):
        lists.say("net", *([] if change is None else [row(**said, **change)]), row(id="2", name="sw-2"))
        lists("pull", "net")
    lists("reconcile")
    past = json.loads(lists("explain", "net/1", "--history", "-f", "json").stdout)[0]["history"]
    mine = [event for event in past if event["record"] == "net/1"]
    assert [(e["what"], e["before"], e["after"]) for e in mine if e["what"] != "now"] == [
        ("first pulled", None, "quay"), ("upgraded", None, "1.2"), ("upgraded", "1.2", "1.3"),
        ("changed", None, ["0c:b1:00:00:00:07"]), ("gone", None, None), ("appeared", None, "quay"),
    ]  # fmt: skip
    moments = [datetime.fromisoformat(event["when"]) for event in mine]
    assert moments == sorted(moments)
    assert datetime.now(UTC) - moments[-1] < timedelta(minutes=10)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("of", [0, 1])
def test_what_is_believed_of_a_kind_before_any_data_is_all_that_may_be_seen_of_it(kind, of):
    """A chance for each of its levels, and together a hundred hundredths: of one device, and of two."""
    assert len(_DEFAULTS[kind][of]) == len(KINDS[kind])
    assert sum(_DEFAULTS[kind][of]) == pytest.approx(100)


def shown(*rows: tuple[str, list[str] | None, list[str], int, str | None]) -> pl.DataFrame:
    """Records by entry: their cards, addresses, hours and serials."""
    schema = {"entry": pl.String, "macs": pl.List(pl.String), "ips": pl.List(pl.String), "last_seen": pl.Datetime,
              "serial_key": pl.String}  # fmt: skip
    rows = [(entry, macs, ips, datetime(2026, 11, 23, hour), serial) for entry, macs, ips, hour, serial in rows]
    nothing = [pl.lit(None, dtype=pl.String).alias(key) for key in ("uuid_key", "tag_key")]
    return pl.DataFrame(rows, schema=schema, orient="row").with_columns(nothing).with_row_index("row")


ROUTER, CARD = "00:00:5e:00:01:07", "00:11:22:33:44:55"


def test_an_entry_is_an_address_that_floats_where_its_records_show_virtual_routers_alone():
    records = shown(
        ("E1", [ROUTER], ["10.0.0.1"], 1, None), ("E1", [ROUTER], ["10.0.0.2", "10.0.0.1"], 2, None),
        ("E2", [ROUTER], ["10.0.0.3"], 1, None), ("E2", [], ["10.0.0.3"], 1, None),
        ("E3", [ROUTER, CARD], [], 1, None), ("E4", [ROUTER], [], 1, "S1"), ("E5", [CARD], [], 1, None),
        ("E6", [ROUTER], [], 1, None), ("E6", None, [], 1, None),
    )  # fmt: skip
    assert of_nobody(records).rows() == [("E1", ROUTER, ["10.0.0.1", "10.0.0.2"])]


def test_an_address_that_several_show_is_of_whoever_showed_it_last():
    records = shown(
        ("E1", [ROUTER, CARD], ["10.0.0.1", "10.0.0.8"], 1, None), ("E2", [CARD, ROUTER], ["10.0.0.1"], 2, None),
        ("E3", [CARD], ["10.0.0.1"], 3, None), ("E4", ["00:00:5e:00:02:07"], ["10.0.0.1"], 4, None),
        ("E5", None, ["10.0.0.9"], 5, None),
    )  # fmt: skip
    mine = settled(records).select("macs", "ips").rows()
    assert mine == [
        ([CARD], ["10.0.0.8"]), ([CARD], ["10.0.0.1"]), ([CARD], ["10.0.0.1"]), ([], ["10.0.0.1"]), (None, ["10.0.0.9"])
    ]  # fmt: skip
