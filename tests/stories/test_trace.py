"""The call behind a click: found in what a browser recorded, whatever else stands there, and no secret told."""

from __future__ import annotations

import base64
import json
import subprocess
import sys
from datetime import UTC, datetime, timedelta

import httpx
import pytest

from tests.conftest import Near

BEGUN = datetime(2026, 11, 20, 14, 3, 0, tzinfo=UTC)
TOKEN, ONCE, COOKIE = "tok-5f2e9a-lantern", "once-77c1d2e3", "crumb-0a9b8c7d"


def entry(at, method, url, answer=None, status=200, sent=None, headers=(), came=(), kind="application/json", **content):
    text = answer if isinstance(answer, str) else json.dumps(answer) if answer is not None else ""
    asked = {"method": method, "url": url, "headers": [{"name": n, "value": v} for n, v in headers]}
    if sent is not None:
        asked["postData"] = {"mimeType": "application/json", "text": json.dumps(sent)}
    return {
        "startedDateTime": (BEGUN + timedelta(seconds=at)).isoformat(), "request": asked,
        "response": {"status": status, "headers": [{"name": n, "value": v} for n, v in came],
                     "content": {"mimeType": kind, "size": len(text), "text": text, **content}},
    }  # fmt: skip


def console() -> list[dict]:
    """A page with its pictures, a session, a list in pages, one of it, polling, a write, and somebody else."""
    home, mine = "https://lamps.example", [("Authorization", f"Bearer {TOKEN}"), ("Cookie", f"crumb={COOKIE}")]
    lamps = [{"id": f"L{at:04d}", "label": f"lamp {at}", "berth": ("quay", "ropewalk")[at == 7]} for at in range(30)]
    told = [
        entry(0, "GET", f"{home}/", "<html>", kind="text/html"),
        entry(0, "GET", f"{home}/app.js", "x", kind="text/javascript"),
        entry(0, "GET", f"{home}/logo.png", kind="image/png", encoding="base64"),
        entry(1, "POST", f"{home}/enter", {"ticket": {"value": TOKEN}, "once": ONCE},
              sent={"user": "keeper", "password": "oil-and-wick"}, came=[("Set-Cookie", f"crumb={COOKIE}; HttpOnly")]),
        entry(2, "GET", f"{home}/api/lamps?page=1&size=20&access_token={TOKEN}", {"lamps": lamps[:20], "found": 30},
              headers=mine),
        entry(3, "GET", f"{home}/api/lamps?page=2&size=20", {"lamps": lamps[20:], "found": 30}, headers=mine),
        entry(4, "POST", "https://counting.example/beacon", {"ok": True}, sent={"page": "/lamps"}),
    ]  # fmt: skip
    told += [entry(5 + at, "GET", f"{home}/api/lamps/L000{at}", {"lamp": lamps[at]}, headers=mine) for at in (1, 2, 7)]
    told += [entry(20 + 5 * at, "GET", f"{home}/api/news", {"news": 0}, headers=mine) for at in range(6)]
    packed = base64.b64encode(json.dumps({"rooms": [{"name": "north"}, {"name": "south"}]}).encode()).decode()
    told.append(entry(22, "GET", f"{home}/api/rooms", packed, headers=mine, encoding="base64"))
    told.append(entry(60, "PATCH", f"{home}/api/lamps/L0007", {"lamp": lamps[7]}, sent={"label": "new"},
                      headers=[*mine, ("X-Once-Token", ONCE)]))  # fmt: skip
    return told


@pytest.fixture
def archive(tmp_path):
    def made(entries, tail="]}}"):
        text = '{"log": {"version": "1.2", "creator": {"name": "x"}, "entries": [' + ", ".join(map(json.dumps, entries))
        (tmp_path / "console.har").write_text(text + tail)
        return Near(tmp_path)

    return made


def test_what_a_console_asked_stands_together_and_noise_is_left_out(archive):
    shell = archive(console())
    done = shell("dialect", "trace", "console.har", "-f", "json")
    rows = {row["call"]: row for row in json.loads(done.stdout)}
    assert list(rows) == [
        "POST /enter", "GET /api/lamps", "GET /api/lamps/{lamp}", "GET /api/news", "GET /api/rooms",
        "PATCH /api/lamps/{lamp}",
    ]  # fmt: skip
    listed = rows["GET /api/lamps"]
    assert (listed["times"], listed["parameters"]) == (2, "page=1|2 size=20 access_token=***")
    assert listed["answers"] == "lamps: 20 records of id, label, berth; found = 30"
    assert rows["GET /api/rooms"]["answers"] == "rooms: 2 records of name"
    assert [call for call, row in rows.items() if row["may_write"]] == ["POST /enter", "PATCH /api/lamps/{lamp}"]
    for told in ("lamps.example; left out: 3 what the page is drawn with, 1 of other hosts, 5 asked again",
                 "POST /enter answers with ticket.value, which", "carried in the header Authorization (Bearer)",
                 "answers with cookie crumb", "in the header X-Once-Token",
                 "in the parameter access_token", "hand it to nobody"):  # fmt: skip
        assert told in done.stderr, told


