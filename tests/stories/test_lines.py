"""Devices with a command interface: lines from templates, entered as one, read back, taken back; what they show."""

from __future__ import annotations

import json
import socket
import time
from datetime import UTC, datetime

import pytest

from concordex.errors import CalledWrongly
from concordex.standins.server import Harbour
from concordex.work.change.line_templates import rendered
from concordex.work.workspace import sandbox
from tests.conftest import Near, make_workspace


@pytest.fixture
def deck(tmp_path):
    with Harbour.of(40, moment=datetime.now(UTC)) as harbour:
        shell = make_workspace(tmp_path, harbour, ["muster"], kind=Near)
        (tmp_path / "deck.secret").write_text(harbour.deck.password)
        shell.config(lambda text: text + (
            "devices:\n  switches:\n    dialect: capstan\n    url: http://{address}\n    addresses: [127.0.0.0/8]\n"
            "    credentials: {user: deck, password: 'file:../deck.secret'}\n"
        ))  # fmt: skip
        rows = [f"127.0.0.1:{port},{at}" for at, port in enumerate(harbour.deck.ports)]
        (shell.folder / "rows.csv").write_text("\n".join(["address,number", *rows, ""]))
        (shell.folder / "lines.j2").write_text("segment {{ number }} deck {{ number }}\nno time at 10.20.0.123\n")
        yield shell, harbour.deck.switches


def test_lines_are_entered_as_one_and_taken_back(deck):
    shell, switches = deck
    before = [list(switch.lines) for switch in switches]
    told = shell("lines", "enter", "switches", "lines.j2", "--with", "rows.csv", "--yes")
    assert "segment 1 deck 1; no time at 10.20.0.123" in told.stdout
    assert [f"segment {at} deck {at}" in switch.lines for at, switch in enumerate(switches)] == [True] * 3
    assert not any("time at 10.20.0.123" in switch.lines for switch in switches)
    assert "3 keep these lines already" in shell("lines", "enter", "switches", "lines.j2", "--with", "rows.csv").stderr
    switches[2].lines.append("banner by hand")
    told = shell("change", "undo", "1", "--yes", status=4).stdout
    assert "changed there since the preview: lines is now" in told  # what somebody entered meanwhile is not lost
    assert [sorted(switch.lines) for switch in switches[:2]] == [sorted(lines) for lines in before[:2]]
    assert "banner by hand" in switches[2].lines


def test_some_devices_are_named_in_place_of_a_table_or_out_of_one(deck):
    shell, switches = deck
    first, second = (row.split(",")[0] for row in (shell.folder / "rows.csv").read_text().split()[2:4])
    (shell.folder / "banner.j2").write_text("banner hello\n")
    enter = ("lines", "enter", "switches")
    shell(*enter, "banner.j2", "--at", first, "--yes")
    assert ["banner hello" in switch.lines for switch in switches] == [False, True, False]
    shell(*enter, "lines.j2", "--with", "rows.csv", "--at", second, "--yes")
    assert [f"segment {at} deck {at}" in switch.lines for at, switch in enumerate(switches)] == [False, False, True]
    assert (
        "no row of the table has"
        in shell(*enter, "lines.j2", "--with", "rows.csv", "--at", "10.0.0.1", status=2).stderr
    )
    assert "which devices?" in shell(*enter, "banner.j2", status=2).stderr


def test_one_line_that_fails_keeps_its_device_as_it_was_and_no_other(deck):
    shell, switches = deck
    (shell.folder / "lines.j2").write_text(
        "segment {{ number }} deck\n{% if number == '1' %}\ncolour blue\n{% endif %}\nbanner hello\n"
    )
    before = list(switches[1].lines)
    told = shell("lines", "enter", "switches", "lines.j2", "--with", "rows.csv", "--yes", status=4).stdout
    assert "'colour blue' is not understood; nothing was kept" in told
    assert switches[1].lines == before
    assert "banner hello" in switches[0].lines
    assert "banner hello" in switches[2].lines
    states = [row["state"] for row in json.loads(shell("change", "show", "1", "-f", "json").stdout)]
    assert states == ["confirmed", "refused", "confirmed"]


def test_a_device_that_cannot_be_reached_keeps_no_other_and_its_steps_say_why_they_wait(deck):
    shell, switches = deck
    with socket.create_server(("127.0.0.1", 0)) as nobody:
        address = f"127.0.0.1:{nobody.getsockname()[1]}"
    rows = shell.folder / "rows.csv"
    shell("lines", "enter", "switches", "lines.j2", "--with", str(rows), "--draft")
    taken = rows.read_text().split()[2].split(",")[0]
    database = shell.workspace.catalogue.database  # as if the device had moved since
    database.run("UPDATE steps SET body = replace(body, ?, ?) WHERE change = 1", (taken, address))
    told = shell("change", "run", "1", "--yes", status=4).stdout
    assert [f"segment {at} deck {at}" in switch.lines for at, switch in enumerate(switches)] == [True, False, True]
    steps = json.loads(shell("change", "show", "1", "-f", "json").stdout)
    assert sorted(row["state"] for row in steps) == ["confirmed", "confirmed", "ready"], told
    (waits,) = [row for row in steps if row["state"] == "ready"]
    assert f"cannot connect to http://{address}" in waits["reason"]


