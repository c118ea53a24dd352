"""The dialect engine against a small server: every way of paging, signing in and writing, by dialects written here."""

from __future__ import annotations

import ssl
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import Thread
from typing import ClassVar

import httpx
import keyring
import pytest
import trustme
from keyring.backend import KeyringBackend
from keyring.errors import KeyringLocked

from concordex import Workspace
from concordex.errors import BadAnswer, CalledWrongly, RequestRefused, SecretError, SignInRefused, WireError
from concordex.standins.server import Harbour
from concordex.unseen import Secret
from concordex.wire.dialect.order import order
from concordex.wire.dialect.paths import at
from concordex.wire.http.session import Endpoint, Session
from concordex.wire.reading.read import count
from concordex.wire.reading.tables import read_tables
from concordex.wire.writing.records import body_of, create, refusals, update
from concordex.work.workspace.secret_sources import fetch, is_reference
from tests.conftest import Near, make_workspace
from tests.lamplight import RECORDS, dialect, lamps, reading, run


def test_a_list_that_comes_at_once(serve):
    served = serve(lambda *_: (200, RECORDS))
    look = run(reading(served.url, lamps("{path: /lamps}")))
    assert (look.announced, look.received, look.distinct, look.outcome) == (None, 23, 23, "unproven")
    assert len(served.requests) == 1


@pytest.mark.parametrize("first", [0, 1])
@pytest.mark.parametrize("total", [True, False])
def test_pages_by_offset(serve, first, total):
    def answer(_m, _p, query, *_):
        start = int(query["from"]) - first
        page = RECORDS[start : start + int(query["size"])]
        return 200, {"lamps": page} | ({"n": len(RECORDS)} if total else {})

    read = f"{{path: /lamps, records: lamps, {'total: n,' if total else ''} "
    read += f"pages: {{by: offset, offset: from, limit: size, first: {first}, size: 5}}}}"
    served = serve(answer)
    look = run(reading(served.url, lamps(read)))
    assert look.outcome == "whole"
    assert look.frame["name"].to_list() == [record["label"] for record in RECORDS]
    assert len(served.requests) == 6 + (not total) + (
        first == 1 and not total
    )  # past the end; from the second on; before the first


@pytest.mark.parametrize("first", [0, 1])
def test_pages_by_number(serve, first):
    def answer(_m, _p, query, *_):
        start = (int(query["page"]) - first) * 4
        return 200, {"total": len(RECORDS), "lamps": RECORDS[start : start + 4]}

    read = f"{{path: /lamps, records: lamps, total: total, pages: {{by: number, page: page, first: {first}, size: 4}}}}"
    look = run(reading(serve(answer).url, lamps(read)))
    assert look.whole
    assert look.distinct == 23


def test_a_page_cap_below_what_was_asked_is_noticed(serve):
    def answer(_m, _p, query, *_):
        start = int(query["from"])
        return 200, {"n": len(RECORDS), "lamps": RECORDS[start : start + min(int(query["size"]), 7)]}

    read = "{path: /lamps, records: lamps, total: n, pages: {by: offset, offset: from, limit: size, size: 50}}"
    look = run(reading(serve(answer).url, lamps(read)))
    assert look.whole
    assert look.notes == ["the system sends 7 records a page, not the 50 asked for"]


def test_links_that_lead_in_a_circle_end(serve):
    served = serve(lambda _m, _p, query, *_: (200, {"lamps": RECORDS[:2], "next": "/api/lamps?mark=1"}))
    read = "{path: /lamps, records: lamps, pages: {by: link, next: next}}"
    look = run(reading(served.url, lamps(read, base="/api")))
    assert {path for _, path, _ in served.requests} == {"/api/lamps"}
    assert "leads back" in look.fault
    assert not look.whole
    assert len(served.requests) < 5


