"""An address on this machine that tells a text to whoever asks, such as a scraper."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, HTTPServer
from threading import Thread

from concordex.errors import CalledWrongly, ConcordexError
from concordex.unseen import masked

_KIND = "application/openmetrics-text; version=1.0.0; charset=utf-8"


@contextmanager
def serving(port: int, told: Callable[[], str]) -> Iterator[str]:
    """Serve what ``told`` says at each time, on the loopback interface alone; its address."""

    class Scraped(BaseHTTPRequestHandler):
        """Answers a GET of /metrics, and nothing else."""

        def do_GET(self) -> None:
            if self.path.partition("?")[0] != "/metrics":
                self.send_error(404)
                return
            try:
                status, body = 200, told().encode()
            except ConcordexError as error:
                status, body = 503, masked(f"{error}\n").encode()
            self.send_response(status)
            self.send_header("Content-Type", _KIND if status == 200 else "text/plain; charset=utf-8")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            """Tell nobody who asks."""

    try:
        server = HTTPServer(("127.0.0.1", port), Scraped)
    except OSError as error:
        raise CalledWrongly(f"port {port} cannot be listened at", why=error.strerror or str(error)) from error
    Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}/metrics"
    finally:
        server.shutdown()
        server.server_close()
