"""People are told of each matter once, when they want to be, and of nothing that a server did not take."""

from __future__ import annotations

import hashlib
import hmac
import json
import socket
import ssl
from datetime import UTC, datetime, timedelta
from email import message_from_bytes, policy

import pytest
import trustme
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult

from concordex.work.tell import ways
from tests.conftest import Near
from tests.servers import free_port

LAMPS = """
format: 1
name: lamps
title: Lamps
tables:
  devices: {read: {path: /lamps, records: lamps, total: n, complete: the guide says so}, fields: {record_id: id}}
"""


@pytest.fixture
def house(tmp_path, serve):
    """A workspace with a job, a system that may fail, and a server that takes what is posted, or does not."""
    state = {"lamps": 200, "hook": 204, "posted": []}

    def answer(method, path, _query, body, headers):
        if path == "/hook":
            state["posted"].append((body, dict(headers)))
            return state["hook"], b""
        return state["lamps"], {"lamps": [{"id": "1"}], "n": 1}

    (tmp_path / "dialects").mkdir()
    (tmp_path / "dialects/lamps.yaml").write_text(LAMPS)
    state["url"] = serve(answer).url
    return Near(tmp_path), state


def told_by(shell: Near, state: dict, places: str, jobs: str = "{round: {steps: [pull]}}") -> None:
    (shell.folder / "concordex.yaml").write_text(
        f"format: 1\nsystems: {{a: {{dialect: lamps, url: '{state['url']}'}}}}\njobs: {jobs}\ntell:\n{places}\n"
    )


def lines(shell: Near, name: str = "told.ndjson") -> list[dict]:
    file = shell.folder / name
    return [json.loads(line) for line in file.read_text().splitlines()] if file.exists() else []


def test_a_failure_is_told_once_and_that_it_is_over_and_who_does_not_ask_is_told_nothing(house):
    shell, state = house
    places = ("all: {by: file, file: told.ndjson}", "some: {by: file, file: some.ndjson, of: [recovered]}",
              "none: {by: file, file: none.ndjson, jobs: [other]}")  # fmt: skip
    jobs = "{round: {steps: [pull]}, other: {steps: [system list]}}"
    told_by(shell, state, "\n".join(f"  {place}" for place in places), jobs)
    for status, code in ((403, 1), (403, 1), (200, 0), (403, 1)):
        state["lamps"] = status
        shell("job", "run", "round", status=code)
    assert [one["matters"][0]["kind"] for one in lines(shell)] == ["failed", "recovered", "failed"]
    assert [one["subject"] for one in lines(shell, "some.ndjson")] == ["round is well again"]
    assert lines(shell, "none.ndjson") == []
    assert "`pull` ended with failed" in lines(shell)[0]["matters"][0]["text"]


def test_what_a_line_found_is_told_when_it_is_another_and_a_change_that_waits_once(house):
    shell, state = house
    told_by(shell, state, "  all: {by: file, file: told.ndjson}", "{round: {steps: [findings --count]}}")
    shell("pull")
    shell("reconcile")
    shell("job", "run", "round", status=3)
    shell("job", "run", "round", status=3)
    assert [one["matters"][0]["kind"] for one in lines(shell)] == ["findings"]
    here = shell.workspace
    here.catalogue.database.run("INSERT INTO changes (made, kind, system, state) VALUES ('x', 'push', 'a', 'draft')")
    shell("job", "run", "round", status=3)
    assert [one["subject"] for one in lines(shell)][1:] == ["change 1 waits for somebody to agree"]


class Box:
    """A mail server with TLS and a password, on a loopback port."""

    def __init__(self, tmp_path) -> None:
        self.letters, authority = [], trustme.CA()
        authority.cert_pem.write_to_path(tmp_path / "ca.pem")
        context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        authority.issue_cert("127.0.0.1").configure_cert(context)

        def may(_server, _session, _envelope, _mechanism, given):
            known = (given.login, given.password) == (b"keeper", b"oil-and-wick")
            return AuthResult(success=known, handled=known)

        self.controller = Controller(
            self, hostname="127.0.0.1", port=0, tls_context=context, require_starttls=True, auth_required=True,
            authenticator=may, ready_timeout=20,
        )  # fmt: skip

    async def handle_DATA(self, _server, _session, envelope):
        self.letters.append(envelope)
        return "250 taken"

    def __enter__(self):
        self.controller.port = free_port()
        self.controller.start()
        return self

    def __exit__(self, *_):
        self.controller.stop()


