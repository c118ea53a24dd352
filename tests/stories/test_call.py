"""Single calls: what is asked is sent once and understood, no secret is told, and no list is cut unsaid."""

from __future__ import annotations

import base64
import json
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Near

DIALECT = """\
format: 1
name: lamps
title: A house of lamps
base: /house
credentials:
  user: {about: who}
  word: {secret: true, about: the word}
sign_in: %s
errors: {message: said, present: failed}
tables:
  lamps:
    read:
      path: /lamps
      records: lamps
      total: count
      pages: {by: offset, offset: from, limit: many, first: 0, size: 5}
    fields: {record_id: id, name: label}
"""
BASIC = "{by: basic, password: '{word}'}"
WORD = "lantern-word-0815"


@pytest.fixture
def house(tmp_path, serve, monkeypatch):
    """A workspace with one system, which answers as a test says."""
    monkeypatch.setenv("HOUSE_WORD", WORD)

    def made(answer, sign_in=BASIC, more=""):
        server = serve(answer)
        (tmp_path / "dialects").mkdir()
        (tmp_path / "dialects/lamps.yaml").write_text(DIALECT % sign_in)
        (tmp_path / "concordex.yaml").write_text(
            f"format: 1\nsystems:\n  lamps:\n    dialect: lamps\n    url: {server.url}\n{more}"
            "    credentials: {user: keeper, word: 'env:HOUSE_WORD'}\n"
        )
        return Near(tmp_path), server

    return made


def said(method, path, query, body, headers):
    """A house that repeats what it was sent, as some do."""
    if path == "/house/fails":
        return 503, {"said": f"no room for {headers['Authorization']}"}
    if path == "/house/dark":
        return 200, {"said": "dark", "failed": True}
    if path == "/house/odd":
        return 418, {"title": "Out of oil", "detail": "lamp 7", "status": 418}
    return (201 if method == "POST" else 200), {"method": method, "query": query, "body": body, "sent": headers}


def test_an_answer_is_understood_and_stands_alone_in_a_pipe(house):
    shell, server = house(said)
    done = shell("call", "lamps", "/rooms/{room}/lamps", "room=a/b ä", "of=x y&z", "of=2")
    assert json.loads(done.stdout)["method"] == "GET"
    assert server.requests[-1][1] == "/house/rooms/a%2Fb%20%C3%A4/lamps"
    for line in (f"base  {server.url}/house", "/rooms/a/b ä/lamps", "of    x y&z", "(x%20y%26z)", "200 done"):
        assert line in done.stderr, line
    failed = shell("call", "lamps", "/fails", status=1)
    assert "503 not now" in failed.stderr
    assert "it says: no room for" in failed.stderr
    dark = shell("call", "lamps", "/dark", status=1).stderr  # an error that comes as HTTP 200
    assert "200 as if it were done, and yet an error" in dark
    assert "it says: dark" in dark
    assert "Out of oil: lamp 7" in shell("call", "lamps", "/odd", status=1).stderr  # RFC 9457
    assert "418 refused: the request is at fault" in shell("call", "lamps", "/odd", status=1).stderr


def test_no_secret_is_told_by_an_answer_that_repeats_it_or_kept(house, tmp_path):
    shell, _ = house(said)
    packed = base64.b64encode(f"keeper:{WORD}".encode()).decode()
    told = ""
    for words in (("/lamps/1",), ("/fails",), ("/x", "--json", f'{{"word": "{WORD}"}}', "--write", "--yes"),
                  ("/x", "--as", "curl"), ("/x", "--as", "python"), ("/lamps/1", "-o", "kept.json"),
                  ("/lamps/1", "--take", "$", "-f", "json")):  # fmt: skip
        done = shell("call", "lamps", *words, status=None)
        told += done.stdout + done.stderr
    told += shell("call", "--history").stdout + (tmp_path / ".concordex/calls.ndjson").read_text()
    assert WORD not in told
    assert packed not in told
    assert '-u keeper:"$LAMPS_WORD"' in told
    assert 'os.environ["LAMPS_WORD"]' in told
    assert "which was not kept" in shell("call", "--again", "3", status=None).stderr
    refused = shell("call", "lamps", "/x", "--header", "Authorization=Basic abc", status=2)
    assert "holds a credential" in refused.stderr
    assert packed not in (tmp_path / "kept.json").read_text()


