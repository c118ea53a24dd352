"""Systems that answer wrongly, late, or for somebody else: what they cost, and what never leaves."""

from __future__ import annotations

import contextlib
import json
import signal
import ssl
import subprocess
import sys
import time
import warnings

import pytest
import trustme
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from concordex.errors import BadAnswer, SignInRefused, Unreachable, WireError
from concordex.unseen import Secret, Unseen
from concordex.wire.http.answers import Reply, wait_asked
from concordex.wire.http.session import Endpoint, Session
from concordex.wire.reading.tables import read_tables
from tests.conftest import Near, Shell, interrupt
from tests.lamplight import RECORDS, Lamplight, dialect, lamps, reading, run


def looks(url, spoken, tables=("lamps",), spare=None, **credentials):
    async def within():
        async with Session(Endpoint(name="lamplight", url=url, credentials=credentials), spoken) as session:
            return {name: look async for name, look in read_tables(session, list(tables), spare=spare)}

    return run(within())


# --- pages for people, in the place of lists


SIGN_IN = b"<!DOCTYPE html><html><body><form>Who are you?</form></body></html>"
CLOSED = b'<?xml version="1.0"?>\n<html xmlns="http://www.w3.org/1999/xhtml"><body>Back at noon</body></html>'


@pytest.mark.parametrize("shape", ["csv", "json", "ndjson", "{by: xml}", "{by: text, pattern: '^(?P<id>[0-9]+) .*$'}"])
@pytest.mark.parametrize("page", [SIGN_IN, CLOSED])
@pytest.mark.parametrize("kind", ["text/html; charset=utf-8", "text/plain", None])
def test_a_page_for_people_is_no_empty_list(serve, shape, page, kind):
    served = serve(lambda *_: (200, page, [("Content-Type", kind)] if kind else []))
    spoken = lamps(f"{{path: /, records: $, shape: {shape}, complete: the guide says so}}", limits={"tries": 1})
    with pytest.raises(BadAnswer, match="a web page instead of"):
        looks(served.url, spoken)


@pytest.mark.parametrize(
    ("said", "may_lack", "fault"),
    [(b"<lamps/>", False, None), (b"<lamps><n>0</n></lamps>", False, None), (b"<other/>", False, "no list of records"),
     (b"<other/>", True, None)],
)  # fmt: skip
def test_an_empty_element_is_an_empty_list_and_another_one_is_none(serve, said, may_lack, fault):
    spoken = lamps(f"{{path: /, records: lamps.lamp, shape: {{by: xml}}, may_lack: {str(may_lack).lower()}}}")
    served = serve(lambda *_: (200, said))
    if fault:
        with pytest.raises(BadAnswer, match=fault):
            looks(served.url, spoken)
    else:
        assert looks(served.url, spoken)["lamps"].distinct == 0


@pytest.mark.parametrize(
    ("path", "said", "outcome"),
    [("$.lamps[*]", {"lamps": []}, "whole"), ("$.lumps[*]", {"lamps": [{"id": 1}]}, None),
     ("$.lamps[?@.kind == 'x']", {"lamps": [{"id": 1}]}, "whole"), ("lumps", {"lamps": [{"id": 1}]}, None),
     ("lamps", {"lamps": None}, None), ("lamps", None, None)],
)  # fmt: skip
def test_a_path_that_leads_nowhere_is_no_empty_list(serve, path, said, outcome):
    spoken = lamps(f'{{path: /, records: "{path}", complete: the guide says so}}', limits={"tries": 1})
    served = serve(lambda *_: (200, said if said is not None else b""))
    if outcome:
        assert looks(served.url, spoken)["lamps"].outcome == outcome
    else:
        with pytest.raises(BadAnswer, match="no list of records"):
            looks(served.url, spoken)


def test_json_under_the_name_of_a_page_is_json(serve):
    served = serve(lambda *_: (200, RECORDS, [("Content-Type", "text/html")]))
    assert looks(served.url, lamps("{path: /}"))["lamps"].distinct == 23