def test_rows_and_templates_that_cannot_be_meant(deck, tmp_path):
    shell, switches = deck
    (shell.folder / "lines.j2").write_text("segment {{ numbr }} deck\n")
    (shell.folder / "rows.csv").open("a").write("10.0.0.1,7\n,8\n127.0.0.1:9,9\n")
    told = shell("lines", "enter", "switches", "lines.j2", "--with", "rows.csv", status=2).stdout
    for text in ("'numbr' is undefined", "is not among the addresses", "is missing"):
        assert text in told
    (shell.folder / "lines.j2").write_text("segment {{ number }} deck\n")
    words = ("lines", "enter", "switches", "lines.j2", "--with", "rows.csv", "--rejects", "bad.csv", "--yes")
    assert "127.0.0.1:9" in shell(*words, status=4).stdout
    assert [f"segment {at} deck" in switch.lines for at, switch in enumerate(switches)] == [True] * 3
    for text, why in (("{{ 'x'.__class__ }}", "unsafe"), ("{{ number", "line 1"), ("a\x1bb", "not text")):
        path = tmp_path / "bad.j2"
        path.write_text(text)
        with pytest.raises(Exception, match=why):
            rendered(path, {"number": "1"})


def test_what_devices_show_as_data_and_as_text(deck):
    shell, switches = deck
    (shell.folder / "concordex.yaml").read_text()
    ports = [row.split(",")[0] for row in (shell.folder / "rows.csv").read_text().split()[1:]]
    found = json.loads(shell("lines", "show", "switches", "show segments", "--at", ports[0]).stdout)
    assert found == [{"number": 10, "label": "office"}]
    switches[1].lines[1] = "segment 10 \x1b[31mred"
    told = shell("lines", "show", "switches", "show segments", "--text", "--at", ",".join(ports[:2])).stdout
    assert f"# {ports[1]}" in told
    assert "\x1b" not in told
    told = shell("lines", "show", "switches", "show moon", "--at", f"{ports[0]},127.0.0.1:9", status=1).stderr
    assert "no such thing to look at" in told
    assert "say at which address" in shell("lines", "show", "switches", "show version", status=2).stderr
    assert "no command interface" in shell("lines", "show", "muster", "show version", status=2).stderr


@pytest.mark.parametrize("kind", ["fail_after", "fail", "drop"])
def test_an_answer_that_never_came_is_looked_up_and_lines_are_entered_once(deck, kind):
    shell, switches = deck
    shell("lines", "enter", "switches", "lines.j2", "--with", "rows.csv", "--draft")
    switches[0].faults.add(kind, "/capstan", method="POST", after=1, times=1)
    told = shell("change", "run", "1", "--yes", status=0 if kind == "fail_after" else 4).stdout
    if kind != "fail_after":
        assert "it may have arrived, and does not show" in told
        shell("change", "resume", "1", status=4)
        shell("change", "resume", "1", "--send-again")
    assert [switch.entered for switch in switches] == [1, 1, 1]
    assert "segment 0 deck 0" in switches[0].lines


WANTED = """format: 1
kind: sections
name: switch
object:
  name: sw-renamed
  timeServers: [10.20.0.123, 10.20.0.124]
  users: [{name: watch, may: look}, {name: deck, may: all}]
  segments: [{number: 20, label: kiosks}, {number: 10, label: office}]
  addresses: [{segment: 20, address: 10.20.20.1/24}]
"""


def test_one_of_many_devices_is_saved_compared_and_set_as_one_document(deck):
    shell, switches = deck
    first, second, third = (f"switches:127.0.0.1:{port}" for port in deck_ports(shell))
    before = list(switches[0].lines)
    switches[2].faults.add("drop", "/capstan")
    told = shell("config", "save", "switches", "--with", "rows.csv", "--into", "baselines", status=4).stderr
    assert "2 devices of switches in baselines: 2 objects, 2 written" in told
    assert f"not saved: {third}" in told
    switches[2].faults.clear()
    (shell.folder / "odd.csv").write_text("address\n10.9.9.9\n")
    told = shell("config", "save", "switches", "--with", "odd.csv", "--into", "baselines", status=2).stderr
    assert "row 2: no address, or none" in told
    assert "1 as they were" in shell("config", "save", first, "--into", "baselines").stderr
    (shell.folder / "want.yaml").write_text(WANTED)
    rows = json.loads(shell("config", "diff", first, "want.yaml", "-f", "json", status=3).stdout)
    assert {row["member"] for row in rows} == {"name", "timeServers[]", "users[]", "segments[]", "addresses[]"}
    shell("config", "push", "want.yaml", "--to", first, "--yes")  # it starts anew in the middle, and knows of no job
    assert "address 20 10.20.20.1/24" in switches[0].lines
    assert switches[0].settled == 1
    assert "no difference" in shell("config", "diff", "want.yaml", first).stderr
    told = shell("drift", status=3)
    assert f"changed  {first}/sections/switch" in told.stdout
    assert f"{second}: no drift" in told.stderr
    shell("change", "undo", "1", "--yes")
    assert sorted(switches[0].lines) == sorted(before)
    assert "no drift" in shell("drift", "switches").stderr
    (shell.folder / "want.yaml").write_text(WANTED.replace("segment: 20", "segment: 99"))
    told = shell("config", "push", "want.yaml", "--to", second, "--yes", status=4).stdout
    assert "no segment 99" in told
    assert "say which one" in shell("config", "list", "switches", status=2).stderr
    assert "not among the addresses" in shell("config", "list", "switches:10.1.1.1", status=2).stderr
    switches[1].faults.add("drop", "/capstan")
    assert "could not be looked at" in shell("drift", status=4).stderr