def test_the_call_of_a_moment_and_of_a_text_is_found_and_no_secret_is_told(archive):
    shell = archive(console())
    near = json.loads(shell("dialect", "trace", "console.har", "--near", "14:04:01", "-f", "json").stdout)
    assert [row["call"] for row in near] == ["PATCH /api/lamps/L0007"]
    held = json.loads(shell("dialect", "trace", "console.har", "--text", "ROPEWALK", "-f", "json").stdout)
    assert [(row["of"], row["found_at"]) for row in held] == [
        ("/api/lamps", "lamps[*].berth"), ("/api/lamps/{lamp}", "lamp.berth"), ("/api/lamps/{lamp}", "lamp.berth"),
    ]  # fmt: skip
    told = ""
    for words in ((), ("--near", "14:03:01"), ("--text", "lamp"), ("--host", "counting.example")):
        done = shell("dialect", "trace", "console.har", *words, "-n", "0")
        told += done.stdout + done.stderr
    assert not [secret for secret in (TOKEN, ONCE, COOKIE, "oil-and-wick") if secret in told]


@pytest.mark.parametrize(
    ("tail", "status", "told"),
    [
        (', {"startedDateTime": "2026', 0, "breaks off, after 18 requests"),
        (', {"request": {}}]}}', 0, "1 of 19 requests are not as"),
        ("]}}", 0, ""),
    ],
)  # fmt: skip
def test_of_a_recording_that_is_cut_off_what_came_is_told(archive, tail, status, told):
    done = archive(console(), tail)("dialect", "trace", "console.har", status=status)
    assert told in done.stderr


@pytest.mark.parametrize(
    ("text", "words", "told"),
    [
        ("", (), "no HTTP Archive"), ('{"a": 1}', (), "holds no request"), ("<html>", (), "no HTTP Archive"),
        (None, (), "No such file"),
        (json.dumps({"log": {"entries": [entry(0, "GET", "http://a/x", "x", kind="text/css")]}}), (), "no data"),
        (json.dumps({"log": {"entries": console()}}), ("--near", "soon"), "not a time of day"),
        (json.dumps({"log": {"entries": console()}}), ("--text", "nowhere at all"), "no call of the recording"),
        (json.dumps({"log": {"entries": console()}}), ("--host", "b"), "hosts are: counting.example, lamps.example"),
    ],
)  # fmt: skip
def test_what_is_no_recording_is_told(tmp_path, text, words, told):
    if text is not None:
        (tmp_path / "console.har").write_text(text)
    done = Near(tmp_path)("dialect", "trace", "console.har", *words, status=None)
    assert done.returncode in (1, 2)
    assert told in done.stderr
    assert "an error of our own" not in done.stderr


def test_what_a_system_is_asked_in_earnest_is_found(tmp_path, harbour):
    """By traffic with a stand-in as a browser would have kept it."""
    fairlead, kept = harbour.named("fairlead"), []
    with httpx.Client(base_url=harbour.urls["fairlead"]) as client:

        def ask(method, path, **more):
            answer = client.request(method, path, **more)
            kept.append(entry(len(kept), method, str(answer.url), answer.json(), answer.status_code, more.get("json"),
                              answer.request.headers.items(), answer.headers.items()))  # fmt: skip
            return answer.json()

        key = ask("POST", "/fl/3/session", json={"operator": "inventory", "passphrase": fairlead.passphrase})[
            "session"
        ]["key"]
        for start in (1, 101, 201):
            ask("GET", "/fl/3/nodes", params={"from": start, "size": 100}, headers={"Fairlead-Session": key})
    (tmp_path / "fairlead.har").write_text(json.dumps({"log": {"entries": kept}}))
    done = Near(tmp_path)("dialect", "trace", "fairlead.har", "-f", "json")
    nodes = json.loads(done.stdout)[1]
    assert nodes["parameters"] == "from=1|101|201 size=100"
    assert f"count = {len(fairlead.nodes)}" in nodes["answers"]
    assert "which 3 later calls carried in the header fairlead-session" in done.stderr
    assert not [secret for secret in (key, fairlead.passphrase) if secret in done.stdout + done.stderr]


