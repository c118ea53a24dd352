"""Which records are one device: right where evidence exists, silent where it does not."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
import polars as pl
import pytest
from benchmarks.fleets import LEVELS, fleet
from benchmarks.scores import joined, scores
from benchmarks.worlds import INVENTORIES, MANAGERS, SYSTEMS, world
from hypothesis import given, settings
from hypothesis import strategies as st
from polars.testing import assert_frame_equal

from concordex.match import sidebyside
from concordex.match.cluster import Pairs, gather
from concordex.match.compare import KINDS, levels
from concordex.match.concordance import PARTS, Rules, prints_of, reconcile
from concordex.match.finding import Scope
from concordex.match.frequencies import frequencies
from concordex.match.identity import identities
from concordex.match.incremental import reconcile_again
from concordex.match.learned import Learned
from concordex.match.link import sayings
from concordex.match.merge import Choose
from concordex.match.rulings import Rulings
from concordex.match.sorting import argsorted, distinct
from concordex.match.strays import put_aside
from concordex.match.weights import learn
from concordex.match.whynot import why_apart
from concordex.model.fields import FIELDS
from concordex.standins.score import score
from tests.conftest import THREE

NOW = datetime(2026, 11, 23, tzinfo=UTC)
RULES = Rules(
    order=["net", "end", "inv"], by_field={"site": ["inv"]}, placeholders=["SPARE-UNIT"],
    scope=Scope(inventories=["inv"], managers=["net", "end"], all_managers=True, stale_before=NOW),
)  # fmt: skip


def frame(*rows: dict) -> pl.DataFrame:
    """Records: what is not said is missing."""
    schema = {"system": pl.String(), "reference": pl.String(), **{n: t.dtype for n, t in FIELDS.items()}}
    return pl.DataFrame([{name: row.get(name) for name in schema} for row in rows], schema=schema)


def rec(system: str, record_id: str, **said) -> dict:
    return {"system": system, "record_id": record_id, **said}


def groups(*rows: dict) -> set[frozenset[str]]:
    """Which records were called one device."""
    members = reconcile(frame(*rows), RULES).members
    grouped = members.group_by("entry").agg(pl.format("{}/{}", "system", "record_id").alias("names"))
    return {frozenset(names) for names in grouped["names"]}


CARD, OTHER = "0c:b1:00:00:00:01", "0c:b1:00:00:00:02"


def together(*rows: dict) -> bool:
    return len(groups(*rows)) == 1


def test_a_serial_links_whatever_its_writing():
    assert together(rec("net", "1", serial="ab-12 345"), rec("inv", "2", serial="AB12345", name="x"))


def test_a_serial_that_means_nothing_links_nobody():
    for serial in ("N/A", "0000000000", "To be filled", "System Serial Number", "xxxxxxxx", "12", "spare unit"):
        assert not together(rec("net", "1", serial=serial), rec("inv", "2", serial=serial)), serial


def test_a_serial_that_many_records_of_a_system_bear_links_nobody():
    rows = [rec("net", str(at), serial="QQ77777", name=f"n{at}") for at in range(3)]
    assert len(groups(*rows, rec("inv", "9", serial="QQ77777"))) == 4


def test_a_card_of_its_own_links_and_a_made_up_or_shared_one_does_not():
    assert together(rec("net", "1", macs=[CARD]), rec("end", "2", macs=[OTHER, CARD]))
    local, router = "52:00:00:00:00:01", "00:00:5e:00:01:07"
    assert not together(rec("net", "1", macs=[local]), rec("end", "2", macs=[local]))
    drawn = "d6:31:9c:4e:a7:10"
    assert together(rec("net", "1", macs=[drawn]), rec("end", "2", macs=[drawn]))
    assert not together(rec("net", "1", macs=[router]), rec("end", "2", macs=[router]))
    dock = [rec("end", "1", macs=[CARD], serial="AA1111"), rec("end", "2", macs=[CARD], serial="BB2222")]
    assert len(groups(*dock, rec("net", "3", macs=[CARD]))) == 3


def test_a_card_does_not_link_what_serials_hold_apart_save_by_one_typing_error():
    assert not together(
        rec("net", "1", macs=[CARD], serial="AAAA1111"), rec("inv", "2", macs=[CARD], serial="BBBB2222")
    )
    assert together(rec("net", "1", macs=[CARD], serial="AAAA1211"), rec("inv", "2", macs=[CARD], serial="AAAA1121"))


def test_a_name_links_only_where_nothing_speaks_against_it():
    assert together(rec("net", "1", name="SW-1.ferries.example"), rec("inv", "2", name="sw-1 "))
    assert not together(
        rec("net", "1", name="sw-1", serial="AAAA1111"), rec("inv", "2", name="sw-1", serial="BBBB2222")
    )
    assert not together(rec("net", "1", name="x", kind="switch"), rec("inv", "2", name="x", kind="laptop"))
    stack = [rec("net", "1", name="sw-1", serial="AAAA1111"), rec("net", "2", name="sw-1", serial="BBBB2222")]
    assert len(groups(*stack, rec("inv", "3", name="sw-1"))) == 3


def test_a_name_that_one_device_bears_twice_in_a_system_still_links():
    twice = [rec("end", "1", serial="AAAA1111", name="lt"), rec("end", "2", serial="AAAA1111", name="lt")]
    assert together(*twice, rec("net", "3", name="lt"))


def test_within_a_system_only_an_enrolment_repeated_is_one_device():
    assert together(rec("end", "1", serial="AAAA1111", name="lt"), rec("end", "2", serial="AAAA1111", name="lt"))
    assert not together(
        rec("end", "1", serial="AAAA1111", name="lt-1"), rec("end", "2", serial="AAAA1111", name="kiosk")
    )
    assert not together(rec("end", "1", name="lt"), rec("end", "2", name="lt"))


def test_a_reference_links():
    assert together(rec("end", "1", name="x"), rec("inv", "2", name="y", reference="end/1"))


def test_the_last_of_all_records_joins_the_better_of_two():
    rows = [rec("end", "1", serial="AAAA1111", macs=[CARD], name="x"), rec("end", "2", name="sw-1")]
    last = rec("net", "3", serial="AAAA1111", name="sw-1", macs=[CARD])
    assert groups(*rows, last) == {frozenset({"end/1", "net/3"}), frozenset({"end/2"})}


def test_a_chain_that_would_join_two_serials_is_cut_at_its_weakest_link():
    rows = [
        rec("net", "1", serial="AAAA1111", macs=[CARD]),
        rec("inv", "2", name="sw-1", macs=[CARD]),
        rec("end", "3", serial="BBBB2222", name="sw-1"),
    ]
    assert groups(*rows) == {frozenset({"net/1", "inv/2"}), frozenset({"end/3"})}


RECORDS = st.lists(
    st.fixed_dictionaries(
        {
            "system": st.sampled_from(["net", "end", "inv"]),
            "serial": st.sampled_from([None, "AAAA1111", "AAAA1112", "BBBB2222", "n/a"]),
            "name": st.sampled_from([None, "sw-1", "SW-1.x.example", "lt-2"]),
            "macs": st.lists(st.sampled_from([CARD, OTHER, "52:00:00:00:00:01"]), max_size=2, unique=True),
        }
    ),
    min_size=1,
    max_size=9,
).map(lambda rows: [row | {"record_id": str(at)} for at, row in enumerate(rows)])


LAW = settings(max_examples=8, deadline=None)


def refs(made) -> dict[str, str]:
    """The entry of each record."""
    return dict(made.members.select(pl.format("{}/{}", "system", "record_id"), "entry").iter_rows())


@LAW
@given(RECORDS, st.randoms())
def test_the_order_of_records_does_not_matter(rows, random):
    shuffled = rows.copy()
    random.shuffle(shuffled)
    a, b = reconcile(frame(*rows), RULES), reconcile(frame(*shuffled), RULES)
    assert a.entries.equals(b.entries)
    assert a.findings.equals(b.findings)


@LAW
@given(RECORDS)
def test_reconciling_twice_is_reconciling_once(rows):
    once = reconcile(frame(*rows), RULES)
    reconcile_again = reconcile(frame(*rows), RULES, once.members.select("system", "record_id", "entry"))
    assert once.entries.equals(reconcile_again.entries)


@LAW
@given(RECORDS, st.sets(st.tuples(st.integers(0, 8), st.integers(0, 8)), max_size=3), st.booleans())
def test_no_entry_holds_two_records_ruled_apart_and_same_is_obeyed_where_apart_allows(rows, pairs, first):
    names = [f"{row['system']}/{row['record_id']}" for row in rows]
    ruled = [(names[a], names[b]) for a, b in sorted(pairs) if a < b < len(names)]
    apart, same = (ruled[:1], ruled[1:]) if first else (ruled[1:], ruled[:1])
    made = reconcile(frame(*rows), replace(RULES, rulings=Rulings(same=same, apart=apart)))
    entry = refs(made)
    assert all(entry[a] != entry[b] for a, b in apart)
    broken = made.findings.filter(pl.col("kind") == "ruling_contradicted").height
    assert broken or all(entry[a] == entry[b] for a, b in same)


@LAW
@given(RECORDS, RECORDS)
def test_a_ruling_changes_nothing_outside_its_reach(rows, others):
    far = [row | {"record_id": f"x{row['record_id']}", "name": None, "macs": []} for row in others]
    far = [row | {"serial": f"ZZ{row['serial']}99"} if row["serial"] else row for row in far]
    ruled = [(f"{row['system']}/{row['record_id']}" for row in rows[:2])] if len(rows) > 1 else []
    plain = reconcile(frame(*rows, *far), RULES)
    told = reconcile(frame(*rows, *far), replace(RULES, rulings=Rulings(apart=[tuple(pair) for pair in ruled])))
    groups = [
        {
            frozenset(ref for ref, held in refs(made).items() if held == entry and "/x" in ref)
            for entry in refs(made).values()
        }
        for made in (plain, told)
    ]
    assert groups[0] == groups[1]


def assert_same(made, other):
    """Two concordances are one, to the last bit of evidence."""
    for part in PARTS:
        assert_frame_equal(getattr(made, part), getattr(other, part), check_exact=False, abs_tol=1e-4)


@LAW
@given(RECORDS, RECORDS, st.sets(st.integers(0, 8), max_size=4), st.sets(st.integers(0, 8), max_size=2), st.data())
def test_looking_only_at_what_changed_gives_what_looking_at_all_gives(rows, others, changed, gone, data):
    names = [f"{row['system']}/{row['record_id']}" for row in rows]
    told = [
        Rulings(apart=[(a, b)] if a != b else [], values=[(a, "site", "quay")][: data.draw(st.integers(0, 1))])
        for a, b in data.draw(st.lists(st.tuples(*[st.sampled_from(names)] * 2), min_size=2, max_size=2))
    ]
    last = reconcile(frame(*rows), replace(RULES, rulings=told[0]))
    now = [
        others[at] | {"record_id": row["record_id"], "system": row["system"]}
        if at in changed and at < len(others)
        else row
        for at, row in enumerate(rows)
        if at not in gone
    ]
    now += [row | {"record_id": f"n{row['record_id']}"} for row in others[: data.draw(st.integers(0, 2))]]
    rules = replace(RULES, rulings=told[1])
    looked = reconcile_again(frame(*now), rules, last, most=99) if now else None
    assert looked or not now
    if looked:
        assert_same(looked, reconcile(frame(*now), rules, last.members, learned=last.learned))


def test_of_a_fleet_only_what_changed_is_looked_at():
    records = fleet(600, LEVELS["high"], seed=4)
    rng = records.sample(fraction=0.01, seed=5).select("system", "record_id")
    other = records.join(rng, on=["system", "record_id"], how="semi").with_columns(pl.lit("elsewhere").alias("site"))
    moved = records.join(rng, on=["system", "record_id"], how="anti")
    now = pl.concat([moved.slice(5), other.with_columns(pl.col("name").shift(1)), other.tail(3).with_columns(
        pl.format("new{}", "record_id").alias("record_id"))])  # fmt: skip
    last = reconcile(records)
    looked = reconcile_again(now, Rules(), last)
    assert 0 < looked.looked_at < now.height / 2
    assert_same(looked, reconcile(now, Rules(), last.members, learned=last.learned))
    kept = Learned.of_frames(last.learned.frames())
    assert_same(looked, reconcile(now, Rules(), last.members, learned=kept))
    assert reconcile_again(now.with_columns(pl.col("name") + "x"), Rules(), last) is None  # too much to be worth it


@LAW
@given(RECORDS)
def test_a_name_alone_never_joins_two_serials_that_are_not_one_typing_error_apart(rows):
    members = reconcile(frame(*(row | {"macs": []} for row in rows)), RULES).members
    serials = members.group_by("entry").agg(pl.col("serial_key").drop_nulls().unique())["serial_key"]
    assert not [found for found in serials if {"AAAA1111", "BBBB2222"} <= set(found)]


def test_an_entry_keeps_its_number_when_records_come_and_go():
    first = reconcile(frame(rec("net", "5", serial="AAAA1111"), rec("net", "7", serial="BBBB2222")), RULES)
    before = first.members.select("system", "record_id", "entry")
    rows = [rec("end", "1", serial="CCCC3333"), rec("inv", "0", serial="BBBB2222"), rec("net", "7", serial="BBBB2222")]
    second = reconcile(frame(*rows), RULES, before)
    numbers = dict(second.members.select(pl.format("{}/{}", "system", "record_id"), "entry").iter_rows())
    assert numbers == {"end/1": "E00003", "inv/0": "E00002", "net/7": "E00002"}


def test_each_value_comes_from_the_system_that_is_preferred_for_it():
    rows = [
        rec("net", "1", serial="AAAA1111", name="sw-1", site="saltpan", macs=[CARD]),
        rec("inv", "2", serial="aaaa1111", name="SW-1", site="fishgate", asset_tag="SF1", macs=[OTHER]),
    ]
    made = reconcile(frame(*rows), RULES)
    (entry,) = made.entries.to_dicts()
    (source,) = made.sources.to_dicts()
    assert (entry["name"], entry["site"], entry["asset_tag"]) == ("sw-1", "fishgate", "SF1")
    assert sorted(entry["macs"]) == [CARD, OTHER]
    systems = made.members["system"].to_list()
    assert [systems[source[name]] for name in ("name", "site", "asset_tag")] == ["net", "inv", "inv"]


def kinds(made) -> set[tuple[str, str | None]]:
    return set(made.findings.select("kind", "field").iter_rows())


def test_findings_say_what_to_look_at():
    old = datetime(2026, 1, 1, tzinfo=UTC)
    rows = [
        rec("net", "1", serial="AAAA1111", name="rt-1", model="X", last_seen=old),
        rec("inv", "1", serial="AAAA1111", name="rt-1", model="Y"),
        rec("inv", "2", serial="BBBB2222", name="rt-2"),
        rec("net", "2", serial="CCCC3333", name="rt-2"),
        rec("end", "3", name="phone"),
        rec("inv", "3", serial="DDDD4444", name="a"),
        rec("inv", "4", serial="DDDD4444", name="a (old)"),
    ]
    assert kinds(reconcile(frame(*rows), RULES)) == {
        ("conflict", "model"), ("stale", None), ("replaced", None), ("missing_in_inventory", None),
        ("missing_at_managers", None), ("badly_identified", None), ("duplicate", None),
    }  # fmt: skip


def test_what_may_be_there_under_another_name_is_not_called_missing_until_somebody_rules():
    rows = [
        rec("net", "1", name="core-a", macs=["00:1b:21:00:00:07"], ips=["10.9.9.9"]),
        rec("inv", "1", name="stage-b", serial="ZZZZ9999", ips=["10.9.9.9"]),
    ]
    made = reconcile(frame(*rows), RULES)
    (told,) = made.findings.filter(pl.col("kind") != "badly_identified").to_dicts()
    assert (told["kind"], told["about"]) == ("look_alike", "inv")
    assert "(stage-b) has the same address" in told["seen"]
    ruled = reconcile(frame(*rows), replace(RULES, rulings=Rulings(apart=[("net/1", "inv/1")])))
    assert kinds(ruled) == {("missing_in_inventory", None), ("missing_at_managers", None)}


def test_a_name_alone_does_not_hide_that_something_is_missing_and_is_told_beside_it():
    rows = [
        rec("net", "1", name="core-a", macs=["00:1b:21:00:00:07"], kind="phone", maker="Q"),
        rec("inv", "1", name="core-a", serial="ZZZZ9999", kind="server", maker="P"),
    ]
    found = reconcile(frame(*rows), RULES).findings
    by_kind = {row["kind"]: row for row in found.to_dicts()}
    told = by_kind["missing_in_inventory"]
    assert (told["about"], told["resembles"]) == ("inv", by_kind["missing_at_managers"]["entry"])
    assert told["seen"].endswith(f"; {told['resembles']} (core-a) has the same name")
    assert by_kind["missing_at_managers"]["resembles"] == told["entry"]
    assert "look_alike" not in by_kind


COPIED = "564d0000-0000-0000-0000-000000000001"


def test_where_one_look_alike_is_likely_the_others_are_no_reason_to_call_it_missing():
    rows = [
        rec("net", "1", name="core-a", serial="AAAA1111", uuid=COPIED, ips=["10.9.9.9"]),
        rec("inv", "1", name="mast-c", serial="ZZZZ9999", ips=["10.9.9.9"]),
        rec("inv", "2", name="stage-b", serial="YYYY8888", uuid=COPIED),
    ]
    found = reconcile(frame(*rows), RULES).findings.filter(pl.col("about") == "inv")
    (told,) = found.to_dicts()
    assert told["kind"] == "look_alike" and told["seen"].endswith("(mast-c) has the same address")


def test_an_address_that_floats_is_no_device_and_missing_nowhere():
    router = "00:00:5e:00:01:0a"
    rows = [
        rec("net", "1", name="fw-1", serial="AAAA1111", macs=["00:1b:21:00:00:07", router], ips=["10.9.9.2"]),
        rec("inv", "1", name="fw-1", serial="AAAA1111"),
        rec("end", "9", name="gw-quay", macs=[router], ips=["10.9.9.1"]),
    ]
    (told,) = reconcile(frame(*rows), RULES).findings.to_dicts()
    assert (told["kind"], told["seen"]) == ("floating", f"10.9.9.1 of the virtual router {router}")


def test_absence_is_believed_only_from_what_is_whole():
    rows = [rec("net", "1", serial="AAAA1111"), rec("inv", "2", serial="BBBB2222")]
    scope = Scope(inventories=[], managers=["net"], all_managers=False, stale_before=NOW)
    for some in (scope, replace(scope, inventories=["inv"])):  # of the managers one may know it, and is not whole
        made = reconcile(frame(*rows), Rules(order=RULES.order, by_field={}, scope=some))
        assert ("missing_at_managers", None) not in kinds(made)
        assert (("missing_in_inventory", None) in kinds(made)) is (some is not scope)


def test_systems_that_sight_devices_are_known_and_their_records_find_their_device():
    """Leases, sessions and probes hold several records of one, most without a serial and many without a name."""
    records = world(1_500, "high", 1)
    scope = Scope(inventories=INVENTORIES, managers=MANAGERS, all_managers=True, stale_before=NOW)
    rules = Rules(order=SYSTEMS, scope=scope)
    plain = records.drop("device", "case")
    made = reconcile(plain, rules)
    assert made.learned.sighting == ["leases", "probes", "sessions"]
    keys = ["system", "record_id"]
    told = made.members.select(*keys, "entry").join(records.select(*keys, "device"), on=keys)
    found, guarded = scores(told), scores(records.with_columns(joined(records, "guarded").alias("entry")))
    assert found["precision"] > 0.97
    assert found["F1"] > 0.93
    assert found["F1"] > guarded["F1"] + 0.1
    doubled = made.findings.filter(pl.col("kind") == "duplicate")["about"].unique()
    assert not {*doubled} & {*made.learned.sighting}
    lacking = made.findings.filter(pl.col("kind") == "missing_in_inventory")["systems"]
    assert all({*systems} - {*made.learned.sighting} for systems in lacking)
    shuffled = reconcile(plain.sample(fraction=1.0, shuffle=True, seed=3), rules)
    assert_frame_equal(shuffled.members.select(*keys, "entry"), made.members.select(*keys, "entry"))
    chance = np.random.default_rng(5).random((3, plain.height))
    moved = plain.with_columns(
        pl.when(pl.Series(chance[0] < 0.01))
        .then(pl.lit(plain["user"].drop_nulls()[0]))
        .otherwise("user")
        .alias("user"),
        pl.when(pl.Series(chance[1] < 0.01)).then(pl.col("macs").shift(9)).otherwise("macs").alias("macs"),
    ).filter(pl.Series(chance[2] > 0.01))
    assert_same(reconcile_again(moved, rules, made), reconcile(moved, rules, made.members, learned=made.learned))


def test_somebody_at_a_dock_is_at_the_machine_that_is_known_there_and_as_his():
    dock, own = "5c:8f:e0:00:00:11", "14:4c:10:00:00:0{}"
    machines = [
        rec("end", f"{at}", serial=f"QX7719{at}4", name=f"lt-{at}", macs=[own.format(at), dock]) for at in (1, 2)
    ]
    cards = [
        rec("inv", f"{at}", serial=f"QX7719{at}4", name=f"lt-{at}", user=user) for at, user in ((1, "ann"), (2, "bo"))
    ]
    sight = rec("net", "9", macs=[dock], user="ann")
    assert {"end/1", "inv/1", "net/9"} in groups(*machines, *cards, sight)
    both = [card | {"user": "ann"} for card in cards]
    assert {"net/9"} in groups(*machines, *both, sight)
    made = reconcile(frame(*machines, *both, sight), RULES)
    for now in ([*machines, *cards, sight], [*machines, *both]):
        assert_same(
            reconcile_again(frame(*now), RULES, made, most=1),
            reconcile(frame(*now), RULES, made.members, learned=made.learned),
        )


def test_what_managers_only_saw_is_not_managed_and_what_says_too_little_is_not_called_missing():
    rows = [rec("inv", f"{at}", serial=f"QX7719{at}4", name=f"lt-{at}") for at in range(12)]
    rows += [rec("net", f"{at}", serial=f"QX7719{at}4", name=f"lt-{at}") for at in range(4)]
    cards = [f"14:4c:10:00:00:{at:02x}" for at in range(30)]
    rows += [rec("end", f"s{at}{turn}", name=f"seen-{at}", macs=[cards[at]]) for at in range(12) for turn in range(2)]
    rows += [rec("inv", "seen", serial="ZZ88123", name="seen-1", macs=[cards[1]]), rec("inv", "bare", name="who")]
    made = reconcile(frame(*rows), RULES)
    assert made.learned.sighting == ["end"]
    found = made.findings.join(made.members.filter(pl.col("system") == "inv").select("entry", "record_id"), on="entry")
    told = {kind: {*part["record_id"]} for (kind,), part in found.group_by("kind")}
    assert told["missing_at_managers"] == {"seen", *map(str, range(4, 12))}
    assert told["little_known"] == {"bare"}
    assert found.filter(kind="missing_at_managers", record_id="seen")["seen"][0].endswith("; end only saw it")
    bought = [row | {"name": None} for row in rows[:12]]  # a list of purchases says no more of anything
    assert ("little_known", None) not in kinds(reconcile(frame(*bought), RULES))
    assert reconcile(frame(*bought), RULES).findings.filter(kind="missing_at_managers").height == 12


def test_a_dock_that_many_use_makes_no_system_one_of_sights():
    """Nor is one card at many machines one machine that is seen often."""
    docks = [f"5c:8f:e0:00:00:{at:02x}" for at in range(20)]
    rows = [
        rec("end", f"{at}", serial=f"QX77{at:03}4", macs=[f"14:4c:10:00:00:{at:02x}", docks[at // 5]])
        for at in range(100)
    ]
    rows += [rec("net", f"{at}", name=f"lt-{at}", macs=[docks[at // 5]]) for at in range(100)]
    assert not reconcile(frame(*rows), RULES).learned.sighting


@LAW
@given(st.lists(st.integers(-(2**63), 2**63 - 1) | st.integers(-9, 9) | st.integers(2**62, 2**62 + 9), max_size=60))
def test_numbers_are_sorted_as_they_stand_though_they_be_alike_but_for_the_lowest_bits(values):
    said = np.array(values, dtype=np.int64)
    assert argsorted(said).tolist() == np.argsort(said, kind="stable").tolist()
    assert distinct(said).tolist() == np.unique(said).tolist()


def test_a_serial_in_two_entries_is_told_and_words_for_one_place_are_no_conflict():
    rows = [rec("net", f"n{at}", serial=f"QX{at:05}7", name=f"sw-{at}", site="q7") for at in range(80)]
    rows += [rec("inv", f"i{at}", serial=f"QX{at:05}7", name=f"sw-{at}", site="Quay Seven") for at in range(80)]
    rows += [rec("net", "a", serial="ZZ99999", uuid="1" * 32, name="one"),
             rec("inv", "b", serial="ZZ99999", uuid="2" * 32, name="other")]  # fmt: skip
    made = reconcile(frame(*rows), RULES)
    assert not made.findings.filter(pl.col("kind") == "conflict", pl.col("field") == "site").height
    assert made.members.filter(pl.col("record_id").is_in(["a", "b"]))["entry"].n_unique() == 2
    (told,) = made.findings.filter(pl.col("kind") == "serial_in_two")["seen"]
    assert told.endswith("; another name, UUID")


def test_the_demo_fleet_is_reconciled_rightly(pulled, shared_harbour):
    lines = pulled("show", "records", "--columns", "system,record_id,entry", "--format", "ndjson").stdout.splitlines()
    found = {(row["system"], row["record_id"]): row["entry"] for row in map(json.loads, lines)}
    truth = {record: device for record, device in shared_harbour.accounts.truth.items() if record[0] in THREE}
    assert found.keys() == truth.keys()
    result = score(found, truth)
    assert result.precision >= 0.99
    assert result.recall >= 0.9


def test_a_partial_pull_is_said_and_nothing_is_missing_because_of_it(shell, harbour):
    harbour.stowage.faults.add("short", "/v2/gear")
    shell("pull", status=4)
    done = shell("reconcile")
    assert "stowage is partial" in done.stderr
    found = shell.workspace.findings()
    assert "missing_in_inventory" not in found["kind"].to_list()
    assert "nothing is prepared on that" in shell("sync", "stowage", status=2).stderr


def test_explain_shows_records_evidence_sources_and_findings(pulled, shared_harbour):
    device = next(r for r in shared_harbour.accounts.muster if len(r["serialNo"] or "") == 12 and r["owner"])
    for known_as in (device["serialNo"], device["deviceId"], device["serialNo"].lower()):
        text = pulled("explain", known_as).stdout
        assert device["deviceId"] in text
        assert "What it is, and who says so" in text
    (told,) = json.loads(pulled("explain", device["serialNo"], "-f", "json").stdout)
    assert any(record["record_id"] == device["deviceId"] for record in told["records"])
    sources = {value["field"]: value["source"] for value in told["values"]}
    assert sources["user"].startswith("muster/")
    for link in told["links"]:
        assert link["because"]


def test_findings_are_filtered_counted_and_told_by_the_exit_status(pulled):
    everything = json.loads(pulled("findings", "-f", "json", status=3).stdout)
    grave = json.loads(pulled("findings", "--where", "severity = high", "-f", "json", status=3).stdout)
    assert grave == [row for row in everything if row["severity"] == "high"]
    counts = json.loads(pulled("findings", "--count", "-f", "json", status=3).stdout)
    assert sum(row["count"] for row in counts) == len(everything)
    assert pulled("findings", "--where", "name = nobody", status=0).stdout.splitlines()[1:] == []


def test_a_noisy_fleet_is_put_together_better_than_by_a_join():
    records = fleet(4_000, LEVELS["middle"], seed=11)
    made = reconcile(records)
    found = made.members.select("entry", "device", "case")
    ours, plain = scores(found), scores(records.with_columns(joined(records, "guarded").alias("entry")))
    assert ours["precision"] >= 0.99
    assert ours["F1"] >= 0.97
    assert ours["B-cubed F1"] >= 0.98
    assert ours["F1"] > plain["F1"] + 0.04
    learned = dict(
        made.learned.weights.frame()
        .filter(pl.col("class") == 0, pl.col("level") == 1)
        .select("kind", "weight")
        .iter_rows()
    )
    assert learned["serial"] > learned["name"] > learned["kind"]


def test_words_that_go_together_are_learned_and_optional_prefixes_come_off():
    rows = [
        rec(
            system, str(at), serial=f"{'LN' if system == 'inv' else ''}{at:04}77QX", site=site.format(at % 7), model="X"
        )
        for at in range(120)
        for system, site in (("net", "s{}"), ("inv", "Berth {}"))
    ]
    made = reconcile(frame(*rows), RULES)
    entry = refs(made)
    assert all(entry[f"net/{at}"] == entry[f"inv/{at}"] for at in range(120))
    assert made.entries.height == 120
    assert set(made.evidence["site"]) == {KINDS["site"].index("together") + 1}


def test_a_prefix_that_few_records_drop_comes_off_where_names_say_so_and_not_where_they_say_otherwise():
    """One in twenty leaves it out; by chance another maker may number as this one does without it."""
    for named, expected in ((True, 200), (False, 210)):
        rows = [rec("net", str(at), serial=f"ZK{at:04}77QX", name=f"sw-{at}", model="X") for at in range(200)]
        rows += [
            rec("inv", str(at), serial=f"{at:04}77QX", name=f"sw-{at}" if named else f"pr-{at}", model="X")
            for at in range(0, 200, 20)
        ]
        made = reconcile(frame(*rows), RULES)
        assert made.learned.prefixes == (["ZK"] if named else [])
        assert made.entries.height == expected


def test_more_sights_of_a_name_than_are_usual_of_one_device_are_of_several():
    """Nothing else tells whose a lease without a card is: seven of one name where others have two are four devices'."""
    rows = [rec("net", str(at), serial=f"AAAA{at:04}", macs=[f"00:1b:21:00:00:{at:02x}"]) for at in range(20)]
    rows += [
        rec("leases", f"{at}{mark}", name=f"pc-{at}", macs=[f"00:1b:21:00:00:{at:02x}"])
        for at in range(20) for mark in "ab"
    ]  # fmt: skip
    rows += [rec("leases", f"x{at}", name="a-phone") for at in range(7)]
    rows += [rec("leases", f"y{at}", name="b-phone") for at in range(2)]
    keyed = identities(frame(*rows).sort("system", "record_id"))
    crowd = dict(zip(keyed["name"], frequencies(keyed).name.bearers.tolist(), strict=True))
    assert (crowd["a-phone"], crowd["b-phone"], crowd["pc-7"]) == (4, 1, 1)


