"""Servers that others wrote, of the tests' own, on loopback ports: PostgreSQL, and an object store."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass
from hashlib import md5
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import psycopg
import pytest

#: Ports that nobody is given who asks for any, and each worker has its own: none is taken before its server is up.
_PORTS = iter(range(21_000 + 500 * int(os.environ.get("PYTEST_XDIST_WORKER", "gw0")[2:]), 32_000))


def free_port() -> int:
    for port in _PORTS:
        with closing(socket.socket()) as free, suppress(OSError):
            free.bind(("127.0.0.1", port))
            return port
    raise AssertionError("no port is free")


@dataclass(frozen=True)
class Postgres:
    """A server that can be stopped and begun again."""

    bins: Path
    folder: Path
    port: int

    @property
    def url(self) -> str:
        return f"postgresql://keeper@127.0.0.1:{self.port}/postgres"

    def run(self, *words: str) -> None:
        person = ["runuser", "-u", "postgres", "--"] if os.getuid() == 0 else []
        subprocess.run([*person, *words], check=True, capture_output=True, cwd=self.folder, timeout=120)

    def make(self) -> None:
        self.run(str(self.bins / "initdb"), "-D", f"{self.folder}/data", "-U", "keeper", "-A", "trust", "--no-sync")

    def start(self) -> None:
        settings = f"-p {self.port} -c listen_addresses=127.0.0.1 -c unix_socket_directories= -c fsync=off"
        log, data = str(self.folder / "log"), f"{self.folder}/data"
        self.run(str(self.bins / "pg_ctl"), "-D", data, "-w", "-l", log, "-o", settings, "start")

    def stop(self, how: str = "immediate") -> None:
        self.run(str(self.bins / "pg_ctl"), "-D", f"{self.folder}/data", "-w", "-m", how, "stop")

    def ask(self, sql: str) -> list[tuple[Any, ...]]:
        with psycopg.connect(self.url, autocommit=True) as connection:
            cursor = connection.execute(sql)
            return cursor.fetchall() if cursor.description else []


@contextmanager
def postgres_server() -> Iterator[Postgres]:
    """A PostgreSQL of Debian's packages; where there is none, nothing is tested of it."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    program = shutil.which("initdb") or (str(found[-1]) if found else None)
    if program is None:
        pytest.skip("PostgreSQL is not installed here")
    folder = Path(tempfile.mkdtemp())  # where another user may go
    if os.getuid() == 0:
        shutil.chown(folder, "postgres")
    server = Postgres(Path(program).resolve().parent, folder, free_port())
    server.make()
    server.start()
    try:
        yield server
    finally:
        server.stop()
        shutil.rmtree(folder)


@contextmanager
def object_store() -> Iterator[str]:
    """A server of S3; its address."""
    port = free_port()
    serve = f"from moto.server import main; main(['-H', '127.0.0.1', '-p', '{port}'])"
    with subprocess.Popen(
        [sys.executable, "-c", serve], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    ) as process:
        try:
            ends = time.monotonic() + 60
            while True:
                try:
                    request = urllib.request.Request(f"http://127.0.0.1:{port}/snapshots", method="PUT")
                    urllib.request.urlopen(request, timeout=5).close()
                    break
                except OSError:
                    assert time.monotonic() < ends and process.poll() is None
                    time.sleep(0.1)
            yield f"http://127.0.0.1:{port}"
        finally:
            process.kill()


class Between:
    """Stands between a client and an object store, and does to it what a test says: ``meets(method, path)``.

    That is nothing, or 503, half (of what is read), or lost (what is put is said to be there, and is not).
    """

    def __init__(self, address: str) -> None:
        self.meets: Callable[[str, str], str] = lambda *_: ""
        outer = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do(self) -> None:
                sent = self.rfile.read(int(self.headers.get("Content-Length", 0)))
                manner = outer.meets(self.command, self.path)
                if manner in ("503", "lost"):
                    self.send_response(503 if manner == "503" else 200)
                    self.send_header("ETag", f'"{md5(sent).hexdigest()}"')
                    self.send_header("Content-Length", "0")
                    self.end_headers()
                    return
                told = {"Content-Type": "application/octet-stream", **self.headers}
                told.pop("Expect", None)
                asked = urllib.request.Request(address + self.path, sent or None, told, method=self.command)
                try:
                    with urllib.request.urlopen(asked, timeout=30) as answer:
                        status, headers, body = answer.status, answer.headers, answer.read()
                except urllib.error.HTTPError as error:
                    status, headers, body = error.code, error.headers, error.read()
                if manner == "half":
                    body = body[: len(body) // 2]
                self.send_response(status)
                for name, value in headers.items():
                    if name.lower() not in ("content-length", "transfer-encoding", "connection", "date", "server"):
                        self.send_header(name, value)
                size = headers.get("Content-Length", "0") if self.command == "HEAD" else str(len(body))
                self.send_header("Content-Length", size)
                self.end_headers()
                self.wfile.write(body)

            do_GET = do_PUT = do_POST = do_HEAD = do_DELETE = do

            def log_message(self, *_: object) -> None:
                """Say nothing."""

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self.server.server_address[1]}"
        threading.Thread(target=self.server.serve_forever, args=(0.01,), daemon=True).start()