def test_a_large_recording_is_read_in_less_memory_than_it_has_bytes(tmp_path):
    """Bodies of a megabyte whose size is in one text: nothing of them but their beginnings is kept."""
    body = json.dumps({"lamps": [{"id": "L1"}], "map": "y" * 1_000_000})
    file = tmp_path / "large.har"
    with file.open("w") as har:
        har.write('{"log": {"version": "1.2", "entries": [')
        for at in range(200):
            asked = {"method": "GET", "url": f"https://quay.example/lamps?page={at}", "headers": []}
            came = {
                "status": 200,
                "headers": [],
                "content": {"size": len(body), "mimeType": "application/json", "text": body},
            }
            entry = {"startedDateTime": "2026-11-30T10:00:00Z", "request": asked, "response": came}
            har.write((", " if at else "") + json.dumps(entry))
        har.write("]}}")
    assert file.stat().st_size > 200_000_000
    watched = (
        "import sys; from concordex.cli.app import status_of; done = status_of(sys.argv[1:]); sys.stdout.flush();"
        "peak = [line for line in open('/proc/self/status') if line.startswith('VmHWM')];"
        "print(peak[0].split()[1], file=sys.stderr); sys.exit(done)"
    )
    words = [sys.executable, "-c", watched, "dialect", "trace", str(file), "-f", "json"]
    process = subprocess.run(words, capture_output=True, text=True, cwd=tmp_path, check=True)
    file.unlink()
    assert json.loads(process.stdout)[0]["times"] == 200
    assert int(process.stderr.split()[-1]) < 140_000  # kilobytes, of which the program itself takes half


def test_words_in_a_path_that_lead_to_records_of_other_forms_are_no_values_and_a_media_type_is_kept(archive):
    """Taken for a value, three lists became one whose owner nobody knew, and none was drafted."""
    home, asked = "https://lamps.example", [("Accept", "application/vnd.lamps+json")]
    kinds = {"lamps": {"label": "a"}, "shelves": {"depth": 1}, "boats": {"sail": "red"}}
    told = [
        entry(at, "GET", f"{home}/sets/{name}/items", {"all": [{"id": n, "told": own} for n in (1, 2)]}, headers=asked)
        for at, (name, own) in enumerate(kinds.items())
    ]
    told += [
        entry(10 + at, "GET", f"{home}/rooms/{name}/keys", {"keys": [{"id": f"{name}-1", "teeth": 4}]}, headers=asked)
        for at, name in enumerate(("north", "south", "east"))
    ]
    shell = archive(told)
    rows = json.loads(shell("dialect", "trace", "console.har", "-f", "json").stdout)
    paths = {row["call"] for row in rows}
    assert paths == {*(f"GET /sets/{name}/items" for name in kinds), "GET /rooms/{room}/keys"}
    shell("dialect", "draft", "drafted", "--from", "console.har", "--output", "drafted.yaml")
    assert (shell.folder / "drafted.yaml").read_text().count('{Accept: "application/vnd.lamps+json"}') == 3


def test_what_was_put_in_the_place_of_a_secret_is_none_and_a_cookie_that_nobody_sent_back_is(archive):
    """A recording of ours was warned of as if it held what had been taken out of it."""
    home = "https://lamps.example"
    clean = [
        entry(0, "POST", f"{home}/enter", {"token": "hidden-secret"}, sent={"password": "hidden-secret"}),
        entry(1, "GET", f"{home}/lamps", {"lamps": [{"id": 1}]}, headers=[("Authorization", "Bearer hidden-secret")]),
    ]
    shell = archive(clean)
    assert "secret" not in shell("dialect", "trace", "console.har").stderr
    cookie = [entry(2, "GET", f"{home}/said", {"said": COOKIE}, came=[("Set-Cookie", f"crumb={COOKIE}; HttpOnly")])]
    shell = archive(clean + cookie)
    told = shell("dialect", "trace", "console.har", "--text", COOKIE[:5])
    assert "holds 1 secret" in told.stderr
    assert COOKIE not in told.stdout + told.stderr


def test_a_token_that_leads_to_the_next_page_is_no_secret_and_the_kind_of_a_token_is_none(archive):
    """Taken for a secret, the pages of such a list were never seen."""
    home, lamps = "https://lamps.example", [{"id": f"L{n}", "label": f"lamp {n}"} for n in range(9)]
    told = [entry(0, "POST", f"{home}/token", {"access_token": "hidden-secret", "token_type": "Bearer"}, sent={"a": 1})]
    for at, mark in ((0, ""), (3, "page_token=mark-3&"), (6, "page_token=mark-6&")):
        body = {"lamps": lamps[at : at + 3], "next_page_token": f"mark-{at + 3}"}
        told.append(entry(1 + at, "GET", f"{home}/lamps?{mark}size=3", body))
    shell = archive(told)
    assert "secret" not in shell("dialect", "trace", "console.har").stderr
    shell("dialect", "draft", "drafted", "--from", "console.har", "--output", "drafted.yaml")
    text = (shell.folder / "drafted.yaml").read_text()
    assert "pages: {by: cursor, next: next_page_token, cursor: page_token, limit: size, size: 3" in text