def test_a_sight_under_a_name_that_is_out_of_date_is_put_aside_unless_somebody_rules_otherwise():
    def at(system, number, where=None, *, name=True, card=True, mark=""):
        return rec(
            system, f"{number}{mark}", name=f"sw-{number}" if name else None, ips=[f"10.0.0.{where or number}"],
            macs=[f"00:1b:21:00:00:{number:02x}"] if card else [], last_seen=NOW,
        )  # fmt: skip

    rows = [at(system, number) for number in range(1, 60) for system in ("net", "end", "inv")]
    rows += [at("probe", number, mark=mark, name=mark == "a") for number in range(1, 60) for mark in "abc"]
    rows += [at("probe", 7, 9, card=False, mark="old"), at("probe", 7, card=False, mark="new")]
    # of what moves no system agrees where it is, but who is at that address they do
    rows += [at(system, 70, 100 + turn) for turn, system in enumerate(("net", "end", "inv"))]
    rows += [at("probe", 70, 8, card=False, mark="old"), at("probe", 70, 103, card=False, mark="new")]
    made = reconcile(frame(*rows), RULES)
    entry = refs(made)
    assert entry["probe/7old"] not in (entry["net/7"], entry["net/9"])
    assert entry["probe/7new"] == entry["net/7"]
    assert entry["probe/70old"] not in (entry["net/70"], entry["net/8"])
    assert entry["probe/70new"] == entry["net/70"]
    row = dict(made.members.select(pl.format("{}/{}", "system", "record_id"), "row").iter_rows())
    why = why_apart(made.members, made.learned, np.array([row["probe/7old"]]), np.array([row["net/7"], row["inv/7"]]))
    assert "out of date" in why.reason
    ruled = replace(RULES, rulings=Rulings(same=[("probe/7old", "net/7")]))
    assert refs(reconcile(frame(*rows), ruled))["probe/7old"] == entry["net/7"]


