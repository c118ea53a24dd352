"""Several runners on one shared store beside one of them, where latency is what costs: python benchmarks/runners.py.

The same systems, records and answers, in turn; each answer takes a while, as over a long line.  What is told is how
long the line `pull` took, from when its systems were divided until the last was done.
"""

from __future__ import annotations

import json
import signal
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

sys.path.insert(0, str(Path(__file__).parents[1]))

SYSTEMS, PAGES, SIZE, LATENCY, AT_ONCE = 24, 10, 100, 1.0, 4
DIALECT = """
format: 1
name: pages
title: Pages
tables:
  devices:
    read:
      path: /devices
      records: devices
      total: n
      complete: the guide says so
      pages: {by: offset, offset: from, limit: size, size: 100}
    fields: {record_id: id, name: name, serial: serial}
"""


@contextmanager
def slow_systems() -> Iterator[str]:
    """Answers each request after a while; every path is another system."""

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_GET(self) -> None:
            time.sleep(LATENCY)
            begin = int(parse_qs(urlsplit(self.path).query).get("from", ["0"])[0])
            system = self.path.split("/")[1]
            records = [
                {"id": at, "name": f"{system}-{at}", "serial": f"{system.upper()}{at:06d}"}
                for at in range(begin, min(begin + SIZE, PAGES * SIZE))
            ]
            body = json.dumps({"devices": records, "n": PAGES * SIZE}).encode()
            self.send_response(200)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            """Say nothing."""

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()


def night(folder: Path, url: str, catalogue: str, count: int) -> float:
    """Seconds for the line `pull` of a job that so many runners share."""
    from concordex import Workspace

    (folder / "dialects").mkdir(parents=True)
    (folder / "dialects/pages.yaml").write_text(DIALECT)
    systems = "".join(
        f"  s{at:02d}: {{dialect: pages, url: '{url}/s{at:02d}', concurrency: 1}}\n" for at in range(SYSTEMS)
    )
    (folder / "concordex.yaml").write_text(
        f"format: 1\nsystems:\n{systems}timetable: {{at_once: {AT_ONCE}}}\n"
        f"store: {{catalogue: '{catalogue}', schema: {folder.name}, snapshots: {{at: shared}}}}\n"
        "jobs:\n  night: {every: 1d, catch_up: 2d, steps: [pull]}\n"
    )
    with Workspace(folder) as here:
        here.catalogue.tables()
        runners = [
            subprocess.Popen(
                [sys.executable, "-m", "concordex", "work"], cwd=folder, stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            )
            for _ in range(count)
        ]  # fmt: skip
        while len(here.jobs.runners()) < count:
            time.sleep(0.1)
        here.catalogue.runs.await_from("night", "", here.now())
        here.catalogue.database.run("UPDATE awaited SET since = '2000-01-01T00:00:00+00:00'")
        while not (ended := [run for run in here.catalogue.runs.newest(3) if run.ended and run.outcome != "skipped"]):
            time.sleep(0.1)
        for runner in runners:
            runner.send_signal(signal.SIGTERM)
        for runner in runners:
            runner.wait()
        (run,) = ended
        whole = {s.system for n in run.steps[0].pulls for s in here.catalogue.snapshots_of(n) if s.whole}
        assert run.outcome == "done", run
        assert len(whole) == SYSTEMS, whole
        return run.steps[0].seconds


def main() -> None:
    """Measure, and tell."""
    from tests.servers import postgres_server

    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 2
    took: dict[int, list[float]] = {1: [], 3: []}
    with postgres_server() as server, slow_systems() as url, tempfile.TemporaryDirectory() as name:
        for at in range(rounds):
            for count, seconds in took.items():
                seconds.append(night(Path(name) / f"night{at}x{count}", url, server.url, count))
                print(f"round {at + 1}: {count} runner(s): {seconds[-1]:.1f} s", flush=True)
    ratio = [one / three for one, three in zip(took[1], took[3], strict=True)]
    told = f"{SYSTEMS} systems, {PAGES} answers of {LATENCY:.0f} s each, {AT_ONCE} systems at a time"
    by = f"{statistics.median(ratio):.2f} times as fast as one ({min(ratio):.2f}-{max(ratio):.2f})"
    print(f"{told}: three runners are {by}")


if __name__ == "__main__":
    main()
