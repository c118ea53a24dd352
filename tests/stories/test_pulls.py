"""Pulls: complete or said so, whatever the systems do."""

from __future__ import annotations

import json
import socket
import ssl
import threading
from http.server import BaseHTTPRequestHandler, HTTPServer

import pytest
import trustme

from tests.conftest import interrupt

pytestmark = pytest.mark.devices(200)  # more than a page of each


def outcomes(shell, *words, status=0):
    """What became of each table, by system."""
    done = shell("pull", *words, "--format", "json", status=status)
    return {(row["system"], row["table"]): row for row in json.loads(done.stdout)}, done.stderr


def test_everything_that_is_announced_comes_once(shell, harbour):
    found, _ = outcomes(shell)
    assert {row["outcome"] for row in found.values()} == {"whole"}
    devices = found["fairlead", "devices"]
    assert devices["announced"] == devices["received"] == devices["distinct"] == len(harbour.fairlead.nodes)
    frame = shell.workspace.show("devices", systems=["muster"], columns=["record_id"]).frame
    assert set(frame["record_id"]) == {record["deviceId"] for record in harbour.muster.devices}


def test_the_history_tells_each_pull(shell):
    shell("pull", "stowage")
    shell("pull", "muster", "--table", "devices")
    rows = json.loads(shell("pulls", "--format", "json").stdout)
    assert [(row["pull"], row["systems"], row["tables"], row["outcome"]) for row in rows] == [
        (2, "muster", 1, "whole"),
        (1, "stowage", 7, "whole"),
    ]
    one = json.loads(shell("pulls", "1", "--format", "json").stdout)
    assert {row["table"] for row in one} == {"sites", "racks", "makers", "models", "devices", "roles", "platforms"}


def test_ids_of_other_tables_become_what_they_mean(shell, harbour):
    shell("pull", "stowage", "--table", "devices")
    row = shell.workspace.show("devices", columns=["site", "maker", "model"], sort=["record_id"]).frame.row(0)
    told = harbour.accounts.stowage[0]
    assert row == (told["place"], told["maker"], told["product"])


def test_a_list_cut_short_is_partial_and_older_truth_stays(shell, harbour):
    shell("pull", "muster")
    harbour.muster.faults.add("short", "/muster")
    found, told = outcomes(shell, "muster", status=4)
    assert found["muster", "devices"]["outcome"] == "partial"
    assert found["muster", "devices"]["distinct"] < found["muster", "devices"]["announced"]
    assert "two looks did not add up: " in told
    shown = shell("show", "devices", "--format", "ndjson")
    assert len(shown.stdout.splitlines()) == len(harbour.muster.devices)
    assert "pull 2 was partial" in shown.stderr


def test_a_second_look_mends_what_one_look_missed(shell, harbour):
    harbour.muster.faults.add("short", "/muster", times=1)
    found, told = outcomes(shell, "muster")
    assert found["muster", "devices"]["outcome"] == "whole"
    assert "the second did" in told


@pytest.mark.parametrize("kind", ["busy", "fail", "drop", "cut"])
def test_a_fault_that_passes_is_tried_again(shell, harbour, kind):
    harbour.fairlead.faults.add(kind, "/fl/3/nodes", times=1, after=1)
    found, _ = outcomes(shell, "fairlead", "--table", "devices")
    assert found["fairlead", "devices"]["outcome"] == "whole"
    assert found["fairlead", "devices"]["retries"] == 1


def test_a_page_that_never_comes_leaves_a_partial_table_and_the_others_go_on(shell, harbour):
    harbour.fairlead.faults.add("fail", "/fl/3/nodes", after=1)
    found, told = outcomes(shell, status=4)
    assert found["fairlead", "devices"]["outcome"] == "partial"
    assert found["fairlead", "devices"]["received"] == 100
    assert "HTTP 500: out of order" in told
    assert found["muster", "devices"]["outcome"] == found["stowage", "devices"]["outcome"] == "whole"


def test_a_token_that_runs_out_in_the_middle_is_renewed(shell, harbour, monkeypatch):
    monkeypatch.setattr(harbour.muster, "lasts", 5.02)  # 5 s before its end a token is no longer used
    harbour.muster.faults.latency = 0.05
    try:
        found, _ = outcomes(shell, "muster")
    finally:
        harbour.muster.faults.latency = 0
    assert found["muster", "devices"]["outcome"] == "whole"
    assert sum(path == "/oauth/token" for _, path in harbour.muster.faults.requests) > 1


def test_a_session_that_the_system_ended_is_renewed(shell, harbour):
    process = shell.begin("pull", "fairlead", "--table", "interfaces")
    harbour.fairlead.faults.add("slow", "/fl/3/ports", seconds=0.3)
    while len(harbour.fairlead.faults.requests) < 2 and process.poll() is None:
        harbour.fairlead.sessions.clear()
    harbour.fairlead.sessions.clear()
    process.communicate(timeout=60)
    assert process.returncode == 0


FAULTS = [
    ("page", "/muster", "answered with a web page instead of JSON", "sign-in page"),
    ("cut", "/muster", "JSON that is cut off", ""),
    ("fail", "/muster", "HTTP 500", "try again later"),
]