@pytest.mark.parametrize("sights", ["probe", "arp"])  # after all others, and before them
def test_it_does_not_matter_where_in_its_group_a_stray_sight_stands(sights):
    rows = [
        rec(system, f"{at}{mark}", name=f"sw-{at}", ips=[f"10.0.0.{at}"], macs=[f"00:1b:21:00:00:{at:02x}"],
            last_seen=NOW)
        for at in range(1, 60) for system, mark in [("net", ""), ("end", ""), ("inv", ""), (sights, "a"), (sights, "b")]
    ]  # fmt: skip
    rows += [rec(sights, "0", name="sw-7", ips=["10.0.0.9"], last_seen=NOW)]
    keyed = identities(frame(*rows).sort("system", "record_id"))
    groups = keyed.select(pl.col("row").first().over("name").cast(pl.Int64)).to_series().to_numpy()
    hours = np.full(keyed.height, 400_000)
    apart = put_aside(groups, frequencies(keyed), hours, np.zeros(0, dtype=np.int64))
    (stray,) = keyed.with_row_index("at").filter(pl.col("record_id") == "0")["at"]
    others = np.flatnonzero(groups == groups[stray])
    others = others[others != stray]
    assert apart[stray] == stray
    assert set(apart[others]) == {others.min()}


def test_serials_of_any_script_are_compared():
    rows = [rec(s, str(at), serial=f"ÅÄ{at:04}Ж名", model="X") for s in ("net", "inv") for at in range(20)]
    rows += [rec("net", "a", serial="Ж名7Q19XVB2"), rec("inv", "b", serial="Ж名71Q9XVB2")]
    entry = refs(reconcile(frame(*rows), RULES))
    assert entry["net/3"] == entry["inv/3"]
    assert entry["net/a"] == entry["inv/b"]