def test_records_that_moved_between_pages_are_seen_and_settled_by_a_second_look(serve):
    """One record is inserted before the second page is asked for: a record comes twice."""
    lists = {"records": list(RECORDS), "moves": True}

    def answer(_m, _p, query, *_):
        start = int(query["from"])
        page = lists["records"][start : start + 10]
        if lists["moves"] and start == 0:
            lists["records"] = [{"id": 99, "label": "new", "room": 1}, *RECORDS]
            lists["moves"] = False
        return 200, {"n": len(lists["records"]), "lamps": page}

    read = "{path: /lamps, records: lamps, total: n, pages: {by: offset, offset: from, limit: size, size: 10}}"
    look = run(reading(serve(answer).url, lamps(read)))
    assert look.whole
    assert look.distinct == 24
    assert "new" in look.frame["name"].to_list()


def test_a_record_without_an_id_makes_a_table_partial(serve):
    look = run(reading(serve(lambda *_: (200, [*RECORDS, {"label": "?"}])).url, lamps("{path: /lamps}")))
    assert not look.whole
    assert look.fault == "1 records came without an id"


@pytest.mark.parametrize(
    ("said", "what"),
    [
        ({"other": []}, "no list of records at lamps"),
        ({"lamps": [1, 2]}, "no list of records at lamps"),
        (b"<html>", "a web page instead of JSON"),
        (b'{"lamps": [NaN]}', "not JSON"),
        (b'{"lamps": ["\xff"]}', "not JSON"),
        (b'{"lamps": "' + b"x" * 5000 + b'"}', "larger than 4,000 bytes"),
    ],
)
def test_what_is_no_list_is_told(serve, said, what):
    spoken = lamps("{path: /lamps, records: lamps}", limits={"answer": 4000, "tries": 1})
    with pytest.raises(WireError, match=what):
        run(reading(serve(lambda *_: (200, said)).url, spoken))


@pytest.mark.parametrize(
    ("status", "error", "what"),
    [
        (401, SignInRefused, "does not accept"),
        (403, SignInRefused, "does not allow"),
        (404, RequestRefused, "knows no /lamps"),
        (400, RequestRefused, "refused /lamps"),
        (302, BadAnswer, "redirects to nowhere"),
        (503, WireError, "failed at /lamps"),
    ],
)
def test_statuses_are_told_in_plain_words_with_what_the_system_said(serve, status, error, what):
    spoken = lamps("{path: /lamps}", limits={"tries": 1}, errors={"message": "oh.text"})
    with pytest.raises(error, match=what) as caught:
        run(reading(serve(lambda *_: (status, {"oh": {"text": "too dark"}})).url, spoken))
    if error is RequestRefused:
        assert "too dark" in caught.value.why


def test_basic_and_header_sign_in_go_with_every_request(serve):
    seen = []

    def answer(_m, _p, _q, _b, headers):
        seen.append((headers.get("Authorization"), headers.get("Lamp-Key")))
        return 200, RECORDS

    url = serve(answer).url
    basic = lamps("{path: /lamps}", sign_in={"by": "basic"})
    run(reading(url, basic, user="Aladdin", password=Secret("open sesame")))
    key = lamps("{path: /lamps}", sign_in={"by": "header", "header": "Lamp-Key", "value": "Key {token}"})
    run(reading(url, key, token=Secret("t0")))
    assert seen == [("Basic QWxhZGRpbjpvcGVuIHNlc2FtZQ==", None), (None, "Key t0")]  # RFC 7617, section 2


def test_a_sign_in_call_happens_once_and_again_when_its_token_is_refused(serve):
    state = {"calls": 0}

    def answer(_m, path, _q, body, headers):
        if path == "/in":
            state["calls"] += 1
            assert body == {"who": "me", "word": ["s3cret"]}
            return 200, {"t": f"token-{state['calls']}"}
        return (200, RECORDS) if headers.get("Lamp") == "token-2" else (401, {})

    spoken = lamps(
        "{path: /lamps}",
        sign_in={
            "by": "call",
            "call": {"path": "/in", "json": {"who": "{user}", "word": ["{word}"]}},
            "gives": {"token": "t"},
            "carries": {"headers": {"Lamp": "{token}"}},
        },
    )
    look = run(reading(serve(answer).url, spoken, user="me", word=Secret("s3cret")))
    assert look.whole
    assert state["calls"] == 2


