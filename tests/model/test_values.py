"""What systems write, made into values that compare."""

import json
from datetime import UTC, datetime, timedelta, timezone
from email.utils import format_datetime
from ipaddress import IPv6Address

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from concordex.model.fields import Type
from concordex.model.members import edited, flat, pruned, way_of
from concordex.model.scalars import before, parse_duration, parse_flag, parse_time, version_parts
from concordex.model.values import as_texts
from concordex.unseen import UNSEEN, WITHHELD, in_frame
from concordex.wire.dialect import Table
from concordex.wire.reading.mapping import Mapper
from concordex.wire.reading.records import DecodedRecords


def read(values: list, kind: Type, how: str) -> tuple[list, int]:
    """The values as a field of that type, and how many were lost."""
    table = Table.model_validate(
        {"read": {"path": "/"}, "fields": {"record_id": "id", "x": {"from": "x", "as": how, "type": kind}}}
    )
    mapper = Mapper(table)
    columns = mapper.empty()
    records = DecodedRecords([{"id": at, "x": value} for at, value in enumerate(values)])
    mapper.add(columns, records, records.texts())
    return mapper.frame([mapper.taken(columns)])["x"].to_list(), mapper.lost.get("x", 0)


@pytest.mark.parametrize(
    ("path", "way"),
    [
        ("rights", ["rights"]),
        ("limits.most", ["limits", "most"]),
        ("rights[2].of", ["rights", "[2]", "of"]),
        ("a[+]", ["a", "[+]"]),
        ("a[=sign-in]", ["a", "[=sign-in]"]),
    ],
)
def test_a_typed_path_leads_into_mappings_and_lists(path, way):
    assert way_of(path) == way
    for wrong in ("", f"{path}.", f"{path}[", f"{path}..x", f"{path}[x]"):
        with pytest.raises(ValueError, match="separate members by dots"):
            way_of(wrong)


@pytest.mark.parametrize(
    ("path", "drop", "after"),
    [
        ("a[11]", False, [*range(11), "x"]),
        ("a[=7]", False, [*range(7), "x", *range(8, 12)]),
        ("a[+]", False, [*range(12), "x"]),
        ("a[10]", True, [*range(10), 11]),
        ("a[=7]", True, [*range(7), *range(8, 12)]),
    ],
)
def test_an_item_of_a_list_is_put_and_dropped_by_its_place_or_its_value(path, drop, after):
    record = {"a": [*range(12)], "b": {"c": 1}}
    assert edited(record, path, "x", drop=drop) == {"a": after, "b": {"c": 1}}
    assert record["a"] == [*range(12)]
    with pytest.raises(ValueError, match="no such item"):
        edited(record, "a[12]", "x", drop=drop)


def test_members_stand_by_their_paths_and_what_is_no_mapping_or_an_empty_one_is_a_value():
    record = {"a": {"b": 1, "c": {}, "d": {"e": None}}, "f": [{"g": 1}], "h": "x"}
    assert flat(record) == {"a.b": 1, "a.c": {}, "a.d.e": None, "f": [{"g": 1}], "h": "x"}
    assert flat(record, ["a.d", "f"]) == {"a.b": 1, "a.c": {}, "h": "x"}


def test_what_stands_at_some_paths_is_left_out_and_nothing_else():
    record = {"a": {"b": 1, "c": 2}, "d": 3, "e": {"f": 4}}
    assert pruned(record, ["a.b", "d", "x.y", "e.f.g"]) == {"a": {"c": 2}, "e": {"f": 4}}
    assert record["a"] == {"b": 1, "c": 2}


def test_a_flag_is_true_false_or_none():
    assert [parse_flag(said) for said in ("Yes", " off", "0", "on", "maybe", "")] == [
        True,
        False,
        False,
        True,
        None,
        None,
    ]


@given(st.integers(0, 2**48 - 1), st.sampled_from(["", ":", "-", " "]), st.booleans())
def test_a_mac_is_the_same_in_any_notation(number, separator, capitals):
    digits = f"{number:012x}"
    pairs = [digits[i : i + 2] for i in range(0, 12, 2)]
    dotted = ".".join(digits[i : i + 4] for i in range(0, 12, 4))
    written = separator.join(pairs).upper() if capitals else separator.join(pairs)
    assert read([written, dotted], Type.MACS, "mac")[0] == [[":".join(pairs)]] * 2


def test_what_is_no_mac_is_lost_and_counted():
    values, lost = read([["00-11-22-33-44-55", "00:11:22:33:44"], "zz", None, "n/a"], Type.MACS, "mac")
    assert values == [["00:11:22:33:44:55"], None, None, None]
    assert lost == 2


@given(st.ip_addresses(v=4), st.integers(0, 32), st.ip_addresses(v=6))
def test_an_address_loses_its_prefix_and_gets_its_canonical_text(four, prefix, six):
    assert read([f"{four}/{prefix}", str(four)], Type.IPS, "ip")[0] == [[str(four)]] * 2
    long = IPv6Address(six).exploded.upper()
    assert read([f"{long}%eth0", str(six)], Type.IPS, "ip")[0] == [[str(six)]] * 2


def test_what_is_no_address_is_lost():
    assert read(["10.0.0.256", "1.2.3", "::g", "-"], Type.IPS, "ip") == ([None] * 4, 3)