def test_lines_that_fit_no_record_are_counted_and_told(serve):
    said = b'# HELP lamp\nlamp{id="1"} 3\nlamp{id="2"} NaN\nlamp{id="3"} +Inf\nlamp{id="4"} 5\n'
    shape = "{by: text, skip: '^#', pattern: '^lamp.id=.(?P<id>[0-9]+).. (?P<label>[0-9.]+)$'}"
    look = looks(serve(lambda *_: (200, said)).url, lamps(f"{{path: /, shape: {shape}}}"))["lamps"]
    assert look.distinct == 2
    assert look.notes == ["2 lines fit no record, such as 'lamp{id=\"2\"} NaN'"]
    vouched = lamps(f"{{path: /, shape: {shape}, complete: the guide says so}}")
    assert looks(serve(lambda *_: (200, said)).url, vouched)["lamps"].outcome == "unproven"
    wrong = shape.replace("lamp.id", "lump.id")
    look = looks(serve(lambda *_: (200, said)).url, lamps(f"{{path: /, shape: {wrong}}}"))["lamps"]
    assert look.outcome == "partial"


# --- ids


def test_ids_are_kept_exactly_as_they_are_sent(serve):
    ids = ["N/A", "-", " a", "a", "A", "none", "0", "x "]
    served = serve(lambda *_: (200, [{"id": one, "label": "l"} for one in ids]))
    look = looks(served.url, lamps("{path: /}"))["lamps"]
    assert look.frame["record_id"].to_list() == ids
    assert look.outcome == "unproven"


@pytest.mark.parametrize(
    ("ids", "fields", "fault"),
    [(["", "a"], "record_id: id", "came without an id"), ([{"x": 1}, "a"], "record_id: id", "came without an id"),
     (["A", "a"], "record_id: {from: id, as: lower}", "no longer different"),
     (["N/A", "a"], "record_id: {from: id, as: text}", "ids are missing")],
)  # fmt: skip
def test_ids_that_are_lost_in_reading_are_a_fault(serve, ids, fields, fault):
    served = serve(lambda *_: (200, [{"id": one} for one in ids]))
    look = looks(served.url, dialect(f"tables: {{lamps: {{read: {{path: /}}, fields: {{{fields}}}}}}}"))["lamps"]
    assert look.outcome == "partial"
    assert fault in look.fault


def test_a_mapping_whose_values_are_no_records_is_a_fault(serve):
    served = serve(lambda *_: (200, {"a": {"label": "one"}, "b": "two"}))
    with pytest.raises(BadAnswer, match=r"1 values at \$ are not mappings, such as that of 'b'"):
        looks(served.url, lamps("{path: /, keyed_by: id}"))


# --- lists below parents, and details


BELOW = """
limits: {tries: 1}
tables:
  rooms: {read: {path: /rooms, complete: the guide says so}, fields: {record_id: id}}
  lamps:
    read: {each: {of: rooms}, path: "/rooms/{record_id}/lamps", complete: the guide says so}
    fields: {record_id: {from: id, below_parent: true}}
  doors: {read: {path: /doors, complete: the guide says so}, fields: {record_id: id}}
"""


@pytest.mark.parametrize(
    ("statuses", "outcome", "came", "told"),
    [
        ({}, "whole", 40, ""),
        ({"3": 404}, "whole", 38, ""),
        (dict.fromkeys(map(str, range(20)), 404), "partial", 0, "20 of 20 rooms are not known there any more"),
        (dict.fromkeys("1234", 404), "partial", 32, "4 of 20 rooms are not known there any more"),
        ({"3": 500}, "partial", 38, "the lists of 1 of 20 rooms could not be had"),
        ({"3": 403}, "partial", 38, "does not allow /rooms/3/lamps"),
    ],
)
def test_a_list_that_cannot_be_had_costs_its_parent_only(serve, statuses, outcome, came, told):
    def answer(_m, path, *_):
        if path == "/rooms":
            return 200, [{"id": str(at)} for at in range(20)]
        room = path.split("/")[2] if path != "/doors" else ""
        return (statuses[room], {}) if room in statuses else (200, [{"id": 1}, {"id": 2}])

    missed = {}
    found = looks(serve(answer).url, dialect(BELOW), ["lamps", "doors"], lambda t, e: missed.update({t: e}))
    assert (found["lamps"].outcome, found["lamps"].distinct) == (outcome, came), found["lamps"].why
    assert told in (found["lamps"].why or "")
    assert found["doors"].outcome == "whole"
    assert not missed