@pytest.mark.parametrize("typed", ["71Q9XVB2", "7Q91XVB2", "7Q1XVB2", "7Q19XVBB2", "7Q19XV82"])
def test_a_mistyped_serial_is_found_where_nothing_else_is_shared(typed):
    rows = [rec(s, str(at), serial=f"{at * 7919 % 10007:05}{chr(65 + at % 26)}TR", model="X", name=f"{s}{at}")
            for at in range(100) for s in ("net", "mdm")]  # fmt: skip
    rows += [rec("net", "a", serial="7Q19XVB2", model="X"), rec("mdm", "b", serial="7Q19XVB2", model="X")]
    rows += [rec("inv", "c", serial=typed, model="X")]
    entry = refs(reconcile(frame(*rows), RULES))
    assert entry["inv/c"] == entry["net/a"]


@pytest.mark.parametrize(
    ("one", "other"), [("7Q19XDL2", "7Q19XDL3"), ("7Q19XDLA", "7Q19XDLB"), ("7Q19XD09", "7Q19XD10")]
)
def test_neighbours_in_a_series_are_two_devices(one, other):
    rows = [
        rec(s, f"{s}{at}", serial=f"{at * 7919 % 10007:05}TR", model="X") for at in range(100) for s in ("net", "inv")
    ]
    rows += [rec("net", "a", serial=one, model="X", name="sw-1"), rec("inv", "b", serial=other, model="X")]
    entry = refs(reconcile(frame(*rows), RULES))
    assert entry["net/a"] != entry["inv/b"]


