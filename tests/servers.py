"""Servers that others wrote, of the tests' own, on loopback ports: PostgreSQL, and an object store."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

import psycopg
import pytest


def free_port() -> int:
    with closing(socket.socket()) as free:
        free.bind(("127.0.0.1", 0))
        return free.getsockname()[1]


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

    def ask(self, sql: str) -> list[tuple]:
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