@pytest.mark.parametrize(
    ("gone", "record", "told"), [(23, "d", "23 of 23 records went away"), (0, "x", "at x in the answer")]
)
def test_details_that_are_all_gone_or_elsewhere_are_a_fault(serve, gone, record, told):
    def answer(_m, path, *_):
        return (200, RECORDS) if path == "/lamps" else (404, {}) if gone else (200, {"d": {"watts": 1}})

    read = f"{{path: /lamps, details: {{path: '/lamps/{{id}}', record: {record}}}, complete: the guide says so}}"
    look = looks(serve(answer).url, lamps(read))["lamps"]
    assert look.outcome == "partial"
    assert told in look.fault


# --- one odd thing costs one table


@pytest.mark.parametrize("what", ["status", "page", "odd"])
def test_one_table_that_fails_costs_that_table_and_what_refers_to_it(shell, serve, what):
    """Whatever goes wrong is told with system and table, and no other system or table pays for it."""

    def answer(_m, path, *_):
        if path == "/rooms" and what != "odd":
            return (418, {}) if what == "status" else (200, b"<html>")
        if path == "/rooms":
            return 200, [{"id": {"odd": [1]}, "label": 1}, 7]
        return 200, [{"id": 1}]

    (shell.folder / "dialects" / "odd.yaml").write_text(
        "format: 1\nname: odd\ntitle: Odd\nlimits: {tries: 1}\n" + BELOW.replace("\nlimits: {tries: 1}", "")
    )
    shell("system", "add", "odd", "-d", "odd", "-u", serve(answer).url)
    done = shell("pull", "odd", "stowage", "-f", "json", status=4)
    outcomes = {(row["system"], row["table"]): row["outcome"] for row in json.loads(done.stdout)}
    assert outcomes["odd", "rooms"] == outcomes["odd", "lamps"] == "failed"
    assert outcomes["odd", "doors"] == outcomes["stowage", "devices"] == "whole"
    assert "odd/rooms: " in done.stderr
    assert "odd/lamps: not tried, since rooms failed" in done.stderr
    assert "ExceptionGroup" not in done.stderr


# --- what never leaves


@pytest.fixture(scope="module")
def harbours():
    """A system, and another host that keeps what comes to it."""
    stolen = []

    def thief(_m, path, query, body, headers):
        stolen.append((path, headers))
        return 200, []

    state = {"id": "", "next": ""}

    def answer(_m, path, *_):
        whole = path.endswith("/lamps")
        return 200, {
            "l": [{"id": state["id"], "label": "x"}] if whole else [],
            "next": state["next"] if whole else None,
        }

    ours, theirs = Lamplight(answer), Lamplight(thief)
    yield ours, theirs, state, stolen
    ours.server.shutdown()
    theirs.server.shutdown()


THEFT = [
    "@{}/steal", "//{}/steal", "http://{}/steal", "http://us:pw@{}/steal", "/\\\\{}/x", "\\\\{}", "http:\\\\{}",
    ":@{}/", "http://{}\\@lamps/", "?@{}", "#@{}/", "../..//{}/", "http:///{}/", "HTTP://{}", "javascript://{}",
    "\t//{}/", "%40{}",
]  # fmt: skip