def test_mail_goes_over_tls_signed_in_to_whom_it_is_for_and_is_known_when_it_comes_again(house):
    shell, state = house
    with Box(shell.folder) as box:
        place = f"  ops: {{by: mail, server: 'smtp://127.0.0.1:{box.controller.port}', from: c@quay.example, %s" \
                " to: [watch@quay.example, night@quay.example], user: keeper, password: 'env:OIL'}"  # fmt: skip
        told_by(shell, state, place % "ca: ca.pem,")
        state["lamps"] = 403
        shell("job", "run", "round", status=1, env={"OIL": "wrong"})
        (waiting,) = json.loads(shell("tell", "pending", "-f", "json").stdout)
        assert waiting["sent"] is None
        assert "535" in waiting["fault"]
        shell("tell", "try", "ops", env={"OIL": "oil-and-wick"})
        told_by(shell, state, place % "")  # whoever does not know the authority tells it nothing
        assert "certificate verify failed" in shell("tell", "try", "ops", status=1, env={"OIL": "oil-and-wick"}).stderr
        told_by(shell, state, place % "ca: ca.pem,")
        shell.workspace.catalogue.database.run("UPDATE notices SET next = NULL")
        shell("tell", "send", env={"OIL": "oil-and-wick"})
    assert len(box.letters) == 2
    letter = message_from_bytes(box.letters[1].content, policy=policy.default)
    assert box.letters[1].rcpt_tos == ["watch@quay.example", "night@quay.example"]
    assert (letter["Subject"], letter["Auto-Submitted"]) == ("round failed", "auto-generated")
    assert letter["Message-ID"].endswith("@quay.example>")
    assert "`pull` ended with failed" in letter.get_content()


def test_a_mail_server_that_never_answers_is_waited_for_a_while_and_tried_again(house, monkeypatch):
    shell, state = house
    monkeypatch.setattr(ways, "_STEP", 0.3)
    with socket.socket() as silent:
        silent.bind(("127.0.0.1", 0))
        silent.listen()
        port = silent.getsockname()[1]
        mail = f"{{by: mail, server: 'smtp://127.0.0.1:{port}', from: c@q.example, to: w@q.example}}"
        told_by(shell, state, f"  ops: {mail}")
        state["lamps"] = 403
        begun = datetime.now(UTC)
        shell("job", "run", "round", status=1)
        assert datetime.now(UTC) - begun < timedelta(seconds=30)
    (place,) = json.loads(shell("tell", "list", "-f", "json").stdout)
    assert place["waiting"] == 1
    assert "timed out" in place["fault"]
    assert datetime.fromisoformat(place["goes"]) > begun + timedelta(seconds=20)


def test_a_webhook_that_fails_for_a_day_is_told_all_of_it_at_last_and_each_once(house):
    shell, state = house
    told_by(shell, state, f"  hook: {{by: webhook, url: '{state['url']}/hook', key: 'env:KEY'}}")
    key = {"KEY": "wick-and-oil"}
    state["hook"], state["lamps"] = 500, 403
    shell("job", "run", "round", status=1, env=key)
    here = shell.workspace
    spans = []
    for _ in range(12):
        here.catalogue.database.run("UPDATE notices SET next = NULL")
        assert "HTTP 500" in shell("tell", "send", status=4, env=key).stderr
        spans.append(here.catalogue.notices.waiting()[0].next - here.now())
    assert spans[0] < spans[3] < timedelta(minutes=62)
    assert spans[-1] > timedelta(minutes=58)  # later and later, and never given up
    state["lamps"] = 200
    shell("job", "run", "round", env=key)
    state["hook"] = 204
    shell("tell", "send", env=key)  # not before it is tried again
    before = len(state["posted"])
    here.catalogue.database.run("UPDATE notices SET next = NULL")
    shell("tell", "send", env=key)
    shell("tell", "send", env=key)
    assert len(state["posted"]) in (before, before + 1)
    body, headers = state["posted"][-1]
    assert [one["kind"] for one in body["matters"]] == ["failed", "recovered"]
    assert body["subject"] == "round failed, and 1 more"
    told = {name.lower(): value for name, value in headers.items()}
    signed = hmac.new(b"wick-and-oil", f"{told['concordex-moment']}.".encode() + json_of(body), hashlib.sha256)
    assert told["concordex-hmac"] == f"sha256={signed.hexdigest()}"


def json_of(body: dict) -> bytes:
    import orjson

    return orjson.dumps(body)


def test_a_template_and_signatures_by_the_standard_and_a_command_that_fails(house):
    shell, state = house
    (shell.folder / "said.j2").write_text("{{ subject }} ({{ matters | length }})\n")
    (shell.folder / "bad.j2").write_text("{{ nothing.there }}\n")
    told_by(
        shell,
        state,
        f"""  hook: {{by: webhook, url: '{state["url"]}/hook', template: said.j2, media_type: text/plain,
    key: 'env:KEY', signed: hmac-sha256}}
  bad: {{by: file, file: x, template: bad.j2}}
  run: {{by: command, run: 'sh -c "cat > out.json; exit 3"'}}""",
    )
    shell("tell", "try", "hook", env={"KEY": "wick-and-oil-wick-and-oil-wick-and-oil"})
    _, headers = state["posted"][-1]
    assert {"signature", "signature-input", "content-digest"} <= {name.lower() for name in headers}
    assert "bad.j2 cannot be filled" in shell("tell", "try", "bad", status=2).stderr
    assert "exit status 3" in shell("tell", "try", "run", status=1).stderr
    assert json.loads((shell.folder / "out.json").read_text())["matters"][0]["kind"] == "found"


