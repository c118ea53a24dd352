"""The figures that Concordex promises, measured on this machine.

    python benchmarks/run.py [start | pull | show] …

Medians of several runs; where two things are compared, they take turns, and the ratio is of the
medians.  ``docs/benchmarks.md`` says what is wanted.
"""

from __future__ import annotations

import asyncio
import json
import os
import platform
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

HERE = Path(__file__).parent
PROGRAM = [sys.executable, "-m", "concordex"]
RECORDS, SIZE = 20_000, 100

DIALECT = """\
format: 1
name: pages
title: The page server of the benchmarks
limits: {concurrency: FLIGHT}
tables:
  devices:
    read:
      path: /items
      records: items
      total: count
      pages: {by: offset, offset: start, limit: size, first: 0, size: 100}
    fields:
      record_id: id
      name: label
      serial: serial
      macs: mac
      ips: address
      site: place
      kind: family
      os_version: release
      last_seen: {from: heard, as: epoch_ms}
"""


def timed(function: Callable[[], object]) -> float:
    """Seconds that one call takes."""
    begun = time.perf_counter()
    function()
    return time.perf_counter() - begun


def in_turn(runs: int, *functions: Callable[[], object]) -> list[float]:
    """The median seconds of each function, after one round that does not count."""
    rounds = [[timed(function) for function in functions] for _ in range(runs + 1)]
    return [statistics.median(column) for column in zip(*rounds[1:], strict=True)]


def process(*command: str) -> Callable[[], object]:
    """A whole process, its output thrown away."""
    return lambda: subprocess.run(command, stdout=subprocess.DEVNULL, check=True)


@contextmanager
def page_server(latency: int) -> Iterator[str]:
    """The page server in a process of its own."""
    command = [sys.executable, str(HERE / "pages.py"), "--records", str(RECORDS), "--size", str(SIZE)]
    with subprocess.Popen([*command, "--latency", str(latency)], stdout=subprocess.PIPE, text=True) as server:
        assert server.stdout
        try:
            yield f"http://127.0.0.1:{server.stdout.readline().strip()}"
        finally:
            server.terminate()


def workspace(folder: Path, url: str, flight: int = 4) -> None:
    """A workspace with the page server as its one system."""
    (folder / "dialects").mkdir(parents=True)
    (folder / "dialects" / "pages.yaml").write_text(DIALECT.replace("FLIGHT", str(flight)))
    systems = {"pages": {"dialect": "pages", "url": url}}
    (folder / "concordex.yaml").write_text(f"format: 1\nsystems: {json.dumps(systems)}\n")


def start() -> None:
    """(a) How long it takes to say something."""
    bare, version, helped = in_turn(
        11, process(sys.executable, "-c", "pass"), process(*PROGRAM, "--version"), process(*PROGRAM, "--help")
    )
    print(f"python -c pass                  {bare * 1000:7.0f} ms")
    print(f"concordex --version             {version * 1000:7.0f} ms   {version / bare:.1f} times (wanted: 8)")
    print(f"concordex --help                {helped * 1000:7.0f} ms   {helped / bare:.1f} times (wanted: 8)")


def pull() -> None:
    """(b) A pull against the same pages fetched by the bare client and thrown away."""
    import aiohttp

    from concordex.work import Workspace
    from concordex.work.pull import pull as fetch

    async def bare(url: str, flight: int) -> None:
        gate = asyncio.Semaphore(flight)
        async with aiohttp.ClientSession() as session:

            async def one(at: int) -> None:
                async with gate, session.get(f"{url}/items?start={at}&size={SIZE}") as answer:
                    await answer.read()

            await asyncio.gather(*(one(at) for at in range(0, RECORDS, SIZE)))

    for flight in (4, 8):
        with page_server(10) as url, tempfile.TemporaryDirectory() as folder:
            workspace(Path(folder) / "w", url, flight)
            here = Workspace(Path(folder) / "w")

            def ours(here: Workspace = here) -> None:
                assert fetch(here).outcome == "whole"

            def theirs(url: str = url, flight: int = flight) -> None:
                asyncio.run(bare(url, flight))

            plain, full = in_turn(7, theirs, ours)
        print(f"20,000 records, {flight} at once, bare   {plain:7.2f} s")
        print(f"20,000 records, pulled and kept {full:7.2f} s    {full / plain:.2f} times (wanted: 1.5)")


def show() -> None:
    """(c) A filter over a snapshot of a million records, as a whole process."""
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder) / "w"
        workspace(root, "http://127.0.0.1:9")
        _million(root)
        where = 'site = "cobble-quay" and kind = switch and os_version < 7.2.10 and name like "sw-00012*"'
        command = [*PROGRAM, "-w", str(root), "show", "devices", "--where", where, "--format", "ndjson"]
        (took,) = in_turn(7, process(*command))
        print(f"1,000,000 records, show --where {took:7.2f} s    (wanted: 1.0)")
        print(f"   peak memory                  {_peak(command):7.0f} MB   (wanted: 200)")


def _peak(command: list[str]) -> float:
    """Peak resident megabytes of one run, as its parent is told."""
    code = (
        "import resource, subprocess, sys; subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL, check=True);"
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
    )
    done = subprocess.run([sys.executable, "-c", code, *command], capture_output=True, text=True, check=True)
    return int(done.stdout) / 1024


def _million(root: Path) -> None:
    import polars as pl

    from concordex.store import snapshots
    from concordex.store.catalogue import Catalogue, Snapshot
    from concordex.wire.load import from_file
    from concordex.wire.mapping import Mapper
    from concordex.work.pull import in_order

    sys.path.insert(0, str(HERE))
    from pages import record

    mapper = Mapper(from_file(root / "dialects" / "pages.yaml").tables["devices"])
    chunks = []
    for at in range(0, 1_000_000, 20_000):
        columns = mapper.empty()
        mapper.add(columns, [record(n, 1000) for n in range(at, at + 20_000)])
        chunks.append(mapper.frame(columns))
    store = root / ".concordex"
    snapshots.write(in_order(pl.concat(chunks)), store / "million.parquet")
    catalogue = Catalogue(store / "catalogue.sqlite", write=True)
    number = catalogue.begin_pull(os.getpid())
    catalogue.add_snapshot(
        Snapshot(
            pull=number, system="pages", table="devices", taken=datetime.now(UTC), outcome="whole",
            file="million.parquet", received=1_000_000, distinct=1_000_000,
        )
    )  # fmt: skip
    catalogue.end_pull(number, "whole")


PARTS = {"start": start, "pull": pull, "show": show}

if __name__ == "__main__":
    print(f"{datetime.now(UTC):%Y-%m-%d}, Python {platform.python_version()}, {os.cpu_count()} cores\n")
    for name in sys.argv[1:] or PARTS:
        PARTS[name]()
    print(f"\npeak memory of this process {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")