def test_what_may_alter_is_sent_once_when_it_is_meant_and_noted_before(house):
    """Not without --write, not where nothing may be written; cut off without an answer it is not sent again."""
    down = []
    shell, server = house(lambda *asked: (0, "") if asked[1] == "/house/cut" else said(*asked))
    told = shell("call", "lamps", "/lamps", "--json", '{"lit": true}', status=2)
    assert "may alter something, and was not sent" in told.stderr
    assert '{"lit":true}' in told.stderr
    assert "not sent" in shell("call", "lamps", "/lamps/1", "-m", "delete", "--write", status=5).stderr
    assert [asked for asked in server.requests if asked[0] != "GET"] == down
    cut = shell("call", "lamps", "/cut", "-m", "POST", "--write", "--yes", status=None)
    assert "whether it was done is not known" in cut.stderr
    assert [path for method, path, _ in server.requests if method == "POST"] == ["/house/cut"]
    rows = json.loads(shell("call", "--history", "-f", "json").stdout)
    assert (rows[0]["sent"], rows[0]["wrote"]) == ("POST", True)
    assert rows[0]["status"].startswith("the connection was cut")
    shell.config(lambda text: text.replace("    dialect: lamps\n", "    dialect: lamps\n    read_only: true\n"))
    assert "is read-only" in shell("call", "lamps", "/lamps/1", "-m", "DELETE", "--write", "--yes", status=5).stderr


BY_POST = """\
format: 1
name: post
title: One path
sign_in: {by: none}
tables:
  lamps:
    read: {method: POST, path: /all, records: lamps, complete: it says so}
    fields: {record_id: id}
"""
BY_EXEC = """\
format: 1
name: exec
title: One method
sign_in: {by: none}
rpc: {path: /rpc}
tables:
  lamps:
    read: {rpc: run, params: {do: show lamps}, records: lamps, complete: it says so}
    fields: {record_id: id}
"""


def test_one_path_that_serves_for_all_is_not_taken_to_read_whatever_it_is_asked(tmp_path, serve):
    """The dialect reads by POST, and by a method that does anything: what else is asked there may alter something."""
    server = serve(lambda *asked: (200, {"jsonrpc": "2.0", "id": 1, "result": {"lamps": []}, "lamps": []}))
    (tmp_path / "dialects").mkdir()
    for name, text in (("post", BY_POST), ("exec", BY_EXEC)):
        (tmp_path / f"dialects/{name}.yaml").write_text(text)
    systems = "".join(
        f"  {one}: {{dialect: {name}, url: '{server.url}'}}\n" for one, name in (("a", "post"), ("b", "exec"))
    )
    (tmp_path / "concordex.yaml").write_text(f"format: 1\nsystems:\n{systems}")
    shell = Near(tmp_path)
    for words in (("a", "lamps"), ("b", "lamps"), ("b", "run", "do=show lamps")):
        shell("call", *words)
    sent = len(server.requests)
    for words in (("a", "/all", "-m", "POST"), ("a", "lamps", "--json", '{"mutation": 1}'), ("b", "run", "do=restart"),
                  ("b", "run"), ("b", "lamps", "do=restart")):  # fmt: skip
        assert "was not sent" in shell("call", *words, status=2).stderr, words
    assert len(server.requests) == sent


LAMPS = [{"id": at, "label": f"lamp {at}"} for at in range(1, 13)]


def paged(method, path, query, body, headers):
    start = int(query.get("from", 0))
    page = LAMPS[start : start + min(int(query.get("many", 5)), 5)]
    if path == "/house/linked":
        after = start + 5
        more = [("Link", f'<?from={after}>; rel="next"')] if after < len(LAMPS) else []
        return 200, {"lamps": page}, more
    if path == "/house/round":
        return 200, {"lamps": page, "paging": {"next": "/house/round?from=0" if start else "/house/round?from=5"}}
    if path == "/house/away":
        return 200, {"lamps": page, "next": "http://127.0.0.2:9/house/away"}
    return 200, {"lamps": page, "count": len(LAMPS)}