ROOMS = """
tables:
  houses: {read: {path: /houses}, fields: {record_id: id, name: label}}
  rooms:
    read: {path: /rooms}
    fields: {record_id: id, name: label, site: {from: house, via: houses}}
  lamps:
    read: {path: /lamps}
    fields:
      {record_id: id, name: label, ips: addresses, macs: card, kind: type,
      location: {from: room, via: rooms}, site: {from: room, via: rooms, take: site}}
    write:
      keys: [name]
      fields:
        {name: label, ips: {to: addresses, join: ";"}, kind: {to: type, values: {other: lamp}},
        macs: {to: card, take: first}}
      references: {location: {to: room, via: rooms, by: {name: location}}}
      create: {path: /lamps, made: $}
      update: {path: "/lamps/{record_id}", method: PATCH}
"""


def test_tables_that_refer_to_each_other_are_read_in_order_and_joined(serve):
    lists = {
        "/houses": [{"id": 7, "label": "Pier"}],
        "/rooms": [{"id": 1, "label": "Hall", "house": 7}, {"id": 2, "label": "Attic", "house": None}],
        "/lamps": RECORDS[:3],
    }
    spoken = dialect(ROOMS)
    assert order(spoken, ["lamps"]) == ["houses", "rooms", "lamps"]

    async def everything():
        async with Session(
            Endpoint(name="l", url=serve(lambda _m, path, *_: (200, lists[path])).url), spoken
        ) as session:
            return {name: look.frame async for name, look in read_tables(session, ["lamps"])}

    frame = run(everything())["lamps"]
    assert frame["location"].to_list() == ["Attic", None, "Hall"]
    assert frame["site"].to_list() == [None, None, "Pier"]


def test_tables_that_refer_in_a_circle_are_refused():
    spoken = dialect(
        "tables: {a: {read: {path: /a}, fields: {record_id: id, name: {from: b, via: b}}},"
        " b: {read: {path: /b}, fields: {record_id: id, name: {from: a, via: a}}}}"
    )
    with pytest.raises(CalledWrongly, match="a -> b -> a"):
        order(spoken, ["a"])


def test_our_fields_are_written_as_the_dialect_says():
    write = dialect(ROOMS).tables["lamps"].write
    asked = []
    body = body_of(
        {
            "name": "n",
            "ips": ["10.0.0.1", "10.0.0.2"],
            "kind": "other",
            "macs": ["a", "b"],
            "location": "Hall",
            "serial": "x",
        },
        write,
        lambda table, key: asked.append((table, dict(key))) or 12,
    )
    assert body == {"label": "n", "addresses": "10.0.0.1;10.0.0.2", "type": "lamp", "card": "a", "room": 12}
    assert asked == [("rooms", {"name": "Hall"})]


def test_creating_one_by_one_and_in_lists_and_updating(serve):
    sent = []

    def answer(method, path, _q, body, _h):
        sent.append((method, path, body))
        many = body if isinstance(body, list) else body.get("items") if "items" in body else None
        return 201, [{"id": 40 + at} for at, _ in enumerate(many)] if many is not None else {"id": 40}

    spoken = dialect(ROOMS)
    single = spoken.tables["lamps"].write

    async def talk():
        async with Session(Endpoint(name="l", url=serve(answer).url), spoken) as session:
            one = await create(session, single.create, [{"label": "a"}], at("id"))
            two = await create(
                session, single.create.model_copy(update={"batch_size": 2}), [{"l": 1}, {"l": 2}], at("id")
            )
            named = single.create.model_copy(update={"batch_size": 2, "records": "items"})
            three = await create(session, named, [{"l": 3}], at("id"))
            await update(session, single.update, "40", {"label": "b"})
            with pytest.raises(BadAnswer, match="names 1 new records for 2 sent"):
                await create(session, single.create, [{"label": "a"}, {"label": "b"}], at("id"))
        return one, two, three

    assert run(talk()) == ([40], [40, 41], [40])
    assert sent[:4] == [
        ("POST", "/lamps", {"label": "a"}),
        ("POST", "/lamps", [{"l": 1}, {"l": 2}]),
        ("POST", "/lamps", {"items": [{"l": 3}]}),
        ("PATCH", "/lamps/40", {"label": "b"}),
    ]