@pytest.mark.parametrize(("kind", "path", "what", "advice"), FAULTS)
def test_what_is_not_an_answer_is_told_in_plain_words(shell, harbour, kind, path, what, advice):
    harbour.muster.faults.add(kind, path)
    found, told = outcomes(shell, "muster", "-t", "devices", status=1)
    assert found["muster", "devices"]["outcome"] == "failed"
    assert what in told
    check = shell("system", "check", "muster", status=1)
    assert what in check.stdout
    assert advice in check.stderr


def test_a_wrong_credential_is_told_and_nothing_else_is_tried(shell, harbour):
    (shell.folder.parent / "muster.secret").write_text("wrong")
    _, told = outcomes(shell, "muster", status=1)
    assert "does not accept the credential" in told
    assert "HTTP 401" in told
    assert {path for _, path in harbour.muster.faults.requests} == {"/oauth/token"}


def test_a_path_that_is_not_there_is_told(shell, harbour):
    shell.config(lambda text: text.replace(harbour.urls["fairlead"], harbour.urls["fairlead"] + "/old"))
    done = shell("system", "check", "fairlead", status=1)
    assert "HTTP 404" in done.stdout
    assert "does the url in concordex.yaml" in done.stderr


def test_an_unreachable_system_is_told(shell, harbour):
    with socket.socket() as unused:
        unused.bind(("127.0.0.1", 0))
        port = unused.getsockname()[1]
    shell.config(lambda text: text.replace(harbour.urls["muster"], f"http://127.0.0.1:{port}"))
    done = shell("system", "check", "muster", status=1)
    assert "network fault: cannot connect" in done.stdout
    shell.config(lambda text: text.replace(f"http://127.0.0.1:{port}", "http://muster.invalid"))
    assert "does not resolve" in shell("system", "check", "muster", status=1).stdout


class _Quiet(BaseHTTPRequestHandler):
    def do_GET(self):
        body = json.dumps({"items": [], "total": 0, "more": None}).encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_):
        """Say nothing."""


def test_a_certificate_that_is_not_trusted_stops_until_its_ca_is_named(shell, harbour, tmp_path):
    ca = trustme.CA()
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    ca.issue_cert("localhost").configure_cert(context)
    server = HTTPServer(("127.0.0.1", 0), _Quiet)
    server.socket = context.wrap_socket(server.socket, server_side=True)
    threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True).start()
    try:
        url = f"https://localhost:{server.server_address[1]}"
        shell.config(lambda text: text.replace(harbour.urls["stowage"], url))
        done = shell("system", "check", "stowage", status=1)
        assert "certificate of localhost is not trusted" in done.stdout
        assert "name the CA that signed it" in done.stderr
        ca.cert_pem.write_to_path(str(shell.folder / "ca.pem"))
        shell.config(lambda text: text + "    tls: {ca: ca.pem}\n")
        shell("system", "check", "stowage")
    finally:
        server.shutdown()


def test_a_link_to_another_host_is_refused(shell, harbour, monkeypatch):
    monkeypatch.setattr(harbour.muster, "leads_to", "http://127.0.0.2:9/muster/devices?mark=x")
    _, told = outcomes(shell, "muster", status=4)
    assert "link to another host: http://127.0.0.2:9" in told


def test_an_interrupted_pull_keeps_what_was_finished_and_is_called_stopped(shell, harbour):
    harbour.muster.faults.add("slow", "/muster", seconds=20)
    process = shell.begin("pull")
    wanted = len(harbour.fairlead.ports) // 100 + len(harbour.fairlead.nodes) // 100 + 2
    nodes = harbour.fairlead.faults.requests
    stowage = harbour.stowage.faults.requests
    _, told = interrupt(process, lambda: len(nodes) > wanted and sum("gear" in path for _, path in stowage) >= 1)
    assert process.returncode == 5, told
    (row,) = json.loads(shell("pulls", "--format", "json").stdout)
    assert row["outcome"] == "stopped"
    assert not list((shell.folder / ".concordex").rglob(".*.parquet.*"))
    harbour.muster.faults.clear()
    shell("pull")
    shell("reconcile")


def test_no_secret_is_ever_written_anywhere(shell, harbour):
    done = [shell("--debug", "pull"), shell("--debug", "system", "check"), shell("system", "list")]
    (shell.folder.parent / "muster.secret").write_text("wrong-secret-of-ours")
    done.append(shell("--debug", "pull", "muster", status=1))
    written = "".join(d.stdout + d.stderr for d in done).encode()
    written += b"".join(path.read_bytes() for path in shell.folder.rglob("*") if path.is_file())
    secrets = [value for standin in harbour.standins for value in standin.secrets().values()]
    tokens = [*harbour.muster.tokens, *harbour.fairlead.sessions]
    assert tokens
    for secret in [*secrets, *tokens, "wrong-secret-of-ours"]:
        assert secret.encode() not in written
    assert b"/muster/devices" in written  # the requests themselves are shown