def test_serials_of_a_running_series_are_nobodys_typing_errors():
    """Two systems that know different halves of a fleet with sparse running numbers have nothing in common."""
    rng = np.random.default_rng(3)
    numbers = 40_000_000 + np.sort(rng.choice(60_000, 1_500, replace=False))
    rows = [
        rec("net" if at % 2 else "inv", str(at), serial=str(number), model="X", site="s1")
        for at, number in enumerate(numbers)
    ]
    made = reconcile(frame(*rows), RULES)
    assert made.entries.height >= 1_490


def chosen(by_field: dict, *rows: dict) -> dict:
    (entry,) = reconcile(frame(*rows), replace(RULES, by_field=by_field)).entries.to_dicts()
    return entry


def test_a_value_is_chosen_by_the_rule_of_its_field_and_kind():
    rows = [
        rec(
            "net",
            "1",
            serial="AAAA1111",
            kind="switch",
            model="BS",
            site="a",
            last_seen=datetime(2026, 1, 1, tzinfo=UTC),
        ),
        rec("end", "2", serial="AAAA1111", kind="switch", model="BS-2448", site="b", last_seen=NOW),
        rec("inv", "3", serial="AAAA1111", model="bs", site="b", os_version="1"),
    ]
    assert chosen({}, *rows)["model"] == "BS"
    assert chosen({"model": Choose(by="specific")}, *rows)["model"] == "BS-2448"
    assert chosen({"model": Choose(by="agreed", order=["inv"])}, *rows)["model"] == "bs"
    assert chosen({"model": Choose(by="freshest")}, *rows)["model"] == "BS-2448"
    assert chosen({"site": Choose(by="joined")}, *rows)["site"] == "a, b"
    by_kind = Choose(by="order", kinds={"switch": Choose(by="freshest")})
    assert chosen({"model": by_kind}, *rows)["model"] == "BS-2448"
    assert chosen({"model": by_kind}, *(row | {"kind": "router"} for row in rows))["model"] == "BS"