def test_refusals_name_the_records_that_they_blame():
    from concordex.wire.dialect import Refusals

    rules = Refusals(records="bad", index="at", reason="why")
    error = RequestRefused("no", http=422, body={"bad": [{"at": 1, "why": "taken"}, {"at": 9, "why": "?"}, {}]})
    assert [(found.index, found.reason) for found in refusals(error, rules, [{}] * 3)] == [(1, "taken")]
    assert refusals(error, None, [{}] * 3) == []
    assert refusals(RequestRefused("no", http=422, body="what"), rules, [{}] * 3) == []


def test_a_count_asks_for_one_record(serve):
    served = serve(lambda _m, _p, query, *_: (200, {"n": 23, "lamps": RECORDS[: int(query["size"])]}))
    read = "{path: /lamps, records: lamps, total: n, pages: {by: offset, offset: from, limit: size, size: 10}}"

    async def ask(spoken):
        async with Session(Endpoint(name="l", url=served.url), spoken) as session:
            return await count(session, "lamps")

    assert run(ask(lamps(read))) == 23
    assert served.requests[0][2]["size"] == "1"
    assert run(ask(lamps("{path: /lamps, records: lamps}"))) is None


def test_secrets_come_from_where_they_are_named(tmp_path, monkeypatch):
    (tmp_path / "key").write_text("from-a-file\n")
    monkeypatch.setenv("LAMP_KEY", "from-the-environment")
    for reference, text in (
        ("file:key", "from-a-file"),
        (f"file:{tmp_path}/key", "from-a-file"),
        ("env:LAMP_KEY", "from-the-environment"),
        ("command:printf '%s' 'from a command'", "from a command"),
    ):
        secret = fetch(reference, tmp_path)
        assert secret.reveal() == text
        assert text not in f"{secret} {secret!r} {[secret]}"
    assert is_reference("env:X")
    assert not is_reference("plain")


@pytest.mark.parametrize(
    ("reference", "what"),
    [("file:nothing", "cannot be read"), ("env:NOT_SET_HERE", "not set"), ("command:false", "exit status 1"),
     ("command:no-such-program-here", "command for a secret failed"), ("command:true", "is empty")],
)  # fmt: skip
def test_a_secret_that_cannot_be_had_is_told(tmp_path, reference, what):
    with pytest.raises(SecretError, match=what):
        fetch(reference, tmp_path)


class Ring(KeyringBackend):
    """A keyring that holds one password, and is locked for one service."""

    priority = 1

    def get_password(self, service: str, username: str) -> str | None:
        if service == "locked":
            raise KeyringLocked("it is locked")
        return {("muster", "deck"): "from-the-ring"}.get((service, username))

    def set_password(self, service: str, username: str, password: str) -> None: ...

    def delete_password(self, service: str, username: str) -> None: ...


def test_a_secret_from_the_keyring(tmp_path):
    before = keyring.get_keyring()
    keyring.set_keyring(Ring())
    try:
        assert fetch("keyring:muster/deck", tmp_path).reveal() == "from-the-ring"
        for reference, what in (("muster/other", "holds nothing"), ("locked/x", "refused")):
            with pytest.raises(SecretError, match=what):
                fetch(f"keyring:{reference}", tmp_path)
    finally:
        keyring.set_keyring(before)