@settings(max_examples=80, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.sampled_from([*THEFT, None]), st.sampled_from(["id", "next", "mark"]), st.sampled_from(["", "/api", "/"]),
    st.sampled_from(["{id}", "/{id}", "/lamps/{id}", "lamps/{id}/more"]), st.text(max_size=12),
)  # fmt: skip
def test_no_id_and_no_link_sends_a_key_elsewhere(harbours, how, place, base, path, noise):
    """Whatever a system says in its ids and links, credentials go to its own origin only."""
    ours, theirs, state, stolen = harbours
    there = theirs.url.removeprefix("http://")
    state["id"], state["next"] = "1", None
    state["id" if place == "id" else "next"] = noise if how is None else how.format(there) + noise
    pages = "{by: cursor, next: next, cursor: at}" if place == "mark" else "{by: link, next: next}"
    read = f"path: /lamps, records: l, pages: {pages}, details: {{path: '{path}'}}"
    spoken = lamps(f"{{{read}}}", base=base, limits={"tries": 1, "timeout": 5}, sign_in={
        "by": "header", "header": "Key", "value": "{key}"})  # fmt: skip
    with contextlib.suppress(WireError):
        looks(ours.url, spoken, key=Secret("k3y-of-ours"))
    assert not stolen


@pytest.mark.parametrize("number", ["..", ".", ""])
def test_an_id_that_would_mean_another_address_is_never_sent(serve, number):
    from concordex.wire.writing.records import delete

    served = serve(lambda *_: (200, {}))
    spoken = dialect(
        "tables: {lamps: {read: {path: /lamps}, fields: {record_id: id},"
        " write: {keys: name, delete: {path: '/lamps/{record_id}'}}}}".replace("keys: name", "keys: record_id")
    )

    async def within():
        async with Session(Endpoint(name="lamplight", url=served.url), spoken) as session:
            await delete(session, spoken.tables["lamps"].write.delete, [number])

    with pytest.raises(WireError, match="would mean another"):
        run(within())
    assert not served.requests


@pytest.mark.parametrize("number", ["..", "/.", "../in", "a/../b"])
def test_what_hangs_below_an_id_that_would_mean_another_address_is_not_asked_for_and_not_called_whole(serve, number):
    served = serve(lambda _m, path, *_: (200, {"all": [{"id": number}] if path == "/lamps" else [{"id": "x"}]}))
    spoken = dialect(
        "{tables: {lamps: {read: {path: /lamps, records: all, complete: so it is said}, fields: {record_id: id}},"
        " ports: {read: {path: '/lamps/{record_id}/ports', each: {of: lamps}, records: all, complete: so it is said},"
        " fields: {record_id: {from: id, below_parent: true}}}}}"
    )
    came = looks(served.url, spoken, ("lamps", "ports"))
    assert [request[1] for request in served.requests] == ["/lamps"]
    assert came["lamps"].outcome == "whole"
    assert came["ports"].outcome == "partial"
    assert "would mean another" in came["ports"].why


def test_cookies_keep_to_what_they_were_set_for(serve):
    """Path, Secure and Max-Age as RFC 6265 says them."""
    seen = []

    def answer(_m, path, _q, _b, headers):
        seen.append((path, headers.get("Cookie")))
        if path == "/in":
            cookies = ["a=1; Path=/", "b=2; Path=/other", "c=3; Path=/; Secure", "d=4; Path=/; Max-Age=0"]
            return 200, {}, [("Set-Cookie", one) for one in cookies]
        return 200, RECORDS

    spoken = lamps("{path: /lamps}", sign_in={"by": "call", "call": {"path": "/in"}, "carries": {"cookies": True}})
    looks(serve(answer).url, spoken)
    assert seen == [("/in", None), ("/lamps", "a=1")]


# --- sessions