def test_all_pages_are_read_as_the_dialect_or_the_answer_says_and_no_list_is_called_whole_unproved(house):
    shell, server = house(paged)
    whole = shell("call", "lamps", "lamps", "--all")
    assert json.loads(whole.stdout) == LAMPS
    assert "as the dialect reads lamps: whole" in whole.stderr
    for words in (("/linked", "--take", "lamps"), ("/lamps", "--take", "lamps"), ("lamps", "--as-table", "lamps")):
        done = shell("call", "lamps", *words, "--all", "-f", "json")
        assert len(json.loads(done.stdout)) == len(LAMPS), words
    assert json.loads(done.stdout)[0] == {"record_id": "1", "name": "lamp 1"}
    linked = shell("call", "lamps", "/linked", "--all")
    assert json.loads(linked.stdout) == LAMPS
    assert "that they are all is not proved" in linked.stderr
    assert "was read already" in shell("call", "lamps", "/round", "--all").stderr  # and it ends
    cut = shell("call", "lamps", "/other", "--all")
    assert "whether it is all is not known" in cut.stderr
    server.requests.clear()
    away = shell("call", "lamps", "/away", "--all", status=1)
    assert "another host" in away.stderr
    assert len(json.loads(shell("call", "lamps", "/lamps", "--take", "$.lamps[*].id", "-f", "json").stdout)) == 5


TWO = """\
format: 1
name: two
title: One method, and one path, for two lists
sign_in: {by: none}
rpc: {path: /rpc}
tables:
  lamps: {read: {rpc: list, params: {kind: lamp}, records: all, complete: it says so}, fields: {record_id: id}}
  oils: {read: {rpc: list, params: {kind: oil}, records: all, complete: it says so}, fields: {record_id: id}}
  wicks: {read: {path: /all, query: {kind: wick}, records: all, complete: it says so}, fields: {record_id: id}}
"""


def test_every_page_of_one_list_is_never_that_of_another(tmp_path, serve):
    """Where one method or path serves for several tables, another one than was meant would be called whole."""

    def answer(method, path, query, body, headers):
        kind = query.get("kind", "anything") if path == "/all" else body["params"].get("kind", "anything")
        held = {"all": [{"id": kind}]}
        return 200, held if path == "/all" else {"jsonrpc": "2.0", "id": body["id"], "result": held}

    server = serve(answer)
    (tmp_path / "dialects").mkdir()
    (tmp_path / "dialects/two.yaml").write_text(TWO)
    (tmp_path / "concordex.yaml").write_text(f"format: 1\nsystems:\n  two: {{dialect: two, url: '{server.url}'}}\n")
    shell = Near(tmp_path)
    for table, kind in (("lamps", "lamp"), ("oils", "oil"), ("wicks", "wick")):
        assert json.loads(shell("call", "two", table, "--all").stdout) == [{"id": kind}]
        assert kind in shell("call", "two", table).stdout
    for words, kind in (
        (("list", "--json", '{"kind": "oil"}'), "oil"),
        (("list", "kind=oil"), "oil"),
        (("/all",), "anything"),
    ):
        assert f'"{kind}"' in shell("call", "two", *words, "--all").stdout, words
    told = shell("call", "two", "/all", "-m", "POST", "--all", "--write", "--yes", status=2).stderr
    assert "may alter something each time" in told
    log = tmp_path / ".concordex/calls.ndjson"
    log.write_text(log.read_text() + '{"call": 99, "sys')  # a process was killed there
    shell("call", "two", "/all", "kind=later")
    assert json.loads(shell("call", "--history", "-n", "1", "-f", "json").stdout)[0]["where"] == "/all kind=later"


SESSION = (
    "{by: call, call: {method: POST, path: /enter, json: {word: '{word}'}}, gives: {t: t},"
    " carries: {headers: {T: '{t}'}}}"
)


def test_a_session_that_ended_is_opened_anew_and_a_wrong_word_is_told(house):
    tokens, good = iter(f"token-number-{at}" for at in range(1, 9)), ["token-number-2"]

    def entered(method, path, query, body, headers):
        if path == "/house/enter":
            return (200, {"t": next(tokens)}) if body["word"] == WORD else (401, {"said": "wrong"})
        return (200, {"in": True}) if headers.get("T") in good else (401, {"said": "who?"})

    shell, server = house(entered, SESSION)
    assert json.loads(shell("call", "lamps", "/x").stdout) == {"in": True}
    assert [path for _, path, _ in server.requests] == ["/house/enter", "/house/x"] * 2
    good.clear()
    told = shell("call", "lamps", "/x", status=1).stderr
    assert "401 who asks is not known" in told
    assert "it says: who?" in told