class Proxy(BaseHTTPRequestHandler):
    """A proxy for plain HTTP: a request names the whole address (RFC 9112, section 3.2.2)."""

    protocol_version = "HTTP/1.1"
    asked: ClassVar[list[str]] = []
    client: ClassVar[httpx.Client] = httpx.Client(verify=False, trust_env=False)  # made once: it reads authorities

    def _pass_on(self) -> None:
        self.asked.append(self.path)
        body = self.rfile.read(int(self.headers.get("Content-Length") or 0))
        answer = self.client.request(self.command, self.path, content=body, headers=dict(self.headers))
        self.send_response(answer.status_code)
        self.send_header("Content-Type", answer.headers["content-type"])
        self.send_header("Content-Length", str(len(answer.content)))
        self.end_headers()
        self.wfile.write(answer.content)

    do_GET = do_POST = _pass_on

    def log_message(self, *_: object) -> None: ...


def test_a_system_behind_a_proxy(tmp_path):
    with Harbour.of(60, moment=datetime.now(UTC)) as harbour, ThreadingHTTPServer(("127.0.0.1", 0), Proxy) as proxy:
        Thread(target=proxy.serve_forever, args=(0.01,), daemon=True).start()
        shell = make_workspace(tmp_path, harbour, ("muster",), kind=Near)
        address = f"http://127.0.0.1:{proxy.server_port}"
        shell.config(lambda text: text.replace("dialect: muster\n", f"dialect: muster\n    proxy: {address}\n"))
        assert "whole" in shell("pull", "muster").stdout
        assert all(path.startswith(harbour.urls["muster"]) for path in Proxy.asked)
        assert len(Proxy.asked) > 3
        proxy.shutdown()
        proxy.server_close()
        assert f"the proxy {address} does not let us through" in shell("pull", "muster", status=None).stderr


def test_a_proxy_is_judged_by_the_authorities_of_the_machine(tmp_path):
    """They are read late; what they do not vouch for is told nothing, and what they do is spoken to."""
    ca, tls = trustme.CA(), ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    ca.issue_cert("127.0.0.1").configure_cert(tls)
    ca.cert_pem.write_to_path(tmp_path / "ca.pem")
    Proxy.asked.clear()
    with Harbour.of(60, moment=datetime.now(UTC)) as harbour, ThreadingHTTPServer(("127.0.0.1", 0), Proxy) as proxy:
        proxy.socket = tls.wrap_socket(proxy.socket, server_side=True)
        Thread(target=proxy.serve_forever, args=(0.01,), daemon=True).start()
        shell = make_workspace(tmp_path, harbour, ("muster",))
        address = f"https://127.0.0.1:{proxy.server_port}"
        shell.config(lambda text: text.replace("dialect: muster\n", f"dialect: muster\n    proxy: {address}\n"))
        refused = shell("pull", "muster", status=None)
        assert "certificate" in refused.stderr
        assert not Proxy.asked
        assert "whole" in shell("pull", "muster", env={"SSL_CERT_FILE": str(tmp_path / "ca.pem")}).stdout
        assert len(Proxy.asked) > 3
        proxy.shutdown()


def test_secrets_of_many_systems_are_fetched_side_by_side_and_none_twice(tmp_path):
    """And one that cannot be had costs the system that needs it."""
    slow = f"sh {tmp_path}/slow.sh"
    systems = "".join(
        f"  s{at}: {{dialect: stowage, url: 'http://127.0.0.1:9', credentials: {{key: 'command:{line}'}}}}\n"
        for at, line in enumerate([*[slow] * 3, *(f"{slow} {at}" for at in range(5)), "false"])
    )
    (tmp_path / "slow.sh").write_text(f"echo begun >> {tmp_path}/log; sleep 0.5; wc -l < {tmp_path}/log\n")
    (tmp_path / "concordex.yaml").write_text(f"format: 1\nsystems:\n{systems}")
    workspace = Workspace(tmp_path)
    workspace.secrets.fetch(workspace.systems())
    assert (tmp_path / "log").read_text().count("begun") == 6
    seen = {workspace.session(f"s{at}").endpoint.credentials["key"].reveal() for at in range(8)}
    assert "6" in seen  # every one of them had begun before the first had ended
    with pytest.raises(SecretError, match="the command for a secret failed"):
        workspace.session("s8")