def deck_ports(shell: Near) -> list[str]:
    return [line.partition(":")[2].partition(",")[0] for line in (shell.folder / "rows.csv").read_text().split()[1:]]


def test_one_section_of_a_document_can_be_cleared_and_comes_back(deck):
    """An empty section is emptied; those that a file does not name stay."""
    shell, switches = deck
    first = f"switches:127.0.0.1:{deck_ports(shell)[0]}"
    before = list(switches[0].lines)
    (shell.folder / "clear.yaml").write_text("format: 1\nkind: sections\nname: switch\nobject: {timeServers: []}\n")
    shell("config", "push", "clear.yaml", "--to", first, "--yes")
    assert not [line for line in switches[0].lines if line.startswith("time at")]
    assert [line for line in before if not line.startswith("time at")] == switches[0].lines
    assert "nothing to do" in shell("config", "push", "clear.yaml", "--to", first).stderr
    shell("change", "undo", "1", "--yes")
    assert sorted(switches[0].lines) == sorted(before)


ENDS = ["\n", "\r", "\x0b", "\x0c", "\x1c", "\x1d", "\x1e", "\x85", "\u2028", "\u2029", "\x1b", "\u202e"]


@pytest.mark.parametrize("end", ENDS, ids=lambda end: f"U+{ord(end):04X}")
def test_a_value_never_becomes_a_line_of_its_own(tmp_path, end):
    template = tmp_path / "x.j2"
    template.write_text("segment {{ segment }} {{ label }}\n{% for at in range(2) %}\ntime at {{ at }}\n{% endfor %}\n")
    assert rendered(template, {"segment": 1, "label": "quay"}) == ["segment 1 quay", "time at 0", "time at 1"]
    with pytest.raises(ValueError, match="label holds U\\+"):
        rendered(template, {"segment": 1, "label": f"quay{end}reload"})
    with pytest.raises(ValueError, match="label holds U\\+"):
        rendered(template, {"segment": 1, "label": ["quay", {"x": f"a{end}b"}]})
    template.write_text(f"segment{end}reload\n")
    if end not in "\n\r":  # the template's own lines
        with pytest.raises(ValueError, match="holds U\\+"):
            rendered(template, {})


@pytest.mark.parametrize(
    "text",
    [
        "{{ 1/0 }}",
        "{% for a in range(10000) %}{% for b in range(10000) %}{% set c = a %}{% endfor %}{% endfor %}",
        "{% for a in 'x' * 9999 %}{% for b in 'x' * 9999 %}{% set c = a %}{% endfor %}{% endfor %}",
        "{{ 'x' * 1000000000 }}",
        "{{ 9 ** 99999999 }}",
        "{{ '%999999999d' % 1 }}",
        "{{ 'x'.ljust(999999999) }}",
        "{{ 'x'|center(999999999) }}",
        "{% for a in range(99999) %}{{ 'x' * 99 }}{% endfor %}",
        "{% macro m() %}{{ m() }}{% endmacro %}{{ m() }}",
        "{{ none.x }}",
        "{{ ''.__class__.__mro__ }}",
        "{{ missing }}",
    ],
)
def test_whatever_a_template_does_ends_and_is_a_mistake_in_it(tmp_path, text, monkeypatch):
    monkeypatch.setattr(sandbox, "_SECONDS", 0.3)
    template = tmp_path / "x.j2"
    template.write_text(text)
    begun = time.monotonic()
    with pytest.raises((ValueError, CalledWrongly)):
        rendered(template, {})
    assert time.monotonic() - begun < 5


def test_a_device_that_answers_for_itself_is_called_like_a_system(deck):
    """At an address that is among its sort's; what its dialect only shows with is free, all else is not."""
    shell, switches = deck
    address = (shell.folder / "rows.csv").read_text().splitlines()[1].partition(",")[0]
    kept = json.loads(shell("call", f"switches:{address}", "kept").stdout)["result"][0]["lines"]
    assert sorted(kept) == sorted(switches[0].lines)
    assert shell("call", f"switches:{address}", "look", "line=show segments", "as=text").stdout
    told = shell("call", f"switches:{address}", "enter", 'lines=["banner x"]', status=2).stderr
    assert "was not sent" in told
    assert "banner x" not in switches[0].lines
    assert "is not among the addresses" in shell("call", "switches:10.0.0.1", "kept", status=2).stderr
    assert "say which one" in shell("call", "switches", "kept", status=2).stderr
