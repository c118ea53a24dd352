"""A small server whose answers a test writes, and dialects written in a test."""

from __future__ import annotations

import json
import socket
import ssl
import threading
import time
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
from ruamel.yaml import YAML

from concordex.wire.dialect import Dialect
from concordex.wire.http.session import Endpoint, Session
from concordex.wire.reading.read import read_table

Answer = Callable[[str, str, dict[str, str], Any, dict[str, str]], tuple]
RECORDS = [{"id": at, "label": f"lamp-{at:03d}", "room": 1 + at % 3} for at in range(1, 24)]


class Lamplight:
    """A server whose answers a test writes: ``answer(method, path, query, body, headers)``."""

    def __init__(self, answer: Answer, tls: ssl.SSLContext | None = None, *, raw: bool = False) -> None:
        self.requests: list[tuple[str, str, dict[str, str]]] = []
        outer = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"
            wbufsize, disable_nagle_algorithm = -1, True  # an answer leaves in one piece

            def do(self) -> None:
                parts = urlsplit(self.path)
                query = {name: values[0] for name, values in parse_qs(parts.query).items()}
                sent = self.rfile.read(int(self.headers.get("Content-Length", 0)))
                outer.requests.append((self.command, parts.path, query))
                json_sent = "json" in self.headers.get("Content-Type", "")
                status, said, *more = answer(
                    self.command,
                    parts.path,
                    query,
                    sent if raw else json.loads(sent) if json_sent else sent.decode(),
                    dict(self.headers),
                )
                if not status:  # the line is cut, and nothing was said
                    self.close_connection = True
                    self.connection.shutdown(socket.SHUT_RDWR)
                    return
                body = said if isinstance(said, bytes) else json.dumps(said).encode()
                if len(more) > 1 and more[1]:  # the bytes themselves, in the pieces and at the pace of the test
                    self.close_connection = True
                    for piece, pause in more[1](status, body, more[0]):
                        self.wfile.write(piece)
                        time.sleep(pause)
                    return
                self.send_response(status)
                for name, value in more[0] if more else ():
                    self.send_header(name, value)
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            do_GET = do_POST = do_PUT = do_PATCH = do_DELETE = do_PROPFIND = do_REPORT = do_CONNECT = do

            def log_message(self, *_: object) -> None:
                """Say nothing."""

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.server.handle_error = lambda *_: None  # a client may hang up whenever it likes
        if tls:
            self.server.socket = tls.wrap_socket(self.server.socket, server_side=True)
        self.url = f"http://127.0.0.1:{self.server.server_address[1]}"
        threading.Thread(target=self.server.serve_forever, args=(0.01,), daemon=True).start()


@pytest.fixture
def serve() -> Iterator[Callable[[Answer], Lamplight]]:
    """Starts servers, and ends them with the test."""
    begun: list[Lamplight] = []

    def start(answer: Answer, tls: ssl.SSLContext | None = None, *, raw: bool = False) -> Lamplight:
        begun.append(Lamplight(answer, tls, raw=raw))
        return begun[-1]

    yield start
    for lamplight in begun:
        lamplight.server.shutdown()


def dialect(text: str, **more: Any) -> Dialect:
    head = {"format": 1, "name": "lamplight", "title": "Lamplight"}
    return Dialect.model_validate(head | dict(YAML(typ="safe").load(text)) | more)


def lamps(read: str, **more: Any) -> Dialect:
    """A dialect with one table, ``lamps``, read as ``read`` says."""
    return dialect(f"tables: {{lamps: {{read: {read}, fields: {{record_id: id, name: label}}}}}}", **more)


async def reading(url: str, spoken: Dialect, table: str = "lamps", **credentials: Any):
    """What a table reads as, believed also where nothing proves it whole: for tests of something else."""
    endpoint = Endpoint(name="lamplight", url=url, credentials=credentials, trusted=frozenset({table}))
    async with Session(endpoint, spoken) as session:
        return await read_table(session, table)


def run(coroutine):
    import asyncio

    return asyncio.run(coroutine)