def lasting(uses, pages=True):
    """A system whose sessions let in so many requests, and that counts those that came with a dead one."""
    state = {"opened": 0, "left": 0, "dead": 0, "closed": []}

    def answer(method, path, query, body, headers):
        if path == "/in":
            state["opened"] += 1
            state["left"] = uses
            return 200, {"key": f"k{state['opened']}"}
        if path == "/out":
            state["closed"].append(query["key"])
            return 200, {}
        time.sleep(0.002)
        if headers.get("Key") != f"k{state['opened']}" or state["left"] <= 0:
            state["dead"] += 1
            return 401, {}
        state["left"] -= 1
        at = int(query["from"])
        return 200, {"n": 420, "l": [{"id": i, "label": "x"} for i in range(at, min(at + 2, 420))]}

    return answer, state


OPENED = {"sign_in": {
    "by": "call", "call": {"path": "/in"}, "gives": {"key": "key"}, "carries": {"headers": {"Key": "{key}"}},
    "sign_out": {"path": "/out", "query": {"key": "{key}"}},
}}  # fmt: skip


def test_sessions_that_end_again_and_again_are_renewed_and_ended_by_what_signing_in_gave(serve):
    answer, state = lasting(40)
    read = "{path: /lamps, records: l, total: n, pages: {by: offset, offset: from, limit: many, size: 2}}"
    look = looks(serve(answer).url, lamps(read, limits={"concurrency": 6}, **OPENED))["lamps"]
    assert (look.outcome, look.distinct) == ("whole", 420)
    assert state["dead"] <= 6 * state["opened"]  # only what was under way when a session ended
    assert state["closed"] == [f"k{state['opened']}"]


def test_a_session_that_never_lets_anything_in_is_not_tried_for_ever(serve):
    answer, state = lasting(0)
    read = "{path: /lamps, records: l, total: n, pages: {by: offset, offset: from, limit: many, size: 2}}"
    with pytest.raises(SignInRefused):
        looks(serve(answer).url, lamps(read, **OPENED))
    assert state["opened"] == 2


def test_403_at_sign_in_is_a_wrong_credential(serve):
    with pytest.raises(SignInRefused, match="does not accept the credential"):
        looks(serve(lambda *_: (403, {})).url, lamps("{path: /lamps}", **OPENED))


_DROPPING = """
import asyncio, signal, time
from concordex.cli import app
signal.signal(signal.SIGINT, signal.SIG_IGN)
class Leaving:
    def __del__(self):
        time.sleep(0.1)
async def work():
    for at in range(200):
        Leaving()
        print(at, flush=True)
        await asyncio.sleep(0)
app._command = lambda: lambda *_, **__: asyncio.run(work())
app.run()
"""