def test_nothing_is_told_in_the_clear_nor_where_an_answer_leads(house, monkeypatch):
    """A server that offers no TLS, or takes the offer out of its answer, and a webhook that points elsewhere."""
    shell, state = house
    plain = Controller(Box.__new__(Box), hostname="127.0.0.1", port=0, ready_timeout=20)
    plain.handler.letters = []
    plain.port = free_port()
    plain.start()
    try:
        mail = f"{{by: mail, server: 'smtp://127.0.0.1:{plain.port}', from: c@q.example, to: w@q.example}}"
        told_by(shell, state, f"  ops: {mail}\n  hook: {{by: webhook, url: '{state['url']}/hook'}}")
        with monkeypatch.context() as elsewhere:
            elsewhere.setattr(ways.ByMail, "is_here", False)  # as if it were another machine
            assert "nothing is sent in the clear" in shell("tell", "try", "ops", status=1).stderr
        assert plain.handler.letters == []
        shell("tell", "try", "ops")  # on this very machine it may
    finally:
        plain.stop()
    assert len(plain.handler.letters) == 1
    state["hook"] = 307
    assert "HTTP 307" in shell("tell", "try", "hook", status=1).stderr
    assert len(state["posted"]) == 1


def test_in_quiet_hours_and_between_digests_it_waits_and_goes_afterwards_in_one(house):
    shell, state = house
    now = datetime.now(UTC)
    begin, end = (f"{now + timedelta(hours=hours):%H:%M}" for hours in (-1, 2))
    told_by(shell, state, f"  night: {{by: file, file: told.ndjson, quiet: [{{begin: '{begin}', end: '{end}'}}]}}\n"
                          "  daily: {by: file, file: daily.ndjson, digest: 1d}")  # fmt: skip
    for status, code in ((403, 1), (200, 0), (403, 1)):
        state["lamps"] = status
        shell("job", "run", "round", status=code)
    assert lines(shell) == lines(shell, "daily.ndjson") == []
    places = json.loads(shell("tell", "list", "-f", "json").stdout)
    goes = {one["place"]: datetime.fromisoformat(one["goes"]) for one in places}
    assert timedelta(hours=1, minutes=58) < goes["night"] - now <= timedelta(hours=2)
    assert timedelta(hours=23) < goes["daily"] - now < timedelta(hours=25)
    here = shell.workspace
    here.now = lambda: now + timedelta(days=2, hours=2)
    assert list(here.telling.deliver()) == [("night", ""), ("daily", "")]
    assert [len(one["matters"]) for one in (*lines(shell), *lines(shell, "daily.ndjson"))] == [3, 3]


@pytest.mark.parametrize(
    ("place", "told"),
    [
        ("{by: mail, server: 'smtp://mail.example', from: a@b.example, to: [c]}", "no address for mail"),
        ("{by: mail, server: 'mail.example', from: a@b.example, to: c@b.example}", "should be smtps://"),
        ("{by: mail, server: 'smtp://m', from: a@b.example, to: c@b.example, user: u, password: x}", "is a secret"),
        ("{by: mail, server: 'smtp://m.example', from: a@b.example, to: c@b.example, password: 'env:X'}", "is missing"),
        ("{by: webhook, url: 'http://other.example/hook'}", "is not https"),
        ("{by: webhook, url: 'https://other.example/hook', key: abc}", "is a secret"),
        ("{by: pigeon}", "tell.ops"),
        ("{by: file, file: x, of: [rain]}", "tell.ops"),
        ("{by: file, file: x, jobs: [nights]}", "there is no job 'nights'"),
    ],
)
def test_a_place_that_cannot_be_meant_is_told_where_it_stands(house, place, told):
    shell, state = house
    told_by(shell, state, f"  ops: {place}")
    assert told in shell("tell", "list", status=1).stderr


def test_who_may_alter_the_workspace_may_not_have_a_command_run_by_it(house):
    shell, state = house
    told_by(shell, state, "  run: {by: command, run: 'touch ran'}")
    (shell.folder / "concordex.yaml").chmod(0o666)
    home = {"HOME": str(shell.folder / "home")}
    assert "may not be used by this workspace" in shell("tell", "try", "run", status=1, env=home).stderr
    assert not (shell.folder / "ran").exists()
    assert "touch ran" in shell("trust", "--yes", env=home).stdout
    shell("tell", "try", "run", env=home)
    assert (shell.folder / "ran").exists()