def test_a_stack_that_speaks_with_one_voice_is_its_first_member():
    rows = [rec("net", "1", serial="AAAA1111, BBBB2222", name="sw-1"), rec("inv", "2", serial="BBBB2222", name="sw-1")]
    made = reconcile(frame(*rows, rec("inv", "3", serial="AAAA1111", name="sw-1")), RULES)
    entry = refs(made)
    assert entry["net/1"] == entry["inv/3"] != entry["inv/2"]
    assert made.members.filter(pl.col("record_id") == "1")["members"].to_list() == [["BBBB2222"]]


def test_a_floating_address_belongs_to_the_member_that_holds_it_and_a_virtual_mac_to_none():
    router, old = "00:00:5e:00:01:07", datetime(2026, 11, 1, tzinfo=UTC)
    rows = [
        rec("net", "a", serial="AAAA1111", macs=[CARD, router], ips=["10.0.0.1", "10.0.0.9"], last_seen=NOW),
        rec("net", "b", serial="BBBB2222", macs=[OTHER, router], ips=["10.0.0.2", "10.0.0.9"], last_seen=old),
        rec("net", "c", serial="CCCC3333", ips=["10.0.0.9"], last_seen=old),
    ]
    entries = reconcile(frame(*rows), RULES).entries.sort("serial")
    assert entries["ips"].to_list() == [["10.0.0.1", "10.0.0.9"], ["10.0.0.2"], ["10.0.0.9"]]
    assert entries["macs"].to_list() == [[CARD], [OTHER], []]