@pytest.mark.parametrize(
    ("words", "status", "told"),
    [
        (("lamps",), 2, "what is called?"), (("lamps", "lamp"), 2, 'did you mean "lamps"'),
        (("lamps", "/x/{y}"), 2, "what is {y}"), (("lamps", "/x", "y"), 2, "is not NAME=VALUE"),
        (("lamps", "/x/{y}", "y=.."), 1, "would mean another one"), (("lamps", "/x", "--json", "{"), 2, "not JSON"),
        (("lamps", "http://127.0.0.2:9/x"), 1, "another host"), (("lamps", "/x", "--take", "$["), 2, "--take"),
        (("lamps", "/x", "--take", "nothing"), 2, "nothing stands at nothing"),
        (("--again", "99"), 2, "there is no call 99"),
        (("lamps", "/x", "--as-table", "lamp"), 2, "has no table"),
        (("lamps", "/x", "-f", "csv"), 2, "no format of ours"),
        (("lamps", "/x", "--file", "none.json", "--write"), 2, "cannot be read"),
    ],
)  # fmt: skip
def test_what_cannot_be_meant_is_told(house, words, status, told):
    shell, _ = house(said)
    assert told in shell("call", *words, status=status).stderr


def test_what_a_system_describes_is_listed_and_called_by_its_name(tmp_path, harbour):
    from tests.conftest import make_workspace

    shell = make_workspace(tmp_path, harbour, ["muster"], kind=Near)
    assert "nothing says where muster is described" in shell("call", "muster", "--list", status=2).stderr
    shell.config(lambda text: text.replace("  muster:\n", "  muster:\n    describes: /muster/openapi.json\n"))
    rows = json.loads(shell("call", "muster", "--list", "readings", "-f", "json").stdout)
    assert [(row["method"], row["path"]) for row in rows] == [("GET", "/muster/readings")]
    asked = shell(
        "call", "muster", rows[0]["operation"].upper(), "since=0", "--take", "readings", "-n", "2", "-f", "json"
    )
    assert len(json.loads(asked.stdout)) == 2
    deed = next(row["operation"] for row in json.loads(shell("call", "muster", "--list", "-f", "json").stdout)
                if row["path"].endswith("{deed}"))  # fmt: skip
    told = shell("call", "muster", "--about", deed).stdout
    assert f"concordex call muster {deed} number=text deed=text --write" in told
    assert "was not sent" in shell("call", "muster", deed, "number=1", "deed=wipe", status=2).stderr
    assert "did you mean" in shell("call", "muster", "--about", deed[:-1], status=2).stderr
    assert "none of" in shell("call", "muster", "--list", "nothing of this", status=2).stderr
    program = str(Path(sys.executable).with_name("concordex"))

    def completed(*words):
        asked = {
            "_CONCORDEX_COMPLETE": "complete_bash",
            "COMP_WORDS": " ".join(words),
            "COMP_CWORD": str(len(words) - 1),
        }
        return subprocess.run([program], **shell.settings(env=asked), timeout=60, check=False).stdout.split()

    assert completed("concordex", "call", "muster", "list_re") == [rows[0]["operation"]]
    assert completed("concordex", "call", "muster", deed, "de") == ["deed="]
    lies = (
        "openapi: 3.0.0\nservers: [{url: 'https://elsewhere.example/muster'}]\n"
        "paths: {/roles: {get: {operationId: all}, post: {operationId: look, x-question: 'query { roles }'}}}\n"
    )
    (tmp_path / "workspace/lies.yaml").write_text(lies)
    shell.config(lambda text: text.replace("describes: /muster/openapi.json", "describes: lies.yaml"))
    asked = shell("call", "muster", "all", "--take", "roles", "-c", "name", "-f", "csv")
    assert "crew" in asked.stdout
    assert f"GET {harbour.urls['muster']}/muster/roles" in asked.stderr  # and no other host is asked
    assert "was not sent" in shell("call", "muster", "look", status=2).stderr  # that it only reads is its word alone
    shell.config(lambda text: text.replace("describes: lies.yaml", "describes: gone.yaml"))
    assert "there is no such file" in shell("call", "muster", "--list", status=1).stderr