@given(st.datetimes(min_value=datetime(1990, 1, 1), max_value=datetime(2100, 1, 1)), st.integers(-12, 12))
def test_a_moment_is_the_same_however_it_is_written(moment, hours):
    moment = moment.replace(microsecond=0, tzinfo=UTC)
    away = moment.astimezone(timezone(timedelta(hours=hours)))
    assert read([away.isoformat(), moment.isoformat().replace("+00:00", "Z")], Type.TIME, "iso")[0] == [moment] * 2
    assert read([moment.strftime("%Y-%m-%d %H:%M:%S")], Type.TIME, "iso")[0] == [moment]
    assert read([int(moment.timestamp())], Type.TIME, "epoch")[0] == [moment]
    assert read([int(moment.timestamp() * 1000)], Type.TIME, "epoch_ms")[0] == [moment]
    assert read([format_datetime(moment, usegmt=True)], Type.TIME, "http_date")[0] == [moment]


def test_nought_and_nonsense_are_no_moments():
    assert read([0, "soon", None, 1_790_000_000], Type.TIME, "epoch") == (
        [None, None, None, datetime(2026, 9, 21, 14, 13, 20, tzinfo=UTC)],
        1,
    )


@pytest.mark.parametrize("word", ["", " ", "-", "--", "N/A", "n/a", "None", "NULL"])
def test_words_for_nothing_are_missing(word):
    assert read([word], Type.TEXT, "text") == ([None], 0)


def test_text_keeps_what_it_is_when_kinds_are_mixed():
    assert read([1, "a ", True, None, 2.5, {"k": [1]}], Type.TEXT, "text")[0] == [
        "1",
        "a",
        "true",
        None,
        "2.5",
        '{"k":[1]}',
    ]


def test_versions_are_ordered_by_their_parts():
    ordered = ["7.2.0-rc1", "7.2", "7.2.0a", "7.2.1", "7.2.9", "7.2.10", "7.10", "10.0", "10.0.0.1"]
    shuffled = [*ordered[4:], *ordered[:4]]
    assert sorted(shuffled, key=version_parts) == ordered
    assert version_parts("v7.2.0") == version_parts("7.2")


@given(st.lists(st.integers(0, 99), min_size=1, max_size=4), st.lists(st.integers(0, 99), min_size=1, max_size=4))
def test_plain_versions_compare_as_their_numbers(a, b):
    width = max(len(a), len(b))
    padded = [numbers + [0] * (width - len(numbers)) for numbers in (a, b)]
    texts = [".".join(map(str, numbers)) for numbers in (a, b)]
    assert (version_parts(texts[0]) < version_parts(texts[1])) == (padded[0] < padded[1])


@pytest.mark.parametrize(
    ("said", "seconds"),
    [("30s", 30), ("1.5m", 90), ("12h", 43_200), ("1d", 86_400), ("6w", 3_628_800), ("0s", 0), ("5", None), ("d", None),
     ("1y", None), ("-1d", None)],
)  # fmt: skip
def test_a_length_of_time_is_as_long_as_it_says(said, seconds):
    found = parse_duration(said)
    assert (None if found is None else found.total_seconds()) == seconds


@pytest.mark.parametrize(
    ("said", "utc"),
    [
        ("2026-11-23T13:00:00+01:00", "2026-11-23T12:00:00+00:00"),
        ("2026-11-23T12:00:00Z", "2026-11-23T12:00:00+00:00"),
        ("2026-11-23", "2026-11-23T00:00:00+00:00"),
        ("yesterday", None),
        ("0001-01-01T00:00:00+23:00", None),
    ],
)
def test_a_moment_is_told_in_utc(said, utc):
    found = parse_time(said)
    assert (found and found.isoformat()) == utc


@pytest.mark.parametrize(
    ("seconds", "told"),
    [(90, "2026-11-23T11:58:30"), ("1.5", "2026-11-23T11:59:58.500000"), ("a while", "a while"), (None, None),
     ("", None), ("1e400", "1e400"), (0, "2026-11-23T12:00:00")],
)  # fmt: skip
def test_so_many_seconds_before_a_moment_are_a_moment_or_what_was_said(seconds, told):
    assert before(seconds, datetime(2026, 11, 23, 12)) == told


@pytest.mark.parametrize("rows", [3, 20_000], ids=["small", "large"])
def test_a_secret_in_one_cell_of_a_frame_is_withheld_and_nothing_else_altered(rows):
    """However the frame is searched: as it is, escaped, and between lines."""
    secret = 'polly\n"wants" a cracker'
    UNSEEN.know([secret])
    texts = [f"lamp {at} in the harbour" for at in range(rows)]
    hidden = {1: f"said <{secret}>", rows - 1: json.dumps(secret)}
    frame = pl.DataFrame({
        "a": [hidden.get(at, text) for at, text in enumerate(texts)],
        "b": [[text, *([secret] if not at else [])] for at, text in enumerate(texts)],
        "n": range(rows),
    })  # fmt: skip
    done = in_frame(frame)
    assert all(form not in json.dumps(done.to_dicts()) for form in (secret, json.dumps(secret)[1:-1], "cracker"))
    assert [at for at, text in enumerate(done["a"]) if text != texts[at]] == sorted(hidden)
    assert done["b"][0].to_list() == [texts[0], WITHHELD]
    assert done["n"].equals(frame["n"])
    clean = frame[2:-1] if rows > 3 else frame.clear()
    assert in_frame(clean).equals(clean)


@pytest.mark.parametrize(
    ("said", "texts"),
    [
        ([True, False, None], ["true", "false", None]), ([1.0, 2.5], ["1.0", "2.5"]), ([3, 4.0], ["3", "4.0"]),
        ([1, True], ["1", "true"]), ([None, None], [None, None]), ([2**70, 1], [str(2**70), "1"]),
        (["a", 1], ["a", "1"]), ([{"b": 1}, [2]], ['{"b":1}', "[2]"]),
    ],
)  # fmt: skip
def test_what_is_said_of_a_field_is_kept_as_json_writes_it(said, texts):
    assert as_texts(said).to_list() == texts