def test_coverage_counts_what_a_system_should_know(shell):
    shell.config(lambda text: text.replace("    dialect: muster\n", "    dialect: muster\n    knows: kind = laptop\n"))
    shell("pull")
    rows = {row["system"]: row for row in json.loads(shell("reconcile", "-f", "json").stdout)}
    assert "% of " in rows["muster"]["of its scope"]
    assert rows["fairlead"]["of its scope"] == ""
    assert "since last time" not in shell("reconcile", "--relearn").stderr


def test_a_telephones_common_name_tells_whose_it_is_where_the_person_has_one_alone():
    """Of those that are called so each is somebody's, and one of two that somebody has is not told from the other."""
    phones = [rec("end", f"{at}", serial=f"QX77{at:02}4", name="phone", user=f"u{at}") for at in range(8)]
    sight = rec("net", "9", name="phone", user="u3", macs=["da:a1:19:00:00:09"])
    assert {"end/3", "net/9"} in groups(*phones, sight)
    second = rec("end", "33", serial="QX77334", name="phone", user="u3")
    assert {"net/9"} in groups(*phones, second, sight)
    assert {"net/9"} in groups(*phones, sight | {"user": None})
    made = reconcile(frame(*phones, second, sight), RULES)
    for now in ([*phones, sight], [*phones, second, sight | {"user": "u4"}]):
        assert_same(
            reconcile_again(frame(*now), RULES, made, most=1),
            reconcile(frame(*now), RULES, made.members, learned=made.learned),
        )


@pytest.mark.parametrize(("level", "linked"), [(1, True), (2, False)])
def test_what_one_device_alone_bears_links_though_candidates_are_nearly_always_one(level, linked):
    """That most candidates are one makes a name no weaker; what several bear must say more than is common."""
    kinds = [*KINDS]
    seen = np.zeros((1, len(kinds)), dtype=np.int8)
    seen[0, [kinds.index("name"), kinds.index("system")]] = level, 1
    weights = learn(seen[:0])
    likely = weights.likely.copy()
    likely[:, kinds.index("name")] = np.where(np.arange(len(likely)) < 5, -2.0, -1.0)[:, None]
    common = replace(weights, likely=likely, share=np.where(np.arange(len(likely)) < 5, 0.0, -8.0))
    assert 1 < common.score(seen)[0] < common.prior
    row, no = np.zeros(1, dtype=np.int64), np.zeros(1, dtype=np.bool_)
    pairs = Pairs(
        a=row, b=row + 1, chain=row, levels=seen, weights=common, identifying=~no, one_system=no, sighted=no, apart=no
    )
    groups, _ = gather(np.arange(2), pairs, 0.0, 0.5)
    assert (groups[0] == groups[1]) == linked


@pytest.mark.parametrize(
    ("addresses", "one"),
    [
        (["10.21.3.4"], True), (["10.22.0.1"], False), ([], False), (["10.21.3.4", "10.21.9.9"], True),
        (["10.21.3.4", "10.22.0.1"], False), (["fe80::1"], False), (["fe80::1", "10.21.3.4"], True),
    ],
)  # fmt: skip
def test_a_record_is_of_a_network_where_all_its_addresses_are(addresses, one):
    rows = [rec("net", "1", ips=["10.21.0.9"]), rec("net", "2", ips=addresses)]
    first, second = frequencies(identities(frame(*rows))).network
    assert bool(first == second) is one
    six = [rec("net", "1", ips=["2001:db8:7:1::1"]), rec("net", "2", ips=["2001:db8:7:ff::2", "2001:db8:7::9"])]
    assert len({*frequencies(identities(frame(*six))).network}) == 1
    link = [rec("net", "1", ips=["169.254.7.7", "fe80:0:0:1::9"]), rec("net", "2", ips=["127.0.0.1", "FE80::2", "::1"])]
    assert not frequencies(identities(frame(*link))).network.any()


@pytest.mark.parametrize(
    ("days", "bearers", "means"),
    [(1, 1, 1), (30, 1, 5), (1, 3, 2), (30, 3, 6), (30, 9, 6), (1, 9, 3)],
)  # fmt: skip
def test_an_address_says_less_where_it_was_seen_long_apart_or_at_several(days, bearers, means):
    """What levels of an address mean: its own, of few, of many; and the same of what may have been lent twice."""
    lent = [rec("net", f"n{at}", serial=f"SERIAL{at}Q", ips=["10.1.1.1"]) for at in range(bearers)]
    lent[0] |= {"last_seen": NOW}
    rows = [*lent, rec("end", "e", serial="SERIAL0Q", ips=["10.1.1.1"], last_seen=NOW - timedelta(days=days))]
    keyed = identities(frame(*rows))
    words = reconcile(frame(*rows), RULES).learned.words
    first, last = np.array([0]), np.array([bearers])
    level = levels(sayings(keyed, frequencies(keyed), words), first, last)[0, [*KINDS].index("ip")]
    assert level in ({means, 8} if means == 1 else {means})