@pytest.mark.parametrize("times", [1, 200])
def test_being_told_to_end_is_not_lost_where_python_drops_what_is_raised(times):
    """An object that is taken away swallows what is raised meanwhile; in the background Ctrl-C is ignored.

    Told twice, by a Ctrl-C that was held back or by one more SIGTERM, a loop would break off wherever it is; told as
    the interpreter ends, it would end by the signal.
    """
    process = subprocess.Popen([sys.executable, "-c", _DROPPING], stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    process.stdout.readline()
    process.send_signal(signal.SIGINT)  # is ignored
    for _ in range(3):
        process.stdout.readline()
    assert process.poll() is None
    for _ in range(times):
        process.send_signal(signal.SIGTERM)
        time.sleep(0.003)
        if process.poll() is not None:
            break
    out, told = process.communicate(timeout=60)
    assert (process.returncode, out.count(b"\n") < 20) == (5, True)
    assert told == b"\nstopped\n"


@pytest.mark.parametrize(("how", "ignored"), [(signal.SIGTERM, False), (signal.SIGTERM, True), (signal.SIGINT, False)])
def test_a_pull_that_is_told_to_end_signs_out(shell, serve, how, ignored):
    """SIGTERM ends it as Ctrl-C does: what was finished is kept, and the session is given back.

    Also in the background of a script, where Ctrl-C is ignored.
    """
    answer, state = lasting(10_000)

    def slow(method, path, *rest):
        time.sleep(0.2 if path == "/lamps" else 0)
        return answer(method, path, *rest)

    read = "{path: /lamps, records: l, total: n, pages: {by: offset, offset: from, limit: many, size: 2}}"
    head = f"format: 1\nname: slow\ntitle: Slow\nsign_in: {json.dumps(OPENED['sign_in'])}\n"
    text = f"{head}tables: {{lamps: {{read: {read}, fields: {{record_id: id}}}}}}\n"
    (shell.folder / "dialects" / "slow.yaml").write_text(text)
    shell("system", "add", "slow", "-d", "slow", "-u", serve(slow).url)
    before = signal.signal(signal.SIGINT, signal.SIG_IGN if ignored else signal.getsignal(signal.SIGINT))
    process = Shell(shell.folder).begin("pull", "slow")
    signal.signal(signal.SIGINT, before)
    interrupt(process, lambda: state["left"] and state["left"] < 9_998, how)
    assert process.returncode == 5
    assert state["closed"] == ["k1"]


# --- what is shown of requests


def test_debug_shows_a_request_as_a_person_could_repeat_it(shell, harbour):
    secret = harbour.stowage.secrets()["key"]
    told = Shell(shell.folder)("--debug", "pull", "stowage", "-t", "makers").stderr
    assert f"> GET {harbour.urls['stowage']}/v2/makers?take=500" in told
    assert "> Stowage-Key: ***" in told
    assert '< {"items":[{"id":' in told
    assert secret not in told


@given(st.text(st.characters(codec="utf-8", exclude_categories=["Cs"]), min_size=4, max_size=30).filter(str.strip))
def test_a_secret_is_masked_in_every_form_that_it_takes(secret):
    import base64
    from urllib.parse import quote, quote_plus

    unseen = Unseen()
    unseen.know([secret])
    for form in (secret, quote(secret, safe=""), quote_plus(secret), json.dumps(secret)[1:-1],
                 base64.b64encode(secret.encode()).decode()):  # fmt: skip
        assert form not in unseen.text(f"<<{form}>>") or form in "<<***>>"


# --- absence, and lists that fell


def test_a_list_that_fell_is_not_believed_until_a_person_says_so(shell, harbour):
    full = list(harbour.stowage.lists["gear"].items())
    shell("pull", "stowage")
    try:
        for keep, status in ((len(full) - 5, 0), (len(full) // 2, 4), (0, 4)):
            harbour.stowage.lists["gear"] = dict(full[:keep])
            done = shell("pull", "stowage", "-t", "devices", status=status)
            assert ("it fell from" in done.stderr) == bool(status)
        assert shell.workspace.show("devices", systems=["stowage"]).frame.height == len(full) - 5
        shell("pull", "stowage", "-t", "devices", "--accept-fall")
        assert shell.workspace.show("devices", systems=["stowage"]).frame.height == 0
    finally:
        harbour.stowage.lists["gear"] = dict(full)
    shell.config(lambda text: text + "falls: {share: 0.9}\n")
    shell("pull", "stowage", "-t", "devices")
    harbour.stowage.lists["gear"] = dict(full[: len(full) // 2])
    shell("pull", "stowage", "-t", "devices")
    harbour.stowage.lists["gear"] = dict(full)


def test_a_vouched_list_that_stands_still_while_others_grow_is_remarked_on(shell, serve):
    """So is one of just a hundred records: whoever vouched may have been wrong."""
    sizes = {"/rooms": 100, "/doors": 5}

    def answer(_m, path, *_):
        return 200, [{"id": at} for at in range(sizes.get(path, 0))]

    text = "format: 1\nname: odd\ntitle: Odd\n" + BELOW.replace("\nlimits: {tries: 1}", "")
    (shell.folder / "dialects" / "odd.yaml").write_text(text)
    shell("system", "add", "odd", "-d", "odd", "-u", serve(answer).url)
    assert "odd/rooms: just 100 records" in shell("pull", "odd", "-t", "rooms", "-t", "doors").stderr
    sizes["/doors"] = 9
    told = shell("pull", "odd", "-t", "rooms", "-t", "doors").stderr
    assert "odd/rooms: as many as the last time (100), while doors grew: is it cut?" in told


def test_a_live_list_below_parents_asks_only_the_parents_that_the_filter_allows(tmp_path, harbour):
    from tests.conftest import make_workspace

    shell = make_workspace(tmp_path, harbour, ["masthead"], Near)
    radios = harbour.masthead.radios
    zone = next(z for z in harbour.masthead.zones if any(r["zone"] == z["code"] for r in radios))
    harbour.masthead.faults.requests.clear()
    site = zone["label"].lower().replace(" ", "-")
    found = json.loads(shell("show", "devices", "--live", "--where", f"site = {site}", "-f", "json").stdout)
    asked = [path for _, path in harbour.masthead.faults.requests if "/radios?" in path]
    assert len(found) == sum(radio["zone"] == zone["code"] for radio in radios)
    assert {path.split("/")[3] for path in asked} == {zone["code"]}


def test_nothing_is_missing_from_what_is_unproven_unless_the_workspace_trusts_it(tmp_path, harbour):
    from tests.conftest import make_workspace

    shell = make_workspace(tmp_path, harbour, ["fairlead", "muster", "stowage"], Near)
    (shell.folder / "dialects" / "ours.yaml").write_text(
        "format: 1\nname: ours\ntitle: S\nextends: stowage\n"
        "tables: {devices: {read: {pages: {by: link, next: further, limit: null}}}}\n"
    )
    found = {}
    for trust in ("", "    trust: {devices: unproven}\n"):
        shell.config(lambda text: text.replace("dialect: stowage\n", "dialect: ours\n"))
        shell.config(lambda text, t=trust: text.replace("dialect: ours\n", f"dialect: ours\n{t}"))
        done = shell("pull", "stowage", "-f", "json", status=4 if not trust else 0)
        rows = {row["table"]: row for row in json.loads(done.stdout)}
        assert (rows["devices"]["outcome"], rows["devices"]["proof"]) == ("unproven", None)
        assert (rows["sites"]["outcome"], rows["sites"]["proof"]) == ("whole", "total")
        shell("pull", "fairlead", "muster")
        told = shell("reconcile").stderr
        assert ("stowage is unproven" in told) == (not trust)
        kinds = shell.workspace.findings()
        found[bool(trust)] = kinds.filter(kinds["kind"] == "missing_in_inventory").height
        drafted = shell("sync", "stowage", "--draft", status=None)
        assert ("nothing is prepared on that" in drafted.stderr) == (not trust)
    assert found[False] == 0
    assert found[True] > 0


def test_what_nobody_foresaw_costs_one_table_and_names_it(shell, harbour, monkeypatch):
    """Even an error that is nobody's of ours ends neither the pull nor the other tables."""
    from concordex.work.pull import pull as pulling

    kept = pulling.keep

    def stumbling(workspace, number, system, table, *rest, **more):
        if table == "racks":
            raise TypeError("odd")
        kept(workspace, number, system, table, *rest, **more)

    monkeypatch.setattr(pulling, "keep", stumbling)
    done = shell("pull", "stowage", "fairlead", "-f", "json", status=4)
    outcomes = {(row["system"], row["table"]): row["outcome"] for row in json.loads(done.stdout)}
    assert outcomes.pop(("stowage", "racks")) == "failed"
    assert set(outcomes.values()) == {"whole"}
    assert "stowage/racks: racks could not be read as the dialect says (TypeError: odd)" in done.stderr


@pytest.mark.parametrize(
    ("said", "told"),
    [
        ({"fault": {"text": "too dark"}}, "HTTP 400: too dark"),
        ({"oops": ["a is wrong", "b is wrong"]}, "HTTP 400: a is wrong; b is wrong"),
        ({"detail": {"room": ["no such room"]}}, 'HTTP 400: {"detail":{"room":["no such room"]}}'),
        ({}, "HTTP 400"),
    ],
)
def test_a_refusal_is_told_in_the_systems_own_words_wherever_they_stand(serve, said, told):
    spoken = lamps("{path: /}", errors={"message": ["fault.text", "oops"]})
    with pytest.raises(WireError) as caught:
        looks(serve(lambda *_: (400, said)).url, spoken)
    assert caught.value.why == told


# --- numbers that are none, or larger than a machine's


def test_numbers_of_more_digits_than_a_machine_holds_lose_none(serve):
    """As ids, as names and as totals; what is no number in a header is none."""
    ids = [9223372036854775807, 9223372036854775808, 123456789012345678901234567890, -9223372036854775809, 7]
    body = b'{"l": [%s]}' % b", ".join(b'{"id": %d, "label": %d}' % (one, one) for one in ids)
    answer = serve(lambda *_: (200, body))
    look = run(reading(answer.url, lamps("{path: /l, records: l, complete: one answer holds all}")))
    assert sorted(look.frame["record_id"]) == sorted(map(str, ids))
    assert sorted(look.frame["name"]) == sorted(map(str, ids))


@pytest.mark.parametrize(
    ("said", "wait"),
    [("²", None), ("٣", None), ("1e30", None), ("-5", None), ("soon", None), ("7", 7.0), ("9" * 400, float("inf"))],
)
def test_what_is_no_number_of_seconds_is_no_wait(said, wait):
    """And an endless one is waited for a minute, as any other."""
    assert wait_asked(Reply(503, b"", {"Retry-After": said})) == wait


@pytest.mark.parametrize(
    ("date", "wait"), [("Thu, 03 Feb 2011 10:00:00 GMT", 30.0), ("Thu, 03 Feb 2011 10:01:00 GMT", 0.0), ("soon", None)]
)
def test_a_moment_to_wait_for_is_one_of_the_systems_own_clock(date, wait):
    """Which may be years behind ours."""
    headers = {"Retry-After": "Thu, 03 Feb 2011 10:00:30 GMT", "Date": date}
    assert wait_asked(Reply(503, b"", headers)) == wait


def old_tls() -> ssl.SSLContext:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    certificate = trustme.CA().issue_cert("127.0.0.1")
    certificate.configure_cert(context)
    context.set_ciphers("ALL:@SECLEVEL=0")
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)
        context.minimum_version = context.maximum_version = ssl.TLSVersion.TLSv1_1
    return context


@pytest.mark.parametrize("old", [True, False])
def test_what_fails_before_the_certificate_is_looked_at_is_not_called_untrusted(serve, old):
    """A version of TLS that nobody should speak, or none at all."""
    url = serve(lambda *_: (200, []), old_tls() if old else None).url.replace("http:", "https:")
    with pytest.raises(Unreachable, match="no TLS with 127") as found:
        run(reading(url, lamps("{path: /l}")))
    assert ("1.2 or 1.3" if old else "does it speak http:") in found.value.advice


def test_a_credential_that_no_header_takes_is_told(serve):
    spoken = lamps("{path: /l}", credentials={"key": {"about": "a key", "secret": True}},
                   sign_in={"by": "header", "header": "Lamp-Key", "value": "{key}"})  # fmt: skip
    server = serve(lambda *_: (200, []))
    with pytest.raises(Unreachable, match="cannot be said in HTTP") as found:
        run(reading(server.url, spoken, key=Secret("first line\nLamp-Other: x")))
    assert "Lamp-Other" not in str(found.value)
    assert not server.requests


def test_a_pin_without_a_certificate_is_refused(tmp_path):
    (tmp_path / "concordex.yaml").write_text(
        "format: 1\nsystems:\n  store:\n    dialect: stowage\n    url: http://stowage.example\n"
        f"    credentials: {{key: 'env:X'}}\n    tls: {{fingerprint: {'ab' * 32}}}\n"
    )
    assert "pins a certificate, and http: has none" in Near(tmp_path)("pull", status=1).stderr