ONE, TWO = {"serial": "AAAA1111"}, {"serial": "BBBB2222"}
TAGS, CARDS = ({"asset_tag": "AT-104477"}, {"asset_tag": "AT-104474"}), "0c:b1:00:00:00:{}"


@pytest.mark.parametrize(
    ("kind", "level", "first", "second", "others"),
    [
        ("serial", 5, ONE, TWO, []),
        ("serial", 5, ONE, TWO, [TWO]),
        ("serial", 5, ONE, TWO, [ONE]),
        ("serial", 6, ONE, TWO, [ONE, TWO]),
        ("serial", 3, {"serial": "AAAA1211"}, {"serial": "AAAA1121"}, []),
        ("serial", 4, {"serial": "AAAA1211"}, {"serial": "AAAA1121"}, [{"serial": "AAAA1211"}, {"serial": "AAAA1121"}]),
        ("tag", 3, *TAGS, [TAGS[0]]),
        ("tag", 3, *TAGS, [TAGS[1]]),
        ("tag", 4, *TAGS, [*TAGS]),
        ("mac", 4, {"macs": [CARDS.format("0f")]}, {"macs": [CARDS.format("10")]}, []),
        ("mac", 4, {"macs": [CARDS.format("0f")]}, {"macs": [CARDS.format("12")]}, []),
        ("mac", 5, {"macs": [CARDS.format("0f")]}, {"macs": [CARDS.format("13")]}, []),
    ],
)
def test_what_a_pair_differs_in_says_less_where_one_of_the_two_is_known_here_alone(kind, level, first, second, others):
    """And cards whose numbers are next to each other are of one machine."""
    rows = [rec("net", "1", **first), rec("end", "2", **second)]
    keyed = identities(frame(*rows, *(rec("inv", str(at), **said) for at, said in enumerate(others))))
    words = reconcile(frame(*rows), RULES).learned.words
    at = [keyed["system"].to_list().index(system) for system in ("net", "end")]
    seen = levels(sayings(keyed, frequencies(keyed), words), np.array(at[:1]), np.array(at[1:]))
    assert seen[0, [*KINDS].index(kind)] == level


def test_fewer_repetitions_make_a_system_one_of_sights_where_it_registers_nothing():
    """One of ten seen again is usual where serials are kept, and is not where nothing is."""
    cards = [f"0c:b1:00:00:00:{at:02x}" for at in (*range(18), 0, 1)]
    kept = [rec("kept", str(at), macs=[card], serial=f"SERIAL{card[-2:]}") for at, card in enumerate(cards)]
    bare = [rec("bare", str(at), macs=[card]) for at, card in enumerate(cards)]
    assert [*frequencies(identities(frame(*kept, *bare))).sighting] == ["bare"]


def test_networks_say_as_much_as_the_records_show_that_they_say():
    """Where addresses follow places they tell a name that is out of date; where they do not, nothing is made of it."""

    def learned(records):
        bits = dict(
            reconcile(records.drop("device", "case"), Rules(order=SYSTEMS)).learned.weights.means()
            .filter(kind="ip").select("means", "bits").iter_rows()
        )  # fmt: skip
        return bits["different, of one network"] - bits["different"]

    records = world(1_500, "middle", 3)
    anywhere = pl.Series(np.random.default_rng(3).integers(0, 250, records.height))
    moved = pl.format("10.{}.{}", anywhere, pl.col("ips").list.first().str.slice(7))
    some = pl.col("ips").list.len() > 0
    moving = records.with_columns(pl.when(some).then(pl.concat_list(moved)).otherwise("ips").alias("ips"))
    assert learned(records) > 3
    assert learned(moving) < 2


def test_whatever_a_record_says_otherwise_gives_it_another_print():
    """Also where the same texts stand in other fields, or a list is divided otherwise, or both fields change alike."""
    day, next_day = datetime(2026, 1, 1, tzinfo=UTC), datetime(2026, 1, 2, tzinfo=UTC)
    said = [
        {}, {"name": "a"}, {"serial": "a"}, {"name": "a", "serial": "b"}, {"name": "b", "serial": "a"}, {"name": ""},
        {"name": "x", "serial": "x"}, {"name": "y", "serial": "y"}, {"macs": []}, {"macs": [""]}, {"macs": ["abc"]},
        {"macs": ["ab", "c"]}, {"macs": ["a", "bc"]}, {"macs": ["bc", "a"]}, {"ips": ["a", "bc"]},
        {"macs": ["a"], "ips": ["bc"]}, {"macs": ["a", "a"]}, {"macs": ["b", "b"]}, {"macs": ["a"], "ips": ["a"]},
        {"first_seen": day, "last_seen": next_day}, {"first_seen": next_day, "last_seen": day},
        {"first_seen": day, "last_seen": day}, {"first_seen": next_day, "last_seen": next_day}, {"position": 1.0},
    ]  # fmt: skip
    rows = frame(*(rec("net", "1", **one) for one in said))
    assert prints_of(rows).n_unique() == len(said)
    assert prints_of(rows.select(reversed(rows.columns))).equals(prints_of(rows))


def test_work_by_two_threads_is_that_of_one(monkeypatch):
    records = fleet(120, LEVELS["high"], seed=3).drop("device", "case")
    alone = reconcile(records, RULES)
    monkeypatch.setattr(sidebyside, "_WORTH", 0)
    both = reconcile(records, RULES)
    for name in PARTS:
        assert both.part(name).equals(alone.part(name)), name


def test_of_several_at_once_the_first_error_is_raised_when_all_have_ended():
    ended = []

    def fails(at: int) -> int:
        ended.append(at)
        raise ValueError(f"no. {at}")

    with pytest.raises(ValueError, match=r"no\. 1"):
        sidebyside.side_by_side([lambda: 0, lambda: fails(1), lambda: fails(2)], rows=10**6)
    assert sorted(ended) == [1, 2]
